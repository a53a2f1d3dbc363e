//! A piece of a table in any format, and what makes a block of it.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use gather_keys_core::table::{Before, Block, Parser};

use crate::Error;
use crate::columnar::{BatchChunk, BatchFault, BatchParser};
use crate::delimited::{Fault, TextParser};
use crate::json::{BadLine, LinesChunk, LinesParser};
use crate::sqlite::{NotText, ValuesChunk, ValuesParser};
use crate::table::{DATABASE, TEXT};
use crate::workbook::{SheetChunk, SheetFault, SheetParser};

/// A piece of a table.
#[derive(Debug)]
pub enum Chunk {
    /// A piece of text.
    Text(Vec<u8>),
    /// Rows, and how many lines they take.
    Rows(Block, u64),
    /// Rows in typed columns.
    Batch(BatchChunk),
    /// Lines of JSON.
    Lines(LinesChunk),
    /// Values of a database.
    Values(ValuesChunk),
    /// Text of a worksheet.
    Sheet(SheetChunk),
}

impl Default for Chunk {
    fn default() -> Self {
        Self::Text(Vec::new())
    }
}

/// Makes blocks of the pieces of a table.
#[derive(Debug, Clone)]
pub struct TableParser {
    form: Form,
    content: Arc<Content>,
}

/// A chunk of a table, in the form of its reader.
#[derive(Debug, Clone)]
pub(crate) enum Form {
    /// Text.
    Text(TextParser),
    /// Rows.
    Rows,
    /// Rows in typed columns.
    Batches(BatchParser),
    /// Lines of JSON of the table called so.
    Lines(LinesParser, String),
    /// Values of a database.
    Values(ValuesParser),
    /// Text of a worksheet.
    Sheet(Box<SheetParser>),
}

/// How much a file has turned out to hold, which is bounded by its size.
///
/// A file of a few kilobytes can claim billions of rows, or unpack to terabytes. To read all of that would take days.
#[derive(Debug)]
pub(crate) struct Content {
    name: String,
    limit: u64,
    so_far: AtomicU64,
}

/// How many bytes of text any file may hold, and how many more for each byte of its size. Packed text packs to a tenth
/// when people write it. A view of a database can be endless. In other formats a column with one value in every row
/// takes next to nothing.
const OF_TEXT: (u64, u64) = (256 << 20, 100);
const OF_DATABASE: (u64, u64) = (64 << 20, 500);
const OF_OTHERS: (u64, u64) = (256 << 20, 500);

/// How many bytes a cell counts as, in addition to its text.
const CONTENT_OF_CELL: u64 = 8;

impl Content {
    /// The content of the table called `name`, in a file of `bytes` bytes; without a bound where the size is unknown.
    pub(crate) fn of(name: &str, bytes: Option<u64>, format: &str) -> Self {
        let (any, per_byte) = match format {
            TEXT => OF_TEXT,
            DATABASE => OF_DATABASE,
            _ => OF_OTHERS,
        };
        let limit = bytes.filter(|bytes| *bytes > 0);
        let limit =
            limit.map_or(u64::MAX, |bytes| bytes.saturating_mul(per_byte).saturating_add(any));
        Self { name: name.to_owned(), limit, so_far: AtomicU64::new(0) }
    }

    /// Adds text, in bytes, and cells that were read.
    fn add(&self, text: usize, cells: usize) -> std::result::Result<(), ChunkFault> {
        let bytes = text as u64 + cells as u64 * CONTENT_OF_CELL;
        let so_far = self.so_far.fetch_add(bytes, Ordering::Relaxed) + bytes;
        if so_far > self.limit { Err(ChunkFault::Swollen) } else { Ok(()) }
    }

    fn swollen(&self) -> Error {
        Error::Unread {
            name: self.name.clone(),
            said: format!("it holds more than {} MiB, too much for its size", self.limit >> 20),
            fix: "get it again, or save it as CSV that is not packed",
        }
    }
}

/// A fault in a chunk.
#[derive(Debug)]
pub enum ChunkFault {
    /// In delimited text.
    Text(Fault),
    /// In a line of JSON.
    Line(BadLine),
    /// In the rows of a batch.
    Batch(BatchFault),
    /// In a text of a database.
    NotText(NotText),
    /// In a cell of a worksheet.
    Sheet(SheetFault),
    /// The table has too much content for a file of its size, up to this chunk.
    Swollen,
}

impl TableParser {
    pub(crate) fn new(form: Form, content: Arc<Content>) -> Self {
        Self { form, content }
    }
}

impl Parser for TableParser {
    type Chunk = Chunk;
    type Error = Error;
    type Fault = ChunkFault;

    fn want(&mut self, columns: &[usize]) {
        match &mut self.form {
            Form::Text(parser) => parser.want(columns),
            Form::Batches(parser) => parser.want(columns),
            Form::Lines(parser, _) => parser.want(columns),
            Form::Sheet(parser) => parser.want(columns),
            // Its reader asks for no others.
            Form::Rows | Form::Values(_) => {}
        }
    }

    fn parse(&self, piece: &mut Chunk, block: &mut Block) -> std::result::Result<u64, ChunkFault> {
        let lines = match (&self.form, piece) {
            (Form::Text(parser), Chunk::Text(text)) => {
                self.content.add(text.len(), 0)?;
                return parser.parse(text, block).map_err(ChunkFault::Text);
            }
            (Form::Lines(parser, _), Chunk::Lines(lines)) => {
                parser.parse(lines, block).map_err(ChunkFault::Line)
            }
            (_, Chunk::Rows(rows, lines)) => {
                std::mem::swap(rows, block);
                Ok(*lines)
            }
            (Form::Batches(parser), Chunk::Batch(batch)) => {
                parser.parse(batch, block).map_err(ChunkFault::Batch)
            }
            (Form::Values(parser), Chunk::Values(values)) => {
                parser.parse(values, block).map_err(ChunkFault::NotText)
            }
            (Form::Sheet(parser), Chunk::Sheet(sheet)) => {
                parser.parse(sheet, block).map_err(|fault| match fault {
                    fault if fault.is_swollen() => ChunkFault::Swollen,
                    fault => ChunkFault::Sheet(fault),
                })
            }
            // Pieces are of the table that the parser is of.
            _ => Ok(0),
        }?;
        self.content.add(block.text_length(), block.rows() * block.columns())?;
        Ok(lines)
    }

    fn error(&self, fault: ChunkFault, before: Before) -> Error {
        match (&self.form, fault) {
            (_, ChunkFault::Swollen) => self.content.swollen(),
            (Form::Text(parser), ChunkFault::Text(fault)) => parser.error(fault, before),
            (Form::Lines(_, name), ChunkFault::Line(bad)) => bad.reported(name),
            (Form::Batches(parser), ChunkFault::Batch(fault)) => parser.error(fault, before),
            (Form::Values(parser), ChunkFault::NotText(fault)) => parser.error(&fault, before.rows),
            (Form::Sheet(parser), ChunkFault::Sheet(fault)) => fault.of(parser.name()),
            // Faults are of the parser that found them.
            (_, ChunkFault::NotText(_)) => Error::Unread {
                name: "table".to_owned(),
                said: "a text is not UTF-8".to_owned(),
                fix: "correct it",
            },
            (_, ChunkFault::Text(fault)) => fault.of("table", before),
            (_, ChunkFault::Line(bad)) => bad.reported("table"),
            (_, ChunkFault::Sheet(fault)) => fault.of("table"),
            (_, ChunkFault::Batch(fault)) => fault.of("table", before),
        }
    }
}
