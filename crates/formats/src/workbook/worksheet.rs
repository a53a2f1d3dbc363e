//! A worksheet on its way to become a table.
//!
//! Rows go in as the reader of the workbook finds them. Headers come out, once they are found, and then
//! blocks of rows.

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::SyncSender;

use calamine::DataRef;
use gather_keys_core::table::{Block, CellKind, Headers};

use super::beginning::{Beginning, Begun, MOST_TEXT, Sought};
use super::headers::Merged;
use super::left_out::LeftOut;
use super::paced::Pace;
use super::part::Named;
use super::row::Row;
use super::size::MOST_COLUMNS;
use super::value::{kind, write_text};
use crate::rows::{AT_ONCE, ENOUGH_TEXT, End};
use crate::{Error, Result};

/// Receives a worksheet's headers and rows.
pub(super) struct Hand {
    pub(super) tell: SyncSender<Result<Begun>>,
    pub(super) send: SyncSender<Result<(Block, u64)>>,
    /// How many cells hold an error.
    pub(super) error_cells: Arc<AtomicU64>,
    /// Cells in columns without a header.
    pub(super) left_out: Arc<LeftOut>,
}

/// A worksheet whose rows are being taken.
pub(super) struct Worksheet {
    beginning: Beginning,
    hand: Hand,
    /// The block that is being filled with rows.
    reading: Option<Making>,
}

/// A block in the making.
struct Making {
    headers: Headers,
    /// The columns of the worksheet that the table has.
    columns: Range<usize>,
    block: Block,
    /// The line before its first one.
    before: u64,
}

impl Worksheet {
    /// The worksheet of the workbook called `name` that `part` asks for, or else the first.
    pub(super) fn new(name: &str, part: Option<&str>, sought: &Sought<'_>, hand: Hand) -> Self {
        Self { beginning: Beginning::new(name, part, sought), hand, reading: None }
    }

    /// That the workbook can't be read, as `said`.
    pub(super) fn unread(&self, said: impl Into<String>) -> Error {
        self.beginning.unread(said)
    }

    /// That the workbook is not read since it would fill the memory, as `said`.
    pub(super) fn too_large(&self, said: impl Into<String>) -> Error {
        self.beginning.too_large(said)
    }

    /// That the workbook is locked.
    pub(super) fn locked(&self) -> Error {
        self.beginning.locked()
    }

    /// Tells why it isn't read on.
    pub(super) fn fail(&mut self, failed: Error) {
        // Nobody needs to know if nobody waits.
        if self.reading.is_none() {
            let _ = self.hand.tell.send(Err(failed));
        } else {
            let _ = self.hand.send.send(Err(failed));
        }
    }

    /// Finds what is meant, and gives its worksheet.
    pub(super) fn chosen(
        &mut self,
        worksheets: &[String],
        named: impl FnOnce() -> Vec<Named>,
    ) -> Result<String> {
        self.beginning.chosen(worksheets, named)
    }

    /// Whether no row from this line on is wanted.
    pub(super) fn is_past(&self, line: u64) -> bool {
        self.beginning.is_past(line)
    }

    /// Whether the headers are found.
    pub(super) fn has_begun(&self) -> bool {
        self.reading.is_some()
    }

    /// Takes that cells are merged; of use until the headers are found.
    pub(super) fn merge(&mut self, merged: impl IntoIterator<Item = Merged>) {
        self.beginning.merge(merged);
    }

    /// That the workbook was read no further at this pace, or, if not that, can't be read, as `said`.
    pub(super) fn stopped(&self, pace: &Pace, said: &str) -> Error {
        match pace.refused() {
            Some(said) => self.too_large(said),
            None => self.unread(said),
        }
    }

