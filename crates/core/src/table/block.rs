//! A block of rows: the unit in which a table flows.
//!
//! All cells of a block stand end to end in one text buffer, row by row, with the place where each
//! ends; so a block costs a few allocations however many cells it holds, and none when it is
//! refilled. Beside the cells a block may carry each row's own bytes, as they stand in the file, so
//! that a row which only gets cells appended can be written back unchanged.

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
    columns: usize,
    text: String,
    ends: Vec<usize>,
    first_row: u64,
    lines: Vec<u64>,
    as_read: AsRead,
}

/// The bytes that the rows of a block have in their file.
#[derive(Debug, Default, Clone)]
pub struct AsRead {
    /// A piece of the file that holds every row of the block.
    pub bytes: Vec<u8>,
    /// Where each row stands in `bytes`; empty when the format has no such bytes.
    pub rows: Vec<RowBytes>,
}

/// Where one row stands in [`AsRead::bytes`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RowBytes {
    /// The row's first byte.
    pub start: usize,
    /// The end of its last cell, where the line end begins.
    pub content_end: usize,
    /// The end of its line end; equal to `content_end` when the file ends without one.
    pub end: usize,
}

/// The bytes given to [`Block::from_parts`] hold a cell that is not UTF-8.
#[derive(Debug)]
pub struct NotText {
    /// The first such cell, counted through the block from 0, row by row.
    pub cell: usize,
}

impl Block {
    /// A block of `columns` columns and no rows.
    pub fn new(columns: usize) -> Self {
        Self { columns, ..Self::default() }
    }

    /// A block of the given rows, numbered from 1 and standing on lines 2, 3, …
    pub fn of_rows<R: AsRef<[C]>, C: AsRef<str>>(columns: usize, rows: &[R]) -> Self {
        let mut block = Self::new(columns);
        for (row, line) in rows.iter().zip(2..) {
            for cell in row.as_ref() {
                block.push_cell(cell.as_ref());
            }
            block.lines.push(line);
        }
        block.first_row = 1;
        block
    }

    /// A block of cells gathered as bytes: `bytes` holds them end to end, `ends` where each ends.
    ///
    /// # Errors
    /// [`NotText`] when a cell is not UTF-8.
    pub fn from_parts(columns: usize, bytes: Vec<u8>, ends: Vec<usize>) -> Result<Self, NotText> {
        let holder = |at: usize| ends.partition_point(|&end| end <= at);
        let text = String::from_utf8(bytes)
            .map_err(|error| NotText { cell: holder(error.utf8_error().valid_up_to()) })?;
        // Two bad cells may join into good text; then a cell ends inside a character.
        match ends.iter().position(|&end| !text.is_char_boundary(end)) {
            Some(cell) => Err(NotText { cell }),
            None => Ok(Self { columns, text, ends, ..Self::default() }),
        }
    }

    /// Takes the block apart into emptied buffers to be filled again: cell bytes, cell ends, row
    /// bytes, line numbers.
    pub fn into_buffers(self) -> (Vec<u8>, Vec<usize>, AsRead, Vec<u64>) {
        let (mut bytes, mut ends, mut as_read, mut lines) =
            (self.text.into_bytes(), self.ends, self.as_read, self.lines);
        bytes.clear();
        ends.clear();
        lines.clear();
        as_read.bytes.clear();
        as_read.rows.clear();
        (bytes, ends, as_read, lines)
    }

    /// Says where the rows stand: the first one's number (data rows count from 1) and each one's
    /// line in the file, with their own bytes where the format has them.
    #[must_use]
    pub fn placed(mut self, first_row: u64, lines: Vec<u64>, as_read: AsRead) -> Self {
        debug_assert_eq!(lines.len(), self.rows());
        self.first_row = first_row;
        self.lines = lines;
        self.as_read = as_read;
        self
    }

    /// Empties the block and gives it another number of columns; its buffers are kept.
    pub fn reset(&mut self, columns: usize) {
        self.columns = columns;
        self.text.clear();
        self.ends.clear();
        self.lines.clear();
        self.as_read.bytes.clear();
        self.as_read.rows.clear();
    }

    /// Adds a cell behind the last one; a row is whole once it has as many cells as the block has
    /// columns.
    pub fn push_cell(&mut self, cell: &str) {
        self.text.push_str(cell);
        self.ends.push(self.text.len());
    }

    /// Adds all cells of a row of another block behind the last cell.
    pub fn push_cells_of(&mut self, other: &Self, row: usize) {
        let range = row * other.columns..(row + 1) * other.columns;
        let start = if range.start == 0 { 0 } else { other.ends[range.start - 1] };
        let end = if range.end == 0 { 0 } else { other.ends[range.end - 1] };
        let base = self.text.len();
        self.text.push_str(&other.text[start..end]);
        self.ends.extend(other.ends[range].iter().map(|end| end - start + base));
    }

    /// How many columns each row has.
    pub fn columns(&self) -> usize {
        self.columns
    }

    /// How many rows the block holds.
    pub fn rows(&self) -> usize {
        self.ends.len().checked_div(self.columns).unwrap_or(0)
    }

    /// The text of a cell; rows and columns count from 0 within the block.
    ///
    /// # Panics
    /// When the block has no such cell.
    pub fn cell(&self, row: usize, column: usize) -> &str {
        let at = row * self.columns + column;
        let start = if at == 0 { 0 } else { self.ends[at - 1] };
        &self.text[start..self.ends[at]]
    }

    /// The number of a row in its table, as a person counts: data rows from 1.
    pub fn row_number(&self, row: usize) -> u64 {
        self.first_row + row as u64
    }

    /// The line of the file on which a row begins, from 1.
    pub fn line(&self, row: usize) -> u64 {
        self.lines.get(row).copied().unwrap_or(0)
    }

    /// A row's own bytes and its line end, where the format has them.
    pub fn row_bytes(&self, row: usize) -> Option<(&[u8], &[u8])> {
        let at = self.as_read.rows.get(row)?;
        let bytes = &self.as_read.bytes;
        Some((&bytes[at.start..at.content_end], &bytes[at.content_end..at.end]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cell_that_is_not_text_is_named() {
        let cells = |cells: &[&[u8]]| {
            let ends = cells.iter().scan(0, |end, cell| {
                *end += cell.len();
                Some(*end)
            });
            Block::from_parts(2, cells.concat(), ends.collect()).map_err(|bad| bad.cell)
        };
        assert_eq!(cells(&[b"ab", "é".as_bytes()]).unwrap().cell(0, 1), "é");
        assert_eq!(cells(&[b"ab", b"", b"x\xff", b"y"]).unwrap_err(), 2);
        assert_eq!(cells(&[b"", b"\xff"]).unwrap_err(), 1);
        // Halves of one character in neighbouring cells.
        assert_eq!(cells(&[b"\xc3", b"\xa9"]).unwrap_err(), 0);
    }

    #[test]
    fn buffers_come_back_empty() {
        let block = Block::of_rows(1, &[["x"]]);
        let (bytes, ends, as_read, lines) = block.into_buffers();
        assert!(bytes.is_empty() && ends.is_empty() && lines.is_empty());
        assert!(as_read.bytes.is_empty() && as_read.rows.is_empty());
    }
}
