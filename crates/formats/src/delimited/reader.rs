//! Reading delimited text.

use std::io::{self, Read};
use std::mem;

use gather_keys_core::table::{Before, Headers, Source};

use super::cut::last_row_end;
use super::parser::TextParser;
use super::scan::{Next, Scan, Wanted};
use super::{Dialect, Encoding, Layout, detect};
use crate::{Error, Place, Result};

/// The most bytes that a row may take. Only a quote that is never closed makes longer ones.
const LONGEST_ROW: usize = 256 << 20;

/// How many bytes are looked at for the row that holds the headers asked for.
const HEADERS_WITHIN: usize = 32 << 10;

const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";

/// How a file is to be read.
#[derive(Debug, Clone, Copy)]
pub struct ReadOptions {
    /// The byte between cells; without one it is found from the first rows: comma, semicolon or
    /// tab.
    pub delimiter: Option<u8>,
    /// The place of the headers.
    pub headers: HeaderRow,
    /// Whether a row with fewer cells than there are headers is filled up with blank ones, rather
    /// than refused; blank cells too many are left out then.
    pub pads: bool,
    /// Whether numbers are written with a decimal comma, `1.234,5`.
    pub decimal_comma: bool,
    /// The encoding that the text had before it was decoded.
    pub encoding: Encoding,
    /// How many bytes are read at a time, and so about how large a block is. 32 KiB by default.
    pub piece: usize,
}

impl Default for ReadOptions {
    fn default() -> Self {
        Self {
            delimiter: None,
            headers: HeaderRow::Found,
            pads: false,
            decimal_comma: false,
            encoding: Encoding::UTF_8,
            piece: 32 << 10,
        }
    }
}

/// The place of the headers of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum HeaderRow {
    /// In the first row, or after the lines of a title.
    #[default]
    Found,
    /// In the first row.
    First,
    /// On a line, from 1.
    Line(u64),
    /// Nowhere: columns are called `Column 1`, `Column 2` and so on.
    Absent,
}

