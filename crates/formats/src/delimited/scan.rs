//! Finding rows and cells in delimited text.
//!
//! A cell is a slice of the text, and nothing is copied, unless it has quotes within its quotes.
//! What a cell is, is settled by the csv crate's reader; a test and a fuzz target hold this scanner
//! to it. In its words: a row ends at `\n`, `\r` or `\r\n`, and lines with nothing in them are no
//! rows. A cell that begins with a quote goes on to the next quote that is not doubled, and what
//! stands behind that up to the delimiter belongs to the cell as it is. In a cell that begins
//! otherwise quotes mean nothing.

use gather_keys_core::table::{RowBytes, Span};
use wide::u8x16;

const QUOTE: u8 = b'"';

/// How many bytes are looked at in one go.
const STRIDE: usize = 64;

/// Goes through a piece of text row by row.
#[derive(Debug)]
pub(super) struct Scan<'p> {
    bytes: &'p [u8],
    marks: Marks,
    /// Where the next row, or empty line, begins.
    at: usize,
    /// How many line ends were passed.
    lines: u64,
}

/// The delimiters and line ends of a text, found many bytes at a time.
#[derive(Debug)]
struct Marks {
    delimiter: u8x16,
    /// Where the bytes begin of which `found` tells.
    base: usize,
    /// A bit for each byte from `base` on that is a delimiter or ends a line.
    found: u64,
}

/// What stands next.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Next {
    /// A row, and the line on which it begins, counted from 0.
    Row { bytes: RowBytes, line: u64 },
    /// No further row.
    End,
    /// The text ends within a quote: so many whole cells are before it, and the row begins on
    /// `row_line` and the quote on `line`.
    OpenQuote { cells: usize, row_line: u64, line: u64 },
}

impl<'p> Scan<'p> {
    /// Begins at the first byte, which is the beginning of a row.
    pub(super) fn new(bytes: &'p [u8], delimiter: u8) -> Self {
        let delimiter = u8x16::splat(delimiter);
        Self { bytes, marks: Marks { delimiter, base: 0, found: 0 }, at: 0, lines: 0 }
            .with_marks_from(0)
    }

    fn with_marks_from(mut self, from: usize) -> Self {
        self.marks.seek(self.bytes, from);
        self
    }

    /// How many line ends were passed.
    pub(super) fn lines(&self) -> u64 {
        self.lines
    }

    /// Takes the next row and appends its cells. A cell that does not stand in the text as it is
    /// goes to `aside`, and its span begins behind the text; but it is left out, and its span means
    /// nothing, when `wanted` is not empty and says so of its column.
    #[inline]
    pub(super) fn next(
        &mut self,
        cells: &mut Vec<Span>,
        aside: &mut Vec<u8>,
        wanted: &[bool],
    ) -> Next {
        self.skip_empty_lines();
        if self.at == self.bytes.len() {
            return Next::End;
        }
        let (start, line, before) = (self.at, self.lines, cells.len());
        let mut cell = start;
        loop {
            let end = if self.bytes.get(cell) == Some(&QUOTE) {
                let column = cells.len() - before;
                let is_wanted = wanted.get(column).copied().unwrap_or(wanted.is_empty());
                match self.quoted(cell, is_wanted, aside) {
                    Some((span, end)) => {
                        cells.push(span);
                        end
                    }
                    None => {
                        cells.truncate(before);
                        let (row_line, line) = (line, self.lines);
                        return Next::OpenQuote { cells: column, row_line, line };
                    }
                }
            } else {
                let end = self.marks.next(self.bytes);
                cells.push(span(cell, end));
                end
            };
            match self.bytes.get(end) {
                Some(b'\n' | b'\r') | None => {
                    let mut row_end = end;
                    if let Some(length) = line_end(&self.bytes[end..]) {
                        row_end += length;
                        self.lines += 1;
                        if length == 2 {
                            self.marks.next(self.bytes);
                        }
                    }
                    self.at = row_end;
                    let bytes = RowBytes {
                        start: start as u32,
                        content_end: end as u32,
                        end: row_end as u32,
                    };
                    return Next::Row { bytes, line };
                }
                Some(_) => cell = end + 1,
            }
        }
    }

