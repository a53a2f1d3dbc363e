//! A few rows of each trouble, kept for the summary.

use crate::key::Unreadable;
use crate::lookup::RowId;

/// How many samples are kept of each kind.
pub const SAMPLES: usize = 3;

/// A main row that did not find its answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sample {
    /// The row's number as a person counts: data rows from 1.
    pub row: u64,
    /// The line of the file on which it begins.
    pub line: u64,
    /// The cells that its key is made from, as they were read.
    pub key: Vec<String>,
    /// The reference rows that hold the key, when it is ambiguous.
    pub candidates: Vec<RowId>,
    /// The value that a step could not read, when the key is malformed.
    pub unreadable: Option<Unreadable>,
}
