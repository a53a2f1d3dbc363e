//! A table in any format, opened by its address.
//!
//! In go an address and what the person said of it, out comes a [`Table`], which is a
//! [`Source`]. The format is the one that was named, or else the one that the content shows.

use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use gather_keys_core::table::{Before, Block, Headers, Parser, Source};

use crate::delimited::{
    Encoding, Fault, HeaderRow, Layout, ReadOptions, Reader, TextParser, decoded,
};
use crate::packing::look;
use crate::rows::ReadRows;
use crate::{Address, Error, Packing, Result, json, sqlite, unpacked, workbook};

/// What a person said of how a table is to be read; what is not said is found.
#[derive(Debug, Clone, Default)]
pub struct Described {
    /// The byte between cells, in delimited text.
    pub delimiter: Option<u8>,
    /// The encoding of text.
    pub encoding: Option<Encoding>,
    /// Where the headers are.
    pub headers: HeaderRow,
    /// Whether rows of another number of cells than there are headers are padded.
    pub pads: bool,
}

/// A table that is open, its headers read.
pub struct Table {
    kind: Kind,
    read_as: ReadAs,
}

enum Kind {
    Text(Box<Reader<Box<dyn Read + Send>>>),
    Rows { rows: Box<dyn ReadRows + Send>, before: Before },
}

impl Kind {
    fn rows(rows: impl ReadRows + Send + 'static) -> Self {
        let before = Before { rows: 0, lines: rows.header_line() };
        Self::Rows { rows: Box::new(rows), before }
    }
}

/// How a table was read.
#[derive(Debug, Clone, Default)]
pub struct ReadAs {
    /// What it is: `delimited text`, or the name of another format.
    pub format: &'static str,
    /// The part of the file that it is, and whether that was chosen among several.
    pub part: Option<(String, bool)>,
    /// How the file is packed.
    pub packing: Option<Packing>,
    /// The encoding of its text, and whether it is a guess.
    pub encoding: Option<(Encoding, bool)>,
    /// How many rows were passed over before the headers.
    pub title_rows: usize,
    /// How many cells hold an error and count as blank, so far.
    pub error_cells: Option<Arc<AtomicU64>>,
}

/// How many bytes show a file's format.
const FIRST: usize = 16;

/// How workbooks begin: those of today, and those of before.
const WORKBOOKS: [&[u8]; 2] = [b"PK\x03\x04", b"\xd0\xcf\x11\xe0"];

/// How many bytes are looked at to find the encoding.
const SAMPLE: usize = 1 << 16;
const SAMPLE_OF_FILE: usize = 1 << 20;

/// Passes on the bytes of a file as they are read.
pub type Tap<'t> = &'t dyn Fn(Box<dyn Read + Send>) -> Box<dyn Read + Send>;

impl Table {
    /// Opens a table. All that is read of its file passes through `tap`. Gives the size of the file
    /// too, where it is known.
    ///
    /// # Errors
    /// When it can't be read, or its headers can't.
    pub fn open(
        address: &Address,
        described: &Described,
        tap: Tap<'_>,
    ) -> Result<(Self, Option<u64>)> {
        if let Some(open) = Self::open_rows(address, described, tap)? {
            return Ok(open);
        }
        let name = address.to_string();
        let unreadable = |cause: io::Error| Error::Read { name: name.clone(), cause };
        let (input, bytes) = address.open()?;
        let (input, packing) = unpacked(tap(input)).map_err(unreadable)?;
        // More of a pipe may be long in coming.
        let sample = if bytes.is_some() { SAMPLE_OF_FILE } else { SAMPLE };
        let decoded = decoded(input, described.encoding, sample);
        let (input, encoding, guessed) = decoded.map_err(unreadable)?;
        let options = ReadOptions {
            delimiter: described.delimiter,
            headers: described.headers,
            pads: described.pads,
            encoding,
            ..ReadOptions::default()
        };
        let reader = Reader::new(name.clone(), input, options)?;
        let read_as = ReadAs {
            format: "delimited text",
            packing,
            encoding: Some((encoding, guessed)),
            title_rows: match described.headers {
                HeaderRow::Found => reader.title_rows(),
                _ => 0,
            },
            ..ReadAs::default()
        };
        Ok((Self { kind: Kind::Text(Box::new(reader)), read_as }, bytes))
    }

