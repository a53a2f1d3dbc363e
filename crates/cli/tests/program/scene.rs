//! A folder with files, in which the program is run.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use tempfile::TempDir;

/// The main table of most tests; its rows are quoted in every way there is.
pub(crate) const HARVEST: &str = "\
Batch,Apiary,Hive,Note
B1,Fellside,H-001,
B2,\"Fellside\",H-002,\"two buckets:
one open\"
B3,Larkfield,H-001,\"say \"\"when\"\"\"
B4,Larkfield,H-009,
B5,,H-001,plain \"quotes\"
B6,Fellside,H-003,
B7,Fellside,H-001,again
";

/// The registry: H-003 of Fellside is in it twice and disagrees, H-001 of Larkfield agrees.
pub(crate) const HIVES: &str = "\
Line,Keeper,Tag,Site code
Amberline,Edda,H-001,Fellside
Duskveil,Corvin,H-002,Fellside
Goldsedge,Jorun,H-001,Larkfield
Goldsedge,Jorun,H-001,Larkfield
Amberline,Edda,H-003,Fellside
Amberline,Tamsin,H-003,Fellside
Brightwing,Brenna,H-004,Fellside
Brightwing,Brenna,,Fellside
";

/// The usual options of the registry.
pub(crate) const ON_HIVES: &str = "--from hives.csv --on 'Apiary = Site code, Hive = Tag'";

pub(crate) struct Scene {
    folder: TempDir,
}

/// The files that a run left.
pub(crate) struct Ran {
    pub(crate) status: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Scene {
    pub(crate) fn empty() -> Self {
        Self { folder: TempDir::new().unwrap() }
    }

    /// A folder with `harvest.csv` and `hives.csv`.
    pub(crate) fn new() -> Self {
        Self::empty().with("harvest.csv", HARVEST).with("hives.csv", HIVES)
    }

    pub(crate) fn with(self, name: &str, content: impl AsRef<[u8]>) -> Self {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
        self
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap()
    }

    /// Every file in the folder, with its bytes.
    pub(crate) fn files(&self) -> BTreeMap<PathBuf, Vec<u8>> {
        fn gather(folder: &Path, files: &mut BTreeMap<PathBuf, Vec<u8>>) {
            for entry in fs::read_dir(folder).unwrap().flatten() {
                if entry.path().is_dir() {
                    gather(&entry.path(), files);
                } else {
                    // A link may lead nowhere yet.
                    files.insert(entry.path(), fs::read(entry.path()).unwrap_or_default());
                }
            }
        }
        let mut files = BTreeMap::new();
        gather(self.folder.path(), &mut files);
        files
    }

    /// The program, ready to be run in the folder.
    pub(crate) fn program(&self) -> Command {
        // A long campaign is for the program as it is released.
        let other = std::env::var_os("PROGRAM");
        let own = || env!("CARGO_BIN_EXE_gather-keys").into();
        let mut program = Command::new(other.unwrap_or_else(own));
        program.current_dir(self.folder.path()).stdin(Stdio::null());
        for variable in ["NO_COLOR", "CLICOLOR", "CLICOLOR_FORCE", "COLUMNS", "TERM"] {
            program.env_remove(variable);
        }
        program
    }

    /// Runs the program with arguments as they are typed, in single quotes where they hold spaces.
    pub(crate) fn run(&self, arguments: &str) -> Ran {
        Ran::from(self.program().args(words(arguments)).output().unwrap())
    }

    /// Runs a line of the shell in the folder, with the program first on the path.
    pub(crate) fn shell(&self, line: &str) -> Ran {
        Ran::from(self.in_shell(line).stdin(Stdio::null()).output().unwrap())
    }

    /// A line of the shell, ready to be run.
    pub(crate) fn in_shell(&self, line: &str) -> Command {
        let program = Path::new(env!("CARGO_BIN_EXE_gather-keys"));
        let folders = [program.parent().unwrap().to_owned()].into_iter();
        let others = std::env::var_os("PATH").unwrap_or_default();
        let path = std::env::join_paths(folders.chain(std::env::split_paths(&others))).unwrap();
        let mut shell = Command::new("sh");
        shell.args(["-c", line]).current_dir(self.folder.path()).env("PATH", path);
        shell
    }
}

impl From<Output> for Ran {
    fn from(output: Output) -> Self {
        Self {
            status: output.status.code().unwrap_or(-1),
            out: String::from_utf8(output.stdout).unwrap(),
            err: String::from_utf8(output.stderr).unwrap(),
        }
    }
}

impl Ran {
    /// The run, if it ended with this status.
    #[track_caller]
    pub(crate) fn ended(self, status: i32) -> Self {
        assert_eq!(self.status, status, "standard error: {}", self.err);
        self
    }
}

/// The words of a command line: cut at spaces, but not within single quotes.
pub(crate) fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (nth, piece) in line.split('\'').enumerate() {
        if nth % 2 == 1 {
            words.push(piece.to_owned());
        } else {
            words.extend(piece.split_whitespace().map(str::to_owned));
        }
    }
    words
}

/// Holds a text to its snapshot.
#[track_caller]
pub(crate) fn snapshot(name: &str, text: &str) {
    insta::with_settings!({ omit_expression => true, prepend_module_to_snapshot => false }, { insta::assert_snapshot!(name, text) });
}
