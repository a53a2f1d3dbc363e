//! The record of a commit: what goes where, and what was there. It is what a killed run's successor goes by.
//!
//! The record is a hidden file in the folder of the first file; once it has its name, the commit counts. Every
//! other folder has a pointer to it, which is written before and removed first.

use std::fs::{self, File};
use std::io::{self, IoSlice};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::disk::Disk;
use super::hidden::{self, KEPT, PART, POINTER, PREFIX, RECORD};
use super::lock::try_lock;
use super::stamp::Stamp;

/// One file of a commit.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Entry {
    /// Its content, under a hidden name.
    #[serde(with = "path_bytes")]
    pub(super) content: PathBuf,
    /// Its place.
    #[serde(with = "path_bytes")]
    pub(super) target: PathBuf,
    /// The file that was there, if any.
    pub(super) before: Option<Stamp>,
    /// The name that what was there is kept under.
    #[serde(with = "optional_path_bytes")]
    pub(super) kept: Option<PathBuf>,
    /// Whether it stays under that name.
    pub(super) is_backup: bool,
}

impl Entry {
    /// Gives the content its place.
    pub(super) fn place(&self, disk: &dyn Disk) -> io::Result<()> {
        let Some(kept) = &self.kept else { return disk.rename_new(&self.content, &self.target) };
        if !kept.exists() && disk.link(&self.target, kept).is_err() {
            // Not every file system has second names.
            disk.rename_new(&self.target, kept)?;
        }
        disk.rename(&self.content, &self.target)
    }

    /// Takes back what was done of that.
    pub(super) fn take_back(&self, disk: &dyn Disk) -> io::Result<()> {
        let now = Stamp::of_path(&self.target).ok();
        let is_placed = !self.content.exists();
        if is_placed && now.is_some() {
            disk.rename(&self.target, &self.content)?;
        }
        let Some(kept) = self.kept.as_ref().filter(|kept| kept.exists()) else { return Ok(()) };
        let is_same = |now: &Stamp| Stamp::of_path(kept).is_ok_and(|kept| kept.is_same_file(now));
        // To rename a file to its own second name would do nothing.
        if !is_placed && now.as_ref().is_some_and(is_same) {
            return disk.remove(kept);
        }
        disk.rename(kept, &self.target)
    }

    /// Removes what was kept only to take the step back.
    pub(super) fn forget_kept(&self, disk: &dyn Disk) {
        if let Some(kept) = self.kept.as_ref().filter(|_| !self.is_backup) {
            // The next run removes it if this does not.
            let _ = disk.remove(kept);
        }
    }

    /// Does what a killed run had not done any more, unless somebody has written to the target since.
    fn complete(&self, disk: &dyn Disk) -> bool {
        if self.content.exists() {
            let now = Stamp::of_path(&self.target).ok();
            let kept = self.kept.as_ref().and_then(|kept| Stamp::of_path(kept).ok());
            let is_as_before = now == self.before || (now.is_none() && kept == self.before);
            if !is_as_before || self.place(disk).is_err() {
                let _ = disk.remove(&self.content);
                return false;
            }
        }
        self.forget_kept(disk);
        true
    }
}

/// A commit that counts.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Record {
    /// The place of the record.
    #[serde(with = "path_bytes")]
    place: PathBuf,
    entries: Vec<Entry>,
}

impl Record {
    /// Writes the record of a commit, after the pointers to it.
    pub(super) fn begin(disk: &dyn Disk, entries: Vec<Entry>) -> io::Result<Self> {
        let folders = folders(&entries);
        let stem = hidden::stem();
        let place = folders[0].join(stem.clone() + RECORD);
        let record = Self { place, entries };
        let written = record.write(disk, &folders, &stem);
        if written.is_err() {
            let _ = disk.remove(&record.place);
            record.remove_pointers(disk);
        }
        written.map(|()| record)
    }

    fn write(&self, disk: &dyn Disk, folders: &[PathBuf], stem: &str) -> io::Result<()> {
        let text = serde_json::to_vec(self)?;
        for folder in &folders[1..] {
            write(disk, &folder.join(stem.to_owned() + POINTER), &text)?;
            disk.sync_folder(folder)?;
        }
        // The contents have to have their hidden names before the record can count.
        disk.sync_folder(&folders[0])?;
        let unnamed = self.place.with_extension(&PART[1..]);
        let _hidden = super::Hidden::note(unnamed.clone());
        write(disk, &unnamed, &text)?;
        disk.rename_new(&unnamed, &self.place)?;
        disk.sync_folder(&folders[0])
    }

    /// Gives all files their places; an error comes with the file that it is about.
    pub(super) fn carry_out(&self, disk: &dyn Disk) -> Result<(), (usize, io::Error)> {
        for (nth, entry) in self.entries.iter().enumerate() {
            entry.place(disk).map_err(|cause| (nth, cause))?;
        }
        for folder in self.folders() {
            disk.sync_folder(&folder).map_err(|cause| (0, cause))?;
        }
        self.end(disk);
        Ok(())
    }

