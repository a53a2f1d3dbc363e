//! Ctrl-C and its like: what is half-written is taken away, and the program ends.
//!
//! Files appear by one rename, so that at any moment each is either what it was or what it is to
//! be; all there is to do is to remove what has not appeared yet.

use std::process::exit;

/// The exit status of a program that was interrupted, as shells have it.
const INTERRUPTED: i32 = 130;

/// Ends the program on Ctrl-C, a hang-up or a request to terminate; `calmly` when that is the
/// usual way to end it.
pub(crate) fn end_cleanly(calmly: bool) {
    // Without a handler the program ends all the same, and leaves a hidden file behind.
    let _ = ctrlc::set_handler(move || {
        gather_keys_formats::remove_unfinished();
        exit(if calmly { 0 } else { INTERRUPTED });
    });
}
