//! Cells in columns without a header, such as notes next to a table: they are left out and counted.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

use super::size::letters;

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_counted_by_column() {
        let left_out = LeftOut::default();
        for column in [3, 27, 3] {
            left_out.add(column);
        }
        assert_eq!(left_out.columns(), [("D".to_owned(), 2), ("AB".to_owned(), 1)]);
    }
}
