//! Making blocks of pieces of a worksheet.

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use gather_keys_core::table::{Block, CellKind, Headers, KeptColumns, ascending};
use gather_keys_core::value::date::Epoch;
use gather_keys_core::value::number::push_spreadsheet_decimal;

use super::book::NumberFormat;
use super::cells::{Cell, CellFault, Rows, Value, number};
use super::cut::SheetChunk;
use super::markup::{push_text, replace_escapes};
use super::number_format::Shows;
use super::shared_texts::{SharedTexts, push_item};
use crate::Error;
use crate::workbook::beginning::MOST_TEXT;
use crate::workbook::formulas::Formulas;
use crate::workbook::left_out::LeftOut;
use crate::workbook::value::{iso, push_moment};

/// How many bytes of text the cells of a piece may have. Those of a sound one have a small part of it, whatever the
/// length of the texts that they share.
const MOST_IN_PIECE: usize = MOST_TEXT;

/// What cells of a worksheet mean.
#[derive(Debug, Clone)]
pub(super) struct Meanings {
    pub(super) texts: Arc<SharedTexts>,
    pub(super) formats: Arc<[NumberFormat]>,
    pub(super) epoch: Epoch,
}

/// What was found in cells that does not go into blocks.
#[derive(Debug, Default)]
pub(super) struct CellCounts {
    /// How many cells hold an error.
    pub(super) errors: Arc<AtomicU64>,
    /// How many formulas of each column have no stored value.
    pub(super) uncalculated: Arc<[AtomicU64]>,
    /// Cells in columns without a header.
    pub(super) left_out: Arc<LeftOut>,
    /// The columns that are calculated.
    pub(super) formulas: Arc<Formulas>,
}

/// Makes blocks of pieces of a worksheet.
#[derive(Debug, Clone)]
pub(crate) struct SheetParser {
    pub(super) headers: Headers,
    pub(super) meanings: Meanings,
    /// The line of the headers: rows up to there are none of the table.
    pub(super) header_line: u64,
    /// The lines that rows of the table are on.
    pub(super) lines: Range<u64>,
    /// The columns of the worksheet that the table has.
    pub(super) columns: Range<usize>,
    /// The columns of the worksheet that were asked for.
    asked: Range<usize>,
    pub(super) counts: Arc<CellCounts>,
    /// For each column of the worksheet the one of the table that it is; none where it is not read.
    own: Arc<[Option<usize>]>,
    /// The columns that blocks hold, and the place among these of each column of the worksheet.
    kept: KeptColumns,
    places: Vec<Option<usize>>,
}

/// A fault in a chunk of a worksheet.
#[derive(Debug)]
pub struct SheetFault(CellFault);

impl Meanings {
    /// Appends what a cell means, and returns its kind; `None` for an error.
    pub(super) fn push(
        &self,
        cell: &Cell<'_>,
        text: &mut String,
    ) -> Result<Option<CellKind>, CellFault> {
        Ok(Some(match cell.value {
            Value::Blank => CellKind::Untyped,
            Value::Number(written) => self.push_number(cell.style, written, text)?,
            Value::Shared(written) => {
                text.push_str(self.shared(written)?);
                CellKind::Text
            }
            Value::Text(written) => {
                let from = text.len();
                push_text(written, text)?;
                replace_escapes(text, from);
                CellKind::Text
            }
            Value::Inline(mut content) => {
                push_item(&mut content, text)?;
                CellKind::Text
            }
            Value::Truth(written) => {
                let is_true = match written {
                    b"1" => true,
                    b"0" => false,
                    word if word.eq_ignore_ascii_case(b"true") => true,
                    word if word.eq_ignore_ascii_case(b"false") => false,
                    _ => return Err(CellFault::NotTruth),
                };
                text.push_str(if is_true { "true" } else { "false" });
                CellKind::Truth
            }
            Value::Error => return Ok(None),
            Value::Date(written) => {
                let written = std::str::from_utf8(written).map_err(|_| CellFault::Malformed)?;
                text.push_str(iso(written));
                CellKind::Date
            }
        }))
    }

