//! A block of rows: the unit in which a table flows.
//!
//! All cells of a block are in one text, with the place where each begins and ends; so a block
//! costs a few allocations however many cells it holds, and none when it is refilled. Where the
//! format has text of its own, as delimited text has, that text is the piece of the file just as
//! it was read: a cell is a slice of it, and a row that only gets cells appended can be written
//! back unchanged.

mod filling;

use std::ops::Range;

use super::packed::GAP;
use super::{Before, CellKind, KeptColumns, Lines, RawRowForm};

/// Rows of cells, all of the same number of columns.
///
/// ```
/// use gather_keys_core::table::Block;
///
/// let block = Block::of_rows(2, &[["Fellside", "7"], ["Nether Moor", ""]]);
/// assert_eq!(block.rows(), 2);
/// assert_eq!(block.cell(1, 0), "Nether Moor");
/// assert_eq!(block.cell(1, 1), "");
/// ```
#[derive(Debug, Default, Clone)]
pub struct Block {
    columns: KeptColumns,
    pub(crate) text: String,
    pub(crate) cells: Vec<Span>,
    /// The kind of each cell; empty while none was said.
    pub(crate) kinds: Vec<CellKind>,
    pub(crate) own: Vec<RowBytes>,
    pub(super) raw_row_form: Option<RawRowForm>,
    pub(crate) first_row: u64,
    pub(crate) lines_before: u64,
    pub(crate) lines: Lines,
    too_large: bool,
}

/// The most text that a block holds: offsets in it have 32 bits. Tests reach it sooner.
const MOST_TEXT: usize = if cfg!(test) { 1 << 16 } else { u32::MAX as usize };

/// The range of a cell in the text of its block, in bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Span {
    /// Its first byte.
    pub start: u32,
    /// The byte after its last one.
    pub end: u32,
}

/// The range of a row's own bytes in the text of its block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RowBytes {
    /// The row's first byte.
    pub start: u32,
    /// The end of its last cell, where the line end begins.
    pub content_end: u32,
    /// The end of its line end; equal to `content_end` when the file ends without one.
    pub end: u32,
}

/// Where the cells of a row are in the text of its block.
#[derive(Debug, Clone, Copy)]
pub struct RowPlaces<'b> {
    /// The text from the row's first byte on, where that is, and how many bytes are the row's own.
    text: &'b [u8],
    start: u32,
    length: u32,
    /// How many bytes its line end has.
    line_end: u32,
    spans: &'b [Span],
}

impl<'b> RowPlaces<'b> {
    /// The text from the row's first byte on.
    pub fn text(self) -> &'b [u8] {
        self.text
    }

    /// The row's line end.
    #[inline(always)]
    pub fn line_end(self) -> &'b [u8] {
        let (from, length) = (self.length as usize, self.line_end as usize);
        self.text.get(from..from + length).unwrap_or_default()
    }

    /// Where that has a cell, and how many bytes there are to the end of another, both given by their places among the kept
    /// ones and in this order; `None` where they are not in the row's own bytes as they are.
    #[inline(always)]
    pub fn between(self, first: u32, last: u32) -> Option<(u32, u32)> {
        let (first, last) = (self.spans.get(first as usize)?, self.spans.get(last as usize)?);
        // A cell that is elsewhere is after the whole text of the file, and so after the row. Before the row is none.
        let upto = last.end.wrapping_sub(self.start);
        if upto > self.length {
            return None;
        }
        let length = last.end.wrapping_sub(first.start);
        Some((upto.checked_sub(length)?, length))
    }
}

/// The parts of a block; kept from block to block, so that their buffers are reused.
#[derive(Debug, Default)]
pub struct Parts {
    /// The piece of the file that holds every row, and after it cells that are not in it as
    /// they are.
    pub text: Vec<u8>,
    /// The cells, row by row.
    pub cells: Vec<Span>,
    /// The rows' own bytes; none when the format has no such bytes.
    pub own: Vec<RowBytes>,
    /// How cells are in these, where it can be said.
    pub raw_row_form: Option<RawRowForm>,
    /// The line on which each row begins, the first line of the piece being 0.
    pub lines: Lines,
}

/// The text of a block is not UTF-8.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotText {
    /// The first such byte.
    pub at: usize,
    /// The text.
    pub text: Vec<u8>,
}

