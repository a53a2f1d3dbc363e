//! A few rows of each trouble, kept for the summary.

use crate::key::Unreadable;
use crate::lookup::{Answer, EntryId, Lookup, Miss, RowId};
use crate::table::Row;

/// How many samples are kept of each kind.
pub const SAMPLES: usize = 3;

const _: () = assert!(SAMPLES <= crate::lookup::SPARE_ROWS);

/// A main row that did not find its answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sample {
    /// The row's number as a person counts: data rows from 1; 0 for a row that is named otherwise.
    pub row: u64,
    /// The line of the file on which it begins.
    pub line: u64,
    /// The name of the row, where it has a better one than its number: that of its primary key.
    pub name: Option<String>,
    /// The cells that its answer depends on, as they were read.
    pub key: Vec<String>,
    /// The entries of the key in the reference, when it is ambiguous.
    pub candidates: Vec<EntryId>,
    /// The value that could not be read, when the key is malformed.
    pub unreadable: Option<Unreadable>,
    /// The row whose range comes nearest, when none holds the value.
    pub nearest: Option<RowId>,
    /// The header that the row names, when no column has it, and the nearest headers.
    pub header: Option<(String, Vec<String>)>,
}

impl Sample {
    /// The sample of a main row with this answer.
    pub(super) fn of(lookup: &Lookup, row: Row<'_>, answer: Answer) -> Self {
        let nearest = match answer {
            Answer::Unmatched(Miss::Range(first)) => lookup.nearest_range(row, first),
            _ => None,
        };
        let header = match answer {
            Answer::Unmatched(Miss::Header) => lookup.unknown_header(row),
            _ => None,
        };
        let is_malformed = answer == Answer::Malformed;
        Self {
            row: row.number(),
            line: row.line(),
            name: None,
            key: lookup.as_read(row).into_iter().map(str::to_owned).collect(),
            candidates: lookup.entries(row, answer),
            unreadable: is_malformed.then(|| lookup.unreadable(row)).flatten(),
            nearest,
            header,
        }
    }
}
