//! Filling a block column by column, as formats keep tables whose columns have types.
//!
//! The cells of a column follow one another in the text of the block, and each has its own span. So
//! several cells may be parts of one text that is added once.

use std::ops::Range;

use super::{Block, CellKind, KeptColumns, Span};

/// The cells of one column of a block, which are said from the first row on. A row for which none is
/// said is blank there.
///
/// ```
/// use gather_keys_core::table::{Block, CellKind, KeptColumns};
///
/// let mut block = Block::default();
/// block.reset_by_columns(KeptColumns::all(2), 3);
/// let mut hives = block.column(0);
/// let seven = hives.push_by(|text| {
///     text.push('7');
///     CellKind::Number
/// });
/// hives.push_again(seven);
/// let mut lines = block.column(1);
/// let at = lines.add_text("AmberlineNone").unwrap();
/// lines.push_part(at, 0..9, CellKind::Text);
/// lines.push_blank();
/// lines.push_part(at, 0..9, CellKind::Text);
/// let rows: Vec<_> = (0..3).map(|row| [block.cell(row, 0), block.cell(row, 1)]).collect();
/// assert_eq!(rows, [["7", "Amberline"], ["7", ""], ["", "Amberline"]]);
/// assert_eq!(block.kind(1, 0), CellKind::Number);
/// ```
#[derive(Debug)]
pub struct ColumnCells<'b> {
    block: &'b mut Block,
    /// The place of the next row's cell among all.
    next: usize,
}

/// The place of a text that was added to a block.
#[derive(Debug, Clone, Copy)]
pub struct AddedText(u32);

/// A cell as it was said of a block. The default is blank.
#[derive(Debug, Clone, Copy, Default)]
pub struct SaidCell(Span, CellKind);

impl Block {
    /// Empties the block, gives it other columns and this many rows, each on a line, of blank cells. What
    /// they hold is said [by column](Self::column).
    pub fn reset_by_columns(&mut self, columns: KeptColumns, rows: usize) {
        let cells = rows * columns.count();
        self.reset_to(columns);
        self.cells.resize(cells, Span::default());
        self.kinds.resize(cells, CellKind::Untyped);
        (0..rows as u64).for_each(|row| self.lines.push(row));
    }

    /// The cells of a column, by its place among the columns that the block holds.
    pub fn column(&mut self, place: usize) -> ColumnCells<'_> {
        ColumnCells { block: self, next: place }
    }
}

impl ColumnCells<'_> {
    /// Adds text of which cells are parts; `None` when the block is too large for it.
    pub fn add_text(&mut self, text: &str) -> Option<AddedText> {
        let start = self.block.text.len() as u32;
        self.block.has_capacity_for(text.len()).then(|| {
            self.block.text.push_str(text);
            AddedText(start)
        })
    }

    /// Sets the next row's cell to a part of a text that was added, given as a range of bytes in it.
    #[inline]
    pub fn push_part(&mut self, text: AddedText, part: Range<usize>, kind: CellKind) {
        let at = |byte: usize| text.0 + byte as u32;
        self.say(Span { start: at(part.start), end: at(part.end) }, kind);
    }

    /// Says the next row's cell by what writes it after the text of others, and gives its kind. What
    /// is there already is not to be touched.
    #[inline]
    pub fn push_by(&mut self, write: impl FnOnce(&mut String) -> CellKind) -> SaidCell {
        let start = self.block.text.len();
        let kind = write(&mut self.block.text);
        let said = if self.block.has_capacity_for(0) {
            let span = Span { start: start as u32, end: self.block.text.len() as u32 };
            SaidCell(span, kind)
        } else {
            self.block.text.truncate(start);
            SaidCell::default()
        };
        self.push_again(said);
        said
    }

    /// Says the next row's cell, which is the same as one that was said of this block.
    #[inline]
    pub fn push_again(&mut self, cell: SaidCell) {
        self.say(cell.0, cell.1);
    }

    /// Leaves the next row's cell blank.
    #[inline]
    pub fn push_blank(&mut self) {
        self.next += self.block.kept_columns().count();
    }

    /// A row that the block does not have has no cell either.
    #[inline]
    fn say(&mut self, span: Span, kind: CellKind) {
        if let (Some(cell), Some(said)) =
            (self.block.cells.get_mut(self.next), self.block.kinds.get_mut(self.next))
        {
            (*cell, *said) = (span, kind);
        }
        self.push_blank();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_no_room_is_told() {
        let mut block = Block::default();
        block.reset_by_columns(KeptColumns::all(1), 2);
        let long = "x".repeat(40_000);
        let mut column = block.column(0);
        let mut push = || {
            column.push_by(|text| {
                text.push_str(&long);
                CellKind::Text
            });
        };
        push();
        push();
        assert!(column.add_text(&long).is_none());
        assert!(block.is_too_large());
        assert_eq!((block.cell(0, 0), block.cell(1, 0)), (&long[..], ""));
        block.reset_by_columns(KeptColumns::all(1), 2);
        assert!(!block.is_too_large());
    }
}