    /// A text that cells share, by its number.
    fn shared(&self, written: &[u8]) -> Result<&str, CellFault> {
        let nth = number(written).ok_or(CellFault::NoSharedText)?;
        self.texts.get(nth as usize).ok_or(CellFault::NoSharedText)
    }

    fn push_number(
        &self,
        style: usize,
        written: &[u8],
        text: &mut String,
    ) -> Result<CellKind, CellFault> {
        let shows = self.formats.get(style).map_or(Shows::Number, |format| format.shows);
        if shows == Shows::Number && push_spreadsheet_decimal(written, text) {
            return Ok(CellKind::Number);
        }
        let days = std::str::from_utf8(written).ok().and_then(|days| days.parse::<f64>().ok());
        match days.filter(|days| days.is_finite() && shows != Shows::Number) {
            Some(days) => Ok(push_moment(days, shows == Shows::Span, self.epoch, text)),
            // It is a text, whatever the cell says.
            None => {
                push_text(written, text)?;
                Ok(CellKind::Text)
            }
        }
    }
}

impl SheetParser {
    pub(super) fn new(
        (headers, header_line): (Headers, u64),
        (lines, columns, asked): (Range<u64>, Range<usize>, Range<usize>),
        own: Arc<[Option<usize>]>,
        (meanings, counts): (Meanings, CellCounts),
    ) -> Self {
        let (kept, places) = (KeptColumns::all(headers.len()), own.to_vec());
        let counts = Arc::new(counts);
        Self { headers, meanings, header_line, lines, columns, asked, counts, own, kept, places }
    }

    pub(crate) fn want(&mut self, columns: &[usize]) {
        let mut columns = ascending(columns);
        columns.retain(|&column| column < self.headers.len());
        let place = |column: &Option<usize>| columns.binary_search(&(*column)?).ok();
        self.places = self.own.iter().map(place).collect();
        self.kept = KeptColumns::only(&columns, self.headers.len());
    }

    /// Replaces what a block holds with the rows of a piece; returns how many lines they take.
    ///
    /// # Errors
    /// When a cell can't be read.
    pub(crate) fn parse(&self, piece: &SheetChunk, block: &mut Block) -> Result<u64, SheetFault> {
        block.reset_to(self.kept.clone());
        let before = piece.before.max(self.header_line);
        let last = self.rows(piece, before, block).map_err(SheetFault)?;
        Ok(piece.last.unwrap_or(last).max(before) - before)
    }

