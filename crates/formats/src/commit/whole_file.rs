//! A file being written that nobody sees before it is committed.
//!
//! Where the system has files without a name, the content has none until the commit, so that nothing
//! remains however the program ends. Elsewhere it is a hidden file in the same folder. A device or a pipe
//! can't be replaced and is written to directly.

use std::fs::{self, File, Metadata};
use std::io::{self, IoSlice, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, SyncSender};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};

use super::Finished;
use super::attributes::{Lost, carry_over};
use super::disk::{Disk, REAL};
use super::hidden::{self, Hidden};
use super::lock::{FolderLocks, try_lock};
use super::preallocation::Preallocation;
use super::stamp::Stamp;
use crate::{Error, InputFile, Result};

/// A file being written.
#[derive(Debug)]
pub struct WholeFile {
    name: String,
    disk: &'static dyn Disk,
    at: At,
}

#[derive(Debug)]
enum At {
    Staged(Box<Staged>),
    Straight(File),
}

/// Content that has no place yet.
#[derive(Debug)]
struct Staged {
    file: File,
    hidden: Option<Hidden>,
    target: Target,
    room: Preallocation,
    syncs: SyncsAlong,
}

/// The place of a finished file.
#[derive(Debug)]
pub(super) struct Target {
    pub(super) path: PathBuf,
    /// The folder that the content is kept in until then.
    pub(super) staging: PathBuf,
    /// The existing file, locked while this lives.
    pub(super) there: Option<Existing>,
    pub(super) overwrite: bool,
}

/// A file that is to be replaced.
#[derive(Debug)]
pub(super) struct Existing {
    pub(super) stamp: Stamp,
    facts: Metadata,
    /// Open, where it can be read.
    file: Option<Arc<File>>,
}

impl Existing {
    /// Opens the file at a path and locks it; `None` when there is none.
    fn at(path: &Path, name: &str) -> Result<Option<Self>> {
        let refused = |cause| Error::Write { name: name.to_owned(), cause };
        // A run that ended in between has put another file in its place.
        for _ in 0..16 {
            let Ok(facts) = fs::metadata(path) else { return Ok(None) };
            let Ok(file) = File::open(path) else {
                return Ok(Some(Self { stamp: Stamp::of(&facts), facts, file: None }));
            };
            if !try_lock(&file).map_err(refused)? {
                break;
            }
            let facts = file.metadata().map_err(refused)?;
            let stamp = Stamp::of(&facts);
            if Stamp::of_path(path).is_ok_and(|now| now.is_same_file(&stamp)) {
                return Ok(Some(Self { stamp, facts, file: Some(Arc::new(file)) }));
            }
        }
        Err(Error::InUse { name: name.to_owned() })
    }

    /// How many names the file has.
    #[cfg(unix)]
    pub(super) fn names(&self) -> u64 {
        std::os::unix::fs::MetadataExt::nlink(&self.facts)
    }

    #[cfg(not(unix))]
    pub(super) fn names(&self) -> u64 {
        1
    }
}

/// Sends what is written to the disk while more is being written, so that there is little left to wait for at
/// the end.
#[derive(Debug, Default)]
struct SyncsAlong {
    unsynced: usize,
    syncer: Option<(SyncSender<()>, JoinHandle<()>)>,
    /// An error on the thread that syncs. The system reports a failure to one sync only, so it has to be
    /// kept.
    failed: Arc<Mutex<Option<io::Error>>>,
}

/// How many bytes are written before they are sent to the disk.
const SYNC_AFTER: usize = 4 << 20;

impl SyncsAlong {
    fn wrote(&mut self, bytes: usize, file: &File, disk: &'static dyn Disk) -> io::Result<()> {
        self.unsynced += bytes;
        if self.unsynced < SYNC_AFTER {
            return Ok(());
        }
        self.unsynced = 0;
        self.outcome()?;
        if self.syncer.is_none()
            && let Ok(file) = file.try_clone()
        {
            let (wake, woken) = mpsc::sync_channel(1);
            let failed = Arc::clone(&self.failed);
            let sync = move || {
                for () in woken {
                    if let Err(error) = disk.sync_data(&file) {
                        failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
                    }
                }
            };
            self.syncer = thread::Builder::new().spawn(sync).ok().map(|thread| (wake, thread));
        }
        if let Some((wake, _)) = &self.syncer {
            // A sync that is under way takes these bytes along next time.
            let _ = wake.try_send(());
        }
        Ok(())
    }

