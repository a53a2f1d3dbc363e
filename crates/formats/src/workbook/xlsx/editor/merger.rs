//! Merging cells into the rows of a worksheet that is there.
//!
//! In go pieces of the worksheet's text and the cells to be written, both in order, out comes the text with these cells
//! in their places. Whatever is no such cell stays as it is, byte for byte.

use std::collections::HashMap;
use std::ops::Range;

use memchr::memmem;

use super::super::cells::{CellFault, Rows, number};
use super::super::cut::SheetChunk;
use super::super::markup::{Malformed, Markup, TagEnd};
use super::cell_edits::{CellEdit, Role};
use super::cell_writer::CellWriter;
use super::edit_queue::{EditQueue, NewCell};
use super::formula::moved;
use super::small_part::escaped;
use super::style_sheet::StyleSheet;
use super::there::{Cell, Cells, Formula, Row, holds_something};
use crate::workbook::size::letters;

/// Why cells can't be written.
#[derive(Debug)]
pub(super) enum MergeFault {
    /// The worksheet is damaged.
    Cell(CellFault),
    /// A cell holds a value where an added column or row would be.
    InTheWay(String),
}

impl<F: Into<CellFault>> From<F> for MergeFault {
    fn from(fault: F) -> Self {
        Self::Cell(fault.into())
    }
}

/// Merges cells into a worksheet.
pub(super) struct Merger {
    cells: CellWriter,
    /// The columns of the table in the worksheet.
    columns: Range<usize>,
    /// The columns of the worksheet in which formulas may be replaced.
    replaced_formulas: Vec<usize>,
    /// Whether rows are appended, which look like the last one.
    appends: bool,
    /// How many cells keep their formula, and the first of them.
    pub(super) left: (u64, Option<String>),
    /// Cells whose formula was replaced: the column and the line.
    pub(super) without_formula: Vec<(usize, u64)>,
    /// Formulas that other cells share, whose own cell was replaced, by the number that these know them by.
    shared: HashMap<u64, SharedFormula>,
    /// Whether a cell of the worksheet was seen to hold a formula.
    pub(super) has_formulas: bool,
    /// The last row of the table, as text.
    last_row: Vec<u8>,
}

/// A formula that cells share, in the cell that it was in.
#[derive(Debug)]
struct SharedFormula {
    column: usize,
    line: u64,
    text: String,
}

impl Merger {
    /// A merger into a table in these columns of a worksheet; `appends` if rows follow the last one of the table.
    pub(super) fn new(
        cells: CellWriter,
        columns: Range<usize>,
        replaced_formulas: Vec<usize>,
        appends: bool,
    ) -> Self {
        Self {
            cells,
            columns,
            replaced_formulas,
            appends,
            left: (0, None),
            without_formula: Vec::new(),
            shared: HashMap::new(),
            has_formulas: false,
            last_row: Vec::new(),
        }
    }

    /// The writer of its cells.
    pub(super) fn cells(&mut self) -> &mut CellWriter {
        &mut self.cells
    }

    /// The styles of the workbook, with those that were added.
    pub(super) fn into_styles(self) -> StyleSheet {
        self.cells.sheet
    }

    /// Appends the text of a piece to `out`, with the cells of its lines in it.
    pub(super) fn merge(
        &mut self,
        piece: &SheetChunk,
        queue: &mut EditQueue,
        out: &mut Vec<u8>,
    ) -> Result<(), MergeFault> {
        let (text, upto) = (&piece.text[..], piece.last.unwrap_or(u64::MAX));
        self.has_formulas |= memmem::find(text, b"<f").is_some();
        let (mut markup, mut line, mut at) = (Markup::new(text), piece.before, 0);
        while let Some(tag) = markup.tag()? {
            if tag.is_end || tag.name != b"row" {
                return Err(CellFault::Malformed.into());
            }
            let (mut spans, mut own_line) = (None, None);
            let end = loop {
                match markup.attribute()? {
                    Ok((b"r", value)) => own_line = number(value),
                    Ok((b"spans", value)) => spans = Some(value),
                    Ok(_) => {}
                    Err(end) => break end,
                }
            };
            line = own_line.unwrap_or(line + 1);
            let content = markup.at() - tag.begin;
            if end == TagEnd::Open {
                self.pass_row(text, &mut markup)?;
            }
            while queue.next_line(upto).is_some_and(|next| next < line) {
                out.extend_from_slice(&text[at..tag.begin]);
                at = tag.begin;
                self.new_row(queue, out);
            }
            let is_edited = queue.next_line(upto) == Some(line);
            if is_edited || !self.shared.is_empty() {
                out.extend_from_slice(&text[at..tag.begin]);
                at = markup.at();
                let row = Row { line, text: &text[tag.begin..at], content, end, spans };
                if is_edited {
                    let last = queue.cells().last().map(|(edit, _)| edit.column as usize);
                    self.row(&row, queue.cells(), last, out)?;
                    queue.pass();
                } else {
                    self.row(&row, std::iter::empty(), None, out)?;
                }
            }
        }
        out.extend_from_slice(&text[at..]);
        while queue.next_line(upto).is_some() {
            self.new_row(queue, out);
        }
        Ok(())
    }

