//! Which columns of a table a block holds.

use std::sync::Arc;

/// The columns of a table of which a block holds the cells; nothing is kept of others.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KeptColumns {
    all: usize,
    kept: usize,
    /// For each column of the table its place among the kept ones; `None` when all are kept.
    places: Option<Arc<[u32]>>,
}

impl KeptColumns {
    /// All columns of a table with `columns` columns.
    pub fn all(columns: usize) -> Self {
        Self { all: columns, kept: columns, places: None }
    }

    /// The given columns, in ascending order, of a table with `columns` columns.
    pub fn only(kept: &[usize], columns: usize) -> Self {
        if kept.len() == columns {
            return Self::all(columns);
        }
        let place = |column| kept.binary_search(&column).map_or(u32::MAX, |place| place as u32);
        Self { all: columns, kept: kept.len(), places: Some((0..columns).map(place).collect()) }
    }

    /// How many they are.
    #[inline]
    pub(super) fn count(&self) -> usize {
        self.kept
    }

    /// How many columns the table has.
    #[inline]
    pub(super) fn all_columns(&self) -> usize {
        self.all
    }

    /// The place of a column of the table among the kept ones, if it is one of them.
    pub(crate) fn kept_place(&self, column: usize) -> Option<usize> {
        let is_there = |place: &usize| column < self.all && *place < self.kept;
        Some(column)
            .filter(|&column| column < self.all)
            .map(|column| self.place(column))
            .filter(is_there)
    }

    /// The place of a kept column among the kept ones.
    #[inline]
    pub(super) fn place(&self, column: usize) -> usize {
        self.places.as_ref().map_or(column, |places| places[column] as usize)
    }
}

/// Columns in the order of their table, each once.
///
/// ```
/// use gather_keys_core::table::ascending;
///
/// assert_eq!(ascending(&[4, 0, 4]), [0, 4]);
/// ```
pub fn ascending(columns: &[usize]) -> Vec<usize> {
    let mut columns = columns.to_vec();
    columns.sort_unstable();
    columns.dedup();
    columns
}