    /// The result of the syncs so far.
    fn outcome(&self) -> io::Result<()> {
        let failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner).take();
        failed.map_or(Ok(()), Err)
    }

    /// Waits for the sync that is under way.
    fn end(mut self) -> io::Result<()> {
        if let Some((wake, thread)) = self.syncer.take() {
            drop(wake);
            if thread.join().is_err() {
                return Err(io::Error::other("the thread that writes to the disk has ended"));
            }
        }
        self.outcome()
    }
}

impl WholeFile {
    /// Begins the file at `path`. A file that is there is replaced only with `overwrite`, and keeps its mode,
    /// owner and attributes; at a link, the file that it leads to is replaced.
    ///
    /// # Errors
    /// When a file is there and may not be replaced, or another run writes it, or the folder does not exist
    /// or can't be written to.
    pub fn create(path: &Path, overwrite: bool) -> Result<Self> {
        Self::create_on(&REAL, path, overwrite)
    }

    /// [`WholeFile::create`] on a disk of a test's own.
    ///
    /// # Errors
    /// As with [`WholeFile::create`].
    pub fn create_on(disk: &'static dyn Disk, path: &Path, overwrite: bool) -> Result<Self> {
        Self::begin(disk, path, overwrite, false)
    }

    /// Begins the file at `path`, as [`WholeFile::create`] does, in a folder that is made with the commit if
    /// it is not there.
    ///
    /// # Errors
    /// As with [`WholeFile::create`].
    pub fn create_with_folder(path: &Path, overwrite: bool) -> Result<Self> {
        Self::begin(&REAL, path, overwrite, true)
    }

    /// Begins a file that takes the place of an input, which is locked already.
    ///
    /// # Errors
    /// When there can be no file in its folder.
    pub fn replacing(input: &InputFile) -> Result<Self> {
        let (name, path) = (input.name().to_owned(), real(input.path()));
        let refused = |cause| Error::Write { name: name.clone(), cause };
        let file = input.handle().map_err(&refused)?;
        let facts = file.metadata().map_err(refused)?;
        let existing = Existing { stamp: input.stamp(), facts, file: Some(file) };
        let staging = folder_of(&path).to_owned();
        let target = Target { path, staging, there: Some(existing), overwrite: true };
        Self::stage(&REAL, name, target, false)
    }

    fn begin(
        disk: &'static dyn Disk,
        path: &Path,
        overwrite: bool,
        makes_folder: bool,
    ) -> Result<Self> {
        let name = path.display().to_string();
        let refused = |cause| Error::Write { name: name.clone(), cause };
        match fs::metadata(path).ok() {
            Some(facts) if facts.is_dir() => {
                return Err(refused(io::ErrorKind::IsADirectory.into()));
            }
            Some(facts) if !facts.is_file() => {
                let file = File::options().write(true).open(path).map_err(refused)?;
                return Ok(Self { name, disk, at: At::Straight(file) });
            }
            Some(_) if !overwrite => return Err(Error::OutputExists { name }),
            _ => {}
        }
        let typed = folder_of(path).to_owned();
        let path = real(path);
        let mut staging = folder_of(&path).to_owned();
        if !staging.is_dir() && !makes_folder {
            return Err(Error::FolderMissing { name, folder: typed });
        }
        while !staging.exists() && staging.parent().is_some() {
            staging.pop();
        }
        let there = Existing::at(&path, &name)?;
        Self::stage(disk, name, Target { path, staging, there, overwrite }, false)
    }

    /// Gives the content a name from the beginning, for libraries that open files by name.
    ///
    /// # Errors
    /// As with [`WholeFile::create`].
    pub fn create_named(path: &Path, overwrite: bool) -> Result<Self> {
        let name = path.display().to_string();
        if path.exists() && !overwrite {
            return Err(Error::OutputExists { name });
        }
        let typed = folder_of(path).to_owned();
        let path = real(path);
        let staging = folder_of(&path).to_owned();
        if !staging.is_dir() {
            return Err(Error::FolderMissing { name, folder: typed });
        }
        let there = Existing::at(&path, &name)?;
        Self::stage(&REAL, name, Target { path, staging, there, overwrite }, true)
    }