    /// Moves past the end of a row whose start tag was passed.
    fn pass_row(&self, text: &[u8], markup: &mut Markup<'_>) -> Result<(), CellFault> {
        if !self.cells.prefix.is_empty() {
            return Ok(markup.skip_content(b"row")?);
        }
        let rest = &text[markup.at()..];
        let end = memmem::find(rest, b"</row").ok_or(Malformed)?;
        markup.move_by(end);
        markup.tag()?;
        markup.end_of_tag()?;
        Ok(())
    }

    /// Writes a row that is not there yet.
    fn new_row(&mut self, queue: &mut EditQueue, out: &mut Vec<u8>) {
        let line = queue.next_line(u64::MAX).unwrap_or_default();
        let (prefix, like) = (self.cells.prefix.clone(), self.styles_of_last_row());
        out.extend_from_slice(format!("<{prefix}row r=\"{line}\">").as_bytes());
        for cell in queue.cells() {
            let column = cell.0.column as usize;
            let base = like.iter().find(|(one, _)| *one == column).map_or(0, |(_, style)| *style);
            self.cells.new_cell(cell, line, base, out);
        }
        out.extend_from_slice(format!("</{prefix}row>").as_bytes());
        queue.pass();
    }

    /// The style of each cell of the last row of the table.
    fn styles_of_last_row(&self) -> Vec<(usize, usize)> {
        let mut rows = Rows::new(&self.last_row, 0);
        let mut styles = Vec::new();
        if let Ok(Some(_)) = rows.next_row() {
            while let Ok(Some(cell)) = rows.next_cell() {
                styles.push((cell.column, cell.style));
            }
        }
        styles
    }

