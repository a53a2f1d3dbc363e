//! A file that is open for reading, and stays the one that was opened whatever happens to its path.
//!
//! Every access goes through one handle, so that a second access sees the same file as the first. At the
//! end of a run, [`InputFile::is_unchanged`] says whether the file that was read is still there.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use crc32fast::Hasher;

use crate::commit::try_lock;
use crate::guard::count_opened;
use crate::{Error, Result, Stamp};

/// A file that is open for reading.
#[derive(Debug, Clone)]
pub struct InputFile(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    name: String,
    path: PathBuf,
    /// Nothing while the file is closed for a time.
    file: Mutex<Option<Arc<File>>>,
    stamp: Stamp,
    /// The checksum of what was read from front to back, and how many bytes it is of.
    read: Mutex<Option<(u64, u32, u8)>>,
}

impl InputFile {
    /// Opens the file at a path.
    ///
    /// ```
    /// use std::io::Read;
    /// use gather_keys_formats::InputFile;
    ///
    /// let path = std::env::temp_dir().join("gather-keys-input-example");
    /// std::fs::write(&path, "Batch\nB1\n").unwrap();
    /// let input = InputFile::open(&path).unwrap();
    /// std::fs::remove_file(&path).unwrap();
    /// for _ in 0..2 {
    ///     let mut text = String::new();
    ///     input.reader().read_to_string(&mut text).unwrap();
    ///     assert_eq!(text, "Batch\nB1\n");
    /// }
    /// assert!(!input.is_unchanged());
    /// ```
    ///
    /// # Errors
    /// When it can't be opened.
    pub fn open(path: &Path) -> io::Result<Self> {
        Self::of(File::open(path)?, path.to_owned(), path.display().to_string())
    }

    /// A file that is open already, and called `name` in messages.
    ///
    /// # Errors
    /// When it can't be looked at.
    pub fn of_file(file: File, name: &str) -> io::Result<Self> {
        Self::of(file, PathBuf::new(), name.to_owned())
    }

    pub(crate) fn of(file: File, path: PathBuf, name: String) -> io::Result<Self> {
        let stamp = Stamp::of_file(&file)?;
        count_opened(&name, stamp.bytes());
        let (file, read) = (Mutex::new(Some(Arc::new(file))), Mutex::default());
        Ok(Self(Arc::new(Inner { name, path, file, stamp, read })))
    }

    /// Locks it for the length of the run.
    ///
    /// # Errors
    /// [`Error::InUse`] when another process holds it.
    pub fn lock(&self) -> Result<()> {
        let refused = |cause| Error::Read { name: self.0.name.clone(), cause };
        let is_ours = self.handle().and_then(|file| try_lock(&file)).map_err(refused)?;
        // A run that has ended in between may have put another file in its place.
        if is_ours && self.is_unchanged() {
            return Ok(());
        }
        Err(Error::InUse { name: self.0.name.clone() })
    }

    /// The path that it was opened by; empty when it was by none.
    pub fn path(&self) -> &Path {
        &self.0.path
    }

    /// Its name in messages.
    pub fn name(&self) -> &str {
        &self.0.name
    }

    /// Its stamp when it was opened.
    pub fn stamp(&self) -> Stamp {
        self.0.stamp
    }

    /// The file, opened again if it was closed for a time.
    ///
    /// # Errors
    /// When it can't be opened, or another file has taken its place since.
    pub(crate) fn handle(&self) -> io::Result<Arc<File>> {
        let mut file = self.0.file.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(file) = &*file {
            return Ok(Arc::clone(file));
        }
        let opened = File::open(&self.0.path)?;
        if !Stamp::of_file(&opened)?.is_same_file(&self.0.stamp) {
            return Err(io::Error::other("another file has taken its place"));
        }
        Ok(Arc::clone(file.insert(Arc::new(opened))))
    }

    /// Whether it is closed for a time.
    pub fn is_closed(&self) -> bool {
        self.0.file.lock().unwrap_or_else(PoisonError::into_inner).is_none()
    }

