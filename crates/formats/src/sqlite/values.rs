//! The values of rows as a database has them, before they become cells.
//!
//! To go through a database takes one thread; making texts of its numbers can be done by any.

use std::fmt::Write;

use gather_keys_core::table::{Block, CellKind, Headers, KeptColumns};
use rusqlite::types::ValueRef;

use crate::Error;
use gather_keys_core::value::number::{push_integer, push_real};

/// Rows of values, end to end: what each is, and its bytes.
#[derive(Debug, Default)]
pub struct ValuesChunk {
    bytes: Vec<u8>,
    rows: usize,
}

/// The type of a value.
const NOTHING: u8 = 0;
const INTEGER: u8 = 1;
const REAL: u8 = 2;
const TEXT: u8 = 3;
const BYTES: u8 = 4;

impl ValuesChunk {
    /// How many bytes the values take.
    pub(super) fn len(&self) -> usize {
        self.bytes.len()
    }

    pub(super) fn rows(&self) -> usize {
        self.rows
    }

    /// An empty chunk with room for `bytes` bytes.
    pub(super) fn emptied(mut self, bytes: usize) -> Self {
        self.bytes.clear();
        self.bytes.reserve(bytes);
        Self { bytes: self.bytes, rows: 0 }
    }

    #[inline]
    pub(super) fn push(&mut self, value: ValueRef<'_>) {
        match value {
            ValueRef::Null => self.bytes.push(NOTHING),
            ValueRef::Integer(number) => self.push_eight(INTEGER, number.to_le_bytes()),
            ValueRef::Real(number) => self.push_eight(REAL, number.to_le_bytes()),
            ValueRef::Text(bytes) => self.push_bytes(TEXT, bytes),
            ValueRef::Blob(bytes) => self.push_bytes(BYTES, bytes),
        }
    }

    #[inline]
    fn push_eight(&mut self, kind: u8, eight: [u8; 8]) {
        let mut nine = [kind; 9];
        nine[1..].copy_from_slice(&eight);
        self.bytes.extend_from_slice(&nine);
    }

    #[inline]
    fn push_bytes(&mut self, kind: u8, bytes: &[u8]) {
        self.push_eight(kind, (bytes.len() as u64).to_le_bytes());
        self.bytes.extend_from_slice(bytes);
    }

    pub(super) fn end_row(&mut self) {
        self.rows += 1;
    }
}

/// Makes blocks of values.
#[derive(Debug, Clone)]
pub struct ValuesParser {
    name: String,
    headers: Vec<String>,
    columns: usize,
    /// The columns that the values are of, ascending.
    pub(super) read: Vec<usize>,
}

impl ValuesParser {
    pub(super) fn new(name: &str, headers: &Headers, read: &[usize]) -> Self {
        let columns = headers.len();
        let headers = headers.iter().map(str::to_owned).collect();
        Self { name: name.to_owned(), headers, columns, read: read.to_vec() }
    }

    /// Replaces `block` with the rows of a chunk, each on a line, and returns how many there are.
    ///
    /// # Errors
    /// [`NotText`] when a text is not UTF-8: two such texts could become one.
    pub(crate) fn parse(
        &self,
        piece: &ValuesChunk,
        block: &mut Block,
    ) -> std::result::Result<u64, NotText> {
        block.reset_to(KeptColumns::only(&self.read, self.columns));
        let mut bytes = &piece.bytes[..];
        for row in 0..piece.rows {
            for &column in &self.read {
                bytes = push_cell(bytes, block).ok_or(NotText { row: row as u64, column })?;
            }
            block.push_line(row as u64);
        }
        Ok(piece.rows as u64)
    }

    /// The error of a text that is none, in a table with this many rows before the piece.
    pub(crate) fn error(&self, fault: &NotText, before: u64) -> Error {
        let header = self.headers.get(fault.column).map_or("", String::as_str);
        Error::Unread {
            name: self.name.clone(),
            said: format!(
                "the text in row {}, column `{header}`, is not UTF-8",
                before + fault.row + 1
            ),
            fix: "correct it, or keep it as a blob",
        }
    }
}

/// A text that is not UTF-8.
#[derive(Debug, Clone, Copy)]
pub struct NotText {
    /// The row of the piece, from 0.
    row: u64,
    column: usize,
}

/// Adds the cell of the first value to a block: a number as its shortest exact decimal, bytes that are
/// kept as bytes as hexadecimal digits. Gives what follows it, or nothing where a text is not UTF-8.
fn push_cell<'b>(bytes: &'b [u8], block: &mut Block) -> Option<&'b [u8]> {
    // The value was put there above.
    let Some((&kind, bytes)) = bytes.split_first() else { return Some(bytes) };
    let eight = || bytes.first_chunk::<8>().copied().unwrap_or_default();
    match kind {
        INTEGER => block.push_cell_by(|text| {
            push_integer(i64::from_le_bytes(eight()), text);
            CellKind::Number
        }),
        REAL => block.push_cell_by(|text| {
            push_real(f64::from_le_bytes(eight()), text);
            CellKind::Number
        }),
        TEXT | BYTES => {
            let end = 8 + u64::from_le_bytes(eight()) as usize;
            let own = bytes.get(8..end).unwrap_or_default();
            match str::from_utf8(own) {
                Ok(cell) if kind == TEXT => block.push_cell_of(cell, CellKind::Text),
                _ if kind == TEXT => return None,
                _ => block.push_cell_by(|text| {
                    // Writing to a text can't fail.
                    let _ = own.iter().try_for_each(|byte| write!(text, "{byte:02x}"));
                    CellKind::Text
                }),
            }
            return Some(bytes.get(end..).unwrap_or_default());
        }
        _ => {
            block.push_cell("");
            return Some(bytes);
        }
    }
    Some(&bytes[8..])
}
