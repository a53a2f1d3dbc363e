//! Finding rows and cells in delimited text.
//!
//! A cell is a slice of the text, and nothing is copied, unless it has quotes within its quotes.
//! What a cell is, is settled by the csv crate's reader; a test and a fuzz target hold this scanner
//! to it. In its words: a row ends at `\n`, `\r` or `\r\n`, and lines with nothing in them are no
//! rows. A cell that begins with a quote goes on to the next quote that is not doubled, and what
//! stands behind that up to the delimiter belongs to the cell as it is. In a cell that begins
//! otherwise quotes mean nothing.

use gather_keys_core::table::{RowBytes, Span};

use super::marks::{Anywhere, Looks, Marks, QUOTE, STRIDE};

/// Goes through a piece of text row by row.
#[derive(Debug)]
pub(super) struct Scan<'p, L> {
    looks: L,
    bytes: &'p [u8],
    delimiter: u8,
    /// Where the next row, or empty line, begins.
    at: usize,
    /// How many line ends were passed.
    lines: u64,
    window: Window,
    /// The byte before each cell of a row that is being looked at, and the byte behind the last one, as
    /// many as are of interest; what stands behind them is of rows before.
    bounds: Vec<u32>,
    /// Its cells, where it has quoted ones.
    quoted: Vec<Span>,
}

/// What stands in so many bytes of a text, a bit for each.
#[derive(Debug, Default)]
struct Window {
    /// The first of the bytes.
    base: usize,
    delimiters: u64,
    line_ends: u64,
    /// Quotes that open a cell: those behind a delimiter or a line end.
    opening: u64,
}

/// Which cells of a row are of interest.
#[derive(Debug, Clone, Default)]
pub(super) struct Wanted {
    /// Their columns, ascending; `None` when all are.
    columns: Option<Vec<usize>>,
    /// How many cells of a row have to be looked at.
    upto: usize,
}

impl Wanted {
    /// All cells.
    pub(super) fn all() -> Self {
        Self { columns: None, upto: usize::MAX }
    }

    /// Cells of these columns, which ascend.
    pub(super) fn only(columns: Vec<usize>) -> Self {
        let upto = columns.last().map_or(0, |last| last + 1);
        Self { columns: Some(columns), upto }
    }

    /// How many cells they are of a row, unless they are all.
    pub(super) fn count(&self) -> Option<usize> {
        self.columns.as_ref().map(Vec::len)
    }

    fn holds(&self, column: usize) -> bool {
        self.columns.as_ref().is_none_or(|columns| columns.binary_search(&column).is_ok())
    }
}

/// What stands next.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Next {
    /// A row, the line on which it begins, counted from 0, and how many cells it has.
    Row { bytes: RowBytes, line: u64, cells: usize },
    /// No further row.
    End,
    /// The text ends within a quote: so many whole cells are before it, and the row begins on
    /// `row_line` and the quote on `line`.
    OpenQuote { cells: usize, row_line: u64, line: u64 },
}

impl<'p> Scan<'p, Anywhere> {
    /// Begins at the first byte, which is the beginning of a row.
    pub(super) fn new(bytes: &'p [u8], delimiter: u8) -> Self {
        Self::by(Anywhere, bytes, delimiter)
    }
}

impl<'p, L: Looks> Scan<'p, L> {
    /// Begins at the first byte, which is the beginning of a row, and looks at bytes in this way.
    #[inline(always)]
    pub(super) fn by(looks: L, bytes: &'p [u8], delimiter: u8) -> Self {
        let mut scan = Self {
            looks,
            bytes,
            delimiter,
            at: 0,
            lines: 0,
            window: Window::default(),
            bounds: Vec::new(),
            quoted: Vec::new(),
        };
        scan.look(0);
        scan
    }

    /// How many line ends were passed.
    pub(super) fn lines(&self) -> u64 {
        self.lines
    }

    /// Takes the next row and appends those of its cells that are wanted, unless it has fewer cells
    /// than that. A cell that does not stand in the text as it is goes to `aside`, and its span
    /// begins behind the text.
    #[inline(always)]
    pub(super) fn next(
        &mut self,
        wanted: &Wanted,
        cells: &mut Vec<Span>,
        aside: &mut Vec<u8>,
    ) -> Next {
        self.skip_empty_lines();
        let start = self.at;
        if start == self.bytes.len() {
            return Next::End;
        }
        if start >= self.window.base + STRIDE {
            self.look(start);
        }
        // As many as there may be in what is looked at first.
        if self.bounds.len() <= STRIDE {
            self.bounds.resize(STRIDE + 1, 0);
        }
        self.bounds[0] = (start as u32).wrapping_sub(1);
        let (mut column, mut from) = (0, start);
        let end = loop {
            let Window { base, delimiters, line_ends, opening } = self.window;
            // The bits of the row: from where it begins, or goes on, to where it ends.
            let behind = !0 << (from - base);
            let line_ends = line_ends & behind;
            let before_end = line_ends.wrapping_sub(1) & !line_ends;
            let row = behind & if line_ends == 0 { !0 } else { before_end };
            if opening & row != 0 {
                return self.next_with_quotes(wanted, cells, aside);
            }
            let mut delimiters = delimiters & row;
            let more = delimiters.count_ones() as usize;
            if column < wanted.upto {
                if self.bounds.len() <= column + STRIDE {
                    self.bounds.resize(column + STRIDE + 1, 0);
                }
                let room = more.min(wanted.upto - column);
                for bound in &mut self.bounds[column + 1..][..room] {
                    *bound = base as u32 + delimiters.trailing_zeros();
                    delimiters &= delimiters.wrapping_sub(1);
                }
            }
            column += more;
            if line_ends != 0 {
                break base + line_ends.trailing_zeros() as usize;
            }
            from = base + STRIDE;
            if from >= self.bytes.len() {
                break self.bytes.len();
            }
            self.look(from);
        };
        let count = column + 1;
        if count <= wanted.upto {
            match self.bounds.get_mut(count) {
                Some(bound) => *bound = end as u32,
                None => self.bounds.push(end as u32),
            }
        }
        let span = |bounds: [u32; 2]| Span { start: bounds[0].wrapping_add(1), end: bounds[1] };
        match &wanted.columns {
            None => {
                let pairs = self.bounds[..=count].windows(2);
                cells.extend(pairs.map(|pair| span([pair[0], pair[1]])));
            }
            Some(columns) if wanted.upto <= count => {
                let bounds = &self.bounds[..=wanted.upto];
                cells.extend(columns.iter().map(|&at| span([bounds[at], bounds[at + 1]])));
            }
            Some(_) => {}
        }
        let line = self.lines;
        Next::Row { bytes: self.end_row(start, end), line, cells: count }
    }

