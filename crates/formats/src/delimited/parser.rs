//! Making blocks of pieces of delimited text.

use std::cell::Cell;

use gather_keys_core::table::{
    Before, Block, Headers, KeptColumns, Parser, Parts, RawRowForm, RowBytes, Span, ascending,
};
use gather_keys_core::value::number::from_decimal_comma;

use super::byte_classifier::{ByteClassifier, WithClassifier, with_widest};
use super::row_cells::row_cells;
use super::scan::{Next, Scan, ScanSpace, Wanted};
use super::{Dialect, ReadOptions};
use crate::{Error, Place};

/// Finds the rows and cells in pieces that begin and end where a row does.
#[derive(Debug, Clone)]
pub struct TextParser {
    headers: Headers,
    delimiter: u8,
    raw_row_form: Option<RawRowForm>,
    wanted: Wanted,
    /// The columns that blocks hold.
    kept: KeptColumns,
    /// Whether a row of another number of cells is made one of as many as there are headers.
    pads: bool,
    /// Whether numbers are written with a decimal comma.
    decimal_comma: bool,
}

/// A fault in a chunk. Rows and lines count from 0 within it.
#[derive(Debug)]
pub struct Fault {
    row: u64,
    line: u64,
    kind: FaultKind,
}

#[derive(Debug)]
enum FaultKind {
    Ragged {
        cells: usize,
    },
    /// The column, unless the row has more cells than there are headers.
    OpenQuote {
        column: Option<usize>,
    },
    NotText {
        column: Option<usize>,
    },
}

impl TextParser {
    pub(super) fn new(headers: Headers, dialect: Dialect, options: &ReadOptions) -> Self {
        let kept = KeptColumns::all(headers.len());
        let ReadOptions { pads, decimal_comma, .. } = *options;
        // What cells of a raw row are is not what is written there.
        let raw_row_form = dialect.raw_row_form().filter(|_| !decimal_comma);
        let delimiter = dialect.delimiter;
        Self { headers, delimiter, raw_row_form, wanted: Wanted::all(), kept, pads, decimal_comma }
    }

    /// Makes a row have as many cells as there are headers, by adding blank cells or leaving out blank
    /// ones at the end; `before` rows precede it. Returns the span of its bytes, which are after the
    /// text; `None` when a cell that is not blank would be left out.
    fn padded(
        &self,
        text: &[u8],
        (bytes, rows): (RowBytes, usize),
        spans: &mut Vec<Span>,
        aside: &mut Vec<u8>,
    ) -> Option<RowBytes> {
        // The cells of this row were added if it has as many as are wanted.
        spans.truncate(rows * self.kept_cells());
        let row = &text[bytes.start as usize..bytes.content_end as usize];
        let mut cells: Vec<&[u8]> = row_cells(row, self.delimiter).collect();
        let columns = self.headers.len();
        if cells.len() > columns && cells[columns..].iter().any(|cell| !cell.is_empty()) {
            return None;
        }
        cells.resize(columns, b"");
        let start = (text.len() + aside.len()) as u32;
        aside.extend_from_slice(&cells.join(&self.delimiter));
        let content_end = (text.len() + aside.len()) as u32;
        aside.extend_from_slice(&text[bytes.content_end as usize..bytes.end as usize]);
        let end = (text.len() + aside.len()) as u32;
        // The row as it is now is scanned again, for its cells.
        let now = &aside[start as usize - text.len()..content_end as usize - text.len()];
        let now = now.to_vec();
        let (mut found, mut more) = (Vec::new(), Vec::new());
        Scan::new(&now, self.delimiter).next(&self.wanted, &mut found, &mut more);
        let base = (text.len() + aside.len()) as u32;
        for span in found {
            let in_row = (span.end as usize) <= now.len() && (span.start as usize) <= now.len();
            let by = if in_row { start } else { base - now.len() as u32 };
            spans.push(Span { start: span.start + by, end: span.end + by });
        }
        aside.extend_from_slice(&more);
        Some(RowBytes { start, content_end, end })
    }

    /// How many cells of a row are held.
    fn kept_cells(&self) -> usize {
        self.wanted.count().unwrap_or(self.headers.len())
    }

    /// The fault of a text that is not UTF-8 from a byte on.
    fn not_text(&self, text: &[u8], at: usize) -> Fault {
        let mut scan = Scan::new(text, self.delimiter);
        let (all, mut cells, mut row) = (Wanted::all(), Vec::new(), 0);
        while let Next::Row { bytes, line, .. } = scan.next(&all, &mut cells, &mut Vec::new()) {
            if at < bytes.end as usize {
                let column = cells.iter().position(|cell| at < cell.end as usize);
                return Fault { row, line, kind: FaultKind::NotText { column } };
            }
            row += 1;
            cells.clear();
        }
        Fault { row, line: scan.lines(), kind: FaultKind::NotText { column: None } }
    }
}

