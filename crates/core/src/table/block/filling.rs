//! Filling a block: cells, rows of other blocks, and the lines that rows begin on.

use super::{Block, MOST_TEXT, Span};
use crate::table::CellKind;
use crate::table::packed::GAP;

impl Block {
    /// Adds a cell after the last one; a row is whole once it has as many cells as the block has
    /// columns. A block that is [too large](Self::is_too_large) takes no more.
    #[inline]
    pub fn push_cell(&mut self, cell: &str) {
        self.push_cell_of(cell, CellKind::Untyped);
    }

    /// Adds a cell of a kind after the last one.
    #[inline]
    pub fn push_cell_of(&mut self, cell: &str, kind: CellKind) {
        if self.has_capacity_for(cell.len() + GAP.len_utf8()) {
            self.text.push(GAP);
            let start = self.text.len() as u32;
            self.text.push_str(cell);
            self.end_cell(start, kind);
        }
    }

    /// Adds a cell after the last one, by what writes its text after that of the others and gives its
    /// kind. What is there already is not to be touched.
    ///
    /// ```
    /// use std::fmt::Write;
    ///
    /// use gather_keys_core::table::{Block, CellKind};
    ///
    /// let mut block = Block::new(1);
    /// block.push_cell_by(|text| {
    ///     write!(text, "{}", 6 * 7).map_or(CellKind::Untyped, |()| CellKind::Number)
    /// });
    /// assert_eq!((block.cell(0, 0), block.kind(0, 0)), ("42", CellKind::Number));
    /// ```
    #[inline]
    pub fn push_cell_by(&mut self, write: impl FnOnce(&mut String) -> CellKind) {
        if !self.has_capacity_for(GAP.len_utf8()) {
            return;
        }
        self.text.push(GAP);
        let start = self.text.len();
        let kind = write(&mut self.text);
        if self.has_capacity_for(0) {
            self.end_cell(start as u32, kind);
        } else {
            self.text.truncate(start - GAP.len_utf8());
        }
    }

    #[inline]
    fn end_cell(&mut self, start: u32, kind: CellKind) {
        if kind != CellKind::Untyped || !self.kinds.is_empty() {
            self.kinds.resize(self.cells.len(), CellKind::Untyped);
            self.kinds.push(kind);
        }
        self.cells.push(Span { start, end: self.text.len() as u32 });
    }

    /// Says the kinds of the last cells.
    pub(crate) fn set_kinds(&mut self, kinds: &[CellKind]) {
        if let Some(before) = self.cells.len().checked_sub(kinds.len()) {
            self.kinds.resize(before, CellKind::Untyped);
            self.kinds.extend_from_slice(kinds);
        }
    }

    /// Adds cells after the last one: `text` holds them end to end with room before each,
    /// `lengths` how long each is.
    #[inline]
    pub(crate) fn push_cells(&mut self, text: &str, lengths: &[u8]) {
        if !self.has_capacity_for(text.len()) {
            return;
        }
        let mut end = self.text.len() as u32;
        self.text.push_str(text);
        self.cells.extend(lengths.iter().map(|length| {
            let start = end + GAP.len_utf8() as u32;
            end = start + u32::from(*length);
            Span { start, end }
        }));
        if !self.kinds.is_empty() {
            self.kinds.resize(self.cells.len(), CellKind::Untyped);
        }
    }

    /// Adds cells that each come by themselves, with the gap before each.
    #[inline]
    pub(crate) fn push_each<'c>(&mut self, cells: impl Iterator<Item = &'c str>) {
        for cell in cells {
            if !self.has_capacity_for(cell.len()) {
                return;
            }
            let start = (self.text.len() + GAP.len_utf8()) as u32;
            self.text.push_str(cell);
            self.cells.push(Span { start, end: self.text.len() as u32 });
        }
        if !self.kinds.is_empty() {
            self.kinds.resize(self.cells.len(), CellKind::Untyped);
        }
    }

    #[inline]
    pub(in crate::table) fn has_capacity_for(&mut self, more: usize) -> bool {
        self.too_large |= self.text.len() + more > MOST_TEXT;
        !self.too_large
    }

    /// Whether cells were left out, since their places in the text could not be stored.
    pub fn is_too_large(&self) -> bool {
        self.too_large
    }

    /// Adds all cells of a row of another block after the last cell.
    pub fn push_cells_of(&mut self, other: &Self, row: usize) {
        for column in 0..other.columns() {
            self.push_cell_of(other.cell(row, column), other.kind(row, column));
        }
    }

    /// Adds all cells of a row of a block that was filled cell by cell, as one piece of text if no kinds
    /// are set.
    #[inline]
    pub(crate) fn push_row_of(&mut self, other: &Self, row: usize) {
        if other.has_kinds() || self.has_kinds() {
            return self.push_cells_of(other, row);
        }
        let spans = &other.cells[row * other.columns.count()..][..other.columns.count()];
        let (Some(first), Some(last)) = (spans.first(), spans.last()) else { return };
        let from = first.start - GAP.len_utf8() as u32;
        let text = &other.text[from as usize..last.end as usize];
        if self.has_capacity_for(text.len()) {
            let to = self.text.len() as u32;
            self.text.push_str(text);
            let there = |at: u32| at - from + to;
            self.cells.extend(
                spans.iter().map(|span| Span { start: there(span.start), end: there(span.end) }),
            );
        }
    }

    /// Says on which line the row that was added last begins, the first line of the block being 0.
    pub fn push_line(&mut self, line: u64) {
        self.lines.push(line);
    }
}
