//! Reading delimited text.

use std::io::Read;
use std::mem;

use gather_keys_core::table::{Block, Headers, Source};

use super::records::{Cells, Next, Records};
use super::{Dialect, Layout, detect};
use crate::{Error, Place, Result};

/// The most bytes that a row may take. Only a quote that is never closed makes longer ones.
const LONGEST_ROW: usize = 256 << 20;

const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";

/// How a file is to be read.
#[derive(Debug, Clone, Copy)]
pub struct ReadOptions {
    /// The byte between cells; without one it is found from the first rows: comma, semicolon or
    /// tab.
    pub delimiter: Option<u8>,
    /// How many bytes are read at a time, and so about how large a block is. 256 KiB by default.
    pub piece: usize,
}

impl Default for ReadOptions {
    fn default() -> Self {
        Self { delimiter: None, piece: 256 << 10 }
    }
}

/// A table in delimited text, read from front to back.
#[derive(Debug)]
pub struct Reader<R> {
    name: String,
    input: R,
    records: Records,
    headers: Headers,
    layout: Layout,
    piece: usize,
    /// What is read of the file but not yet given out.
    pending: Vec<u8>,
    /// Whether `pending` reaches to the end of the file.
    at_end: bool,
    /// The number of the next row.
    next_row: u64,
}

impl<R: Read> Reader<R> {
    /// Reads the headers of the table called `name` in messages.
    ///
    /// ```
    /// use gather_keys_core::table::{Block, Source};
    /// use gather_keys_formats::delimited::{ReadOptions, Reader};
    ///
    /// let text = "Apiary;Hive\r\nFellside;\"7\"\r\n";
    /// let mut table = Reader::new("harvest.csv", text.as_bytes(), ReadOptions::default())?;
    /// assert_eq!(table.headers().name(1), "Hive");
    /// let mut block = Block::default();
    /// assert!(table.read_block(&mut block)?);
    /// assert_eq!(block.cell(0, 1), "7");
    /// assert_eq!(block.row_bytes(0), Some((&b"Fellside;\"7\""[..], &b"\r\n"[..])));
    /// # Ok::<(), gather_keys_formats::Error>(())
    /// ```
    ///
    /// # Errors
    /// When the file can't be read, is empty, is in another format, or its header row is not well
    /// formed.
    pub fn new(name: impl Into<String>, input: R, options: ReadOptions) -> Result<Self> {
        let name = name.into();
        let dialect = Dialect { delimiter: b',', byte_order_mark: false };
        let mut reader = Self {
            headers: Headers::new(&name, [""; 0]),
            name,
            input,
            records: Records::new(b','),
            layout: Layout { dialect, header_row: Vec::new(), line_end: Vec::new() },
            piece: options.piece.max(1),
            pending: Vec::new(),
            at_end: false,
            next_row: 1,
        };
        reader.fill(reader.piece.max(BYTE_ORDER_MARK.len() + 1))?;
        reader.refuse_other_formats()?;
        if reader.pending.starts_with(BYTE_ORDER_MARK) {
            reader.pending.drain(..BYTE_ORDER_MARK.len());
            reader.layout.dialect.byte_order_mark = true;
        }
        let delimiter =
            options.delimiter.unwrap_or_else(|| detect::delimiter(&reader.pending, reader.at_end));
        reader.layout.dialect.delimiter = delimiter;
        reader.records = Records::new(delimiter);
        reader.read_headers()?;
        Ok(reader)
    }

    /// What an output in the form of this table takes over.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// Reads on until `want` bytes are pending or the file ends.
    fn fill(&mut self, want: usize) -> Result<()> {
        let missing = want.saturating_sub(self.pending.len()) as u64;
        let read = self
            .input
            .by_ref()
            .take(missing)
            .read_to_end(&mut self.pending)
            .map_err(|cause| Error::Read { name: self.name.clone(), cause })?;
        self.at_end = (read as u64) < missing;
        Ok(())
    }

    fn refuse_other_formats(&self) -> Result<()> {
        let (seems, mend) = match &self.pending[..] {
            [] => return Err(Error::Empty { name: self.name.clone() }),
            [b'P', b'K', 3, 4, ..] | [0xd0, 0xcf, 0x11, 0xe0, ..] => {
                ("a workbook", "save the worksheet as CSV with the encoding UTF-8 first")
            }
            [0xff, 0xfe, ..] | [0xfe, 0xff, ..] => {
                ("text in the encoding UTF-16", "save it again with the encoding UTF-8")
            }
            [0x1f, 0x8b, ..] | [0x28, 0xb5, 0x2f, 0xfd, ..] => {
                ("a compressed file", "unpack it first")
            }
            _ => return Ok(()),
        };
        Err(Error::OtherFormat { name: self.name.clone(), seems, mend })
    }

