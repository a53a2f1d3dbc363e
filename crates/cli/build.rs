//! How the program is linked.

use std::process::Command;

/// The first C library that takes packed addresses.
const PACKED_FROM: (u32, u32) = (2, 36);

/// Most programs list the addresses that depend on where they are loaded one by one: a megabyte here,
/// which each run would read and hold. Packed they take a fiftieth. A C library that does not support it
/// refuses to start the program, so it is done only where the installed one does.
fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    let reported = |name: &str| std::env::var(name).unwrap_or_default();
    let is_at_hand = reported("HOST") == reported("TARGET");
    if is_at_hand && reported("CARGO_CFG_TARGET_ENV") == "gnu" && library() >= Some(PACKED_FROM) {
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
}

/// The version of the C library available, where it is the one of Linux.
fn library() -> Option<(u32, u32)> {
    let reported = Command::new("getconf").arg("GNU_LIBC_VERSION").output().ok()?;
    let reported = String::from_utf8(reported.stdout).ok()?;
    let (first, second) = reported.trim().strip_prefix("glibc ")?.split_once('.')?;
    Some((first.parse().ok()?, second.parse().ok()?))
}
