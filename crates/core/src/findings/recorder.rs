//! The way single findings go out while the pass runs, so that lists of any length need no memory.

use super::Kind;
use crate::lookup::{Answer, Lookup, RowId};
use crate::table::Row;

/// Something to say of one main row.
#[derive(Debug)]
pub struct MainFinding<'a> {
    /// The lookup it is said of, counted from 0 in the order of the references.
    pub nth: usize,
    /// That lookup.
    pub lookup: &'a Lookup,
    /// Matched where that is wanted, chosen, unmatched, no header, ambiguous, blank key, malformed, or repeated: a key that an
    /// earlier row asked for.
    pub kind: Kind,
    /// The row, with what earlier lookups have added to it.
    pub row: Row<'a>,
    /// Its name, where it has a better one than its number.
    pub name: Option<&'a str>,
    /// The answer of the lookup.
    pub answer: Answer,
    /// For a repeated key the main row that asked first, by its number or its name.
    pub asked_by: Option<AskedBy<'a>>,
}

/// The main row that asked for a key first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AskedBy<'a> {
    /// Its number, from 1.
    Row(u64),
    /// Its name.
    Named(&'a str),
}

/// A cell of a main row that is another in the output.
#[derive(Debug)]
pub struct Change<'a> {
    /// The cause of the change.
    pub by: ChangedBy<'a>,
    /// The row as it was read.
    pub row: Row<'a>,
    /// Its name, where it has no number.
    pub name: Option<&'a str>,
    /// The column: one of the main table's own, or a later number for an added one.
    pub column: usize,
    /// The cell before.
    pub before: &'a str,
    /// The cell after.
    pub after: &'a str,
}

/// The cause of a changed cell.
#[derive(Debug, Clone, Copy)]
pub enum ChangedBy<'a> {
    /// An update.
    Lookup {
        /// The lookup's number, from 0.
        nth: usize,
        /// The lookup.
        lookup: &'a Lookup,
        /// The reference row, unless there are several.
        row: Option<ChangingRow<'a>>,
    },
    /// A correction, by its row in the table of corrections.
    Correction(u64),
}

/// The row of a reference whose cell is the new one.
#[derive(Debug, Clone, Copy)]
pub enum ChangingRow<'a> {
    /// One that is here.
    Here(RowId),
    /// One in a database, by its name or number.
    Named(&'a str),
}

/// Takes every finding of a main row, in order.
pub trait Recorder {
    /// The error of recording.
    type Error;

    /// Takes one finding.
    ///
    /// # Errors
    /// When it can't be kept.
    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), Self::Error>;

    /// Whether it is to be reported of rows that are in no trouble too, by what they repeat or which
    /// answer was chosen for them.
    fn wants_repeated(&self) -> bool {
        true
    }

    /// Whether matched rows are to be reported too.
    fn wants_matched(&self) -> bool {
        false
    }

    /// Takes a changed cell; those of one row come together.
    ///
    /// # Errors
    /// When it can't be kept.
    fn changed(&mut self, change: &Change<'_>) -> Result<(), Self::Error> {
        let _ = change;
        Ok(())
    }
}
