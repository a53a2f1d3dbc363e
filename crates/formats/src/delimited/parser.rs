//! Making blocks of pieces of delimited text.

use gather_keys_core::table::{Before, Block, Headers, Parser};

use super::scan::{Next, Scan};
use crate::{Error, Place};

/// Finds the rows and cells in pieces that begin and end where a row does.
#[derive(Debug, Clone)]
pub struct TextParser {
    headers: Headers,
    delimiter: u8,
    /// For each column whether it will be looked at; empty when all may be.
    wanted: Vec<bool>,
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
        Self { headers, delimiter, wanted: Vec::new() }
    }

    /// The fault of a text that is not UTF-8 from a byte on.
    fn not_text(&self, text: &[u8], at: usize) -> Fault {
        let mut scan = Scan::new(text, self.delimiter);
        let (mut cells, mut row) = (Vec::new(), 0);
        while let Next::Row { bytes, line } = scan.next(&mut cells, &mut Vec::new(), &[]) {
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
        self.wanted = vec![false; self.headers.len()];
        for &column in columns {
            if let Some(wanted) = self.wanted.get_mut(column) {
                *wanted = true;
            }
        }
    }

    fn parse(&self, piece: &mut Vec<u8>, block: &mut Block) -> Result<u64, Fault> {
        let columns = self.headers.len();
        let mut parts = std::mem::take(block).into_parts();
        std::mem::swap(&mut parts.text, piece);
        let mut aside = Vec::new();
        let mut scan = Scan::new(&parts.text, self.delimiter);
        let mut upto = 0;
        loop {
            let row = parts.own.len() as u64;
            match scan.next(&mut parts.cells, &mut aside, &self.wanted) {
                Next::Row { bytes, line } => {
                    upto += columns;
                    if parts.cells.len() != upto {
                        let cells = parts.cells.len() + columns - upto;
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
        let filled = Block::from_parts(columns, parts);
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
