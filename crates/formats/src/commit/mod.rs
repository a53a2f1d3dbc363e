//! Files of a run that appear together or not at all.
//!
//! A [`WholeFile`] takes the bytes of one file, which nobody sees yet, and [`WholeFile::finish`] has them on the
//! disk. [`commit`] then lets all of them appear at once. What it goes by:
//!
//! 1. Every folder concerned is locked, and every target compared with what it was when the run began.
//! 2. The contents get hidden names, and a record of what goes where is written and synced. From this
//!    moment on the commit counts, whatever happens to the program.
//! 3. What is replaced is kept under a hidden name, or as a backup, and each file gets its place. A step that
//!    fails takes those before it back.
//! 4. The folders are synced and the record removed.
//!
//! [`recover`] ends what a killed run began: with a record it is completed, without one its hidden files are
//! removed. One file without a backup needs no record, since giving it its place is one step.

mod attributes;
mod disk;
mod hidden;
mod lock;
mod place;
mod preallocation;
mod record;
mod stamp;
mod whole_file;

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use crate::{Error, Result};
use attributes::Lost;
use disk::REAL;
use hidden::Hidden;
use lock::FolderLocks;
use record::{Entry, Record};
use whole_file::Target;

pub use disk::{Disk, RealDisk};
pub use place::real as real_path;
pub use stamp::Stamp;
pub use whole_file::WholeFile;

pub(crate) use hidden::{Hidden as HiddenFile, named as named_hidden};
pub(crate) use lock::try_lock;

/// A file whose content is on the disk, but not in its place yet.
#[derive(Debug)]
pub struct Finished {
    name: String,
    disk: &'static dyn Disk,
    /// Nothing for a device or a pipe, which has its content already.
    staged: Option<(File, Option<Hidden>, Target)>,
    /// The name of the backup.
    backup: Option<PathBuf>,
    lost: Lost,
}

impl Finished {
    /// Keeps a backup of the replaced file next to it, under the first free one of the names.
    ///
    /// # Errors
    /// When all of them are taken.
    pub fn keep_replaced(&mut self, stamp: &str) -> Result<()> {
        let Some((_, _, target)) = &self.staged else { return Ok(()) };
        if target.there.is_none() {
            return Ok(());
        }
        let mut names = crate::backup::names(&target.path, stamp);
        let taken =
            || Error::Write { name: self.name.clone(), cause: io::ErrorKind::AlreadyExists.into() };
        self.backup = Some(names.find(|name| !name.exists()).ok_or_else(taken)?);
        Ok(())
    }

    /// Its content, to be read again; `None` for a device or a pipe.
    ///
    /// # Errors
    /// When it can't be looked at.
    pub fn content(&self) -> Result<Option<crate::InputFile>> {
        let Some((file, ..)) = &self.staged else { return Ok(None) };
        let refused = |cause| Error::Write { name: self.name.clone(), cause };
        let file = file.try_clone().and_then(|file| crate::InputFile::of_file(file, &self.name));
        file.map(Some).map_err(refused)
    }

    /// The name of the file in messages.
    pub fn name(&self) -> &str {
        &self.name
    }
}

/// A note about a file that has appeared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Appeared {
    /// Its name in messages.
    pub name: String,
    /// Its path, links followed; `None` for a device or a pipe.
    pub path: Option<PathBuf>,
    /// The place of the backup.
    pub backup: Option<PathBuf>,
    /// How many other names the file had that it replaced: these still lead to what it was.
    pub other_names: u64,
    /// Whether its owner or group is another now.
    pub lost_owner: bool,
    /// The extended attributes that could not be kept.
    pub lost_attributes: Vec<String>,
}

/// Whether the commit of this process is done, and held while one is under way.
static COMMIT: Mutex<bool> = Mutex::new(false);

/// Notes that a new run begins in this process.
pub fn begin_run() {
    *COMMIT.lock().unwrap_or_else(PoisonError::into_inner) = false;
}

/// Removes hidden files when the program is about to be ended from outside. Waits for a commit that is
/// under way, and returns whether the files of the run are in their places; if not, none of them appears.
pub fn interrupt() -> bool {
    let committed = COMMIT.lock().unwrap_or_else(PoisonError::into_inner);
    if *committed {
        return true;
    }
    hidden::remove_all();
    // Never given back, so that no file appears whose content is removed.
    std::mem::forget(committed);
    false
}

