//! Files that nobody is to see: without a name where the system has such, else with a hidden one.

use std::fs::{self, File};
use std::hash::{BuildHasher, RandomState};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// How the names of hidden files begin.
pub(super) const PREFIX: &str = ".gather-keys-";

/// How they end: content, the content that was replaced, the record of a commit, and the pointer to one.
pub(super) const PART: &str = ".part";
pub(super) const KEPT: &str = ".kept";
pub(super) const RECORD: &str = ".commit";
pub(super) const POINTER: &str = ".pointer";

/// The hidden files of this process, which go when it is ended from outside.
static HIDDEN: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

/// A hidden file, which is removed when this is dropped.
#[derive(Debug)]
pub(crate) struct Hidden(PathBuf);

impl Hidden {
    pub(crate) fn note(path: PathBuf) -> Self {
        HIDDEN.lock().unwrap_or_else(PoisonError::into_inner).push(path.clone());
        Self(path)
    }

    pub(crate) fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for Hidden {
    fn drop(&mut self) {
        // A file in its place has no hidden name any more.
        let _ = fs::remove_file(&self.0);
        HIDDEN.lock().unwrap_or_else(PoisonError::into_inner).retain(|other| *other != self.0);
    }
}

/// Removes the hidden files of this process.
pub(super) fn remove_all() {
    for path in HIDDEN.lock().unwrap_or_else(PoisonError::into_inner).iter() {
        // A file that is gone needs no removing.
        let _ = fs::remove_file(path);
    }
}

/// A name for hidden files that no other process has.
pub(super) fn stem() -> String {
    let random = RandomState::new().hash_one(std::process::id());
    format!("{PREFIX}{}-{random:016x}", std::process::id())
}

/// A file without a name in a folder, where the system and the file system have such.
#[cfg(target_os = "linux")]
pub(super) fn unnamed(folder: &Path) -> Option<File> {
    use rustix::fs::{CWD, Mode, OFlags, openat};

    let flags = OFlags::TMPFILE | OFlags::RDWR | OFlags::CLOEXEC;
    openat(CWD, folder, flags, Mode::from_raw_mode(0o666)).ok().map(File::from)
}

#[cfg(not(target_os = "linux"))]
pub(super) fn unnamed(_: &Path) -> Option<File> {
    None
}

/// A new hidden file in a folder.
pub(crate) fn named(folder: &Path) -> io::Result<(File, Hidden)> {
    let path = folder.join(stem() + PART);
    let file = File::options().read(true).write(true).create_new(true).open(&path);
    // The cause names the hidden file, which means nothing to a person.
    let file = file.map_err(|cause| io::Error::from(cause.kind()))?;
    Ok((file, Hidden::note(path)))
}
