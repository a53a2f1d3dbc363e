//! A table with the blank cells of some columns filled from above, and without its last rows.
//!
//! In goes a table in any format, out come its rows one block after the other: what a blank cell takes may be in an
//! earlier block, and which rows are the last is known at the end.

use std::collections::VecDeque;

use gather_keys_core::table::{Block, CellKind, Headers, Source};

use crate::rows::{AT_ONCE, ReadRows};
use crate::{Result, Table};

/// A cell, with its kind.
type Cell = (String, CellKind);

/// A table that is adjusted as it is read.
pub(crate) struct Adjusted {
    table: Table,
    /// The columns that are filled, and the last value of each.
    filled: Vec<(usize, Cell)>,
    /// How many rows are left out at the end.
    skipped: usize,
    /// Rows that may be the last, each with its line.
    held: VecDeque<(u64, Vec<Cell>)>,
    /// The line before the next block.
    before: u64,
    block: Block,
    has_ended: bool,
}

impl Adjusted {
    /// Fills the columns with the headers `fill_down`, and leaves out the last `skipped` rows.
    ///
    /// # Errors
    /// When the table has no such header.
    pub(crate) fn new(table: Table, fill_down: &[String], skipped: u64) -> Result<Self> {
        let column = |header: &String| Ok(table.headers().find(header)?.column);
        let columns = fill_down.iter().map(column).collect::<Result<Vec<_>>>()?;
        let filled = columns.into_iter().map(|column| (column, Cell::default())).collect();
        let before = table.before().lines;
        let skipped = usize::try_from(skipped).unwrap_or(usize::MAX);
        let (held, block) = (VecDeque::new(), Block::default());
        Ok(Self { table, filled, skipped, held, before, block, has_ended: false })
    }

    /// Fills the blank cells of a row.
    fn fill(&mut self, row: &mut [Cell]) {
        for (column, above) in &mut self.filled {
            let cell = &mut row[*column];
            if cell.0.trim().is_empty() {
                *cell = above.clone();
            } else {
                above.clone_from(cell);
            }
        }
    }
}

impl ReadRows for Adjusted {
    fn headers(&self) -> &Headers {
        self.table.headers()
    }

    fn header_line(&self) -> u64 {
        self.table.before().lines
    }

    fn read_rows(&mut self, block: &mut Block) -> Result<Option<u64>> {
        while !self.has_ended && self.held.len() <= self.skipped.saturating_add(AT_ONCE) {
            self.has_ended = !self.table.read_block(&mut self.block)?;
            let rows = if self.has_ended { 0 } else { self.block.rows() };
            for row in 0..rows {
                let cell = |column| {
                    (self.block.cell(row, column).to_owned(), self.block.kind(row, column))
                };
                let mut cells: Vec<Cell> = (0..self.block.columns()).map(cell).collect();
                let line = self.block.line(row);
                self.fill(&mut cells);
                self.held.push_back((line, cells));
            }
        }
        let rows = self.held.len().saturating_sub(self.skipped).min(AT_ONCE);
        if rows == 0 {
            return Ok(None);
        }
        block.reset(self.table.headers().len());
        let mut last = self.before;
        for (line, cells) in self.held.drain(..rows) {
            for (text, kind) in &cells {
                block.push_cell_of(text, *kind);
            }
            block.push_line(line - self.before - 1);
            last = line;
        }
        let lines = last - self.before;
        self.before = last;
        Ok(Some(lines))
    }
}
