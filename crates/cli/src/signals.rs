//! Ctrl-C and its like: nothing half-written stays, and what is about to appear appears whole.
//!
//! Before the files of a run appear, the program ends and leaves nothing. While they appear, the signal waits: the
//! run is completed and ends with its own status. A second signal ends it with the status of a run that is done.

use std::process::exit;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use gather_keys_formats::commit::interrupt;
use gather_keys_formats::postgresql::Canceller;

use crate::terminal::give_back;

/// The exit status of a program that was interrupted, as shells have it.
const INTERRUPTED: i32 = 130;

/// What a server is doing for this program.
static ON_SERVER: Mutex<Option<Canceller>> = Mutex::new(None);

/// Whether a signal ends the program.
static ENDS: AtomicBool = AtomicBool::new(false);

/// Waits for the end of the program, where a signal ends it: the work that it stopped has failed, which is no news.
pub(crate) fn let_end() {
    while ENDS.load(Ordering::Relaxed) {
        std::thread::park();
    }
}

/// Has a signal also stop what a server is doing, or no longer.
pub(crate) fn cancel_with(canceller: Option<Canceller>) {
    *ON_SERVER.lock().unwrap_or_else(PoisonError::into_inner) = canceller;
}

/// Ends the program on Ctrl-C, a hang-up or a request to terminate; `calmly` when that is the usual way to end it.
pub(crate) fn end_cleanly(calmly: bool) {
    let again = AtomicBool::new(false);
    // Without a handler the program ends all the same, and the next run removes what it leaves.
    let _ = ctrlc::set_handler(move || {
        let is_written = interrupt();
        if is_written && !calmly && !again.swap(true, Ordering::Relaxed) {
            return;
        }
        give_back();
        ENDS.store(true, Ordering::Relaxed);
        if let Some(canceller) = &*ON_SERVER.lock().unwrap_or_else(PoisonError::into_inner) {
            canceller.cancel();
        }
        exit(if calmly || is_written { 0 } else { INTERRUPTED });
    });
    ignore_file_size_limit();
}

/// Has a file that grows beyond the limit of the system be an error like any other, rather than the end.
#[cfg(unix)]
fn ignore_file_size_limit() {
    // Without this the program ends all the same, and leaves nothing either.
    let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, std::sync::Arc::default());
}

#[cfg(not(unix))]
fn ignore_file_size_limit() {}