/// A table in delimited text, read from front to back.
#[derive(Debug)]
pub struct Reader<R> {
    name: String,
    input: R,
    headers: Headers,
    layout: Layout,
    options: ReadOptions,
    /// How many rows are before the headers.
    title_rows: usize,
    /// Whether the first line does nothing but name the delimiter.
    names_delimiter: bool,
    piece: usize,
    /// The bytes of the file that have not been returned, followed by room to read into.
    pending: Vec<u8>,
    /// How many bytes of it are read.
    filled: usize,
    /// Whether `pending` reaches to the end of the file.
    at_end: bool,
    /// How many bytes were handed out, headers included.
    handed_out: u64,
    before: Before,
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
        Self::asking(name, input, options, &[])
    }

    /// Reads the headers of a table, which are in the first row that holds all those `asked` for, unless
    /// another row is named; see [`Reader::new`].
    ///
    /// # Errors
    /// Those of [`Reader::new`].
    pub fn asking(
        name: impl Into<String>,
        input: R,
        options: ReadOptions,
        asked: &[String],
    ) -> Result<Self> {
        let name = name.into();
        let encoding = options.encoding;
        let dialect = Dialect { delimiter: b',', byte_order_mark: false, encoding };
        let mut reader = Self {
            headers: Headers::new(&name, [""; 0]),
            name,
            input,
            layout: Layout {
                dialect,
                guards_formulas: false,
                decimal_comma: options.decimal_comma,
                rewrites_rows: false,
                preamble: Vec::new(),
                header_row: None,
                line_end: Vec::new(),
            },
            options,
            title_rows: 0,
            names_delimiter: false,
            piece: options.piece.max(1),
            pending: Vec::new(),
            filled: 0,
            at_end: false,
            handed_out: 0,
            before: Before::default(),
        };
        reader.fill(reader.piece.max(BYTE_ORDER_MARK.len() + 1))?;
        reader.refuse_other_formats()?;
        if reader.pending().starts_with(BYTE_ORDER_MARK) {
            reader.pass_over(BYTE_ORDER_MARK.len());
            reader.layout.dialect.byte_order_mark = true;
        }
        let named = detect::named_delimiter(reader.pending());
        reader.names_delimiter = named.is_some();
        let named = named.map(|(delimiter, _)| delimiter);
        let delimiter = options.delimiter.or(named).unwrap_or_else(|| {
            let from = match options.headers {
                HeaderRow::Line(line) => detect::line_start(reader.pending(), line),
                _ => 0,
            };
            detect::delimiter(&reader.pending()[from..], reader.at_end)
        });
        reader.layout.dialect.delimiter = delimiter;
        let is_said = options.delimiter.is_some();
        let holder = if options.headers == HeaderRow::Found && !asked.is_empty() {
            reader.fill(HEADERS_WITHIN)?;
            let from = detect::named_delimiter(reader.pending()).map_or(0, |(_, end)| end);
            let text = &reader.pending()[from..];
            detect::holder(text, reader.at_end, asked, (delimiter, is_said))
        } else {
            None
        };
        if let Some((delimiter, _)) = holder {
            reader.layout.dialect.delimiter = delimiter;
        }
        reader.read_headers(holder.map(|(_, before)| before))?;
        Ok(reader)
    }

    /// How many rows before the headers were passed over.
    pub fn title_rows(&self) -> usize {
        self.title_rows - usize::from(self.names_delimiter && self.title_rows > 0)
    }

    /// The form of this table for an output.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// The bytes of the file that have not been returned.
    fn pending(&self) -> &[u8] {
        &self.pending[..self.filled]
    }

    /// Forgets the first bytes of what is read.
    fn pass_over(&mut self, bytes: usize) {
        self.pending.copy_within(bytes..self.filled, 0);
        self.filled -= bytes;
    }

    /// Reads on until `want` bytes are pending or the file ends.
    fn fill(&mut self, want: usize) -> Result<()> {
        if self.pending.len() < want {
            self.pending.resize(want, 0);
        }
        // As much at a time as the input gives: each call of the system costs something.
        while self.filled < want {
            match self.input.read(&mut self.pending[self.filled..want]) {
                Ok(0) => {
                    self.at_end = true;
                    break;
                }
                Ok(read) => self.filled += read,
                Err(cause) if cause.kind() == io::ErrorKind::Interrupted => {}
                Err(cause) => return Err(Error::Read { name: self.name.clone(), cause }),
            }
        }
        Ok(())
    }

    fn refuse_other_formats(&self) -> Result<()> {
        let (seems, fix) = match self.pending() {
            [] => return Err(Error::Empty { name: self.name.clone() }),
            [b'P', b'K', 3, 4, ..] | [0xd0, 0xcf, 0x11, 0xe0, ..] => {
                ("a workbook", "name its file, since a workbook can't be read from a stream")
            }
            _ => return Ok(()),
        };
        Err(Error::OtherFormat { name: self.name.clone(), seems, fix })
    }

    /// Reads the headers; `before` is how many rows precede them, where that is known.
    fn read_headers(&mut self, before: Option<usize>) -> Result<()> {
        let delimiter = self.layout.dialect.delimiter;
        let end = loop {
            // The row that holds the headers ends before the last row end that is there.
            match last_row_end(self.pending(), delimiter) {
                _ if self.at_end => break self.filled,
                Some(end) if self.has_content(end) && self.holds_headers(end) => break end,
                _ => self.read_more()?,
            }
        };
        if self.options.headers == HeaderRow::Found {
            let from = detect::named_delimiter(self.pending()).map_or(0, |(_, end)| end);
            let found = || detect::title_rows(&self.pending()[from..], self.at_end, delimiter);
            self.title_rows = before.unwrap_or_else(found);
        }
        if self.names_delimiter {
            self.title_rows += 1;
        }
        let mut scan = Scan::new(&self.pending[..end], delimiter);
        let (mut cells, mut aside) = (Vec::new(), Vec::new());
        let mut passed = 0;
        let (bytes, line) = loop {
            cells.clear();
            let (bytes, line) = match scan.next(&Wanted::all(), &mut cells, &mut aside) {
                Next::Row { bytes, line, .. } => (bytes, line),
                Next::End => {
                    let name = self.name.clone();
                    return Err(match self.options.headers {
                        HeaderRow::Line(line) => Error::NoHeaderLine { name, line },
                        _ => Error::Empty { name },
                    });
                }
                Next::OpenQuote { line, .. } => {
                    let place = Place { row: 0, line: line + 1, header: None };
                    return Err(Error::OpenQuote { name: self.name.clone(), place });
                }
            };
            match self.options.headers {
                HeaderRow::Found | HeaderRow::First if passed < self.title_rows => {}
                HeaderRow::Line(wanted) if line + 1 < wanted => {}
                HeaderRow::Line(wanted) if line + 1 > wanted => {
                    return Err(Error::NoHeaderLine { name: self.name.clone(), line: wanted });
                }
                _ => break (bytes, line),
            }
            passed += 1;
        };
        self.title_rows = passed;
        if self.options.headers == HeaderRow::Absent {
            let names = (1..=cells.len()).map(|nth| format!("Column {nth}"));
            self.headers = Headers::new(&self.name, names);
            let line_end = bytes.content_end as usize..bytes.end as usize;
            self.layout.line_end = self.pending[line_end].to_vec();
            return Ok(());
        }
        let lines = scan.lines();
        let row = bytes.start as usize..bytes.content_end as usize;
        let mut text = self.pending[..end].to_vec();
        text.extend_from_slice(&aside);
        let name = |cell: &gather_keys_core::table::Span| {
            let name = &text[cell.start as usize..cell.end as usize];
            std::str::from_utf8(name).map(str::to_owned).map_err(|_| {
                let place = Place { row: 0, line: line + 1, header: None };
                Error::NotText { name: self.name.clone(), place }
            })
        };
        let names: Vec<String> = cells.iter().map(name).collect::<Result<_>>()?;
        self.headers = Headers::new(&self.name, names);
        self.layout.preamble = self.pending[..row.start].to_vec();
        self.layout.header_row = Some(self.pending[row].to_vec());
        self.layout.line_end =
            self.pending[bytes.content_end as usize..bytes.end as usize].to_vec();
        self.pass_over(bytes.end as usize);
        self.handed_out = u64::from(bytes.end);
        self.before.lines = lines;
        Ok(())
    }

    /// Whether the line of the headers is before a place, where it is known.
    fn holds_headers(&self, end: usize) -> bool {
        let lines = || memchr::memchr2_iter(b'\n', b'\r', &self.pending[..end]).count() as u64;
        match self.options.headers {
            HeaderRow::Line(line) => lines() >= 2 * line,
            HeaderRow::Found | HeaderRow::First | HeaderRow::Absent => true,
        }
    }

    /// Whether there is anything but empty lines before a place.
    fn has_content(&self, end: usize) -> bool {
        self.pending[..end].iter().any(|byte| !matches!(byte, b'\n' | b'\r'))
    }

    /// Reads on after a row that does not end within what is pending.
    fn read_more(&mut self) -> Result<()> {
        if self.filled > LONGEST_ROW {
            return Err(Error::RowTooLong {
                name: self.name.clone(),
                at: self.handed_out,
                most: LONGEST_ROW,
                is_quoted: memchr::memchr(b'"', &self.pending[..self.filled]).is_some(),
            });
        }
        self.fill((self.filled * 2 + self.piece).min(LONGEST_ROW + 1))
    }
}

