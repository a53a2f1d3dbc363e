//! The steps of a commit on the disk, one method for each, so that tests can let any step fail.

use std::fmt::Debug;
use std::fs::{self, File};
use std::io::{self, IoSlice, Write};
use std::path::Path;

/// The steps of a commit.
pub trait Disk: Debug + Send + Sync {
    /// Writes bytes to a file, and gives how many were taken.
    ///
    /// # Errors
    /// When they can't be written.
    fn write(&self, mut file: &File, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
        file.write_vectored(pieces)
    }

    /// Waits until the content of a file is on the disk.
    ///
    /// # Errors
    /// When it can't be written out, now or at any time since it was last asked for.
    fn sync_data(&self, file: &File) -> io::Result<()> {
        file.sync_data()
    }

    /// Waits until a file is on the disk, its size and attributes included.
    ///
    /// # Errors
    /// When it can't be written out.
    fn sync(&self, file: &File) -> io::Result<()> {
        file.sync_all()
    }

    /// Waits until the names in a folder are on the disk, where a folder can be waited for.
    ///
    /// # Errors
    /// When they can't be written out.
    fn sync_folder(&self, folder: &Path) -> io::Result<()> {
        #[cfg(unix)]
        match File::open(folder)?.sync_all() {
            Err(error)
                if matches!(
                    error.kind(),
                    io::ErrorKind::InvalidInput | io::ErrorKind::Unsupported
                ) =>
            {
                Ok(())
            }
            done => done,
        }
        #[cfg(not(unix))]
        {
            let _ = folder;
            Ok(())
        }
    }

    /// Gives an open file that has no name one that is free.
    ///
    /// # Errors
    /// When the name is taken, or can't be given.
    fn name(&self, file: &File, path: &Path) -> io::Result<()> {
        #[cfg(target_os = "linux")]
        {
            use std::os::fd::AsRawFd;
            let open = format!("/proc/self/fd/{}", file.as_raw_fd());
            let follow = rustix::fs::AtFlags::SYMLINK_FOLLOW;
            rustix::fs::linkat(rustix::fs::CWD, open, rustix::fs::CWD, path, follow)?;
            Ok(())
        }
        #[cfg(not(target_os = "linux"))]
        {
            let _ = (file, path);
            Err(io::ErrorKind::Unsupported.into())
        }
    }

    /// Gives a file a second name.
    ///
    /// # Errors
    /// When that name is taken, or the file system has no second names.
    fn link(&self, from: &Path, to: &Path) -> io::Result<()> {
        fs::hard_link(from, to)
    }

    /// Gives a file another name; a file of that name is replaced.
    ///
    /// # Errors
    /// When it can't be done.
    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        fs::rename(from, to)
    }

    /// Gives a file another name, which has to be free.
    ///
    /// # Errors
    /// When the name is taken, or can't be given.
    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        #[cfg(target_os = "linux")]
        {
            let flags = rustix::fs::RenameFlags::NOREPLACE;
            match rustix::fs::renameat_with(rustix::fs::CWD, from, rustix::fs::CWD, to, flags) {
                Ok(()) => return Ok(()),
                // Not every file system can.
                Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {}
                Err(error) => return Err(error.into()),
            }
        }
        if fs::symlink_metadata(to).is_ok() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        fs::rename(from, to)
    }

    /// Removes a file.
    ///
    /// # Errors
    /// When it can't be removed.
    fn remove(&self, path: &Path) -> io::Result<()> {
        fs::remove_file(path)
    }
}

/// The disk itself.
#[derive(Debug, Clone, Copy)]
pub struct RealDisk;

impl Disk for RealDisk {}

/// The disk itself, for everything that is not a test.
pub(crate) static REAL: RealDisk = RealDisk;
