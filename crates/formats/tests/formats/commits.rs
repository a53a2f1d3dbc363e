//! Files of a run appear together or not at all, whichever step fails and wherever the program ends.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, IoSlice, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};

use gather_keys_formats::commit::{Disk, RealDisk, commit, recover};
use gather_keys_formats::{Error, InputFile, WholeFile};

/// Something that another program does to a file.
type Change = fn(&Path);

/// A disk that does a number of steps, and then fails in one, or in all from then on.
#[derive(Debug)]
struct Failing {
    left: AtomicUsize,
    from_there_on: bool,
    /// The steps that were asked for.
    steps: AtomicUsize,
}

impl Failing {
    fn after(steps: usize, from_there_on: bool) -> &'static Self {
        let (left, steps) = (AtomicUsize::new(steps), AtomicUsize::new(0));
        Box::leak(Box::new(Self { left, from_there_on, steps }))
    }

    fn step(&self) -> io::Result<()> {
        self.steps.fetch_add(1, Ordering::SeqCst);
        let left = self.left.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| {
            if left == 0 && self.from_there_on { None } else { Some(left.wrapping_sub(1)) }
        });
        match left {
            Ok(0) | Err(_) => Err(io::Error::from_raw_os_error(28)),
            Ok(_) => Ok(()),
        }
    }
}

impl Disk for Failing {
    fn write(&self, file: &File, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
        self.step().and_then(|()| RealDisk.write(file, pieces))
    }
    fn sync_data(&self, file: &File) -> io::Result<()> {
        self.step().and_then(|()| RealDisk.sync_data(file))
    }
    fn sync(&self, file: &File) -> io::Result<()> {
        self.step().and_then(|()| RealDisk.sync(file))
    }
    fn sync_folder(&self, folder: &Path) -> io::Result<()> {
        self.step().and_then(|()| RealDisk.sync_folder(folder))
    }
    fn name(&self, file: &File, path: &Path) -> io::Result<()> {
        self.step().and_then(|()| RealDisk.name(file, path))
    }
    fn link(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.step().and_then(|()| RealDisk.link(from, to))
    }
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.step().and_then(|()| RealDisk.rename(from, to))
    }
    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        self.step().and_then(|()| RealDisk.rename_new(from, to))
    }
    fn remove(&self, path: &Path) -> io::Result<()> {
        self.step().and_then(|()| RealDisk.remove(path))
    }
}

/// What is in a folder and those in it, hidden files too.
fn files(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut all = BTreeMap::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        match entry.path() {
            path if path.is_dir() => all.extend(files(&path)),
            path => drop(all.insert(path.clone(), fs::read(path).unwrap())),
        }
    }
    all
}

fn names(folder: &Path) -> Vec<PathBuf> {
    files(folder).into_keys().map(|path| path.strip_prefix(folder).unwrap().to_owned()).collect()
}

/// A folder with a table, a list in another folder, and a receipt that are old.
fn old() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("lists")).unwrap();
    fs::write(folder.path().join("out.csv"), "old table").unwrap();
    fs::write(folder.path().join("lists/unmatched.csv"), "old list").unwrap();
    fs::write(folder.path().join("run.json"), "old receipt").unwrap();
    folder
}

/// Writes every file again, with a new one, and with a backup of the table if wanted.
fn write_anew(folder: &Path, disk: &'static dyn Disk, with_backup: bool) -> Result<(), Error> {
    let mut finished = Vec::new();
    let names = ["out.csv", "lists/unmatched.csv", "lists/new.csv", "run.json"];
    for name in names.into_iter().take(if with_backup { 1 } else { names.len() }) {
        let mut file = WholeFile::create_on(disk, &folder.join(name), true)?;
        // More than is synced at a time, so that a thread of its own does.
        let content = vec![b'n'; if name == "out.csv" { 9 << 20 } else { 5 }];
        for piece in content.chunks(1 << 20) {
            file.write_all(piece).map_err(|cause| Error::Write { name: name.into(), cause })?;
        }
        let mut file = file.finish()?;
        if with_backup {
            file.keep_replaced("1")?;
        }
        finished.push(file);
    }
    commit(finished, || Ok(())).map(drop)
}

