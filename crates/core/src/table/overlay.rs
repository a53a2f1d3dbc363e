//! Which of a table's own cells stand anew among the cells that are added to its rows.
//!
//! A lookup that updates a column can't change the cells of a block, which are slices of the file.
//! The new cells stand at the front of the block of added cells instead, one for each overlaid
//! column whether or not it changed in a row; behind them stand the cells of added columns.

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
    /// The overlay of these columns, in whatever order they come and however often.
    pub fn of(columns: impl IntoIterator<Item = usize>) -> Self {
        let mut columns: Vec<usize> = columns.into_iter().collect();
        columns.sort_unstable();
        columns.dedup();
        Self { columns }
    }

    /// The columns, ascending. Their cells stand in this order before those of added columns.
    pub fn columns(&self) -> &[usize] {
        &self.columns
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.columns.len()
    }

    /// Whether every own cell stands as it was read.
    pub fn is_empty(&self) -> bool {
        self.columns.is_empty()
    }

    /// Where the cell of an own column stands among the added ones.
    pub fn place(&self, column: usize) -> Option<usize> {
        self.columns.binary_search(&column).ok()
    }

    /// Where the cell of any column stands among the added ones, when the table has so many of its
    /// own and the added columns count on behind them.
    pub(crate) fn place_of(&self, column: usize, own: usize) -> Option<usize> {
        match column.checked_sub(own) {
            Some(added) => Some(self.len() + added),
            None => self.place(column),
        }
    }
}