    /// Notes that a row ends, and passes its line end.
    #[inline(always)]
    fn end_row(&mut self, start: usize, end: usize) -> RowBytes {
        let length = line_end(&self.bytes[end..]).unwrap_or(0);
        self.lines += u64::from(length > 0);
        self.at = end + length;
        RowBytes { start: start as u32, content_end: end as u32, end: self.at as u32 }
    }

    #[inline(always)]
    fn skip_empty_lines(&mut self) {
        while let Some(length) = line_end(&self.bytes[self.at..]) {
            self.at += length;
            self.lines += 1;
        }
    }

    /// The same as [`Scan::next`] for a row with quoted cells, cell by cell.
    #[cold]
    fn next_with_quotes(
        &mut self,
        wanted: &Wanted,
        cells: &mut Vec<Span>,
        aside: &mut Vec<u8>,
    ) -> Next {
        let (start, line) = (self.at, self.lines);
        // The quote may stand well behind the beginning of the row.
        self.look(start);
        self.quoted.clear();
        let mut cell = start;
        let end = loop {
            let column = self.quoted.len();
            let end = if self.bytes.get(cell) == Some(&QUOTE) {
                let Some((span, end)) = self.quoted_cell(cell, wanted.holds(column), aside) else {
                    return Next::OpenQuote { cells: column, row_line: line, line: self.lines };
                };
                self.quoted.push(span);
                end
            } else {
                let end = self.next_mark(cell);
                self.quoted.push(span(cell, end));
                end
            };
            match self.bytes.get(end) {
                Some(b'\n' | b'\r') | None => break end,
                Some(_) => cell = end + 1,
            }
        };
        let count = self.quoted.len();
        match &wanted.columns {
            None => cells.extend_from_slice(&self.quoted),
            Some(columns) if wanted.upto <= count => {
                cells.extend(columns.iter().map(|&column| self.quoted[column]));
            }
            Some(_) => {}
        }
        Next::Row { bytes: self.end_row(start, end), line, cells: count }
    }

    /// Takes the cell whose quote opens at `start`: where it stands, and where it ends with all
    /// that belongs to it. `None` when the quote is never closed.
    fn quoted_cell(
        &mut self,
        start: usize,
        wanted: bool,
        aside: &mut Vec<u8>,
    ) -> Option<(Span, usize)> {
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
        let end = self.next_mark(close + 1);
        let within = &bytes[start + 1..close];
        self.lines += memchr::memchr_iter(b'\n', within).count() as u64;
        if end == close + 1 && !doubled || !wanted {
            return Some((span(start + 1, close), end));
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

    /// The first delimiter or line end from a byte on, or the end of the text.
    fn next_mark(&mut self, from: usize) -> usize {
        if from >= self.bytes.len() {
            return self.bytes.len();
        }
        if from >= self.window.base + STRIDE {
            self.look(from);
        }
        let mut from = from;
        loop {
            let Window { base, delimiters, line_ends, .. } = self.window;
            let marks = (delimiters | line_ends) & (!0 << (from - base));
            if marks != 0 {
                return base + marks.trailing_zeros() as usize;
            }
            from = base + STRIDE;
            if from >= self.bytes.len() {
                return self.bytes.len();
            }
            self.look(from);
        }
    }

    /// Looks at the bytes among which one stands.
    #[inline(always)]
    fn look(&mut self, at: usize) {
        let base = at - at % STRIDE;
        let begins = match base.checked_sub(1).map(|before| self.bytes[before]) {
            None => true,
            Some(before) => before == self.delimiter || matches!(before, b'\n' | b'\r'),
        };
        let rest = &self.bytes[base..];
        let mut last = [0; STRIDE];
        let bytes = rest.first_chunk::<STRIDE>().unwrap_or_else(|| {
            last[..rest.len()].copy_from_slice(rest);
            &last
        });
        let Marks { delimiters, line_ends, quotes } = self.looks.marks(bytes, self.delimiter);
        let opening = quotes & ((delimiters | line_ends) << 1 | u64::from(begins));
        self.window = Window { base, delimiters, line_ends, opening };
    }
}

#[inline]
fn span(start: usize, end: usize) -> Span {
    Span { start: start as u32, end: end as u32 }
}

/// How many bytes of line end stand at the beginning: `\n`, `\r\n` or `\r`.
#[inline(always)]
fn line_end(bytes: &[u8]) -> Option<usize> {
    match bytes {
        [b'\r', b'\n', ..] => Some(2),
        [b'\n' | b'\r', ..] => Some(1),
        _ => None,
    }
}