impl Parser for TextParser {
    type Chunk = Vec<u8>;
    type Error = Error;
    type Fault = Fault;

    fn want(&mut self, columns: &[usize]) {
        let mut columns = ascending(columns);
        columns.retain(|&column| column < self.headers.len());
        self.kept = KeptColumns::only(&columns, self.headers.len());
        let are_all = columns.len() == self.headers.len();
        self.wanted = if are_all { Wanted::all() } else { Wanted::only(columns) };
    }

    fn parse(&self, piece: &mut Vec<u8>, block: &mut Block) -> Result<u64, Fault> {
        with_widest(Parsing { parser: self, piece, block })
    }

    fn error(&self, fault: Fault, before: Before) -> Error {
        fault.within(&self.headers, before)
    }
}

/// A piece of which a block is made.
struct Parsing<'a> {
    parser: &'a TextParser,
    piece: &'a mut Vec<u8>,
    block: &'a mut Block,
}

thread_local! {
    /// The buffers of a thread, kept from chunk to chunk, since creating them takes time.
    static SPACE: Cell<ScanSpace> = Cell::default();
}

impl WithClassifier for Parsing<'_> {
    type Output = Result<u64, Fault>;

    #[inline(always)]
    fn run(self, classifier: impl ByteClassifier) -> Result<u64, Fault> {
        let Self { parser, piece, block } = self;
        let columns = parser.headers.len();
        let mut parts = std::mem::take(block).into_parts();
        std::mem::swap(&mut parts.text, piece);
        parts.raw_row_form = parser.raw_row_form;
        let mut aside = Vec::new();
        let mut scan = Scan::by(classifier, &parts.text, parser.delimiter, SPACE.take());
        loop {
            let line = scan.lines();
            let rows = scan.plain_rows(columns, |own, bounds| {
                parts.own.push(own);
                parser.wanted.push(bounds, &mut parts.cells);
            });
            parts.lines.push_run(line, rows);
            let row = parts.own.len() as u64;
            match scan.next(&parser.wanted, &mut parts.cells, &mut aside) {
                Next::Row { bytes, line, cells } => {
                    if cells != columns {
                        let fault = Fault { row, line, kind: FaultKind::Ragged { cells } };
                        if !parser.pads {
                            return Err(fault);
                        }
                        let own = parser.padded(
                            &parts.text,
                            (bytes, row as usize),
                            &mut parts.cells,
                            &mut aside,
                        );
                        parts.own.push(own.ok_or(fault)?);
                        parts.lines.push(line);
                        continue;
                    }
                    parts.own.push(bytes);
                    parts.lines.push(line);
                }
                Next::OpenQuote { cells, row_line, line } => {
                    let column = (cells < columns).then_some(cells);
                    let line = if column.is_some() { line } else { row_line };
                    return Err(Fault { row, line, kind: FaultKind::OpenQuote { column } });
                }
                Next::End => break,
            }
        }
        let lines = scan.lines();
        SPACE.set(scan.into_space());
        parts.text.extend_from_slice(&aside);
        if parser.decimal_comma {
            use_decimal_points(&mut parts);
        }
        let filled = Block::from_parts(parser.kept.clone(), parts);
        *block = filled.map_err(|bad| parser.not_text(&bad.text, bad.at))?;
        Ok(lines)
    }
}

/// Gives numbers with a decimal comma a text with a decimal point, after the text of the file.
fn use_decimal_points(parts: &mut Parts) {
    for cell in &mut parts.cells {
        let written = parts.text.get(cell.start as usize..cell.end as usize);
        let number = written.and_then(|written| std::str::from_utf8(written).ok());
        if let Some(number) = number.and_then(from_decimal_comma) {
            cell.start = parts.text.len() as u32;
            parts.text.extend_from_slice(number.as_bytes());
            cell.end = parts.text.len() as u32;
        }
    }
}

impl Fault {
    /// The error in a table of whose headers nothing is known.
    pub(crate) fn of(self, table: &str, before: Before) -> Error {
        self.within(&Headers::new(table, [""; 0]), before)
    }

    fn within(self, headers: &Headers, before: Before) -> Error {
        let fault = self;
        let name = headers.table().to_owned();
        let header = |column: Option<usize>| column.map(|column| headers.address(column));
        let place = |column| Place {
            row: before.rows + fault.row + 1,
            line: before.lines + fault.line + 1,
            header: header(column),
        };
        match fault.kind {
            FaultKind::Ragged { cells } => {
                Error::Ragged { name, place: place(None), cells, headers: headers.len() }
            }
            FaultKind::OpenQuote { column } => Error::OpenQuote { name, place: place(column) },
            FaultKind::NotText { column } => Error::NotText { name, place: place(column) },
        }
    }
}