    /// Adds the rows of a piece, and returns the line of the last row.
    fn rows(&self, piece: &SheetChunk, before: u64, block: &mut Block) -> Result<u64, CellFault> {
        let mut rows = Rows::new(&piece.text, piece.before);
        let (mut last, mut errors, mut scratch) = (before, 0, String::new());
        let (kept, mut calculated) = (self.places.iter().flatten().count(), Vec::new());
        while let Some(line) = rows.next_row()? {
            if piece.last.is_some_and(|last| line > last) {
                return Err(CellFault::RowOrder);
            }
            if line <= self.header_line || !self.lines.contains(&line) {
                continue;
            }
            let begin = block.text_length();
            let (mut filled, mut is_blank) = (0, true);
            while let Some(cell) = rows.next_cell()? {
                let column = cell.column.checked_sub(self.columns.start);
                let place = column.and_then(|column| Some((column, *self.places.get(column)?)));
                let Some((column, place)) = place else {
                    self.leave_out(&cell, &mut scratch)?;
                    continue;
                };
                let own = self.own[column];
                if let Some(formula) = cell.formula.filter(|formula| !formula.is_empty())
                    && let Some(own) = own.filter(|own| !calculated.contains(own))
                {
                    // Those of a column are alike; one of each piece shows what they use.
                    calculated.push(own);
                    self.counts.formulas.add(own, formula, &self.columns, &self.own);
                }
                if cell.is_uncalculated
                    && let Some(count) = own.and_then(|own| self.counts.uncalculated.get(own))
                {
                    count.fetch_add(1, Ordering::Relaxed);
                }
                if matches!(cell.value, Value::Blank) {
                    continue;
                }
                // What may turn out blank is looked at first: a row of blanks is no row.
                let (text, kind) = match cell.value {
                    Value::Number(_) | Value::Truth(_) => ("0", CellKind::Untyped),
                    Value::Shared(number) => (self.meanings.shared(number)?, CellKind::Text),
                    _ => {
                        scratch.clear();
                        let kind = self.meanings.push(&cell, &mut scratch)?;
                        errors += u64::from(kind.is_none());
                        (&scratch[..], kind.unwrap_or_default())
                    }
                };
                if text.is_empty() {
                    continue;
                }
                is_blank = false;
                let Some(place) = place else { continue };
                while filled < place {
                    block.push_cell("");
                    filled += 1;
                }
                if kind == CellKind::Untyped {
                    let mut fault = None;
                    block.push_cell_by(|text| match self.meanings.push(&cell, text) {
                        Ok(kind) => kind.unwrap_or_default(),
                        Err(found) => {
                            fault = Some(found);
                            CellKind::Untyped
                        }
                    });
                    fault.map_or(Ok(()), Err)?;
                } else {
                    block.push_cell_of(text, kind);
                }
                filled += 1;
                if block.text_length() - begin > MOST_TEXT {
                    return Err(CellFault::LongRow);
                }
                if block.text_length() > MOST_IN_PIECE {
                    return Err(CellFault::Swollen);
                }
            }
            if is_blank {
                continue;
            }
            while filled < kept {
                block.push_cell("");
                filled += 1;
            }
            block.push_line(line - before - 1);
            last = line;
        }
        self.counts.errors.fetch_add(errors, Ordering::Relaxed);
        Ok(last)
    }

    /// Counts a cell in a column without a header, unless it is blank or outside what was asked for.
    fn leave_out(&self, cell: &Cell<'_>, scratch: &mut String) -> Result<(), CellFault> {
        scratch.clear();
        self.meanings.push(cell, scratch)?;
        if !scratch.is_empty() && self.asked.contains(&cell.column) {
            self.counts.left_out.add(cell.column);
        }
        Ok(())
    }

    /// The name of the workbook in messages.
    pub(crate) fn name(&self) -> &str {
        self.headers.table()
    }
}

impl SheetFault {
    /// Whether a chunk has more text than any sound one.
    pub(crate) fn is_swollen(&self) -> bool {
        self.0 == CellFault::Swollen
    }

    /// The fault in the workbook called `name`.
    pub(crate) fn of(self, name: &str) -> Error {
        self.0.reported(name)
    }
}

impl CellFault {
    /// The fault in the workbook called `name`.
    pub(super) fn reported(self, name: &str) -> Error {
        let save = "open it and save it again as XLSX";
        let (said, fix) = match self {
            Self::Malformed => ("its content is damaged".to_owned(), save),
            Self::RowOrder => ("its rows are not in order".to_owned(), save),
            Self::CellOrder => ("the cells of a row are not in order".to_owned(), save),
            Self::TooManyRows => ("it has more than 1,048,576 rows".to_owned(), save),
            Self::TooManyColumns => ("it has more than 16,384 columns".to_owned(), save),
            Self::UnknownType => ("a cell is of a type that there is not".to_owned(), save),
            Self::NoSharedText => ("a cell refers to a text that is not there".to_owned(), save),
            Self::NotTruth => ("a cell is neither true nor false, but says it is".to_owned(), save),
            Self::Swollen => ("its cells share texts that are too long".to_owned(), save),
            Self::LongRow => (
                format!("a row of it has more than {} MiB of text", MOST_TEXT >> 20),
                "save the worksheet as CSV",
            ),
        };
        Error::Unread { name: name.to_owned(), said, fix }
    }
}