    /// Closes the file until it is read again, to keep the number of open files small. One without a path
    /// stays open.
    pub fn close(&self) {
        if !self.0.path.as_os_str().is_empty() {
            *self.0.file.lock().unwrap_or_else(PoisonError::into_inner) = None;
        }
    }

    /// A reader of its own place, which ends where the file ended when it was opened.
    pub fn reader(&self) -> FileReader {
        // Files of the system's own making say nothing of their size.
        let end = if self.0.stamp.bytes() == 0 { u64::MAX } else { self.0.stamp.bytes() };
        FileReader { file: self.clone(), at: 0, end }
    }

    /// [`InputFile::reader`] for a reading from front to back, of which a checksum is kept.
    pub(crate) fn checked_reader(&self) -> impl Read + Send + use<> {
        Checked { reader: self.reader(), hasher: Hasher::new(), last: 0, input: self.clone() }
    }

    /// Whether the file that is at its path now is the one that was opened, with what was read of it: not
    /// replaced, and not written to but for rows that were added after the last one.
    pub fn is_unchanged(&self) -> bool {
        let open = self.0.file.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let now = open.map_or_else(|| Stamp::of_path(&self.0.path), |file| Stamp::of_file(&file));
        let Ok(now) = now else { return false };
        let is_there = self.0.path.as_os_str().is_empty()
            || Stamp::of_path(&self.0.path).is_ok_and(|there| there.is_same_file(&self.0.stamp));
        is_there && (now == self.0.stamp || self.only_grew(&now))
    }

    /// Whether only rows were added to what was read.
    fn only_grew(&self, now: &Stamp) -> bool {
        let read = *self.0.read.lock().unwrap_or_else(PoisonError::into_inner);
        let Some((bytes, checksum, last)) = read else { return false };
        let ends_a_row = matches!(last, b'\n' | b'\r');
        if !ends_a_row || bytes != self.0.stamp.bytes() || now.bytes() <= bytes {
            return false;
        }
        let (mut reader, mut hasher) = (self.reader(), Hasher::new());
        let mut buffer = vec![0; 1 << 18];
        loop {
            match reader.read(&mut buffer) {
                Ok(0) => return hasher.finalize() == checksum,
                Ok(read) => hasher.update(&buffer[..read]),
                Err(_) => return false,
            }
        }
    }
}

/// Reads a file from a place of its own.
#[derive(Debug, Clone)]
pub struct FileReader {
    file: InputFile,
    at: u64,
    end: u64,
}

impl FileReader {
    /// How many bytes the file has.
    pub(crate) fn size(&self) -> u64 {
        if self.end == u64::MAX { 0 } else { self.end }
    }
}

impl Read for FileReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let room = usize::try_from(self.end.saturating_sub(self.at)).unwrap_or(usize::MAX);
        let room = room.min(buffer.len());
        let read = read_at(&*self.file.handle()?, &mut buffer[..room], self.at)?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Seek for FileReader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size().checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

#[cfg(unix)]
fn read_at(file: &File, bytes: &mut [u8], at: u64) -> io::Result<usize> {
    std::os::unix::fs::FileExt::read_at(file, bytes, at)
}

#[cfg(windows)]
fn read_at(file: &File, bytes: &mut [u8], at: u64) -> io::Result<usize> {
    std::os::windows::fs::FileExt::seek_read(file, bytes, at)
}

/// Reads a file from front to back, and keeps a checksum of what was read.
struct Checked {
    reader: FileReader,
    hasher: Hasher,
    last: u8,
    input: InputFile,
}

impl Read for Checked {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.reader.read(buffer)?;
        if let Some(&last) = buffer[..read].last() {
            self.hasher.update(&buffer[..read]);
            self.last = last;
        } else if !buffer.is_empty() {
            let checksum = self.hasher.clone().finalize();
            let known = (self.reader.at, checksum, self.last);
            *self.input.0.read.lock().unwrap_or_else(PoisonError::into_inner) = Some(known);
        }
        Ok(read)
    }
}
