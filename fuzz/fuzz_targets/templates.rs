//! Fuzzes the parsers of keys, columns, rules and templates.
#![no_main]

#[path = "../src/templates.rs"]
mod templates;

libfuzzer_sys::fuzz_target!(|text: &str| templates::run(text));