#[test]
fn whichever_step_fails_it_is_all_or_nothing() {
    let (mut old_sets, mut new_sets) = (0, 0);
    for with_backup in [false, true] {
        let steps = {
            let (folder, disk) = (old(), Failing::after(usize::MAX, false));
            write_anew(folder.path(), disk, with_backup).unwrap();
            disk.steps.load(Ordering::SeqCst)
        };
        assert!(steps > 15, "{steps} steps");
        for (nth, from_there_on) in (0..steps).flat_map(|nth| [(nth, false), (nth, true)]) {
            let folder = old();
            let before = files(folder.path());
            let disk = Failing::after(nth, from_there_on);
            let wrote = write_anew(folder.path(), disk, with_backup);
            // A dead program's successor looks at the folders before anything else.
            if from_there_on {
                recover([&*folder.path().join("out.csv"), &folder.path().join("lists/new.csv")]);
            }
            let now = files(folder.path());
            let reported = format!("step {nth} of {steps}, {from_there_on}: {wrote:?}");
            if now == before {
                assert!(wrote.is_err(), "{reported}");
                old_sets += 1;
                continue;
            }
            let mut want = vec!["lists/unmatched.csv", "out.csv", "run.json"];
            want.insert(
                usize::from(with_backup),
                if with_backup { "out.backup-1.csv" } else { "lists/new.csv" },
            );
            let hidden = |path: &PathBuf| path.to_string_lossy().contains(".gather-keys-");
            let seen: Vec<_> =
                names(folder.path()).into_iter().filter(|path| !hidden(path)).collect();
            assert_eq!(seen, want.iter().map(PathBuf::from).collect::<Vec<_>>(), "{reported}");
            let is_new = |name: &str| {
                fs::read(folder.path().join(name)).unwrap().iter().all(|&byte| byte == b'n')
            };
            let written = if with_backup {
                &["out.csv"][..]
            } else {
                &["out.csv", "lists/unmatched.csv", "lists/new.csv", "run.json"]
            };
            assert!(written.iter().all(|name| is_new(name)), "{reported}");
            // What could not be removed goes with the next run.
            recover([&*folder.path().join("out.csv"), &folder.path().join("lists/new.csv")]);
            assert!(
                !names(folder.path()).iter().any(hidden),
                "{reported}: {:?}",
                names(folder.path())
            );
            // A run says that it failed only where nothing is new, or the next run completed it.
            assert!(wrote.is_ok() || from_there_on, "{reported}");
            new_sets += 1;
        }
    }
    assert!(old_sets > 20 && new_sets > 5, "{old_sets} old, {new_sets} new");
}

#[test]
fn a_target_that_is_another_by_now_is_left_alone() {
    let folder = old();
    let path = |name: &str| folder.path().join(name);
    let write = |name: &str, overwrite| {
        let mut file = WholeFile::create(&path(name), overwrite).unwrap();
        file.write_all(b"new").unwrap();
        file.finish().unwrap()
    };
    // Changed, replaced, removed, and there although it was not.
    let changes: [(&str, Change); 4] = [
        ("out.csv", |path| fs::write(path, "their table").unwrap()),
        ("out.csv", |path| {
            fs::write(path.with_extension("x"), "old table").unwrap();
            fs::rename(path.with_extension("x"), path).unwrap();
        }),
        ("run.json", |path| fs::remove_file(path).unwrap()),
        ("new.csv", |path| fs::write(path, "theirs").unwrap()),
    ];
    for (name, change) in changes {
        let files_of_run = vec![write("lists/unmatched.csv", true), write(name, true)];
        change(&path(name));
        let there = files(folder.path());
        assert!(
            matches!(commit(files_of_run, || Ok(())), Err(Error::TargetChanged { .. })),
            "{name}"
        );
        assert_eq!(files(folder.path()), there);
    }
    // While one run has a file, no other does; and nothing is left of one that gives up.
    let first = write("out.csv", true);
    assert!(matches!(WholeFile::create(&path("out.csv"), true), Err(Error::InUse { .. })));
    drop(first);
    WholeFile::create(&path("out.csv"), true).unwrap();
}

