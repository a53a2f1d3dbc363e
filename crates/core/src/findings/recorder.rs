//! The way single findings go out while the pass runs, so that lists of any length need no memory.

use super::Kind;
use crate::lookup::{Answer, Lookup};
use crate::table::Row;

/// Something to say of one main row.
#[derive(Debug)]
pub struct MainFinding<'a> {
    /// The lookup it is said of, counted from 0 in the order of the references.
    pub nth: usize,
    /// That lookup.
    pub lookup: &'a Lookup,
    /// Chosen, unmatched, no header, ambiguous, blank key, malformed, or repeated: a key that an
    /// earlier row asked for.
    pub kind: Kind,
    /// The row, with what earlier lookups have added to it.
    pub row: Row<'a>,
    /// What the lookup answered.
    pub answer: Answer,
    /// For a repeated key the number of the main row that asked first.
    pub asked_by: Option<u64>,
}

/// Takes every finding of a main row, in order.
pub trait Recorder {
    /// What can go wrong in taking it.
    type Error;

    /// Takes one finding.
    ///
    /// # Errors
    /// When it can't be kept.
    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), Self::Error>;
}
