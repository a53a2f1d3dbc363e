//! The address of a table: a path, a table on a server, or `-` for standard input and output.

use std::ffi::OsStr;
use std::fmt;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use crate::columnar::Columnar;
use crate::guard::count_unbounded;
use crate::postgresql::ServerAddress;
use crate::secrets::{passwords, without_passwords};
use crate::workbook::worksheets;
use crate::{Error, Result};
use crate::{Format, InputFile};

/// The address of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Address {
    /// Standard input or standard output.
    Standard,
    /// A file.
    File(PathBuf),
    /// A part of a file: a worksheet, or a table of a database.
    Part(PathBuf, String),
    /// A table on a server.
    Server(ServerAddress),
}

impl Address {
    /// The address that a person writes: a path, `PATH#PART` for a part of a file that has such, or
    /// `-`.
    ///
    /// ```
    /// use gather_keys_formats::Address;
    ///
    /// let address = Address::new("registry.xlsx#Hives".as_ref());
    /// assert_eq!(address, Address::Part("registry.xlsx".into(), "Hives".into()));
    /// assert_eq!(Address::new("no#1.csv".as_ref()), Address::File("no#1.csv".into()));
    /// ```
    pub fn new(text: &OsStr) -> Self {
        if text == "-" {
            return Self::Standard;
        }
        if let Some(server) = text.to_str().and_then(ServerAddress::of) {
            return Self::Server(server);
        }
        match Self::part_of(text) {
            Some((path, part)) => Self::Part(path, part),
            None => Self::File(text.into()),
        }
    }

    /// The file and the part that a text names, if it does.
    fn part_of(text: &OsStr) -> Option<(PathBuf, String)> {
        let whole = text.to_str()?;
        let has_parts = |path: &str| {
            let extension = Path::new(path).extension().and_then(OsStr::to_str);
            let extension = extension.unwrap_or_default().to_ascii_lowercase();
            Format::of_extension(&extension).info().has_parts
        };
        // The first `#` after a file that has parts; an earlier one is in the path.
        let mut cuts = whole.match_indices('#').map(|(at, _)| at);
        let at = cuts.find(|&at| has_parts(&whole[..at])).filter(|_| !Path::new(text).exists())?;
        Some((whole[..at].into(), whole[at + 1..].to_owned()))
    }

    /// Refuses a part that no table can have when it is written: without a name, or with a `#` in it.
    ///
    /// # Errors
    /// [`Error::BadPart`].
    pub fn check_written(&self) -> Result<()> {
        match self {
            Self::Part(_, part)
                if self.part() == Some("") || part.contains('#') && self.part() == Some(part) =>
            {
                Err(Error::BadPart { name: self.to_string() })
            }
            Self::File(path) | Self::Part(path, _) => Self::check_file(path.as_os_str()),
            _ => Ok(()),
        }
    }

    /// Refuses the path of a file or folder to be written that is an address, or like one with a password: a file
    /// would have that in its name.
    ///
    /// ```
    /// use gather_keys_formats::Address;
    ///
    /// assert!(Address::check_file("lists".as_ref()).is_ok());
    /// assert!(Address::check_file("postgres://edda:x@db/co-op".as_ref()).is_err());
    /// ```
    ///
    /// # Errors
    /// [`Error::Server`].
    pub fn check_file(text: &OsStr) -> Result<()> {
        let shown = text.to_string_lossy();
        if Self::is_path(text) && passwords(&shown).is_empty() {
            return Ok(());
        }
        let (name, said) = (without_passwords(&shown), "it is an address, and no file".to_owned());
        Err(Error::Server { name, said, fix: "name a file or folder" })
    }

    /// Whether a path contains wildcards, so that it may mean several files.
    pub fn is_glob(text: &OsStr) -> bool {
        if !Self::is_path(text) {
            return false;
        }
        text.to_string_lossy().contains(['*', '?', '['])
    }

    /// Whether a text names a file, and so leads from a folder.
    pub fn is_path(text: &OsStr) -> bool {
        text != "-" && text.to_str().and_then(ServerAddress::of).is_none()
    }

