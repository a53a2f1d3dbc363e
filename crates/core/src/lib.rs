//! The computation behind Gather Keys.
//!
//! A main table and its reference tables come in as blocks of rows through the trait [`table::Source`]; the main
//! table's blocks go out, with the taken cells after them, through [`table::Sink`]. Nothing here opens a file,
//! prints, reads a clock or looks at the environment.
//!
//! The modules, each of which uses only those above it:
//!
//! | module | what it holds |
//! |---|---|
//! | [`value`] | what a blank, a number, a date and a moment are |
//! | [`table`] | cells, blocks of rows, headers, and how tables are read and written |
//! | [`template`] | text with placeholders and steps |
//! | [`key`] | the parts of a key as packed text |
//! | [`plan`] | the description of an enrichment |
//! | [`spill`] | storage for tables that do not fit in memory |
//! | [`lookup`] | from the key of a main row to its reference row |
//! | [`findings`] | what the person should know about the keys |
//! | [`enrich`] | the pass over the main table |
//! | [`diagnosis`] | why keys are unmatched, and what would fix them |
//! | [`survey`] | a look at a table by itself |
//! | [`report`] | all findings as values, for reports |
//! | [`receipt`] | the record of a run |

pub mod diagnosis;
pub mod enrich;
mod error;
pub mod findings;
mod hashing;
pub mod key;
pub mod lookup;
mod parallel;
pub mod plan;
pub mod receipt;
pub mod report;
pub mod spill;
pub mod survey;
pub mod table;
pub mod template;
pub mod value;

pub use error::{Error, Result};
