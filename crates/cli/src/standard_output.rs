//! Whether standard output was closed when the program began.
//!
//! The runtime opens the null device in the place of a closed stream before `main`, so that rows written there would
//! be lost without a word. The look is taken before the runtime begins.

use std::sync::atomic::{AtomicBool, Ordering};

static WAS_CLOSED: AtomicBool = AtomicBool::new(false);

/// Whether there was no standard output to write to.
pub(crate) fn was_closed() -> bool {
    WAS_CLOSED.load(Ordering::Relaxed)
}

#[cfg(target_os = "linux")]
mod look {
    // A function that runs before the runtime is named in a section of the program, and the system's own call is
    // the only thing it may use.
    #![allow(unsafe_code)]

    use std::sync::atomic::Ordering;

    extern "C" fn look() {
        // SAFETY: `fcntl` with `F_GETFD` only looks at the number of a stream, which may be any.
        let is_closed = unsafe { libc::fcntl(libc::STDOUT_FILENO, libc::F_GETFD) } == -1;
        super::WAS_CLOSED.store(is_closed, Ordering::Relaxed);
    }

    // SAFETY: the section holds functions of this form, which the system calls one after the other before the
    // program begins; this one allocates nothing and needs nothing that is set up later.
    #[used]
    #[unsafe(link_section = ".init_array")]
    static LOOK: extern "C" fn() = look;
}