impl Block {
    /// A block of `columns` columns and no rows.
    pub fn new(columns: usize) -> Self {
        Self { columns: KeptColumns::all(columns), ..Self::default() }
    }

    /// A block of the given rows, numbered from 1 and standing on lines 2, 3, …
    pub fn of_rows<R: AsRef<[C]>, C: AsRef<str>>(columns: usize, rows: &[R]) -> Self {
        let mut block = Self::new(columns);
        for (row, line) in rows.iter().zip(0..) {
            for cell in row.as_ref() {
                block.push_cell(cell.as_ref());
            }
            block.lines.push(line);
        }
        block.placed(1, 2)
    }

    /// A block of the cells that a format found in the kept columns.
    ///
    /// # Errors
    /// [`NotText`] when the text is not UTF-8.
    pub fn from_parts(columns: KeptColumns, parts: Parts) -> Result<Self, NotText> {
        let Parts { text, cells, own, raw_row_form, lines } = parts;
        let text = String::from_utf8(text).map_err(|error| NotText {
            at: error.utf8_error().valid_up_to(),
            text: error.into_bytes(),
        })?;
        Ok(Self {
            columns,
            text,
            cells,
            kinds: Vec::new(),
            own,
            raw_row_form,
            lines,
            first_row: 1,
            lines_before: 0,
            too_large: false,
        })
    }

    /// Splits the block into parts to be filled again. They are empty, except for the text, which is left
    /// to be overwritten.
    pub fn into_parts(self) -> Parts {
        let Self { text, mut cells, mut own, mut lines, .. } = self;
        let text = text.into_bytes();
        cells.clear();
        own.clear();
        lines.clear();
        Parts { text, cells, own, raw_row_form: None, lines }
    }

    /// Sets the position of the rows: the number of the first row (data rows count from 1), and how many
    /// lines of the file are before the first line of the block.
    #[must_use]
    pub fn placed(mut self, first_row: u64, lines_before: u64) -> Self {
        self.place(first_row, lines_before);
        self
    }

    /// Sets the position of the rows; see [`Block::placed`].
    pub fn place(&mut self, first_row: u64, lines_before: u64) {
        self.first_row = first_row;
        self.lines_before = lines_before;
    }

    /// Empties the block and gives it another number of columns; its buffers are kept.
    pub fn reset(&mut self, columns: usize) {
        self.reset_to(KeptColumns::all(columns));
    }

    /// Empties the block, to be filled with cells of other columns.
    pub fn reset_to(&mut self, columns: KeptColumns) {
        self.columns = columns;
        self.too_large = false;
        self.text.clear();
        self.cells.clear();
        self.kinds.clear();
        self.own.clear();
        self.lines.clear();
    }

    /// A row of a block that was filled cell by cell, from one of its cells on: the cells end to end
    /// with one byte of room before each, and where each such byte is.
    ///
    /// # Panics
    /// When the block has no such row or cell, or its cells are slices of a text.
    #[inline]
    pub fn row_with_gaps(&self, row: usize, first: usize) -> (&str, impl Iterator<Item = usize>) {
        let kept = self.columns.count();
        let spans = &self.cells[row * kept + first..(row + 1) * kept];
        let begin = |span: &Span| span.start as usize - GAP.len_utf8();
        let from = spans.first().map_or(0, begin);
        let upto = spans.last().map_or(0, |span| span.end as usize);
        (&self.text[from..upto], spans.iter().map(move |span| begin(span) - from))
    }

    /// The bytes of several rows of a block that was filled cell by cell, from that of a cell of the first
    /// row on.
    ///
    /// # Panics
    /// When the block has no such rows or cell.
    pub fn rows_with_gaps(&self, rows: Range<usize>, first: usize) -> &[u8] {
        let kept = self.columns.count();
        let spans = &self.cells[rows.start * kept..rows.end * kept];
        let from = spans.get(first).map_or(0, |span| span.start as usize);
        let upto = spans.last().map_or(0, |span| span.end as usize);
        self.text.as_bytes().get(from..upto).unwrap_or_default()
    }