    /// Takes all of it back; false when that fails too.
    pub(super) fn take_back(&self, disk: &dyn Disk) -> bool {
        let back = self.entries.iter().rev().map(|entry| entry.take_back(disk));
        let is_back = back.fold(true, |all, one| all & one.is_ok());
        if is_back {
            // Without its record the commit does not count any more.
            let is_gone = disk.remove(&self.place).is_ok();
            self.remove_pointers(disk);
            return is_gone || !self.place.exists();
        }
        false
    }

    /// Removes all traces of a commit that is done.
    fn end(&self, disk: &dyn Disk) {
        self.entries.iter().for_each(|entry| entry.forget_kept(disk));
        self.remove_pointers(disk);
        // Without anything left to do, a record that stays does no harm.
        let _ = disk.remove(&self.place);
    }

    fn remove_pointers(&self, disk: &dyn Disk) {
        let name = self.place.with_extension(&POINTER[1..]);
        let name = name.file_name().unwrap_or_default();
        for folder in &self.folders()[1..] {
            let _ = disk.remove(&folder.join(name));
        }
    }

    /// The folders of the contents and of their places, that of the record first.
    fn folders(&self) -> Vec<PathBuf> {
        folders(&self.entries)
    }

    fn read(path: &Path) -> Option<Self> {
        serde_json::from_slice(&fs::read(path).ok()?).ok()
    }
}

/// The folders of the contents and of their places, without repeats.
fn folders(entries: &[Entry]) -> Vec<PathBuf> {
    let mut all: Vec<PathBuf> = Vec::new();
    for path in entries.iter().flat_map(|entry| [&entry.content, &entry.target]) {
        let folder = path.parent().unwrap_or(Path::new("."));
        if !all.iter().any(|other| other == folder) {
            all.push(folder.to_owned());
        }
    }
    all
}

/// Writes a small file.
fn write(disk: &dyn Disk, path: &Path, bytes: &[u8]) -> io::Result<()> {
    let file = File::create_new(path)?;
    let mut left = bytes;
    while !left.is_empty() {
        match disk.write(&file, &[IoSlice::new(left)])? {
            0 => return Err(io::ErrorKind::WriteZero.into()),
            written => left = &left[written..],
        }
    }
    disk.sync(&file)
}

/// Ends what dead processes left in a folder that nobody else commits in; gives the files that were completed.
pub(super) fn clear(disk: &dyn Disk, folder: &Path) -> Vec<PathBuf> {
    let hidden = |ending: &str| -> Vec<PathBuf> {
        let entries = fs::read_dir(folder).into_iter().flatten().flatten();
        let paths = entries.map(|entry| entry.path()).filter(|path| {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            name.starts_with(PREFIX) && name.ends_with(ending)
        });
        paths.collect()
    };
    let mut completed = Vec::new();
    for path in hidden(POINTER) {
        if let Some(record) = Record::read(&path)
            && let Some(whole) = Record::read(&record.place)
        {
            completed.extend(complete(disk, &whole));
        }
        let _ = disk.remove(&path);
    }
    for path in hidden(RECORD) {
        match Record::read(&path) {
            Some(record) => completed.extend(complete(disk, &record)),
            None => drop(disk.remove(&path)),
        }
    }
    for path in hidden(PART).into_iter().chain(hidden(KEPT)) {
        // The content of a run that is still going on is locked.
        let is_dead = File::open(&path).is_ok_and(|file| try_lock(&file).unwrap_or(false));
        if is_dead {
            let _ = disk.remove(&path);
        }
    }
    completed
}

/// Completes a commit; gives the files that are in their places by it.
fn complete(disk: &dyn Disk, record: &Record) -> Vec<PathBuf> {
    let done = record.entries.iter().filter(|entry| entry.complete(disk));
    let done = done.map(|entry| entry.target.clone()).collect();
    for folder in record.folders() {
        let _ = disk.sync_folder(&folder);
    }
    record.end(disk);
    done
}

/// Paths as bytes, since not every path is text.
mod path_bytes {
    use std::path::{Path, PathBuf};

    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(super) fn bytes(path: &Path) -> Vec<u8> {
        path.as_os_str().as_encoded_bytes().to_vec()
    }

    pub(super) fn path(bytes: Vec<u8>) -> PathBuf {
        #[cfg(unix)]
        {
            use std::os::unix::ffi::OsStringExt;
            std::ffi::OsString::from_vec(bytes).into()
        }
        #[cfg(not(unix))]
        {
            String::from_utf8_lossy(&bytes).into_owned().into()
        }
    }

    pub(super) fn serialize<S: Serializer>(path: &Path, to: S) -> Result<S::Ok, S::Error> {
        bytes(path).serialize(to)
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(from: D) -> Result<PathBuf, D::Error> {
        Vec::deserialize(from).map(path)
    }
}

mod optional_path_bytes {
    use std::path::PathBuf;

    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    // The form that serde asks for.
    #[allow(clippy::ref_option)]
    pub(super) fn serialize<S: Serializer>(
        path: &Option<PathBuf>,
        to: S,
    ) -> Result<S::Ok, S::Error> {
        path.as_deref().map(super::path_bytes::bytes).serialize(to)
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(
        from: D,
    ) -> Result<Option<PathBuf>, D::Error> {
        Ok(Option::<Vec<u8>>::deserialize(from)?.map(super::path_bytes::path))
    }
}
