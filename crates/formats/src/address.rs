//! Where a table is: a path, or `-` for standard input and output.

use std::ffi::OsStr;
use std::fmt;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use crate::{Error, Result};

/// The address of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Address {
    /// Standard input or standard output.
    Standard,
    /// A file.
    File(PathBuf),
}

impl Address {
    /// The address that a person writes: a path, or `-`.
    pub fn new(text: &OsStr) -> Self {
        if text == "-" { Self::Standard } else { Self::File(text.into()) }
    }

    /// The path, when it is a file.
    pub fn path(&self) -> Option<&Path> {
        match self {
            Self::Standard => None,
            Self::File(path) => Some(path),
        }
    }

    /// What a table at this address is called when nobody gave it a name: the file's stem.
    pub fn stem(&self) -> String {
        let stem = self.path().and_then(Path::file_stem);
        stem.map_or_else(|| "input".to_owned(), |stem| stem.to_string_lossy().into_owned())
    }

    /// Opens it for reading. Gives the size in bytes too, where it is known.
    ///
    /// # Errors
    /// [`Error::Missing`] when there is no such file, [`Error::Read`] when it can't be opened.
    pub fn open(&self) -> Result<(Box<dyn Read + Send>, Option<u64>)> {
        let Self::File(path) = self else { return Ok((Box::new(io::stdin()), None)) };
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
        Ok((Box::new(file), facts.is_file().then_some(facts.len())))
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Standard => f.write_str("standard input"),
            Self::File(path) => path.display().fmt(f),
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
