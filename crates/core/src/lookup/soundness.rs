//! Whether a reference has a usable key.

use super::{EntryId, Reference};
use crate::value::is_blank;

/// A fault of the key of a reference as a whole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unsound {
    /// A part, from 0, has the same value in every row, so that it distinguishes none.
    Constant(usize),
    /// A column of the key is blank in nearly all rows.
    Blank {
        /// The column, from 0.
        column: usize,
        /// In how many rows.
        rows: u64,
    },
    /// Every key is on several rows.
    NoUnique,
}

/// "Nearly all" rows are four of five.
const NEARLY: (u64, u64) = (4, 5);

/// Fewer rows than this are no evidence.
const FEW: u64 = 3;

impl Reference {
    /// The faults of its key as a whole; empty when not all rows are in memory.
    pub fn unsound(&self) -> Vec<Unsound> {
        let mut all = Vec::new();
        let is_whole = !self.is_filtered() && !self.is_spilled();
        if self.is_by_position() || !is_whole || self.rows() < FEW {
            return all;
        }
        if self.searched().is_empty() && self.parts() > 1 {
            all.extend(
                (0..self.parts()).filter(|&part| self.is_constant(part)).map(Unsound::Constant),
            );
        }
        let is_nearly_all = |rows: u64| rows * NEARLY.1 >= self.rows() * NEARLY.0;
        if is_nearly_all(self.keyless().len() as u64) {
            for (nth, column) in self.key_columns().into_iter().enumerate() {
                let has_blank = |row: &&super::RowId| {
                    self.row_as_read(**row).get(nth).is_none_or(|cell| is_blank(cell))
                };
                let rows = self.keyless().iter().filter(has_blank).count() as u64;
                if is_nearly_all(rows) {
                    all.push(Unsound::Blank { column, rows });
                }
            }
        }
        let has_ranges = self.spec.range.is_some();
        if !has_ranges && self.keys() > 1 && self.groups().count() as u64 == self.keys() {
            all.push(Unsound::NoUnique);
        }
        all
    }

    fn is_constant(&self, part: usize) -> bool {
        let entries = EntryId::at(0..self.entry_count());
        let mut values = entries.filter_map(|entry| self.as_compared(entry).nth(part));
        let first = values.next();
        first.is_some_and(|first| values.all(|other| other == first))
    }
}