    /// A text that names a table, as it may be shown: without the password of a server.
    ///
    /// ```
    /// use gather_keys_formats::Address;
    ///
    /// assert_eq!(Address::shown("postgres://edda:x@db/co-op#hives"), "postgres://edda@db/co-op#hives");
    /// assert_eq!(Address::shown("hives.csv"), "hives.csv");
    /// ```
    pub fn shown(text: &str) -> String {
        ServerAddress::of(text).map_or_else(|| text.to_owned(), |server| server.to_string())
    }

    /// The tables that a person means: the file with exactly this name, or the files whose names match
    /// it, in the order of their names. `*` matches any characters, `?` one character, `[ab]` one of
    /// these.
    ///
    /// # Errors
    /// [`Error::NothingLike`] when there is none, [`Error::BadGlob`] when it is malformed.
    pub fn all(text: &OsStr) -> Result<Vec<Self>> {
        let is_there = |address: &Self| address.path().is_some_and(Path::exists);
        if !Self::is_glob(text) {
            return Ok(vec![Self::new(text)]);
        }
        if is_there(&Self::new(text)) {
            return Self::new(text).worksheets();
        }
        let (pattern, part) = match Self::part_of(text) {
            Some((path, part)) => (path.to_string_lossy().into_owned(), Some(part)),
            None => (text.to_string_lossy().into_owned(), None),
        };
        let paths = glob::glob(&pattern).map_err(|error| Error::BadGlob {
            pattern: pattern.clone(),
            at: error.pos,
            fault: error.msg,
        })?;
        let files: Vec<Self> = paths
            .flatten()
            .filter(|path| path.is_file())
            .map(|path| match &part {
                Some(part) => Self::Part(path, part.clone()),
                None => Self::File(path),
            })
            .collect();
        if files.is_empty() {
            return Err(Error::NothingLike { pattern });
        }
        let worksheets: Vec<Vec<Self>> =
            files.into_iter().map(Self::worksheets).collect::<Result<_>>()?;
        Ok(worksheets.into_iter().flatten().collect())
    }

    /// The worksheets that a part of a workbook means: all that are like it, if it has wildcards, and no other part
    /// is called so.
    fn worksheets(self) -> Result<Vec<Self>> {
        let Self::Part(path, part) = &self else { return Ok(vec![self]) };
        if self.format() != Format::Workbook || !part.contains(['*', '?', '[']) {
            return Ok(vec![self]);
        }
        let bad = |error: glob::PatternError| Error::BadGlob {
            pattern: part.clone(),
            at: error.pos,
            fault: error.msg,
        };
        let pattern = glob::Pattern::new(part).map_err(bad)?;
        let Opened::File(file) = self.open_file()? else { return Ok(vec![self]) };
        let names = worksheets(&self.to_string(), &file)?;
        let alike = names.iter().filter(|name| pattern.matches(name));
        let alike: Vec<Self> = alike.map(|name| Self::Part(path.clone(), quoted(name))).collect();
        match alike.is_empty() {
            false => Ok(alike),
            true if names.contains(part) => Ok(vec![self]),
            true => Err(Error::NoPart {
                name: path.display().to_string(),
                what: "worksheet",
                asked: part.clone(),
                all: names,
            }),
        }
    }

    /// The path, when it is a file.
    pub fn path(&self) -> Option<&Path> {
        match self {
            Self::Standard | Self::Server(_) => None,
            Self::File(path) | Self::Part(path, _) => Some(path),
        }
    }

    /// The format of its extension; delimited text where no other format has it.
    pub fn format(&self) -> Format {
        let extension = self.path().and_then(extension);
        extension.map_or(Format::Text, |extension| Format::of_extension(&extension))
    }

    /// Whether a file with its extension can be written.
    pub fn is_written(&self) -> bool {
        let extension = self.path().and_then(extension).unwrap_or_default();
        let is_compressed = self.path().and_then(crate::Codec::of).is_some();
        let info = self.format().info();
        info.is_written_as(&extension) && (info.is_compressible || !is_compressed)
    }

