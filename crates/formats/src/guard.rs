//! Readers that may give up at once on what they are given.
//!
//! A file is not ours, and a reader may end in a panic on one that contradicts itself. That must not
//! end the program: it is caught here, and the file is told as damaged instead.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};

thread_local! {
    static IS_GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Whether a panic on this thread is caught and told as an error, so that nothing else need be said
/// of it.
///
/// ```
/// assert!(!gather_keys_formats::is_guarded());
/// ```
pub fn is_guarded() -> bool {
    IS_GUARDED.get()
}

/// What `read` gives; `None` when it panics.
pub(crate) fn guarded<T>(read: impl FnOnce() -> T) -> Option<T> {
    let before = IS_GUARDED.replace(true);
    let read = catch_unwind(AssertUnwindSafe(read));
    IS_GUARDED.set(before);
    read.ok()
}
