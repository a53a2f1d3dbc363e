//! The built program, driven as its users drive it: on files in a temporary folder.

// A test that can't go on should say so at once.
#![allow(clippy::unwrap_used, clippy::format_push_string, clippy::format_collect)]

mod columns;
mod databases;
mod demo;
mod differential;
mod docs;
mod enrich;
mod findings;
mod forms;
mod hostile;
mod in_database;
mod in_place;
mod keys;
mod known_keys;
mod load;
mod lookups;
mod memory;
mod mistakes;
mod other_tables;
mod plans;
mod printed;
mod proposals;
mod reasons;
mod receipts;
mod reports;
#[cfg(unix)]
mod reviews;
mod rules;
mod scene;
mod secrets;
mod servers;
mod shells;
mod signals;
mod small_promises;
mod surveys;
mod together;
mod trouble;
#[cfg(unix)]
mod typist;
mod updates;
mod watch;
mod workbooks;
mod worksheets;
