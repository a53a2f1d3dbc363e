//! A row of a worksheet on its way; kept from row to row, so that nothing is allocated for a cell.

use gather_keys_core::table::CellKind;

/// A cell of a worksheet.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Cell {
    pub(super) text: String,
    pub(super) kind: CellKind,
}

impl Cell {
    pub(super) fn is_empty(&self) -> bool {
        self.text.is_empty()
    }
}

/// The cells of a row, from the first column on.
#[derive(Debug, Default)]
pub(super) struct Row {
    /// The texts of the cells, end to end.
    text: String,
    /// The end of each cell, and its kind.
    cells: Vec<(usize, CellKind)>,
}

impl Row {
    pub(super) fn of(cells: &[Cell]) -> Self {
        let mut row = Self::default();
        for cell in cells {
            row.text.push_str(&cell.text);
            row.cells.push((row.text.len(), cell.kind));
        }
        row
    }

    pub(super) fn clear(&mut self) {
        self.text.clear();
        self.cells.clear();
    }

    pub(super) fn len(&self) -> usize {
        self.cells.len()
    }

    /// Puts the cell of a column, after all cells so far, by a function that writes its text and returns
    /// its kind.
    pub(super) fn put(&mut self, column: usize, write: impl FnOnce(&mut String) -> CellKind) {
        let end = self.text.len();
        self.cells.resize(column.max(self.cells.len()), (end, CellKind::Untyped));
        let kind = write(&mut self.text);
        self.cells.push((self.text.len(), kind));
    }

    /// The cell of a column; blank where none was put.
    pub(super) fn cell(&self, column: usize) -> (&str, CellKind) {
        let Some(&(end, kind)) = self.cells.get(column) else { return ("", CellKind::Untyped) };
        let begin = column.checked_sub(1).map_or(0, |before| self.cells[before].0);
        (&self.text[begin..end], kind)
    }

    /// How many bytes of text the cells have.
    pub(super) fn text_length(&self) -> usize {
        self.text.len()
    }

    pub(super) fn is_blank(&self) -> bool {
        self.text.is_empty()
    }

    /// Leaves out the cells of columns outside the given range.
    pub(super) fn keep(&mut self, columns: &std::ops::Range<usize>) {
        self.cells.truncate(columns.end);
        let before = columns.start.min(self.cells.len());
        let begin = before.checked_sub(1).map_or(0, |last| self.cells[last].0);
        for cell in &mut self.cells[..before] {
            *cell = (0, CellKind::Untyped);
        }
        for (end, _) in &mut self.cells[before..] {
            *end -= begin;
        }
        self.text.drain(..begin);
        self.text.truncate(self.cells.last().map_or(0, |(end, _)| *end));
    }

    /// The cells, each by itself.
    pub(super) fn cells(&self) -> Vec<Cell> {
        let cells = (0..self.len()).map(|column| {
            let (text, kind) = self.cell(column);
            Cell { text: text.to_owned(), kind }
        });
        cells.collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_row_is_its_cells() {
        let put = |cells: &[(usize, &str)]| {
            let mut row = Row::default();
            for (column, text) in cells {
                row.put(*column, |room| {
                    room.push_str(text);
                    CellKind::Text
                });
            }
            row
        };
        let texts = |row: &Row| row.cells().into_iter().map(|cell| cell.text).collect::<Vec<_>>();
        let mut row = put(&[(1, "ab"), (2, ""), (4, "cde")]);
        assert_eq!(texts(&row), ["", "ab", "", "", "cde"]);
        assert_eq!(row.cell(9), ("", CellKind::Untyped));
        assert_eq!(texts(&Row::of(&row.cells())), texts(&row));
        row.keep(&(2..9));
        assert_eq!(texts(&row), ["", "", "", "", "cde"]);
        row.keep(&(0..4));
        assert!(row.is_blank() && row.len() == 4);
        row.clear();
        assert_eq!(row.len(), 0);
    }
}