    /// Whether a byte is anywhere in its text.
    pub fn holds_byte(&self, byte: u8) -> bool {
        memchr::memchr(byte, self.text.as_bytes()).is_some()
    }

    /// Whether a byte may be among the own bytes of some rows: whether it is there, or between these.
    pub fn rows_may_hold_byte(
        &self,
        rows: &(impl Iterator<Item = usize> + Clone),
        byte: u8,
    ) -> bool {
        let text = self.text.as_bytes();
        let holds = |from: u32, upto: u32| {
            let text = text.get(from as usize..upto as usize);
            text.is_none_or(|text| memchr::memchr(byte, text).is_some())
        };
        let own = || rows.clone().filter_map(|row| self.own.get(row));
        match (own().next(), own().last()) {
            // One search takes less time than several.
            (Some(first), Some(last)) if own().is_sorted_by_key(|own| own.start) => {
                holds(first.start, last.end)
            }
            _ => own().any(|own| holds(own.start, own.end)),
        }
    }

    /// How many bytes its text has, which holds the rows' own bytes where the format has such.
    pub fn text_length(&self) -> usize {
        self.text.len()
    }

    /// How many columns each row has.
    pub fn columns(&self) -> usize {
        self.columns.all_columns()
    }

    /// How many rows the block holds.
    pub fn rows(&self) -> usize {
        self.cells.len().checked_div(self.columns.count()).unwrap_or(self.lines.rows() as usize)
    }

    /// The text of a cell; rows and columns count from 0 within the block.
    ///
    /// # Panics
    /// When the block has no such cell, or holds none of the column.
    #[inline]
    pub fn cell(&self, row: usize, column: usize) -> &str {
        let place = row * self.columns.count() + self.columns.place(column);
        let Span { start, end } = self.cells[place];
        &self.text[start as usize..end as usize]
    }

    /// The text of all cells, and the spans in it of the cells that the block holds of a row.
    #[inline]
    pub(crate) fn kept_cells(&self, row: usize) -> (&[u8], &[Span]) {
        let kept = self.columns.count();
        (self.text.as_bytes(), &self.cells[row * kept..][..kept])
    }

    /// The kind of a cell.
    ///
    /// # Panics
    /// When the block has no such cell, or holds none of the column.
    #[inline]
    pub fn kind(&self, row: usize, column: usize) -> CellKind {
        if self.kinds.is_empty() {
            return CellKind::Untyped;
        }
        self.kinds[row * self.columns.count() + self.columns.place(column)]
    }

    /// Whether any kind is said.
    pub fn has_kinds(&self) -> bool {
        !self.kinds.is_empty()
    }

    /// The number of a row in its table, as a person counts: data rows from 1. The row need not be in the block.
    pub fn row_number(&self, row: usize) -> u64 {
        self.first_row + row as u64
    }

    /// The line of the file on which a row begins, from 1. For a row that is not in the block, it is a guess.
    pub fn line(&self, row: usize) -> u64 {
        self.lines_before + self.lines.of(row as u64)
    }

    /// How much of its table is before it.
    pub(crate) fn before(&self) -> Before {
        Before {
            rows: self.first_row.saturating_sub(1),
            lines: self.lines_before.saturating_sub(1),
        }
    }

    /// Notes on which line of the file each row begins, after the rows before it.
    pub(crate) fn append_lines_to(&self, lines: &mut Lines) {
        lines.append(&self.lines, self.lines_before);
    }

    /// The columns of which it holds the cells.
    pub(crate) fn kept_columns(&self) -> &KeptColumns {
        &self.columns
    }

    /// The range of a cell in its row's own bytes, if it is there as it is.
    ///
    /// # Panics
    /// When the block holds no cells of the column.
    #[inline]
    pub fn place_in_row(&self, row: usize, column: usize) -> Option<Range<usize>> {
        let own = self.own.get(row)?;
        let span = self.cells[row * self.columns.count() + self.columns.place(column)];
        let is_within = own.start <= span.start && span.end <= own.content_end;
        is_within.then(|| (span.start - own.start) as usize..(span.end - own.start) as usize)
    }

