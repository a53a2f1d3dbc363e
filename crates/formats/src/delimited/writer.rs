//! Writing delimited text.

use std::io::Write;

use gather_keys_core::table::{Block, Headers, Renderer, Sink};

use super::Layout;
use crate::{Error, Result};

/// Writes a table in the form of another: rows that come with their own bytes keep them, and cells
/// that are added get quotes only where they need them.
#[derive(Debug)]
pub struct Writer<W> {
    name: String,
    output: W,
    layout: Layout,
}

impl<W: Write> Writer<W> {
    /// A writer to `output`, which is called `name` in messages.
    pub fn new(name: impl Into<String>, output: W, layout: Layout) -> Self {
        Self { name: name.into(), output, layout }
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

    fn write_out(&mut self, bytes: &[u8]) -> Result<()> {
        let written = self.output.write_all(bytes);
        written.map_err(|cause| Error::Write { name: self.name.clone(), cause })
    }
}

impl<W: Write> Sink for Writer<W> {
    type Error = Error;
    type Renderer = TextRenderer;

    fn write_headers(&mut self, _: &Headers, added: &[String]) -> Result<()> {
        let mut bytes = Vec::new();
        if self.layout.dialect.byte_order_mark {
            bytes.extend_from_slice("\u{feff}".as_bytes());
        }
        bytes.extend_from_slice(&self.layout.header_row);
        self.renderer().push_cells(added.iter().map(String::as_str), false, &mut bytes);
        bytes.extend_from_slice(&self.layout.line_end);
        self.write_out(&bytes)
    }

    fn renderer(&self) -> TextRenderer {
        TextRenderer { delimiter: self.layout.dialect.delimiter }
    }

    fn write(&mut self, rendered: &mut Vec<u8>) -> Result<()> {
        self.write_out(rendered)
    }
}

/// Makes the text of rows.
#[derive(Debug, Clone, Copy)]
pub struct TextRenderer {
    delimiter: u8,
}

impl TextRenderer {
    fn push_cells<'a>(
        self,
        cells: impl Iterator<Item = &'a str>,
        mut is_first: bool,
        bytes: &mut Vec<u8>,
    ) {
        for cell in cells {
            if !is_first {
                bytes.push(self.delimiter);
            }
            is_first = false;
            push_cell(bytes, cell.as_bytes(), self.delimiter);
        }
    }
}

impl Renderer for TextRenderer {
    type Rendered = Vec<u8>;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, bytes: &mut Vec<u8>) {
        bytes.clear();
        for (nth, &row) in rows.iter().enumerate() {
            let line_end = if let Some((own, line_end)) = main.row_bytes(row) {
                bytes.extend_from_slice(own);
                line_end
            } else {
                let own = (0..main.columns()).map(|column| main.cell(row, column));
                self.push_cells(own, true, bytes);
                b"\n"
            };
            // Hardly any cell needs quotes; it is quicker to find out for all of a row at once.
            let (text, room) = added.row_with_room(nth);
            if holds_special(text.as_bytes(), self.delimiter) {
                let cells = (0..added.columns()).map(|column| added.cell(nth, column));
                self.push_cells(cells, false, bytes);
            } else {
                let from = bytes.len();
                bytes.extend_from_slice(text.as_bytes());
                for place in room {
                    bytes[from + place] = self.delimiter;
                }
            }
            bytes.extend_from_slice(line_end);
        }
    }
}

/// Whether a text holds a quote, a line end or the delimiter; made for texts that are not short.
fn holds_special(text: &[u8], delimiter: u8) -> bool {
    memchr::memchr3(b'"', b'\n', delimiter, text).is_some() || memchr::memchr(b'\r', text).is_some()
}

/// The same of a cell. Most cells are short, so that a search made for long texts would take longer
/// to begin than this one takes.
fn needs_quotes(cell: &[u8], delimiter: u8) -> bool {
    let special = |byte: &u8| matches!(byte, b'"' | b'\r' | b'\n') || *byte == delimiter;
    cell.iter().fold(false, |needs, byte| needs | special(byte))
}

/// Appends a cell, in quotes if it holds a quote, a line end or the delimiter.
fn push_cell(buffer: &mut Vec<u8>, cell: &[u8], delimiter: u8) {
    if !needs_quotes(cell, delimiter) {
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
