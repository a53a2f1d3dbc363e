//! The overlay: which of a table's own columns have new cells among the added ones.
//!
//! A lookup that updates a column can't change the cells of a block, which are slices of the file. The
//! new cells are at the front of the block of added cells, one for each overlaid column whether or not it
//! changed in a row. The cells of added columns follow.

/// The overlaid columns of a table.
///
/// ```
/// use gather_keys_core::table::Overlay;
///
/// let overlay = Overlay::of([4, 1, 4]);
/// assert_eq!(overlay.columns(), [1, 4]);
/// assert_eq!((overlay.place(4), overlay.place(0)), (Some(1), None));
/// ```
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Overlay {
    columns: Vec<usize>,
}

impl Overlay {
    /// The overlay of these columns, in any order and with repetitions.
    pub fn of(columns: impl IntoIterator<Item = usize>) -> Self {
        let mut columns: Vec<usize> = columns.into_iter().collect();
        columns.sort_unstable();
        columns.dedup();
        Self { columns }
    }

    /// The columns, ascending. Their cells are in this order before those of added columns.
    pub fn columns(&self) -> &[usize] {
        &self.columns
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.columns.len()
    }

    /// Whether no own cell is overlaid.
    pub fn is_empty(&self) -> bool {
        self.columns.is_empty()
    }

    /// The index of an own column's cell among the added cells.
    pub fn place(&self, column: usize) -> Option<usize> {
        self.columns.binary_search(&column).ok()
    }

    /// The index of any column's cell among the added cells, in a table with `own` columns of its own;
    /// added columns are numbered after those.
    pub(crate) fn place_of(&self, column: usize, own: usize) -> Option<usize> {
        match column.checked_sub(own) {
            Some(added) => Some(self.len() + added),
            None => self.place(column),
        }
    }
}