    /// Opens a table that is no text, if it is none. Such a file is read more than once, since it
    /// can't be read from front to back.
    fn open_rows(
        address: &Address,
        described: &Described,
        tap: Tap<'_>,
    ) -> Result<Option<(Self, Option<u64>)>> {
        let Some(path) = address.path() else { return Ok(None) };
        // A pipe can be opened and read only once.
        if !path.metadata().is_ok_and(|facts| facts.is_file()) {
            return Ok(None);
        }
        let (input, bytes) = address.open()?;
        let name = address.to_string();
        let unreadable = |cause: io::Error| Error::Read { name: name.clone(), cause };
        let (first, input) = look(input, FIRST).map_err(unreadable)?;
        let part = match address {
            Address::Part(_, part) => Some(&part[..]),
            _ => None,
        };
        let pass = || io::copy(&mut tap(Box::new(input)), &mut io::sink()).map_err(unreadable);
        let (kind, read_as) = if WORKBOOKS.iter().any(|begin| first.starts_with(begin)) {
            pass()?;
            let opened = workbook::open(&name, path, part, described.headers)?;
            let (worksheet, worksheets) = opened.worksheet().clone();
            let read_as = ReadAs {
                format: "workbook",
                part: Some((worksheet, worksheets > 1 && part.is_none())),
                title_rows: opened.title_rows(),
                error_cells: Some(opened.error_cells.clone()),
                ..ReadAs::default()
            };
            (Kind::rows(opened), read_as)
        } else if first.starts_with(sqlite::BEGINS) {
            pass()?;
            let (opened, (table, tables)) = sqlite::open(&name, path, part)?;
            let part = Some((table, tables > 1 && part.is_none()));
            (Kind::rows(opened), ReadAs { format: "database", part, ..ReadAs::default() })
        } else if let Some(lines) = json::has_lines(path, &first) {
            pass()?;
            let opened = json::open(&name, path, lines, part)?;
            (Kind::rows(opened), ReadAs { format: "JSON", ..ReadAs::default() })
        } else {
            return Ok(None);
        };
        Ok(Some((Self { kind, read_as }, bytes)))
    }

    /// How it was read.
    pub fn read_as(&self) -> &ReadAs {
        &self.read_as
    }

    /// Whether it is delimited text.
    pub fn is_text(&self) -> bool {
        matches!(self.kind, Kind::Text(_))
    }

    /// What delimited text in the form of this table takes over; for a table that is no text, the
    /// usual form.
    pub fn layout(&self) -> Layout {
        match &self.kind {
            Kind::Text(reader) => reader.layout().clone(),
            Kind::Rows { rows, .. } => Layout::usual(rows.headers()),
        }
    }
}

/// A piece of a table.
#[derive(Debug)]
pub enum Piece {
    /// A piece of text.
    Text(Vec<u8>),
    /// Rows, and how many lines they take.
    Rows(Block, u64),
}

impl Default for Piece {
    fn default() -> Self {
        Self::Text(Vec::new())
    }
}

/// Makes blocks of the pieces of a table.
#[derive(Debug, Clone)]
pub enum TableParser {
    /// Of pieces of text.
    Text(TextParser),
    /// Of rows.
    Rows,
}

impl Source for Table {
    type Error = Error;
    type Piece = Piece;
    type Parser = TableParser;

    fn headers(&self) -> &Headers {
        match &self.kind {
            Kind::Text(reader) => reader.headers(),
            Kind::Rows { rows, .. } => rows.headers(),
        }
    }

    fn parser(&self) -> TableParser {
        match &self.kind {
            Kind::Text(reader) => TableParser::Text(reader.parser()),
            Kind::Rows { .. } => TableParser::Rows,
        }
    }

    fn read_piece(&mut self, piece: &mut Piece) -> Result<bool> {
        match (&mut self.kind, piece) {
            (Kind::Text(reader), Piece::Text(text)) => reader.read_piece(text),
            (Kind::Text(reader), piece) => {
                let mut text = Vec::new();
                let read = reader.read_piece(&mut text);
                *piece = Piece::Text(text);
                read
            }
            (Kind::Rows { rows, .. }, piece) => {
                let mut block = Block::default();
                let lines = rows.read_rows(&mut block)?;
                *piece = Piece::Rows(block, lines.unwrap_or_default());
                Ok(lines.is_some())
            }
        }
    }

    fn before(&self) -> Before {
        match &self.kind {
            Kind::Text(reader) => reader.before(),
            Kind::Rows { before, .. } => *before,
        }
    }

    fn passed(&mut self, rows: u64, lines: u64) {
        match &mut self.kind {
            Kind::Text(reader) => reader.passed(rows, lines),
            Kind::Rows { before, .. } => {
                before.rows += rows;
                before.lines += lines;
            }
        }
    }
}

impl Parser for TableParser {
    type Piece = Piece;
    type Error = Error;
    type Fault = Fault;

    fn want(&mut self, columns: &[usize]) {
        if let Self::Text(parser) = self {
            parser.want(columns);
        }
    }

    fn parse(&self, piece: &mut Piece, block: &mut Block) -> std::result::Result<u64, Fault> {
        match (self, piece) {
            (Self::Text(parser), Piece::Text(text)) => parser.parse(text, block),
            (_, Piece::Rows(rows, lines)) => {
                std::mem::swap(rows, block);
                Ok(*lines)
            }
            // Pieces are of the table that the parser is of.
            (Self::Rows, Piece::Text(_)) => Ok(0),
        }
    }

    fn error(&self, fault: Fault, before: Before) -> Error {
        match self {
            Self::Text(parser) => parser.error(fault, before),
            Self::Rows => fault.of("table", before),
        }
    }
}