    /// Writes a row that is there, with the cells that are for it, up to the `last` column.
    fn row<'e>(
        &mut self,
        row: &Row<'_>,
        cells: impl Iterator<Item = NewCell<'e>>,
        last: Option<usize>,
        out: &mut Vec<u8>,
    ) -> Result<(), MergeFault> {
        let mut cells = cells.peekable();
        let first = cells.peek().map(|(edit, _)| *edit);
        let is_appended = first.is_some_and(|edit| edit.role == Role::Appended);
        let like = if is_appended { self.styles_of_last_row() } else { Vec::new() };
        if self.appends && !is_appended && first.is_some_and(|edit| edit.role != Role::Header) {
            self.last_row.clear();
            self.last_row.extend_from_slice(row.text);
        }
        if first.is_none() && self.shared.is_empty() {
            out.extend_from_slice(row.text);
            return Ok(());
        }
        let mut at = row.write_start(last, out);
        // Mostly the cells in between need not be looked at.
        let is_sparse = self.shared.is_empty()
            && first.is_some_and(|one| !matches!(one.role, Role::Header | Role::Appended));
        let mut there = Cells { row, markup: Markup::new(row.text), next_column: 0 };
        there.markup.move_by(row.content);
        let (mut last_end, mut neighbour) = (row.content, 0);
        loop {
            if is_sparse {
                let Some((edit, _)) = cells.peek() else { break };
                let column = edit.column as usize;
                let place = self.cells.letters_of(column);
                let next = row.cell_at(place).or_else(|| row.last_cell_before(column));
                there.move_on_to(next.unwrap_or_default());
            }
            let Some(cell) = there.next()? else { break };
            while let Some(new) = cells.next_if(|(edit, _)| (edit.column as usize) < cell.column) {
                out.extend_from_slice(&row.text[at..cell.range.start]);
                at = cell.range.start;
                self.cells.new_cell(new, row.line, base_of(new.0, neighbour, &like), out);
            }
            last_end = cell.range.end;
            if is_appended && self.columns.contains(&cell.column) && holds_something(&cell) {
                return Err(MergeFault::InTheWay(cell_name(cell.column, row.line)));
            }
            let new = cells.next_if(|(edit, _)| edit.column as usize == cell.column);
            let replaced = match new {
                Some(new) => self.replaced(&cell, new, row.line, neighbour)?,
                None => self.unshared(&cell, row.line)?,
            };
            neighbour = if new.is_some() { neighbour } else { cell.style };
            if let Some(replaced) = replaced {
                out.extend_from_slice(&row.text[at..cell.range.start]);
                out.extend_from_slice(&replaced);
                at = cell.range.end;
            }
        }
        out.extend_from_slice(&row.text[at..last_end.max(at)]);
        at = last_end.max(at);
        for new in cells {
            self.cells.new_cell(new, row.line, base_of(new.0, neighbour, &like), out);
        }
        row.write_end(at, self.cells.prefix.as_bytes(), out);
        Ok(())
    }

    /// The new text of a cell that is there; `None` where it stays as it is.
    fn replaced(
        &mut self,
        cell: &Cell<'_>,
        (edit, content): NewCell<'_>,
        line: u64,
        neighbour: usize,
    ) -> Result<Option<Vec<u8>>, MergeFault> {
        let formula = Formula::of(cell.content)?;
        let may_replace = matches!(edit.role, Role::Updated | Role::Refreshed);
        let holds_something = holds_something(cell);
        if !may_replace && holds_something {
            return Err(MergeFault::InTheWay(cell_name(cell.column, line)));
        }
        if content.is_empty() && edit.ground.is_none() && !holds_something {
            return Ok(None);
        }
        // One that fills several cells can't be replaced in one of them.
        let may_go = self.replaced_formulas.contains(&cell.column);
        let stays = |formula: &Formula| !may_go || formula.is_of_range;
        if formula.as_ref().is_some_and(stays) {
            self.left.0 += 1;
            self.left.1.get_or_insert_with(|| cell_name(cell.column, line));
            return self.unshared(cell, line);
        }
        if let Some(formula) = formula {
            self.without_formula.push((cell.column, line));
            if let (Some(number), Some(text)) = (formula.shared, formula.text) {
                self.shared.insert(number, SharedFormula { column: cell.column, line, text });
            }
        }
        let base =
            if edit.role == Role::Header && cell.style == 0 { neighbour } else { cell.style };
        let mut out = Vec::new();
        self.cells.instead((edit, content), line, base, &mut out);
        Ok(Some(out))
    }

    /// The text of a cell that shares its formula with one that was replaced, with that formula as its own; `None` for
    /// any other cell.
    fn unshared(&self, cell: &Cell<'_>, line: u64) -> Result<Option<Vec<u8>>, MergeFault> {
        if self.shared.is_empty() {
            return Ok(None);
        }
        let Some(formula) = Formula::of(cell.content)? else { return Ok(None) };
        let number = formula.shared.filter(|_| formula.text.is_none());
        let Some(shared) = number.and_then(|number| self.shared.get(&number)) else {
            return Ok(None);
        };
        let columns = cell.column.cast_signed() - shared.column.cast_signed();
        let by = (columns as i64, line.cast_signed() - shared.line.cast_signed());
        let (text, prefix) = (escaped(&moved(&shared.text, by.0, by.1)), &self.cells.prefix);
        let mut out = cell.start.to_vec();
        out.push(b'>');
        out.extend_from_slice(&cell.content[..formula.range.start]);
        out.extend_from_slice(format!("<{prefix}f>{text}</{prefix}f>").as_bytes());
        out.extend_from_slice(&cell.content[formula.range.end..]);
        out.extend_from_slice(format!("</{prefix}c>").as_bytes());
        Ok(Some(out))
    }
}

/// The style that a new cell is to look like: that of its neighbour, or of the cell above it.
fn base_of(edit: CellEdit, neighbour: usize, like: &[(usize, usize)]) -> usize {
    let above = || like.iter().find(|(column, _)| *column == edit.column as usize);
    match edit.role {
        Role::Header => neighbour,
        Role::Appended => above().map_or(0, |(_, style)| *style),
        Role::Added | Role::Refreshed | Role::Updated => 0,
    }
}

/// The name of a cell: `B7`.
pub(super) fn cell_name(column: usize, line: u64) -> String {
    format!("{}{line}", letters(column))
}

#[cfg(test)]
mod tests;
