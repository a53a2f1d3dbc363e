//! Locks, by which runs that write the same files take turns: of a file for the length of a run, of a folder for
//! the length of a commit.

use std::fs::{File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};

/// Locks a file that is open until it is closed; false when another process holds it.
///
/// # Errors
/// When the system can't say. A file system without locks counts as one that nobody else holds.
pub(crate) fn try_lock(file: &File) -> io::Result<bool> {
    // Elsewhere a lock keeps even its own process from reading.
    if !cfg!(unix) {
        return Ok(true);
    }
    match file.try_lock() {
        Ok(()) => Ok(true),
        Err(TryLockError::WouldBlock) => Ok(false),
        Err(TryLockError::Error(error)) if has_no_locks(&error) => Ok(true),
        Err(TryLockError::Error(error)) => Err(error),
    }
}

/// Folders in which no other process commits while this lasts.
#[derive(Debug)]
pub(super) struct FolderLocks(#[allow(dead_code)] Vec<File>);

impl FolderLocks {
    /// Waits until no other process commits in any of the folders. They are locked in the order of their
    /// paths, so that two processes never wait for each other.
    pub(super) fn hold(folders: &[PathBuf]) -> io::Result<Self> {
        let mut sorted: Vec<&PathBuf> = folders.iter().collect();
        sorted.sort();
        sorted.dedup();
        if !cfg!(unix) {
            return Ok(Self(Vec::new()));
        }
        let lock = |path: &PathBuf| -> io::Result<File> {
            let folder = File::open(path)?;
            match folder.lock() {
                Err(error) if !has_no_locks(&error) => Err(error),
                _ => Ok(folder),
            }
        };
        sorted.into_iter().map(lock).collect::<io::Result<_>>().map(Self)
    }

    /// Locks one folder, if nobody else has locked it.
    pub(super) fn try_hold(folder: &Path) -> Option<Self> {
        let folder = File::open(folder).ok()?;
        try_lock(&folder).ok()?.then(|| Self(vec![folder]))
    }
}

fn has_no_locks(error: &io::Error) -> bool {
    #[cfg(unix)]
    let by_number = {
        use rustix::io::Errno;
        let none = [Errno::NOSYS, Errno::NOLCK, Errno::OPNOTSUPP, Errno::INVAL];
        error.raw_os_error().is_some_and(|code| none.iter().any(|n| n.raw_os_error() == code))
    };
    #[cfg(not(unix))]
    let by_number = false;
    by_number || error.kind() == io::ErrorKind::Unsupported
}
