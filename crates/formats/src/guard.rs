//! Readers that may panic on a damaged file, or take more memory than it is worth.
//!
//! A panic in [`guarded`] becomes an error that names the file. Whoever allocates memory asks [`guarded_name`] for the
//! file that a thread reads, and [`memory_limit`] for what the files that were opened may take.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// The memory that a run with small input files may allocate.
const SMALL_FILES_LIMIT: u64 = 704 << 20;

/// How many bytes of input files count as small, and what each byte after these may allocate.
const SMALL_FILES: u64 = 10 << 20;
const LIMIT_PER_BYTE: u64 = 256;

static OPENED: AtomicU64 = AtomicU64::new(0);
static NAMES: Mutex<[Option<FileName>; 3]> = Mutex::new([None; 3]);
static IS_UNBOUNDED: AtomicBool = AtomicBool::new(true);

thread_local! {
    static GUARDED: Cell<Option<FileName>> = const { Cell::new(None) };
}

/// The name of a file, or the end of it, in memory of its own.
///
/// A name is looked at where nothing can be allocated.
#[derive(Debug, Clone, Copy)]
pub struct FileName {
    bytes: [u8; Self::LONGEST],
    length: u8,
}

impl FileName {
    const LONGEST: usize = 120;

    fn new(name: &str) -> Self {
        let mut begin = name.len().saturating_sub(Self::LONGEST);
        while !name.is_char_boundary(begin) {
            begin += 1;
        }
        let name = &name.as_bytes()[begin..];
        let mut bytes = [0; Self::LONGEST];
        bytes[..name.len()].copy_from_slice(name);
        Self { bytes, length: name.len() as u8 }
    }

    /// The name as text.
    pub fn as_str(&self) -> &str {
        str::from_utf8(&self.bytes[..usize::from(self.length)]).unwrap_or_default()
    }
}

/// The file that this thread reads in a guarded reader, of which a panic becomes an error.
///
/// ```
/// assert!(gather_keys_formats::guarded_name().is_none());
/// ```
pub fn guarded_name() -> Option<FileName> {
    GUARDED.get()
}

/// How many bytes the program may allocate, by the size of the files that it has opened; `u64::MAX` while no file is
/// open, or when something was opened whose size is unknown.
///
/// Files of 10 MiB in all may take 704 MiB, and each byte after these 256 more: far more than a sound file takes, and
/// little enough that a damaged one does not fill the memory.
///
/// ```
/// assert_eq!(gather_keys_formats::memory_limit(), u64::MAX);
/// ```
pub fn memory_limit() -> u64 {
    if IS_UNBOUNDED.load(Ordering::Relaxed) {
        return u64::MAX;
    }
    let large = OPENED.load(Ordering::Relaxed).saturating_sub(SMALL_FILES);
    large.saturating_mul(LIMIT_PER_BYTE).saturating_add(SMALL_FILES_LIMIT)
}

/// The first three files that were opened; none while another thread opens one.
///
/// ```
/// assert_eq!(gather_keys_formats::opened_names().count(), 0);
/// ```
pub fn opened_names() -> impl Iterator<Item = FileName> {
    let names = NAMES.try_lock().map(|names| *names).unwrap_or_default();
    names.into_iter().flatten()
}

/// Counts the file called `name`, of this many bytes, as opened.
pub(crate) fn count_opened(name: &str, bytes: u64) {
    if let Ok(mut names) = NAMES.try_lock() {
        let is_known = names.iter().flatten().any(|known| known.as_str() == name);
        if let Some(free) = names.iter_mut().find(|known| known.is_none()).filter(|_| !is_known) {
            *free = Some(FileName::new(name));
        }
    }
    // Files of the system's own making report no size.
    if bytes == 0 {
        return;
    }
    if OPENED.fetch_add(bytes, Ordering::Relaxed) == 0 {
        IS_UNBOUNDED.store(false, Ordering::Relaxed);
    }
}

/// Counts something as opened whose size is unknown: a pipe, or a server.
pub(crate) fn count_unbounded() {
    OPENED.fetch_add(1, Ordering::Relaxed);
    IS_UNBOUNDED.store(true, Ordering::Relaxed);
}

/// Reads from the file called `name` by `read`; `None` when that panics.
pub(crate) fn guarded<T>(name: &str, read: impl FnOnce() -> T) -> Option<T> {
    let before = GUARDED.replace(Some(FileName::new(name)));
    let read = catch_unwind(AssertUnwindSafe(read));
    GUARDED.set(before);
    read.ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_caught_and_its_file_named() {
        assert_eq!(
            guarded("hives.xls", || guarded_name().unwrap().as_str().to_owned()),
            Some("hives.xls".to_owned())
        );
        let long = "ä".repeat(100);
        let name = guarded(&long, || guarded_name().unwrap().as_str().to_owned()).unwrap();
        assert!(long.ends_with(&name) && name.len() == 120, "{name}");
        assert!(guarded_name().is_none());
    }
}