    fn stage(
        disk: &'static dyn Disk,
        name: String,
        target: Target,
        is_named: bool,
    ) -> Result<Self> {
        let refused = |cause| Error::Write { name: name.clone(), cause };
        let unnamed = if is_named { None } else { hidden::unnamed(&target.staging) };
        let (file, hidden) = match unnamed {
            Some(file) => {
                try_lock(&file).map_err(refused)?;
                (file, None)
            }
            None => {
                // A cleaner of what dead runs left also locks the folder.
                let folder = target.staging.clone();
                let _held = FolderLocks::hold(&[folder]).map_err(refused)?;
                let (file, hidden) = hidden::named(&target.staging).map_err(refused)?;
                try_lock(&file).map_err(refused)?;
                (file, Some(hidden))
            }
        };
        let (room, syncs) = (Preallocation::default(), SyncsAlong::default());
        let at = At::Staged(Box::new(Staged { file, hidden, target, room, syncs }));
        Ok(Self { name, disk, at })
    }

    /// The place of the content until the commit, for a file that was begun with a name.
    pub fn beside(&self) -> Option<&Path> {
        match &self.at {
            At::Staged(staged) => staged.hidden.as_ref().map(Hidden::path),
            At::Straight(_) => None,
        }
    }

    /// The content so far, to be read again; `None` for a device or a pipe.
    ///
    /// # Errors
    /// When the file can't be looked at.
    pub fn written(&self) -> Result<Option<InputFile>> {
        match &self.at {
            At::Staged(staged) => {
                let file = staged.file.try_clone();
                let file = file.and_then(|file| InputFile::of_file(file, &self.name));
                let refused = |cause| Error::Write { name: self.name.clone(), cause };
                file.map(Some).map_err(refused)
            }
            At::Straight(_) => Ok(None),
        }
    }

    /// The name of the file in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Whether it is a device or a pipe.
    pub fn is_straight(&self) -> bool {
        matches!(self.at, At::Straight(_))
    }

    /// Ends the writing: everything is on the disk, and only the place is missing.
    ///
    /// # Errors
    /// When it can't be written out.
    pub fn finish(self) -> Result<Finished> {
        let Self { name, disk, at } = self;
        let refused = |cause| Error::Write { name: name.clone(), cause };
        let staged = match at {
            At::Straight(mut file) => {
                file.flush().map_err(refused)?;
                return Ok(Finished {
                    name,
                    disk,
                    staged: None,
                    backup: None,
                    lost: Lost::default(),
                });
            }
            At::Staged(staged) => *staged,
        };
        let Staged { file, hidden, target, room, syncs } = staged;
        room.give_back(&file).map_err(refused)?;
        syncs.end().map_err(refused)?;
        let lost = match &target.there {
            Some(there) => {
                carry_over(&there.facts, there.file.as_deref(), &file).map_err(refused)?
            }
            None => Lost::default(),
        };
        disk.sync(&file).map_err(refused)?;
        Ok(Finished { name, disk, staged: Some((file, hidden, target)), backup: None, lost })
    }

    /// Ends the writing and makes the file appear, by itself.
    ///
    /// # Errors
    /// The errors of [`WholeFile::finish`] and of [`super::commit`].
    pub fn commit(self) -> Result<()> {
        super::commit(vec![self.finish()?], || Ok(())).map(drop)
    }
}

/// A path with links followed, also where the file itself is not there yet.
fn real(path: &Path) -> PathBuf {
    super::place::real(path)
}

/// The folder of a file.
fn folder_of(path: &Path) -> &Path {
    match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
}

impl Write for WholeFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.write_vectored(&[IoSlice::new(bytes)])
    }

    fn write_vectored(&mut self, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
        match &mut self.at {
            At::Staged(staged) => {
                let written = self.disk.write(&staged.file, pieces)?;
                staged.room.wrote(written, &staged.file);
                staged.syncs.wrote(written, &staged.file, self.disk)?;
                Ok(written)
            }
            At::Straight(file) => file.write_vectored(pieces),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match &mut self.at {
            At::Staged(_) => Ok(()),
            At::Straight(file) => file.flush(),
        }
    }
}
