//! The command line of the program as other users of the machine see it: without passwords.
//!
//! The arguments stay in the memory of the process, where everyone who lists processes can read them. The
//! passwords of addresses are overwritten there, once the arguments are taken.

use std::ffi::OsString;
use std::sync::OnceLock;

use gather_keys_formats::passwords;

/// The arguments as they were before anything was overwritten.
static TAKEN: OnceLock<Vec<OsString>> = OnceLock::new();

/// The arguments of the program, its name first. When they are first taken, passwords are overwritten in its title, where the
/// system lets a program change that.
pub(crate) fn arguments() -> &'static [OsString] {
    TAKEN.get_or_init(|| {
        let arguments: Vec<OsString> = std::env::args_os().collect();
        let has_password =
            |argument: &OsString| argument.to_str().is_some_and(|text| !passwords(text).is_empty());
        if arguments.iter().any(has_password) {
            hide();
        }
        arguments
    })
}

#[cfg(target_os = "linux")]
fn hide() {
    // Only the system knows where it put the arguments before the program began.
    #![allow(unsafe_code)]

    let numbers = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    // The name of the program is in brackets, and may hold anything.
    let mut fields = numbers.rsplit(')').next().unwrap_or_default().split_whitespace();
    // The 48th and 49th field of all, of which the two first are before the brackets.
    let (begin, end) = (fields.nth(45), fields.next());
    let place = |field: Option<&str>| field.and_then(|field| field.parse::<usize>().ok());
    let (Some(begin), Some(end)) = (place(begin), place(end)) else { return };
    if begin == 0 || end <= begin {
        return;
    }
    // SAFETY: the system has put the arguments of this process there, as bytes it may write to. No other
    // thread has begun, and nobody holds a reference to them; the standard library copies them when it is asked.
    let arguments = unsafe { std::slice::from_raw_parts_mut(begin as *mut u8, end - begin) };
    for argument in arguments.split_mut(|byte| *byte == 0) {
        let found = str::from_utf8(argument).map(passwords).unwrap_or_default();
        for secret in found {
            argument[secret].fill(b'x');
        }
    }
}

#[cfg(not(target_os = "linux"))]
fn hide() {}
