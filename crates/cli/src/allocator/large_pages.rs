//! Large memory on large pages.
//!
//! The keys of a large reference are asked for anywhere in memory, and with pages of 4 KiB the
//! processor remembers where a few MiB of them are; for all others it first has to find the page, which
//! takes as long as reading from it. So what is large comes from the system in whole pages of 2 MiB, as
//! far as the system has such; all else comes from the usual allocator.

use std::alloc::{GlobalAlloc, Layout, System};
use std::ptr;

/// Memory from the system, on large pages where it is large.
pub(super) struct LargePages;

/// The size of a large page, in bytes. Where it is another one, nothing is lost but a little room.
const PAGE: usize = 2 << 20;

/// From how many bytes on memory is large. Processors remember where some 6 MiB of small pages are, and what
/// grows is up to half empty.
const LARGE: usize = 12 << 20;

/// Whether memory comes straight from the system. An address there is a multiple of 4 KiB at least.
fn is_large(layout: Layout) -> bool {
    layout.size() >= LARGE && layout.align() <= 4096
}

/// The bytes of the pages that this many bytes take.
fn whole_pages(size: usize) -> usize {
    // A layout has half of all addresses at most.
    size.next_multiple_of(PAGE)
}

// SAFETY: a large layout always goes to `mmap`, `mremap` and `munmap`, which return memory that nobody
// else has, with the size and alignment of the layout; every other layout goes to the system's allocator.
unsafe impl GlobalAlloc for LargePages {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        if is_large(layout) {
            return map(whole_pages(layout.size()));
        }
        // SAFETY: the caller's contract is passed on.
        unsafe { System.alloc(layout) }
    }

    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        if is_large(layout) {
            // New pages are zero.
            return map(whole_pages(layout.size()));
        }
        // SAFETY: as above.
        unsafe { System.alloc_zeroed(layout) }
    }

    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        if is_large(layout) {
            // SAFETY: it was mapped by us with this length, and nobody uses it any more. It can't fail.
            unsafe { libc::munmap(at.cast(), whole_pages(layout.size())) };
        } else {
            // SAFETY: it came from there with this layout.
            unsafe { System.dealloc(at, layout) }
        }
    }

    unsafe fn realloc(&self, at: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        // SAFETY: the caller sees to it that the size makes a layout.
        let resized = unsafe { Layout::from_size_align_unchecked(size, layout.align()) };
        match (is_large(layout), is_large(resized)) {
            // SAFETY: it came from there with this layout.
            (false, false) => unsafe { System.realloc(at, layout, size) },
            (true, true) => {
                let (before, after) = (whole_pages(layout.size()), whole_pages(size));
                if before == after {
                    return at;
                }
                // SAFETY: it was mapped by us with this length, and the caller gives the old address up.
                // The pages themselves move, so that large ones stay large.
                let moved = unsafe { libc::mremap(at.cast(), before, after, libc::MREMAP_MAYMOVE) };
                if moved == libc::MAP_FAILED { ptr::null_mut() } else { moved.cast() }
            }
            // SAFETY: the new memory is another, both have as many bytes as are copied, and the old one
            // is given up only when there is a new one.
            _ => unsafe {
                let new = self.alloc(resized);
                if !new.is_null() {
                    ptr::copy_nonoverlapping(at, new, layout.size().min(size));
                    self.dealloc(at, layout);
                }
                new
            },
        }
    }
}

/// New memory of this many bytes, on large pages where the system has them; null when there is none.
fn map(length: usize) -> *mut u8 {
    let (access, kind) =
        (libc::PROT_READ | libc::PROT_WRITE, libc::MAP_PRIVATE | libc::MAP_ANONYMOUS);
    // SAFETY: a new mapping at an address that the system chooses touches no other memory.
    let at = unsafe { libc::mmap(ptr::null_mut(), length, access, kind, -1, 0) };
    if at == libc::MAP_FAILED {
        return ptr::null_mut();
    }
    // SAFETY: it is our mapping, and what it holds stays the same. Where the system can't do it, small
    // pages are as good.
    unsafe { libc::madvise(at, length, libc::MADV_HUGEPAGE) };
    at.cast()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Memory keeps its content while it grows and shrinks, from usual to large and back.
    #[test]
    fn memory_keeps_what_it_holds() {
        let sizes = [1, PAGE, LARGE - 1, LARGE, LARGE + 1, 3 * LARGE + 7];
        let text: Vec<u8> = (0..=PAGE).map(|at| (at * 7 % 251) as u8).collect();
        let text = text.repeat(3 * LARGE / PAGE + 1);
        let zeros = [0; 4096];
        for from in sizes {
            for to in sizes {
                let mut memory = Vec::with_capacity(from);
                memory.extend_from_slice(&text[..from]);
                memory.truncate(to);
                memory.shrink_to_fit();
                memory.reserve_exact(to - memory.len());
                assert!(memory == text[..from.min(to)], "{from} to {to}");
                memory.resize(to, 1);
                assert!(memory[..from.min(to)] == text[..from.min(to)], "{from} to {to}");
            }
            let zeroed = vec![0_u8; from];
            assert!(zeroed.chunks(zeros.len()).all(|some| *some == zeros[..some.len()]), "{from}");
        }
    }
}