    /// Whether it is a workbook of the kind that is written.
    pub fn is_workbook(&self) -> bool {
        self.format() == Format::Workbook && self.is_written()
    }

    /// Whether it is the file of a database that is written.
    pub fn is_database(&self) -> bool {
        self.format() == Format::Database && self.is_written()
    }

    /// Whether it is delimited text.
    pub fn is_text(&self) -> bool {
        self.format() == Format::Text
    }

    /// The part of the file that it names.
    pub fn part(&self) -> Option<&str> {
        match self {
            Self::Part(_, part) => {
                // Quotes are around a name that holds a `#`.
                let quoted = part.strip_prefix('\'').and_then(|part| part.strip_suffix('\''));
                Some(quoted.filter(|name| !name.contains('\'')).unwrap_or(part))
            }
            Self::Server(server) => server.table(),
            Self::Standard | Self::File(_) => None,
        }
    }

    /// The kind of a columnar file, by its extension.
    pub fn columnar(&self) -> Option<Columnar> {
        match &self.path()?.extension()?.to_str()?.to_ascii_lowercase()[..] {
            "parquet" => Some(Columnar::Parquet),
            "arrow" | "feather" => Some(Columnar::Arrow),
            "arrows" => Some(Columnar::ArrowStream),
            _ => None,
        }
    }

    /// The name of a table that nobody has named: the file's stem.
    pub fn stem(&self) -> String {
        let packed = |path: &&Path| crate::Codec::of(path).is_some();
        let path = self.path().map(|path| match Some(path).filter(packed) {
            Some(path) => path.with_extension(""),
            None => path.to_owned(),
        });
        if let Self::Server(server) = self {
            let table = server.table().unwrap_or("database");
            return table.rsplit('.').next().unwrap_or(table).to_owned();
        }
        if let Some(part) = self.part().filter(|_| matches!(self, Self::Part(..)))
            && part.parse::<u64>().is_err()
        {
            return part.rsplit('/').next().unwrap_or(part).to_owned();
        }
        let stem = path.as_deref().and_then(Path::file_stem);
        stem.map_or_else(|| "input".to_owned(), |stem| stem.to_string_lossy().into_owned())
    }

    /// The common name of the tables that a person means: the stem of one, or the common part of several
    /// names.
    pub fn stem_of_any(text: &OsStr) -> String {
        if Self::is_glob(text) && !Path::new(text).exists() {
            Self::stem_of_all(text)
        } else {
            Self::new(text).stem()
        }
    }

    /// A path with its wildcards escaped, so that others can be added to it.
    pub fn escaped(path: &str) -> String {
        glob::Pattern::escape(path)
    }

    /// The common name of the tables that match a pattern: its stem without wildcards and the characters
    /// that join them to the rest.
    fn stem_of_all(text: &OsStr) -> String {
        // The worksheets of one workbook are called by it.
        let file = |address: Self| match address {
            Self::Part(path, part) if Self::is_glob(part.as_ref()) => Self::File(path),
            other => other,
        };
        let stem = file(Self::new(text)).stem();
        let joints = |sign: char| "*?[]-_. ".contains(sign);
        let plain = stem.split(['*', '?', '[']).map(|piece| piece.trim_matches(joints));
        let longest = plain.max_by_key(|piece| piece.len()).unwrap_or_default();
        if longest.is_empty() { "input".to_owned() } else { longest.to_owned() }
    }

    /// All of it, as text.
    ///
    /// # Errors
    /// The errors of [`Address::open`], and [`Error::NotText`].
    pub fn read_to_string(&self) -> Result<String> {
        let (mut input, _) = self.open()?;
        self.text_of(&mut input)
    }

