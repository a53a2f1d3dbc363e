//! Making blocks of pieces of delimited text.

use gather_keys_core::table::{Before, Block, Headers, KeptColumns, Parser};

use super::scan::{Next, Scan, Wanted};
use crate::{Error, Place};

/// Finds the rows and cells in pieces that begin and end where a row does.
#[derive(Debug, Clone)]
pub struct TextParser {
    headers: Headers,
    delimiter: u8,
    wanted: Wanted,
    /// The columns that blocks hold.
    kept: KeptColumns,
}

/// What is wrong with a piece. Rows count from 0 within it, and lines too.
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
    pub(super) fn new(headers: Headers, delimiter: u8) -> Self {
        let kept = KeptColumns::all(headers.len());
        Self { headers, delimiter, wanted: Wanted::all(), kept }
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
    type Piece = Vec<u8>;
    type Error = Error;
    type Fault = Fault;

    fn want(&mut self, columns: &[usize]) {
        let mut columns = columns.to_vec();
        columns.sort_unstable();
        columns.dedup();
        columns.retain(|&column| column < self.headers.len());
        self.kept = KeptColumns::only(&columns, self.headers.len());
        self.wanted = Wanted::only(columns);
    }

    fn parse(&self, piece: &mut Vec<u8>, block: &mut Block) -> Result<u64, Fault> {
        let columns = self.headers.len();
        let mut parts = std::mem::take(block).into_parts();
        std::mem::swap(&mut parts.text, piece);
        let mut aside = Vec::new();
        let mut scan = Scan::new(&parts.text, self.delimiter);
        loop {
            let row = parts.own.len() as u64;
            match scan.next(&self.wanted, &mut parts.cells, &mut aside) {
                Next::Row { bytes, line, cells } => {
                    if cells != columns {
                        return Err(Fault { row, line, kind: FaultKind::Ragged { cells } });
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
        parts.text.extend_from_slice(&aside);
        let filled = Block::from_parts(self.kept.clone(), parts);
        *block = filled.map_err(|bad| self.not_text(&bad.text, bad.at))?;
        Ok(lines)
    }

    fn error(&self, fault: Fault, before: Before) -> Error {
        let name = self.headers.table().to_owned();
        let header = |column: Option<usize>| column.map(|column| self.headers.address(column));
        let place = |column| Place {
            row: before.rows + fault.row + 1,
            line: before.lines + fault.line + 1,
            header: header(column),
        };
        match fault.kind {
            FaultKind::Ragged { cells } => {
                Error::Ragged { name, place: place(None), cells, headers: self.headers.len() }
            }
            FaultKind::OpenQuote { column } => Error::OpenQuote { name, place: place(column) },
            FaultKind::NotText { column } => Error::NotText { name, place: place(column) },
        }
    }
}
