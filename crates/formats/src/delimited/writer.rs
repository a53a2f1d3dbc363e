//! Writing delimited text.

use std::io::Write;

use gather_keys_core::table::{Block, Headers, Sink};

use super::Layout;
use crate::{Error, Result};

/// Writes a table in the form of another: rows that come with their own bytes keep them, and cells
/// that are added get quotes only where they need them.
#[derive(Debug)]
pub struct Writer<W> {
    name: String,
    output: W,
    layout: Layout,
    buffer: Vec<u8>,
}

impl<W: Write> Writer<W> {
    /// A writer to `output`, which is called `name` in messages.
    pub fn new(name: impl Into<String>, output: W, layout: Layout) -> Self {
        Self { name: name.into(), output, layout, buffer: Vec::new() }
    }

    /// Gives the output back, with everything written.
    ///
    /// # Errors
    /// [`Error::Write`] when it can't be flushed.
    pub fn finish(mut self) -> Result<W> {
        let flushed = self.output.flush();
        flushed.map_err(|cause| Error::Write { name: self.name, cause })?;
        Ok(self.output)
    }

    fn write_out(&mut self) -> Result<()> {
        let written = self.output.write_all(&self.buffer);
        self.buffer.clear();
        written.map_err(|cause| Error::Write { name: self.name.clone(), cause })
    }

    fn push_cells<'a>(&mut self, cells: impl Iterator<Item = &'a str>, mut is_first: bool) {
        for cell in cells {
            if !is_first {
                self.buffer.push(self.layout.dialect.delimiter);
            }
            is_first = false;
            push_cell(&mut self.buffer, cell.as_bytes(), self.layout.dialect.delimiter);
        }
    }
}

impl<W: Write> Sink for Writer<W> {
    type Error = Error;

    fn write_headers(&mut self, _: &Headers, added: &[String]) -> Result<()> {
        if self.layout.dialect.byte_order_mark {
            self.buffer.extend_from_slice("\u{feff}".as_bytes());
        }
        self.buffer.extend_from_slice(&self.layout.header_row);
        self.push_cells(added.iter().map(String::as_str), false);
        self.buffer.extend_from_slice(&self.layout.line_end);
        self.write_out()
    }

    fn write_block(&mut self, main: &Block, rows: &[usize], added: &Block) -> Result<()> {
        for (nth, &row) in rows.iter().enumerate() {
            let line_end = if let Some((own, line_end)) = main.row_bytes(row) {
                self.buffer.extend_from_slice(own);
                line_end
            } else {
                self.push_cells((0..main.columns()).map(|column| main.cell(row, column)), true);
                b"\n"
            };
            self.push_cells((0..added.columns()).map(|column| added.cell(nth, column)), false);
            self.buffer.extend_from_slice(line_end);
        }
        self.write_out()
    }
}

/// Appends a cell, in quotes if it holds a quote, a line end or the delimiter.
fn push_cell(buffer: &mut Vec<u8>, cell: &[u8], delimiter: u8) {
    let special = |byte: &u8| matches!(byte, b'"' | b'\r' | b'\n') || *byte == delimiter;
    if !cell.iter().any(special) {
        buffer.extend_from_slice(cell);
        return;
    }
    buffer.push(b'"');
    for &byte in cell {
        if byte == b'"' {
            buffer.push(b'"');
        }
        buffer.push(byte);
    }
    buffer.push(b'"');
}
