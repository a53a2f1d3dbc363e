//! Whether the key of a reference is of use at all.

use super::{Holder, Reference};
use crate::table::packed;

/// What is wrong with the key of a reference as a whole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unsound {
    /// A part, from 0, is the same in every row, so that it tells none apart.
    Constant(usize),
    /// A column of the key is blank in so many rows, which are nearly all.
    Blank {
        /// The column, from 0.
        column: usize,
        /// In how many rows.
        rows: u64,
    },
    /// Every key is on several rows.
    NoUnique,
}

/// A column is blank nearly always when it is so in four of five rows.
const NEARLY: (u64, u64) = (4, 5);

/// Of how few rows nothing is said.
const FEW: u64 = 3;

impl Reference {
    /// What is wrong with its key as a whole; nothing where not all rows are at hand.
    pub fn unsound(&self) -> Vec<Unsound> {
        let mut all = Vec::new();
        let is_whole = !self.keeps_asked_only() && !self.is_in_shares();
        if self.is_by_position() || !is_whole || self.rows() < FEW {
            return all;
        }
        if self.looked_in().is_empty() && self.parts() > 1 {
            all.extend(
                (0..self.parts()).filter(|&part| self.is_constant(part)).map(Unsound::Constant),
            );
        }
        let is_nearly_all = |rows: u64| rows * NEARLY.1 >= self.rows() * NEARLY.0;
        if is_nearly_all(self.keyless().len() as u64) {
            for (nth, column) in self.key_columns().into_iter().enumerate() {
                let is_blank = |row: &&super::RowId| {
                    self.row_as_read(**row).get(nth).is_none_or(|cell| crate::table::is_blank(cell))
                };
                let rows = self.keyless().iter().filter(is_blank).count() as u64;
                if is_nearly_all(rows) {
                    all.push(Unsound::Blank { column, rows });
                }
            }
        }
        let has_ranges = self.ranged.is_some();
        if !has_ranges && self.keys() > 1 && self.groups().count() as u64 == self.keys() {
            all.push(Unsound::NoUnique);
        }
        all
    }

    fn is_constant(&self, part: usize) -> bool {
        let mut values = (0..self.holder_count() as u32)
            .filter_map(|holder| packed::Cells::new(self.key_text(Holder(holder))).nth(part));
        let first = values.next();
        first.is_some_and(|first| values.all(|other| other == first))
    }
}
