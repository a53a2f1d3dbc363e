//! Cells in columns without a header, such as notes next to a table: they are left out and counted.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

/// How many cells of a worksheet were left out, for each column that has no header.
#[derive(Debug, Default)]
pub struct LeftOut(Mutex<BTreeMap<usize, u64>>);

impl LeftOut {
    /// Counts a cell of a column, from 0.
    pub(super) fn add(&self, column: usize) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner).entry(column).or_default() += 1;
    }

    /// The columns, by their letters, and how many cells each has, so far.
    pub fn columns(&self) -> Vec<(String, u64)> {
        let counts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        counts.iter().map(|(column, count)| (letters(*column), *count)).collect()
    }
}

/// A column as a worksheet names it: A, B, … Z, AA.
pub(super) fn letters(mut column: usize) -> String {
    let mut letters = Vec::new();
    loop {
        letters.push(b'A' + (column % 26) as u8);
        if column < 26 {
            break;
        }
        column = column / 26 - 1;
    }
    letters.iter().rev().map(|&letter| char::from(letter)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_named_by_letters() {
        for (column, want) in [(0, "A"), (25, "Z"), (26, "AA"), (701, "ZZ"), (702, "AAA")] {
            assert_eq!(letters(column), want);
        }
        let left_out = LeftOut::default();
        for column in [3, 27, 3] {
            left_out.add(column);
        }
        assert_eq!(left_out.columns(), [("D".to_owned(), 2), ("AB".to_owned(), 1)]);
    }
}
