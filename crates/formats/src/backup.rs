//! Keeping what a file was, before another takes its place.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use crate::{Error, Result, WholeFile};

/// Keeps a file as it is beside itself, as `NAME.backup-STAMP.ENDING`; gives that path. The file
/// itself stays where it is. What leads to it by a link is kept beside the file it leads to.
///
/// # Errors
/// When it can't be kept; then there is nothing new.
pub fn keep_copy(path: &Path, stamp: &str) -> Result<PathBuf> {
    let unkept = |cause| Error::Write { name: path.display().to_string(), cause };
    let path = fs::canonicalize(path).map_err(unkept)?;
    for copy in names(&path, stamp) {
        // A second name for the same file is whole at once, whatever happens; not every file system
        // has such.
        match fs::hard_link(&path, &copy) {
            Ok(()) => return Ok(copy),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(_) => {
                let mut whole = WholeFile::create(&copy, false)?;
                let mut from = File::open(&path).map_err(unkept)?;
                io::copy(&mut from, &mut whole).map_err(unkept)?;
                whole.commit()?;
                return Ok(copy);
            }
        }
    }
    Err(unkept(io::ErrorKind::AlreadyExists.into()))
}

/// The names that a copy may have, in order: the stamp, and a number where there is one already.
fn names(path: &Path, stamp: &str) -> impl Iterator<Item = PathBuf> {
    let part = |part: Option<&std::ffi::OsStr>| {
        part.map_or(String::new(), |part| part.to_string_lossy().into_owned())
    };
    let (stem, ending) = (part(path.file_stem()), part(path.extension()));
    let ending = if ending.is_empty() { ending } else { format!(".{ending}") };
    (1..1000).map(move |number| {
        let number = if number == 1 { String::new() } else { format!("-{number}") };
        path.with_file_name(format!("{stem}.backup-{stamp}{number}{ending}"))
    })
}