    fn read_headers(&mut self) -> Result<()> {
        loop {
            let mut cells = Cells::default();
            match self.records.next(&self.pending, 0, self.at_end, &mut cells) {
                Next::Row { bytes, line } => {
                    let columns = cells.count();
                    let (text, ends) = cells.into_parts();
                    let block = Block::from_parts(columns, text, ends).map_err(|_| {
                        Error::NotText { name: self.name.clone(), place: place(0, line, None) }
                    })?;
                    let names = (0..columns).map(|column| block.cell(0, column));
                    self.headers = Headers::new(&self.name, names);
                    self.layout.header_row = self.pending[bytes.start..bytes.content_end].to_vec();
                    self.layout.line_end = self.pending[bytes.content_end..bytes.end].to_vec();
                    self.pending.drain(..bytes.end);
                    return Ok(());
                }
                Next::End => return Err(Error::Empty { name: self.name.clone() }),
                Next::OpenQuote { line, .. } => {
                    let place = place(0, line, None);
                    return Err(Error::OpenQuote { name: self.name.clone(), place });
                }
                Next::More { line } => self.read_more(0, line)?,
            }
        }
    }

    /// Reads on after a row that does not end within what is pending.
    fn read_more(&mut self, row: u64, line: u64) -> Result<()> {
        if self.pending.len() > LONGEST_ROW {
            return Err(Error::RowTooLong {
                name: self.name.clone(),
                place: place(row, line, None),
                most: LONGEST_ROW,
            });
        }
        self.fill(self.pending.len() * 2 + self.piece)
    }

    /// The place of a cell of a row that has as many cells as there are headers.
    fn cell_place(&self, row: u64, line: u64, column: usize) -> Place {
        let header = (column < self.headers.len()).then(|| self.headers.address(column));
        place(row, line, header)
    }
}

fn place(row: u64, line: u64, header: Option<String>) -> Place {
    Place { row, line, header }
}

impl<R: Read> Source for Reader<R> {
    type Error = Error;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn read_block(&mut self, block: &mut Block) -> Result<bool> {
        let columns = self.headers.len();
        let (bytes, ends, mut as_read, mut lines) = mem::take(block).into_buffers();
        let mut cells = Cells::reuse(bytes, ends);
        let mut at = 0;
        if !self.at_end && self.pending.len() < self.piece {
            self.fill(self.piece)?;
        }
        loop {
            match self.records.next(&self.pending, at, self.at_end, &mut cells) {
                Next::Row { bytes, line } => {
                    let row = self.next_row + lines.len() as u64;
                    let found = cells.count() - lines.len() * columns;
                    if found != columns {
                        return Err(Error::Ragged {
                            name: self.name.clone(),
                            place: place(row, line, None),
                            cells: found,
                            headers: columns,
                        });
                    }
                    at = bytes.end;
                    as_read.rows.push(bytes);
                    lines.push(line);
                }
                Next::OpenQuote { cells, row_line, line } => {
                    let row = self.next_row + lines.len() as u64;
                    let place = match self.cell_place(row, line, cells) {
                        // More cells than headers: the row's own beginning says more.
                        Place { header: None, .. } => place(row, row_line, None),
                        place => place,
                    };
                    return Err(Error::OpenQuote { name: self.name.clone(), place });
                }
                Next::More { line } if lines.is_empty() => self.read_more(self.next_row, line)?,
                Next::More { .. } | Next::End => break,
            }
        }
        if lines.is_empty() {
            return Ok(false);
        }
        let tail = self.pending[at..].iter().copied();
        as_read.bytes.extend(tail);
        mem::swap(&mut self.pending, &mut as_read.bytes);
        let (text, ends) = cells.into_parts();
        let first_row = self.next_row;
        self.next_row += lines.len() as u64;
        let filled = Block::from_parts(columns, text, ends).map_err(|bad| {
            let row = bad.cell / columns;
            let place = self.cell_place(first_row + row as u64, lines[row], bad.cell % columns);
            Error::NotText { name: self.name.clone(), place }
        })?;
        *block = filled.placed(first_row, lines, as_read);
        Ok(true)
    }
}
