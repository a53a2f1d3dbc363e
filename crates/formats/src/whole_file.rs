//! An output file that appears whole or not at all.
//!
//! What is written goes to a hidden file in the same folder; [`WholeFile::commit`] syncs it and
//! gives it its name. Dropped without that, it is removed. A device or a pipe is written to
//! straight away, since it can't be replaced.

use std::fs::{self, File, Permissions};
use std::io::{self, IoSlice, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, SyncSender};
use std::sync::{Mutex, PoisonError};
use std::thread::{self, JoinHandle};

use tempfile::{NamedTempFile, PersistError};

use crate::room_ahead::RoomAhead;
use crate::{Error, Result};

/// Where the content of files stands that are not finished.
static UNFINISHED: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

/// Removes what is written of files that are not finished, when the program is about to end at
/// once. None of them appears any more.
pub fn remove_unfinished() {
    // Held on to, so that no file appears whose content is being removed.
    let unfinished = UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner);
    for path in unfinished.iter() {
        // What is gone already needs no removing.
        let _ = fs::remove_file(path);
    }
    std::mem::forget(unfinished);
}

/// A note that a file is not finished, or is for this run only, while it lasts.
#[derive(Debug)]
pub(crate) struct Unfinished(PathBuf);

impl Unfinished {
    pub(crate) fn note(path: &Path) -> Self {
        UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner).push(path.to_owned());
        Self(path.to_owned())
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        let mut all = UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|other| *other != self.0);
    }
}

/// A file being written.
#[derive(Debug)]
pub struct WholeFile {
    name: String,
    place: Option<Place>,
    at: At,
}

/// Where the finished file is to stand.
#[derive(Debug)]
struct Place {
    path: PathBuf,
    overwrite: bool,
}

#[derive(Debug)]
enum At {
    Beside(NamedTempFile, OnDisk, Unfinished),
    Straight(File),
}

/// What is done that a file gets on the disk while it is written.
#[derive(Debug, Default)]
struct OnDisk {
    room: RoomAhead,
    syncs: SyncsAlong,
}

/// Sends what is written to the disk while more is being written, so that there is little left to
/// wait for at the end.
#[derive(Debug, Default)]
struct SyncsAlong {
    unsynced: usize,
    syncer: Option<(SyncSender<()>, JoinHandle<()>)>,
}

/// How many bytes are written before they are sent to the disk.
const SYNC_AFTER: usize = 4 << 20;

impl SyncsAlong {
    fn wrote(&mut self, bytes: usize, file: &File) {
        self.unsynced += bytes;
        if self.unsynced < SYNC_AFTER {
            return;
        }
        self.unsynced = 0;
        if self.syncer.is_none()
            && let Ok(file) = file.try_clone()
        {
            let (wake, woken) = mpsc::sync_channel(1);
            // A failure is told by the sync at the end, which does not rely on this one.
            let sync = move || woken.iter().for_each(|()| drop(file.sync_data()));
            self.syncer = thread::Builder::new().spawn(sync).ok().map(|thread| (wake, thread));
        }
        if let Some((wake, _)) = &self.syncer {
            // One that is under way takes what is written meanwhile along next time.
            let _ = wake.try_send(());
        }
    }

    /// Waits for what is under way.
    fn end(self) {
        if let Some((wake, thread)) = self.syncer {
            drop(wake);
            let _ = thread.join();
        }
    }
}

