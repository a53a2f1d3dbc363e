//! The allocator of the program: the system's, within a limit.
//!
//! A damaged file can make its reader ask for more memory than there is, or fill all of it bit by bit, and the
//! libraries that read files can't be given a limit. So every allocation is counted here. One that would exceed
//! [`memory_limit`], or that the system refuses, ends the program with a sentence that names the file and exit
//! status 2. An output appears whole or not at all whenever the program ends, so nothing is lost by it.

// An allocator can't be written without; all memory comes from the system and goes back there.
#![allow(unsafe_code)]

#[cfg(target_os = "linux")]
mod large_pages;

use std::alloc::{GlobalAlloc, Layout};
use std::cell::Cell;
use std::fmt::{self, Write as _};
use std::io::{Read as _, Write as _};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};

use gather_keys_formats::{guarded_name, memory_limit, opened_names};

#[cfg(target_os = "linux")]
use large_pages::LargePages as Memory;
#[cfg(not(target_os = "linux"))]
use std::alloc::System as Memory;

use crate::wording::visible;

#[global_allocator]
static ALLOCATOR: Limited = Limited;

/// The program's allocator.
struct Limited;

/// How many bytes are allocated, but for what each thread has yet to add.
static ALLOCATED: AtomicI64 = AtomicI64::new(0);

/// How many bytes a thread allocates or frees before it adds them to the rest.
const ADDED_AT_ONCE: i64 = 64 << 10;

thread_local! {
    static TO_ADD: Cell<i64> = const { Cell::new(0) };
}

/// The size of an allocation, which is less than half of all addresses.
#[inline]
fn signed(size: usize) -> i64 {
    (size as u64).cast_signed()
}

/// Counts bytes that are allocated, or freed where they are negative; ends the program if they are too many.
#[inline]
fn count(bytes: i64) {
    let to_add = TO_ADD.get() + bytes;
    if to_add.abs() < ADDED_AT_ONCE {
        TO_ADD.set(to_add);
    } else {
        TO_ADD.set(0);
        add(to_add);
    }
}

#[cold]
fn add(bytes: i64) {
    let allocated = ALLOCATED.fetch_add(bytes, Ordering::Relaxed) + bytes;
    if bytes < 0 || allocated < 0 {
        return;
    }
    let (asked, allocated, limit) =
        (bytes.cast_unsigned(), allocated.cast_unsigned(), memory_limit());
    // Room that is kept ready takes nothing before it is used.
    if asked > limit || (allocated > limit && in_use().is_none_or(|bytes| bytes + asked > limit)) {
        end(&TooMuch { limit });
    }
}

/// How many bytes of memory are in use, where the system says so.
fn in_use() -> Option<u64> {
    const PAGE: u64 = 4096;
    let mut text = [0; 128];
    let mut file = std::fs::File::open("/proc/self/statm").ok()?;
    let length = file.read(&mut text).ok()?;
    let pages = str::from_utf8(&text[..length]).ok()?.split(' ').nth(1)?;
    Some(pages.parse::<u64>().ok()? * PAGE)
}

// SAFETY: every call is passed on unchanged to an allocator that keeps the contract; counting touches
// only the counts.
unsafe impl GlobalAlloc for Limited {
    #[inline]
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        count(signed(layout.size()));
        // SAFETY: the caller's promises are those of the callee.
        there(unsafe { Memory.alloc(layout) }, layout.size())
    }

    #[inline]
    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        count(signed(layout.size()));
        // SAFETY: as above.
        there(unsafe { Memory.alloc_zeroed(layout) }, layout.size())
    }

    #[inline]
    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        count(-signed(layout.size()));
        // SAFETY: as above.
        unsafe { Memory.dealloc(at, layout) }
    }

    #[inline]
    unsafe fn realloc(&self, at: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        count(signed(size) - signed(layout.size()));
        // SAFETY: as above.
        there(unsafe { Memory.realloc(at, layout, size) }, size)
    }
}

/// Memory that the system has given; ends the program where it has none.
#[inline]
fn there(memory: *mut u8, size: usize) -> *mut u8 {
    if memory.is_null() {
        end(&NoneLeft { size });
    }
    memory
}

/// Ends the program with a sentence. Nothing may be allocated any more.
#[cold]
#[inline(never)]
fn end(said: &dyn fmt::Display) -> ! {
    static IS_ENDING: AtomicBool = AtomicBool::new(false);
    if IS_ENDING.swap(true, Ordering::Relaxed) {
        // Another thread says it, and ends this one too.
        loop {
            std::thread::park();
        }
    }
    let mut text = Fixed { bytes: [0; 600], length: 0 };
    // Text that does not fit is cut.
    let _ = writeln!(text, "error: {said}");
    let _ = std::io::stderr().write_all(&text.bytes[..text.length]);
    #[cfg(unix)]
    // SAFETY: it ends the process at once, which any thread may do at any time.
    unsafe {
        libc::_exit(2)
    }
    #[cfg(not(unix))]
    std::process::exit(2)
}

/// The name of the file this thread reads, or the names of all open files.
struct File;

impl fmt::Display for File {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match guarded_name() {
            Some(name) => name.as_str().chars().try_for_each(|sign| f.write_char(visible(sign))),
            None => {
                let mut names = opened_names().enumerate();
                names.try_for_each(|(nth, name)| {
                    let joint = if nth > 0 { ", " } else { "" };
                    f.write_str(joint)?;
                    name.as_str().chars().try_for_each(|sign| f.write_char(visible(sign)))
                })
            }
        }
    }
}

/// That a small file would take too much.
struct TooMuch {
    limit: u64,
}

impl fmt::Display for TooMuch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mib = self.limit >> 20;
        write!(
            f,
            "reading {File} takes more than {mib} MiB of memory,\n       far more than a sound file of this size \
             needs; it is damaged, or\n       made to fill the memory: get the file again"
        )
    }
}

/// That the system has no memory left.
struct NoneLeft {
    size: usize,
}

impl fmt::Display for NoneLeft {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mib = self.size.div_ceil(1 << 20);
        write!(
            f,
            "no memory is left to read {File}\n       ({mib} MiB more are needed): close other programs, or \
             limit what\n       references may take by --memory"
        )
    }
}

/// Text in memory that is there already.
struct Fixed {
    bytes: [u8; 600],
    length: usize,
}

impl fmt::Write for Fixed {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        let end = self.length + text.len();
        let room = self.bytes.get_mut(self.length..end).ok_or(fmt::Error)?;
        room.copy_from_slice(text.as_bytes());
        self.length = end;
        Ok(())
    }
}
