//! How a table was read: its format, its part of the file, and what was found on the way.

use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use crate::Codec;
use crate::delimited::Encoding;
use crate::postgresql::TableIdentity;
use crate::workbook::{Formulas, LeftOut, MergedCells};

/// A part of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// Its name.
    pub name: String,
    /// How it was chosen.
    pub choice: PartChoice,
    /// The names of the worksheets, where it is one of several.
    pub all: Vec<String>,
}

/// How a part of a file was chosen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PartChoice {
    /// It was named.
    Named,
    /// There is no other one.
    Only,
    /// It is the one that holds all headers that were asked for.
    ByHeaders,
    /// It is the first.
    First,
}

impl Part {
    /// The part of a database, which may be one of several.
    pub(crate) fn of_database(name: String, count: usize, asked: Option<&str>) -> Self {
        let choice = match asked {
            Some(_) => PartChoice::Named,
            None if count < 2 => PartChoice::Only,
            None => PartChoice::First,
        };
        Self { name, choice, all: Vec::new() }
    }
}

/// How a table was read.
#[derive(Debug, Clone, Default)]
pub struct ReadAs {
    /// Its format: `delimited text`, or the name of another one.
    pub format: &'static str,
    /// The part of the file that it is, where it has parts.
    pub part: Option<Part>,
    /// How the file is packed.
    pub packing: Option<Codec>,
    /// The encoding of its text, and whether it is a guess.
    pub encoding: Option<(Encoding, bool)>,
    /// How many rows were passed over before the headers.
    pub title_rows: usize,
    /// How many rows the headers are in, where that may be several.
    pub header_rows: usize,
    /// How many cells hold an error and count as blank, so far.
    pub error_cells: Option<Arc<AtomicU64>>,
    /// The columns that are calculated, so far.
    pub formulas: Option<Arc<Formulas>>,
    /// Cells of a worksheet that are merged.
    pub merged: Option<Arc<MergedCells>>,
    /// Cells in columns without a header, which are left out, so far.
    pub left_out: Option<Arc<LeftOut>>,
    /// Which table of which server it is.
    pub identity: Option<TableIdentity>,
    /// The types that its columns are declared with, as a server writes them.
    pub declared: Vec<String>,
    /// How many formulas of each column have no stored value and count as blank, so far.
    pub uncalculated: Option<Arc<[AtomicU64]>>,
}