    /// All of its content, as text, from what was opened for it.
    ///
    /// # Errors
    /// [`Error::Read`] and [`Error::NotText`].
    pub fn text_of(&self, input: &mut dyn Read) -> Result<String> {
        let mut bytes = Vec::new();
        let read = input.read_to_end(&mut bytes);
        read.map_err(|cause| Error::Read { name: self.to_string(), cause })?;
        String::from_utf8(bytes).map_err(|error| {
            let before = &error.as_bytes()[..error.utf8_error().valid_up_to()];
            let line = memchr::memchr_iter(b'\n', before).count() as u64 + 1;
            let place = crate::Place { row: line, line, header: None };
            Error::NotText { name: self.to_string(), place }
        })
    }

    /// Opens it for reading. Gives the size in bytes too, where it is known.
    ///
    /// # Errors
    /// [`Error::Missing`] when there is no such file, [`Error::Read`] when it can't be opened.
    pub fn open(&self) -> Result<(Box<dyn Read + Send>, Option<u64>)> {
        Ok(match self.open_file()? {
            Opened::File(file) => (Box::new(file.reader()), Some(file.stamp().bytes())),
            Opened::Stream(input) => (input, None),
        })
    }

    /// Opens it for reading, as a file that can be read several times or as a stream.
    ///
    /// # Errors
    /// As with [`Address::open`].
    pub(crate) fn open_file(&self) -> Result<Opened> {
        let path = match self {
            Self::Standard => {
                count_unbounded();
                return Ok(Opened::Stream(Box::new(io::stdin())));
            }
            Self::Server(server) => {
                let (said, fix) = ("a table on a server is not a file".to_owned(), "name a file");
                return Err(Error::Server { name: server.to_string(), said, fix });
            }
            Self::File(path) | Self::Part(path, _) => path,
        };
        let unreadable = |cause: io::Error| Error::Read { name: self.to_string(), cause };
        let file = File::open(path).map_err(|cause| match cause.kind() {
            io::ErrorKind::NotFound => {
                Error::Missing { name: self.to_string(), nearest: nearest_file(path) }
            }
            _ => unreadable(cause),
        })?;
        let facts = file.metadata().map_err(unreadable)?;
        if facts.is_dir() {
            return Err(unreadable(io::ErrorKind::IsADirectory.into()));
        }
        if !facts.is_file() {
            count_unbounded();
            return Ok(Opened::Stream(Box::new(file)));
        }
        let file = InputFile::of(file, path.clone(), self.to_string());
        Ok(Opened::File(file.map_err(unreadable)?))
    }
}

/// The name of a part as an address has it.
pub(crate) fn quoted(name: &str) -> String {
    if name.contains('#') { format!("'{name}'") } else { name.to_owned() }
}

/// The input at an address.
pub(crate) enum Opened {
    /// A file, which can be read several times.
    File(InputFile),
    /// A pipe or similar.
    Stream(Box<dyn Read + Send>),
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Standard => f.write_str("standard input"),
            Self::Server(server) => server.fmt(f),
            Self::File(path) => path.display().fmt(f),
            Self::Part(path, part) => write!(f, "{}#{part}", path.display()),
        }
    }
}

/// The file in the same folder whose name is most like the one that is missing.
fn nearest_file(missing: &Path) -> Option<PathBuf> {
    let folder = missing.parent().filter(|folder| !folder.as_os_str().is_empty());
    let asked = missing.file_name()?.to_string_lossy().to_lowercase();
    let names = std::fs::read_dir(folder.unwrap_or(Path::new("."))).ok()?.flatten();
    let scored = names.map(|entry| {
        let name = entry.file_name().to_string_lossy().to_lowercase();
        (strsim::normalized_damerau_levenshtein(&asked, &name), entry.file_name())
    });
    let (score, name) = scored.max_by(|a, b| a.0.total_cmp(&b.0).then_with(|| b.1.cmp(&a.1)))?;
    (score >= 0.6).then(|| missing.with_file_name(name))
}

/// The extension of a path in lower case, without that of its compression.
pub(crate) fn extension(path: &Path) -> Option<String> {
    let plain = match crate::Codec::of(path) {
        Some(_) => path.with_extension(""),
        None => path.to_owned(),
    };
    Some(plain.extension()?.to_str()?.to_ascii_lowercase())
}
