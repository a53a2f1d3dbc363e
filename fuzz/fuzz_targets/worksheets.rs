//! Hands inputs to the body of the target, which the project's tests run too.

#![no_main]

#[path = "../src/worksheets.rs"]
#[allow(dead_code)]
mod worksheets;

libfuzzer_sys::fuzz_target!(|rows: &str| worksheets::run(rows));
