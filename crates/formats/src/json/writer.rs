//! Writing a table as JSON.
//!
//! A row is an object with a field for each column, under its header. Kinds are kept; a cell of
//! delimited text, which says no kind, becomes a number where it is written as one, but codes and
//! long ids stay text. A blank cell is `null`.

use std::io::Write;
use std::sync::Arc;

use gather_keys_core::table::{Block, CellKind, OutputColumns, Renderer, Sink};

use crate::large_writes::LargeWrites;
use crate::workbook::is_plain_number;
use crate::{Error, Result};

/// Writes a table as JSON.
pub struct JsonWriter<W> {
    name: String,
    output: LargeWrites<W>,
    /// Whether a row is on each line by itself; if not, all are in an array.
    lines: bool,
    /// The name of each field with a colon after it.
    fields: Arc<[String]>,
    has_rows: bool,
}

impl<W: Write> JsonWriter<W> {
    /// A writer to `output`, which is called `name` in messages: of `lines`, or of one document.
    pub fn new(name: impl Into<String>, output: W, lines: bool) -> Self {
        let output = LargeWrites::to(output);
        Self { name: name.into(), output, lines, fields: [].into(), has_rows: false }
    }

    /// Ends the document, and gives the output back.
    ///
    /// # Errors
    /// [`Error::Write`] when it can't be written.
    pub fn finish(mut self) -> Result<W> {
        if !self.lines {
            let end = if self.has_rows { "\n]\n" } else { "[]\n" };
            self.write_out(&mut end.into())?;
        }
        let finished = self.output.finish();
        finished.map_err(|cause| Error::Write { name: self.name, cause })
    }

    fn write_out(&mut self, bytes: &mut Vec<u8>) -> Result<()> {
        let written = self.output.take(bytes);
        written.map_err(|cause| Error::Write { name: self.name.clone(), cause })
    }
}

impl<W: Write> Sink for JsonWriter<W> {
    type Error = Error;
    type Renderer = JsonRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        let all = columns.headers();
        let field = |column| format!("{}: ", quoted(&all.address(column)));
        self.fields = (0..all.len()).map(field).collect();
        Ok(())
    }

    fn renderer(&self, columns: &OutputColumns) -> JsonRenderer {
        JsonRenderer { columns: columns.clone(), lines: self.lines, fields: self.fields.clone() }
    }

    fn write(&mut self, rendered: &mut Vec<u8>) -> Result<()> {
        if rendered.is_empty() || self.lines {
            return self.write_out(rendered);
        }
        if !std::mem::replace(&mut self.has_rows, true) {
            // The first row has a bracket before it instead of a comma.
            rendered[0] = b'[';
        }
        self.write_out(rendered)
    }
}

/// Makes objects of rows.
#[derive(Debug, Clone)]
pub struct JsonRenderer {
    columns: OutputColumns,
    lines: bool,
    fields: Arc<[String]>,
}

impl Renderer for JsonRenderer {
    type Rendered = Vec<u8>;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, bytes: &mut Vec<u8>) {
        bytes.clear();
        for (nth, &row) in rows.iter().enumerate() {
            if !self.lines {
                bytes.extend_from_slice(b",\n");
            }
            for (at, (cell, field)) in self.columns.cells().iter().zip(&*self.fields).enumerate() {
                let (cell, kind) = cell.of((main, row), (added, nth));
                bytes.extend_from_slice(if at == 0 { b"{" } else { b", " });
                bytes.extend_from_slice(field.as_bytes());
                push_value(cell, kind, bytes);
            }
            bytes.push(b'}');
            if self.lines {
                bytes.push(b'\n');
            }
        }
    }
}

fn push_value(cell: &str, kind: CellKind, bytes: &mut Vec<u8>) {
    let is_bare = match kind {
        _ if cell.is_empty() => {
            bytes.extend_from_slice(b"null");
            return;
        }
        CellKind::Truth => matches!(cell, "true" | "false"),
        // A number that said so keeps all its digits.
        CellKind::Number => serde_json::from_str::<serde_json::Number>(cell).is_ok(),
        CellKind::Untyped => is_plain_number(cell),
        CellKind::Text | CellKind::Date | CellKind::Time => false,
    };
    if is_bare {
        bytes.extend_from_slice(cell.as_bytes());
    } else {
        bytes.extend_from_slice(quoted(cell).as_bytes());
    }
}

/// A text in quotes.
fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}