impl<R: Read> Source for Reader<R> {
    type Error = Error;
    type Chunk = Vec<u8>;
    type Parser = TextParser;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn has_row_bytes(&self) -> bool {
        true
    }

    fn parser(&self) -> TextParser {
        TextParser::new(self.headers.clone(), self.layout.dialect, &self.options)
    }

    fn read_chunk(&mut self, piece: &mut Vec<u8>) -> Result<bool> {
        if !self.at_end && self.filled < self.piece {
            self.fill(self.piece)?;
        }
        let end = loop {
            if self.at_end {
                break self.filled;
            }
            match last_row_end(self.pending(), self.layout.dialect.delimiter) {
                Some(end) => break end,
                None => self.read_more()?,
            }
        };
        // The bytes of the last chunk are overwritten, so that the buffer need not be cleared.
        let rest = &self.pending[end..self.filled];
        if piece.len() < rest.len() {
            piece.resize(rest.len(), 0);
        }
        piece[..rest.len()].copy_from_slice(rest);
        self.filled = rest.len();
        mem::swap(&mut self.pending, piece);
        piece.truncate(end);
        self.handed_out += end as u64;
        Ok(end > 0)
    }

    fn before(&self) -> Before {
        self.before
    }

    fn passed(&mut self, rows: u64, lines: u64) {
        self.before.rows += rows;
        self.before.lines += lines;
    }
}