    #[inline]
    fn skip_empty_lines(&mut self) {
        while let Some(length) = line_end(&self.bytes[self.at..]) {
            self.at += length;
            self.lines += 1;
            for _ in 0..length {
                self.marks.next(self.bytes);
            }
        }
    }

    /// Takes the cell whose quote opens at `start`: where it stands, and where it ends with all
    /// that belongs to it. `None` when the quote is never closed.
    #[cold]
    fn quoted(&mut self, start: usize, wanted: bool, aside: &mut Vec<u8>) -> Option<(Span, usize)> {
        let bytes = self.bytes;
        let mut close = start + 1;
        let mut doubled = false;
        loop {
            close += memchr::memchr(QUOTE, &bytes[close..])?;
            if bytes.get(close + 1) != Some(&QUOTE) {
                break;
            }
            doubled = true;
            close += 2;
        }
        self.marks.seek(bytes, close + 1);
        let end = self.marks.next(bytes);
        let within = &bytes[start + 1..close];
        self.lines += memchr::memchr_iter(b'\n', within).count() as u64;
        if end == close + 1 && !doubled {
            return Some((span(start + 1, close), end));
        }
        if !wanted {
            return Some((span(start, end), end));
        }
        let from = aside.len();
        let mut rest = within;
        while let Some(quote) = memchr::memchr(QUOTE, rest) {
            aside.extend_from_slice(&rest[..=quote]);
            rest = &rest[quote + 2..];
        }
        aside.extend_from_slice(rest);
        aside.extend_from_slice(&bytes[close + 1..end]);
        Some((span(bytes.len() + from, bytes.len() + aside.len()), end))
    }
}

impl Marks {
    /// Goes on to look from a byte on.
    fn seek(&mut self, bytes: &[u8], from: usize) {
        self.base = from;
        self.found = self.look(bytes, from);
    }

    /// The next delimiter or line end, or the end of the text.
    #[inline]
    fn next(&mut self, bytes: &[u8]) -> usize {
        while self.found == 0 {
            self.base += STRIDE;
            if self.base >= bytes.len() {
                self.base = bytes.len();
                return bytes.len();
            }
            self.found = self.look(bytes, self.base);
        }
        let at = self.base + self.found.trailing_zeros() as usize;
        self.found &= self.found - 1;
        at
    }

    #[inline]
    fn look(&self, bytes: &[u8], from: usize) -> u64 {
        if let Some(whole) = bytes.get(from..).and_then(<[u8]>::first_chunk::<STRIDE>) {
            return self.look_at(whole);
        }
        let mut last = [0; STRIDE];
        let rest = bytes.get(from..).unwrap_or_default();
        last[..rest.len()].copy_from_slice(rest);
        self.look_at(&last)
    }

    #[inline]
    fn look_at(&self, bytes: &[u8; STRIDE]) -> u64 {
        let (feed, carriage) = (u8x16::splat(b'\n'), u8x16::splat(b'\r'));
        let mut found = 0;
        for (nth, lane) in bytes.as_chunks::<16>().0.iter().enumerate() {
            let lane = u8x16::new(*lane);
            let marks = lane.simd_eq(self.delimiter) | lane.simd_eq(feed) | lane.simd_eq(carriage);
            found |= u64::from(marks.to_bitmask()) << (nth * 16);
        }
        found
    }
}

#[inline]
fn span(start: usize, end: usize) -> Span {
    Span { start: start as u32, end: end as u32 }
}

/// How many bytes of line end stand at the beginning: `\n`, `\r\n` or `\r`.
#[inline]
fn line_end(bytes: &[u8]) -> Option<usize> {
    match bytes {
        [b'\r', b'\n', ..] => Some(2),
        [b'\n' | b'\r', ..] => Some(1),
        _ => None,
    }
}
