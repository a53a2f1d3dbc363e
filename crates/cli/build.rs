//! How the program is linked.

/// Addresses in the program that depend on where it is loaded are listed one by one in most programs:
/// here a megabyte, which each run would read and hold. Packed they take a fiftieth.
fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    let is = |name: &str, wanted: &str| std::env::var(name).is_ok_and(|value| value == wanted);
    if is("CARGO_CFG_TARGET_OS", "linux") && is("CARGO_CFG_TARGET_ENV", "gnu") {
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
}
