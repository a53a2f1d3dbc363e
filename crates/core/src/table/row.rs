//! One row of a block, with the cells that lookups have added to it, and those that they have updated in
//! place of its own.

use super::{Block, Overlay};

/// A row on its way through the lookups.
///
/// ```
/// use gather_keys_core::table::{Block, Row};
///
/// let main = Block::of_rows(2, &[["Fellside", "7"]]);
/// let added = Block::of_rows(1, &[["Edda Larkhollow"]]);
/// let row = Row::of(&main, 0).with(&added, 0);
/// assert_eq!(row.cell(1), "7");
/// assert_eq!(row.cell(2), "Edda Larkhollow");
/// ```
#[derive(Debug, Clone, Copy)]
pub struct Row<'a> {
    block: &'a Block,
    nth: usize,
    added: Option<(&'a Block, usize)>,
    /// None where no own cell is updated.
    overlay: Option<&'a Overlay>,
}

impl<'a> Row<'a> {
    /// A row of a block, from 0 within it. Cells of a row that the block does not have can't be read.
    pub fn of(block: &'a Block, row: usize) -> Self {
        Self { block, nth: row, added: None, overlay: None }
    }

    /// The row followed by the cells of a row of another block.
    #[must_use]
    pub fn with(self, added: &'a Block, row: usize) -> Self {
        Self { added: Some((added, row)), ..self }
    }

    /// The same row, where the first of the added cells replace these own columns.
    #[must_use]
    pub fn over(self, overlay: &'a Overlay) -> Self {
        Self { overlay: (!overlay.is_empty()).then_some(overlay), ..self }
    }

    /// The text of a cell: one of its own as it is now, or after them one that was added.
    ///
    /// # Panics
    /// When it has no such cell.
    #[inline]
    pub fn cell(self, column: usize) -> &'a str {
        if self.overlay.is_none() && column < self.block.columns() {
            return self.block.cell(self.nth, column);
        }
        self.added_or_updated_cell(column)
    }

    /// The text of a cell that may be among the added ones.
    fn added_or_updated_cell(self, column: usize) -> &'a str {
        let own = self.block.columns();
        match (self.added, self.overlay) {
            (Some((added, row)), None) if column >= own => added.cell(row, column - own),
            (Some((added, row)), Some(overlay)) => match overlay.place_of(column, own) {
                Some(place) => added.cell(row, place),
                None => self.block.cell(self.nth, column),
            },
            _ => self.block.cell(self.nth, column),
        }
    }

    /// How many cells are its own.
    pub fn own(self) -> usize {
        self.block.columns()
    }

    /// Its number in its table, as a person counts: data rows from 1.
    pub fn number(self) -> u64 {
        self.block.row_number(self.nth)
    }

    /// The line of the file on which it begins, from 1.
    pub fn line(self) -> u64 {
        self.block.line(self.nth)
    }
}