    /// The text from a cell's first byte on, and how many bytes are the cell's.
    ///
    /// # Panics
    /// When the block has no such cell, or holds none of the column.
    #[inline]
    pub fn cell_with_behind(&self, row: usize, column: usize) -> (&[u8], usize) {
        let place = row * self.columns.count() + self.columns.place(column);
        let Span { start, end } = self.cells[place];
        (&self.text.as_bytes()[start as usize..], (end - start) as usize)
    }

    /// Where the cells of a row are; `None` where the format has none, or the block no such row.
    #[inline]
    pub fn row_places(&self, row: usize) -> Option<RowPlaces<'_>> {
        let kept = self.columns.count();
        let own = self.own.get(row)?;
        Some(RowPlaces {
            text: self.text.as_bytes().get(own.start as usize..)?,
            start: own.start,
            length: own.content_end.checked_sub(own.start)?,
            line_end: own.end.saturating_sub(own.content_end),
            spans: self.cells.get(row * kept..)?.get(..kept)?,
        })
    }

    /// The place of a column among those that the block holds, for [`RowPlaces::between`].
    pub fn kept_place(&self, column: usize) -> Option<usize> {
        self.columns.kept_place(column)
    }

    /// A row's own bytes and its line end; `None` where the format has none, or the block no such row.
    #[inline]
    pub fn row_bytes(&self, row: usize) -> Option<(&[u8], &[u8])> {
        let (text, length, line_end) = self.row_text(row)?;
        Some((&text[..length], line_end))
    }

    /// A row's own bytes with the text after them: the text from the row's first byte on, how many bytes
    /// are its own, and its line end.
    #[inline]
    pub fn row_text(&self, row: usize) -> Option<(&[u8], usize, &[u8])> {
        let at = self.own.get(row)?;
        let bytes = self.text.as_bytes();
        let (start, content_end) = (at.start as usize, at.content_end as usize);
        Some((&bytes[start..], content_end - start, &bytes[content_end..at.end as usize]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_that_is_none_is_refused_with_its_place() {
        let block = |text: &[u8]| {
            let cells = vec![Span { start: 0, end: 2 }, Span { start: 3, end: text.len() as u32 }];
            Block::from_parts(
                KeptColumns::all(2),
                Parts { text: text.to_vec(), cells, ..Parts::default() },
            )
        };
        assert_eq!(block("ab,é".as_bytes()).unwrap().cell(0, 1), "é");
        assert_eq!(block(b"ab,x\xff").unwrap_err().at, 4);
    }

    #[test]
    fn a_block_says_when_it_takes_no_more() {
        let mut block = Block::new(1);
        while !block.is_too_large() {
            block.push_cell(&"x".repeat(1000));
        }
        block.push_cell("y");
        block.push_cells("\0z", &[1]);
        block.push_cell_by(|text| {
            text.push('w');
            CellKind::Text
        });
        assert_eq!(block.rows(), MOST_TEXT / 1001);
        assert!((0..block.rows()).all(|row| block.cell(row, 0).len() == 1000));
        block.reset(1);
        block.push_cell("y");
        assert!(!block.is_too_large() && block.cell(0, 0) == "y");
    }

    #[test]
    fn rows_of_another_block_come_whole() {
        for kinds in [CellKind::Untyped, CellKind::Number] {
            let mut other = Block::new(3);
            for cell in ["a", "", "é1", "", "bc", "", "", "", ""] {
                other.push_cell_of(cell, kinds);
            }
            let (mut whole, mut by_cell) = (Block::new(4), Block::new(4));
            for row in [2, 0, 1, 0] {
                whole.push_row_of(&other, row);
                by_cell.push_cells_of(&other, row);
                whole.push_cell("end");
                by_cell.push_cell("end");
            }
            assert_eq!(whole.rows(), 4);
            for (row, column) in (0..4).flat_map(|row| (0..4).map(move |column| (row, column))) {
                assert_eq!(whole.cell(row, column), by_cell.cell(row, column));
                assert_eq!(whole.kind(row, column), by_cell.kind(row, column));
            }
            assert_eq!(whole.row_with_gaps(1, 0).0, by_cell.row_with_gaps(1, 0).0);
        }
    }

    #[test]
    fn buffers_come_back_with_the_text_only() {
        let parts = Block::of_rows(1, &[["x"]]).into_parts();
        assert!(!parts.text.is_empty() && parts.cells.is_empty() && parts.own.is_empty());
    }
}