    /// Takes all cells, as `next` gives them while it reads a file at this pace. `merged` is asked for
    /// merged cells.
    pub(super) fn take_cells<'a, E: std::fmt::Display>(
        &mut self,
        pace: &Pace,
        merged: impl Fn() -> Vec<Merged>,
        mut next: impl FnMut() -> std::result::Result<Option<calamine::Cell<DataRef<'a>>>, E>,
    ) -> std::result::Result<(), End> {
        // A need for which the reader has another way may have been refused before.
        if let Some(said) = pace.refused() {
            return Err(self.too_large(said).into());
        }
        let (mut line, mut row) = (0, Row::default());
        while let Some(cell) = next().map_err(|error| self.stopped(pace, &error.to_string()))? {
            pace.cell();
            let (at, column) = cell.get_position();
            let at = u64::from(at) + 1;
            if at != line {
                self.take(line, &mut row, &merged)?;
                row.clear();
                if at < line {
                    return Err(self.unread("its rows are not in order").into());
                }
                line = at;
                if self.is_past(line) {
                    break;
                }
            }
            self.put(column as usize, cell.get_value(), &mut row)?;
        }
        self.take(line, &mut row, &merged)?;
        self.finish(merged)
    }

    /// Puts the cell of a column into a row, after all cells so far.
    pub(super) fn put(&self, column: usize, cell: &DataRef<'_>, row: &mut Row) -> Result<()> {
        self.put_by(column, row, |text| {
            if !write_text(cell, text) {
                self.error_cell();
            }
            kind(cell)
        })
    }

    /// Puts the cell of a column into a row, by what writes its text and gives its kind.
    pub(super) fn put_by(
        &self,
        column: usize,
        row: &mut Row,
        write: impl FnOnce(&mut String) -> CellKind,
    ) -> Result<()> {
        if column >= MOST_COLUMNS {
            return Err(self.unread("it has more than 16,384 columns"));
        }
        if column < row.len() {
            return Err(self.unread("the cells of a row are not in order"));
        }
        row.put(column, write);
        if row.text_length() > MOST_TEXT {
            let said = format!("a row of it has more than {} MiB of text", MOST_TEXT >> 20);
            return Err(self.too_large(said));
        }
        Ok(())
    }

    /// Counts a cell that holds an error.
    pub(super) fn error_cell(&self) {
        self.hand.error_cells.fetch_add(1, Ordering::Relaxed);
    }

    /// Takes the next row of the worksheet; one of blanks is none. `merged` is asked for more merged cells
    /// if something in the headers looks like some.
    pub(super) fn take(
        &mut self,
        line: u64,
        row: &mut Row,
        merged: impl FnOnce() -> Vec<Merged>,
    ) -> std::result::Result<(), End> {
        if !self.beginning.clip(line, row) {
            return Ok(());
        }
        if self.reading.is_some() {
            return self.add(line, row);
        }
        if self.beginning.wait(line, row) { self.begin(merged) } else { Ok(()) }
    }

    /// Decides where the headers are, and passes them on.
    fn begin(&mut self, merged: impl FnOnce() -> Vec<Merged>) -> std::result::Result<(), End> {
        let (begun, rows) = self.beginning.begin(merged)?;
        let (headers, columns) = (begun.headers.clone(), begun.columns.clone());
        let (block, before) = (Block::new(columns.len()), begun.header_line);
        self.reading = Some(Making { headers, columns, block, before });
        if self.hand.tell.send(Ok(begun)).is_err() {
            return Err(End::Unwanted);
        }
        rows.into_iter().try_for_each(|(line, cells)| self.add(line, &Row::of(&cells)))
    }

    /// Adds a row to the block in the making.
    fn add(&mut self, line: u64, row: &Row) -> std::result::Result<(), End> {
        let Some(making) = &mut self.reading else { return Ok(()) };
        let is_stray = |at: &usize| !making.columns.contains(at) && !row.cell(*at).0.is_empty();
        let stray = (0..row.len()).filter(is_stray);
        stray.for_each(|column| self.hand.left_out.add(column));
        if making.columns.clone().all(|column| row.cell(column).0.is_empty()) {
            return Ok(());
        }
        for column in making.columns.clone() {
            let (cell, kind) = row.cell(column);
            making.block.push_cell_of(cell, kind);
        }
        making.block.push_line(line - making.before - 1);
        let is_full = making.block.rows() == AT_ONCE || making.block.text_length() > ENOUGH_TEXT;
        if is_full { self.hand_over(line) } else { Ok(()) }
    }

    /// Hands over the block, whose last row is on this line.
    fn hand_over(&mut self, line: u64) -> std::result::Result<(), End> {
        let Some(making) = &mut self.reading else { return Ok(()) };
        let block = std::mem::replace(&mut making.block, Block::new(making.headers.len()));
        let lines = line - making.before;
        making.before = line;
        self.hand.send.send(Ok((block, lines))).map_err(|_| End::Unwanted)
    }

    /// Ends the worksheet, once all its rows are taken.
    pub(super) fn finish(
        &mut self,
        merged: impl FnOnce() -> Vec<Merged>,
    ) -> std::result::Result<(), End> {
        if self.reading.is_none() {
            self.begin(merged)?;
        }
        let Some(making) = &self.reading else { return Ok(()) };
        match making.block.rows() {
            0 => Ok(()),
            rows => {
                let last = making.block.line(rows - 1);
                self.hand_over(making.before + 1 + last)
            }
        }
    }
}