impl WholeFile {
    /// Begins the file at `path`. One that is there is replaced only with `overwrite`, and keeps
    /// its permissions; behind a link, the file that it leads to is the one replaced.
    ///
    /// # Errors
    /// When a file is there and may not be replaced, or the folder does not exist or can't be
    /// written to.
    pub fn create(path: &Path, overwrite: bool) -> Result<Self> {
        let name = path.display().to_string();
        let refused = |cause| Error::Write { name: name.clone(), cause };
        let there = fs::metadata(path).ok();
        match &there {
            Some(facts) if facts.is_dir() => {
                return Err(refused(io::ErrorKind::IsADirectory.into()));
            }
            Some(facts) if !facts.is_file() => {
                let file = File::options().write(true).open(path).map_err(refused)?;
                return Ok(Self { name, place: None, at: At::Straight(file) });
            }
            Some(_) if !overwrite => return Err(Error::OutputExists { name }),
            _ => {}
        }
        let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
        let folder = match path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder,
            _ => Path::new("."),
        };
        if !folder.is_dir() {
            return Err(Error::FolderMissing { name, folder: folder.to_owned() });
        }
        let mut builder = tempfile::Builder::new();
        builder.prefix(".gather-keys-").suffix(".part");
        let permissions = there.map_or_else(usual_permissions, |facts| Some(facts.permissions()));
        if let Some(permissions) = permissions {
            builder.permissions(permissions);
        }
        // The cause names the hidden file, which tells a person nothing.
        let beside = builder.tempfile_in(folder).map_err(|cause| refused(cause.kind().into()))?;
        let unfinished = Unfinished::note(beside.path());
        Ok(Self {
            name,
            place: Some(Place { path, overwrite }),
            at: At::Beside(beside, OnDisk::default(), unfinished),
        })
    }

    /// Where its content stands until it is finished, for a file that appears whole.
    pub fn beside(&self) -> Option<&Path> {
        match &self.at {
            At::Beside(file, ..) => Some(file.path()),
            At::Straight(_) => None,
        }
    }

    /// What the file is called in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Makes the file appear, once everything is written to it.
    ///
    /// # Errors
    /// When it can't be written out, or a file of its name appeared meanwhile.
    pub fn commit(self) -> Result<()> {
        let Self { name, place, at } = self;
        let refused = |cause| Error::Write { name: name.clone(), cause };
        match (at, place) {
            (At::Beside(file, on_disk, _unfinished), Some(Place { path, overwrite })) => {
                on_disk.room.give_back(file.as_file()).map_err(refused)?;
                on_disk.syncs.end();
                file.as_file().sync_all().map_err(refused)?;
                if overwrite {
                    file.persist(&path).map_err(|PersistError { error, .. }| refused(error))?;
                } else {
                    file.persist_noclobber(&path).map_err(
                        |PersistError { error, .. }| match error.kind() {
                            io::ErrorKind::AlreadyExists => {
                                Error::OutputExists { name: name.clone() }
                            }
                            _ => refused(error),
                        },
                    )?;
                }
                // The file has its name; that the folder is synced too is a help, not a must.
                if let Some(Ok(folder)) = path.parent().map(File::open) {
                    let _ = folder.sync_all();
                }
                Ok(())
            }
            (At::Beside(mut file, ..), None) => file.flush().map_err(refused),
            (At::Straight(mut file), _) => file.flush().map_err(refused),
        }
    }
}

impl Write for WholeFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.write_vectored(&[IoSlice::new(bytes)])
    }

    fn write_vectored(&mut self, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
        match &mut self.at {
            At::Beside(file, on_disk, _) => {
                let written = file.write_vectored(pieces)?;
                on_disk.room.wrote(written, file.as_file());
                on_disk.syncs.wrote(written, file.as_file());
                Ok(written)
            }
            At::Straight(file) => file.write_vectored(pieces),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match &mut self.at {
            At::Beside(file, ..) => file.flush(),
            At::Straight(file) => file.flush(),
        }
    }
}

/// What a new file gets, less what the person's mask takes away.
#[cfg(unix)]
#[allow(clippy::unnecessary_wraps)]
fn usual_permissions() -> Option<Permissions> {
    use std::os::unix::fs::PermissionsExt;
    Some(Permissions::from_mode(0o666))
}

#[cfg(not(unix))]
fn usual_permissions() -> Option<Permissions> {
    None
}
