//! Fuzzes the reading of delimited text.
#![no_main]

#[path = "../src/delimited.rs"]
mod delimited;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| delimited::run(bytes));
