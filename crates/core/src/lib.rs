//! The computation behind Gather Keys.
//!
//! A main table and its reference tables come in as blocks of rows through the trait
//! [`table::Source`]; the main table's blocks go out, with the taken cells beside them, through
//! [`table::Sink`]. In between stand the [`key`]s that rows are matched on, the [`lookup`] that
//! finds the reference row for each main row, the [`enrich`] pass that drives both in order, and
//! the [`findings`]: what the person should know about the keys. [`diagnosis`] says why keys are
//! unmatched and what would mend them, and a [`report`] holds all of it as values.
//! A [`survey`] looks at a table by itself.
//!
//! Nothing here opens a file, prints, reads a clock or looks at the environment. What a person
//! types (`--on`, `--take`, `--require`) is read by [`plan`] and [`findings::Gate`]; where it is
//! wrong, the [`Error`] carries the place.

mod already_hashed;
pub mod diagnosis;
pub mod enrich;
mod error;
pub mod findings;
mod in_parallel;
pub mod key;
pub mod lookup;
pub mod plan;
pub mod receipt;
pub mod report;
pub mod survey;
pub mod table;
pub mod template;

pub use error::{Error, Result};