#[cfg(target_os = "linux")]
#[test]
fn a_replaced_file_keeps_what_belongs_to_it() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt};

    use rustix::fs::{XattrFlags, getxattr, setxattr};

    let folder = old();
    let path = folder.path().join("out.csv");
    fs::set_permissions(&path, fs::Permissions::from_mode(0o620)).unwrap();
    let has_attributes = setxattr(&path, "user.co-op", b"honey", XattrFlags::empty()).is_ok();
    // Only the system's own user may give files away.
    let is_root = std::os::unix::fs::chown(&path, Some(4321), Some(1234)).is_ok();
    fs::hard_link(&path, folder.path().join("same.csv")).unwrap();
    let mut file = WholeFile::create(&path, true).unwrap();
    file.write_all(b"new").unwrap();
    let appeared = commit(vec![file.finish().unwrap()], || Ok(())).unwrap().remove(0);
    let facts = path.metadata().unwrap();
    assert_eq!(facts.mode() & 0o7777, 0o620);
    if has_attributes {
        let mut value = [0; 16];
        let length = getxattr(&path, "user.co-op", &mut value[..]).unwrap();
        assert_eq!(&value[..length], b"honey");
    }
    if is_root {
        assert_eq!((facts.uid(), facts.gid()), (4321, 1234));
    }
    assert_eq!((appeared.other_names, appeared.lost_owner), (1, false));
    assert_eq!(fs::read(folder.path().join("same.csv")).unwrap(), b"old table");
}

#[test]
fn an_input_is_the_one_that_was_opened() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("main.csv");
    let changes: [(&str, bool, Change); 6] = [
        ("nothing", true, |_| {}),
        ("rows added", true, |path| {
            let mut file = File::options().append(true).open(path).unwrap();
            file.write_all(b"B3\n").unwrap();
        }),
        ("another row, and rows added", false, |path| {
            fs::write(path, "Batch\nB9\nB2\nB3\n").unwrap();
        }),
        ("another row", false, |path| fs::write(path, "Batch\nB9\nB2\n").unwrap()),
        ("replaced by the same", false, |path| {
            fs::copy(path, path.with_extension("x")).unwrap();
            fs::rename(path.with_extension("x"), path).unwrap();
        }),
        ("removed", false, |path| fs::remove_file(path).unwrap()),
    ];
    for (what, is_fine, change) in changes {
        use gather_keys_core::table::{Block, Source};
        fs::write(&path, "Batch\nB1\nB2\n").unwrap();
        // The time of a file is reported by ticks of the system.
        let earlier = std::time::SystemTime::now() - std::time::Duration::from_secs(5);
        File::options().append(true).open(&path).unwrap().set_modified(earlier).unwrap();
        let address = gather_keys_formats::Address::new(path.as_os_str());
        let described = gather_keys_formats::Described::default();
        let open =
            gather_keys_formats::Table::open(&address, &described, &gather_keys_formats::Untapped);
        let (mut table, _) = open.unwrap();
        let input: InputFile = table.file().unwrap().clone();
        let rows = |table: &mut gather_keys_formats::Table| {
            let (mut block, mut rows) = (Block::default(), Vec::new());
            while table.read_block(&mut block).unwrap() {
                rows.extend((0..block.rows()).map(|row| block.cell(row, 0).to_owned()));
            }
            rows
        };
        assert_eq!(rows(&mut table), ["B1", "B2"], "{what}");
        change(&path);
        assert_eq!(input.is_unchanged(), is_fine, "{what}");
        if is_fine || what == "removed" || what == "replaced by the same" {
            let again = gather_keys_formats::Table::open_file(
                &address,
                &input,
                &described,
                &gather_keys_formats::Untapped,
            );
            assert_eq!(rows(&mut again.unwrap()), ["B1", "B2"], "{what}");
        }
    }
}
