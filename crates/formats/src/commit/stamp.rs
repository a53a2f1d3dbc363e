//! A stamp: which file it is, its size and its last change, to notice whether it is still the same.

use std::fs::{self, File, Metadata};
use std::io;
use std::path::Path;
use std::time::UNIX_EPOCH;

use serde::{Deserialize, Serialize};

/// The identity, size and time of last change of a file.
///
/// ```
/// use gather_keys_formats::Stamp;
///
/// let path = std::env::temp_dir().join("gather-keys-stamp-example");
/// std::fs::write(&path, "Batch\nB1\n").unwrap();
/// let before = Stamp::of_path(&path).unwrap();
/// std::fs::write(&path, "Batch\nB1\nB2\n").unwrap();
/// assert_ne!(Stamp::of_path(&path).unwrap(), before);
/// # std::fs::remove_file(&path).unwrap();
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    /// Device and number of the file; zeros where the system has no such numbers.
    device: u64,
    file: u64,
    bytes: u64,
    /// Nanoseconds since 1970.
    modified: Option<i128>,
}

impl Stamp {
    /// The stamp of an open file.
    ///
    /// # Errors
    /// When the system can't say.
    pub fn of_file(file: &File) -> io::Result<Self> {
        file.metadata().map(|facts| Self::of(&facts))
    }

    /// The stamp of the file at a path, links followed.
    ///
    /// # Errors
    /// When there is none, or it can't be looked at.
    pub fn of_path(path: &Path) -> io::Result<Self> {
        fs::metadata(path).map(|facts| Self::of(&facts))
    }

    pub(crate) fn of(facts: &Metadata) -> Self {
        #[cfg(unix)]
        let (device, file) = {
            use std::os::unix::fs::MetadataExt;
            (facts.dev(), facts.ino())
        };
        #[cfg(not(unix))]
        let (device, file) = (0, 0);
        let since = |time: std::time::SystemTime| match time.duration_since(UNIX_EPOCH) {
            Ok(after) => after.as_nanos().cast_signed(),
            Err(before) => -before.duration().as_nanos().cast_signed(),
        };
        Self { device, file, bytes: facts.len(), modified: facts.modified().ok().map(since) }
    }

    /// How many bytes the file has.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Whether both are of one file, whatever is in it.
    pub fn is_same_file(&self, other: &Self) -> bool {
        (self.device, self.file) == (other.device, other.file)
    }
}
