//! Every open format by its public face: what a file holds is what comes out.

// A test that can't go on should say so at once.
#![allow(clippy::unwrap_used, clippy::format_push_string)]

mod address;
mod backup;
mod column_order;
mod columnar;
mod commits;
mod crossing;
mod delimited;
mod detection;
mod fuzz_targets;
mod in_database;
mod in_place;
mod postgresql;
mod whole_file;
mod workbook;
