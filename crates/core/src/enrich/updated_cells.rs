//! The cells that one lookup updates in the rows of a block.
//!
//! In goes each of them as its row is made; out come sums over rows that go out, and the cells that are to be
//! reported. A later lookup may drop a row, so that which rows go out is known only after the last one.

use super::updating::Updating;
use crate::findings::{Written, WrittenCounts};
use crate::lookup::RowId;

/// Which updated cells are kept, so that they can be reported.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Recording {
    /// None: only counts are wanted.
    Nothing,
    /// Cells that an update changed.
    Changes,
    /// Every updated cell, changed or not, of the first output row of each row: the trace of a row.
    Trace,
}

/// What became of the cells that a lookup updates.
#[derive(Debug, Default)]
pub(super) struct UpdatedCells {
    /// Each: the number of the row that is made, that of the update, and what became of it.
    written: Vec<(u32, u32, Written)>,
    /// For each update, the sums over rows that go out.
    pub(super) counts: Vec<WrittenCounts>,
    /// The cells that are to be reported.
    pub(super) reported: Vec<UpdatedCell>,
}

/// An updated cell.
#[derive(Debug, Clone)]
pub(super) struct UpdatedCell {
    /// The row.
    pub(super) of: UpdatedRow,
    pub(super) column: usize,
    pub(super) written: Written,
    pub(super) before: String,
    pub(super) after: String,
}

/// A row in which cells are updated.
#[derive(Debug, Clone, Copy)]
pub(super) struct UpdatedRow {
    /// The row of the block.
    pub(super) row: usize,
    /// The number of the row that is made of it.
    pub(super) made: u32,
    /// The reference row, unless there are several.
    pub(super) from: Option<RowId>,
}

/// Whether a row goes out. All rows after the last one in `kept` do.
pub(super) fn is_kept(kept: &[bool], row: usize) -> bool {
    kept.get(row).is_none_or(|kept| *kept)
}

impl UpdatedCells {
    /// Begins a block.
    pub(super) fn begin(&mut self) {
        self.written.clear();
        self.reported.clear();
    }

    /// Notes a cell of a row: the update with its number, what became of the cell, and its text before and after.
    pub(super) fn note(
        &mut self,
        recording: Recording,
        of: UpdatedRow,
        (nth, updating): (usize, &Updating),
        written: Written,
        (before, after): (&str, &str),
    ) {
        self.written.push((of.made, nth as u32, written));
        let is_reported = match recording {
            Recording::Nothing => false,
            Recording::Changes => written.is_change(),
            Recording::Trace => true,
        };
        if is_reported {
            let (before, after) = (before.to_owned(), after.to_owned());
            self.reported.push(UpdatedCell { of, column: updating.column, written, before, after });
        }
    }

    /// Sums up what became of the cells of `updates` updates. `kept` says which of the rows that are made go out, or become
    /// others that do.
    pub(super) fn count(&mut self, kept: &[bool], updates: usize) {
        self.counts.clear();
        self.counts.resize(updates, WrittenCounts::default());
        for &(made, nth, written) in &self.written {
            if is_kept(kept, made as usize) {
                self.counts[nth as usize].count(written);
            }
        }
        self.reported.retain(|cell| is_kept(kept, cell.of.made as usize));
    }
}