/// Lets files appear, all of them or none. What else has to happen with them, such as the transaction of a
/// database, happens in `before`, once it is known that no target has changed; when it fails, no file appears.
///
/// # Errors
/// The errors of `before`, [`Error::TargetChanged`] and [`Error::OutputExists`] when a target has changed
/// since the run began, and [`Error::Write`] when the disk refuses. Every target is then as it was.
pub fn commit(files: Vec<Finished>, before: impl FnOnce() -> Result<()>) -> Result<Vec<Appeared>> {
    let disk = files.first().map_or(&REAL as &'static dyn Disk, |file| file.disk);
    let mut committed = COMMIT.lock().unwrap_or_else(PoisonError::into_inner);
    let appeared = all(disk, files, before)?;
    *committed = true;
    Ok(appeared)
}

fn all(
    disk: &'static dyn Disk,
    files: Vec<Finished>,
    before: impl FnOnce() -> Result<()>,
) -> Result<Vec<Appeared>> {
    let reported = files.iter().map(|file| {
        let target = file.staged.as_ref().map(|(_, _, target)| target);
        let there = target.and_then(|target| target.there.as_ref());
        Appeared {
            path: target.map(|target| target.path.clone()),
            name: file.name.clone(),
            backup: file.backup.clone(),
            other_names: there.map_or(0, |there| there.names().saturating_sub(1)),
            lost_owner: file.lost.owner,
            lost_attributes: file.lost.attributes.clone(),
        }
    });
    let reported = reported.collect();
    let mut placed: Vec<Placing> = Vec::new();
    for Finished { name, staged, backup, .. } in files {
        if let Some((file, hidden, target)) = staged {
            placed.push(Placing { name, file, hidden, target, backup });
        }
    }
    let Some(first) = placed.first() else { return before().map(|()| reported) };
    let name = first.name.clone();
    let refused = |cause| Error::Write { name: name.clone(), cause };
    let mut folders: Vec<PathBuf> =
        placed.iter().map(|placing| placing.target.staging.clone()).collect();
    folders.sort();
    folders.dedup();
    let _locks = FolderLocks::hold(&folders).map_err(refused)?;
    for folder in &folders {
        record::clear(disk, folder);
    }
    placed.iter().try_for_each(Placing::check)?;
    before()?;
    if let [_] = &placed[..]
        && placed[0].backup.is_none()
        && let Some(placing) = placed.pop()
    {
        placing.appear(disk)?;
        return Ok(reported);
    }
    together(disk, placed)?;
    Ok(reported)
}

/// A file on the way to its place.
struct Placing {
    name: String,
    file: File,
    hidden: Option<Hidden>,
    target: Target,
    backup: Option<PathBuf>,
}

impl Placing {
    /// Refuses a target that is not what it was when the run began.
    fn check(&self) -> Result<()> {
        let Target { path, there, overwrite, .. } = &self.target;
        let name = || self.name.clone();
        match (there, Stamp::of_path(path)) {
            (Some(there), Ok(now)) if there.stamp == now => Ok(()),
            (None, Err(error)) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            (None, Err(error)) if error.kind() == io::ErrorKind::NotADirectory => Ok(()),
            (None, Ok(_)) if !overwrite => Err(Error::OutputExists { name: name() }),
            _ => Err(Error::TargetChanged { name: name() }),
        }
    }

    /// Gives its content a hidden name, if it has none.
    fn hide(&mut self, disk: &dyn Disk) -> io::Result<PathBuf> {
        if let Some(hidden) = &self.hidden {
            return Ok(hidden.path().to_owned());
        }
        let path = self.target.staging.join(hidden::stem() + hidden::PART);
        // Noted first, so that the name goes even if it was given in spite of an error.
        let hidden = Hidden::note(path.clone());
        disk.name(&self.file, &path)?;
        self.hidden = Some(hidden);
        Ok(path)
    }

    /// Puts a file in its place that appears by itself.
    fn appear(mut self, disk: &dyn Disk) -> Result<()> {
        let name = self.name.clone();
        let refused = |cause: io::Error| match cause.kind() {
            io::ErrorKind::AlreadyExists => Error::OutputExists { name: name.clone() },
            _ => Error::Write { name: name.clone(), cause },
        };
        let folder = make_folder(&self.target.path).map_err(refused)?;
        let hidden = self.hide(disk).map_err(refused)?;
        let Target { path, there, staging, .. } = &self.target;
        // A replaced file keeps a name, so that the step can be undone.
        let entry = Entry {
            content: hidden.clone(),
            target: path.clone(),
            before: there.as_ref().map(|there| there.stamp),
            kept: None,
            is_backup: false,
        };
        let kept = there.as_ref().map(|_| hidden.with_extension(&hidden::KEPT[1..]));
        let entry = Entry { kept, ..entry };
        let done = entry.place(disk).and_then(|()| disk.sync_folder(folder_of(path, staging)));
        if let Err(cause) = done {
            // Nothing more can be done where even that fails.
            let _ = entry.take_back(disk);
            drop(folder);
            return Err(refused(cause));
        }
        folder.keep();
        entry.forget_kept(disk);
        Ok(())
    }
}

/// The folder of a target, which has the staged content in it or above it.
fn folder_of<'p>(target: &'p Path, staging: &'p Path) -> &'p Path {
    target.parent().unwrap_or(staging)
}

/// Folders that were made for a target, and go again unless they are kept.
struct MadeFolders(Vec<PathBuf>);

impl MadeFolders {
    fn keep(mut self) {
        self.0.clear();
    }
}

impl Drop for MadeFolders {
    fn drop(&mut self) {
        for folder in &self.0 {
            // Only an empty folder can be removed this way.
            let _ = fs::remove_dir(folder);
        }
    }
}

/// Creates the folder of a target, and its parents.
fn make_folder(target: &Path) -> io::Result<MadeFolders> {
    let mut made = MadeFolders(Vec::new());
    let Some(folder) = target.parent() else { return Ok(made) };
    let missing: Vec<&Path> = folder.ancestors().take_while(|folder| !folder.exists()).collect();
    for folder in missing.into_iter().rev() {
        if folder.as_os_str().is_empty() {
            continue;
        }
        match fs::create_dir(folder) {
            Ok(()) => made.0.insert(0, folder.to_owned()),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists && folder.is_dir() => {}
            Err(error) => return Err(error),
        }
    }
    Ok(made)
}

/// Puts files in their places that appear together.
fn together(disk: &'static dyn Disk, mut placed: Vec<Placing>) -> Result<()> {
    let first = placed[0].name.clone();
    let failed = |name: &str, cause: io::Error| match cause.kind() {
        io::ErrorKind::AlreadyExists => Error::OutputExists { name: name.to_owned() },
        _ => Error::Write { name: name.to_owned(), cause },
    };
    let mut made = Vec::new();
    let mut entries = Vec::new();
    for placing in &mut placed {
        let name = placing.name.clone();
        let refused = |cause| failed(&name, cause);
        made.push(make_folder(&placing.target.path).map_err(refused)?);
        let content = placing.hide(disk).map_err(refused)?;
        let before = placing.target.there.as_ref().map(|there| there.stamp);
        let hidden = before.map(|_| content.with_extension(&hidden::KEPT[1..]));
        entries.push(Entry {
            target: placing.target.path.clone(),
            before,
            is_backup: placing.backup.is_some(),
            kept: placing.backup.clone().or(hidden),
            content,
        });
    }
    let record = Record::begin(disk, entries).map_err(|cause| failed(&first, cause))?;
    match record.carry_out(disk) {
        Ok(()) => {
            made.into_iter().for_each(MadeFolders::keep);
            Ok(())
        }
        Err((nth, cause)) => {
            let name = placed.get(nth).map_or(first, |placing| placing.name.clone());
            if record.take_back(disk) {
                return Err(failed(&name, cause));
            }
            // Steps that can't be undone are left to the next run, which has the record.
            for placing in &mut placed {
                std::mem::forget(placing.hidden.take());
            }
            made.into_iter().for_each(MadeFolders::keep);
            Err(Error::Unsettled { name, cause })
        }
    }
}

/// Completes what a killed run began in the folders of these files: a commit that had begun is completed,
/// other content is removed. Returns the names of the completed files.
pub fn recover<'p>(targets: impl IntoIterator<Item = &'p Path>) -> Vec<PathBuf> {
    let folder_of = |path: &Path| {
        let path = place::real(path);
        let folder = path.ancestors().skip(1).find(|folder| folder.is_dir());
        folder.map(Path::to_owned)
    };
    let mut folders: Vec<PathBuf> = targets.into_iter().filter_map(folder_of).collect();
    folders.sort();
    folders.dedup();
    let mut completed = Vec::new();
    for folder in folders {
        // A process that commits there right now clears up itself.
        if let Some(_held) = FolderLocks::try_hold(&folder) {
            completed.extend(record::clear(&REAL, &folder));
        }
    }
    completed
}
