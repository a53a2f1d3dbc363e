//! Finding rows and cells in delimited text.
//!
//! A cell is a slice of the text, and nothing is copied, unless it has quotes within its quotes.
//! What a cell is, is settled by the csv crate's reader; a test and a fuzz target hold this scanner
//! to it. In its words: a row ends at `\n`, `\r` or `\r\n`, and lines with nothing in them are no
//! rows. A cell that begins with a quote goes on to the next quote that is not doubled, and what
//! follows that up to the delimiter belongs to the cell as it is. In a cell that begins
//! otherwise quotes mean nothing.

use gather_keys_core::table::{RowBytes, Span};

use super::byte_classifier::{Anywhere, ByteClassifier, QUOTE};
use super::structural_index::StructuralIndex;

/// Goes through a piece of text row by row.
#[derive(Debug)]
pub(super) struct Scan<'p, L> {
    classifier: L,
    bytes: &'p [u8],
    delimiter: u8,
    /// The beginning of the next row, or empty line.
    at: usize,
    /// How many line ends were passed.
    lines: u64,
    /// The structural index of the bytes from some row on.
    strip: StructuralIndex,
    /// The cells of a row that has quoted ones.
    quoted: Vec<Span>,
}

/// The workspace of a scan; kept from text to text.
#[derive(Debug, Default)]
pub(super) struct ScanSpace {
    strip: StructuralIndex,
    quoted: Vec<Span>,
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

    /// Cells of these columns, in ascending order.
    pub(super) fn only(columns: Vec<usize>) -> Self {
        let upto = columns.last().map_or(0, |last| last + 1);
        Self { columns: Some(columns), upto }
    }

    /// How many cells they are of a row, unless they are all.
    pub(super) fn count(&self) -> Option<usize> {
        self.columns.as_ref().map(Vec::len)
    }

    /// Adds the wanted ones of the cells between these marks, of which there are enough.
    #[inline(always)]
    pub(super) fn push(&self, bounds: &[u32], cells: &mut Vec<Span>) {
        match &self.columns {
            None => cells.extend(bounds.windows(2).map(|pair| between(pair[0], pair[1]))),
            Some(columns) => {
                cells.reserve(columns.len());
                for &at in columns {
                    cells.push(between(bounds[at], bounds[at + 1]));
                }
            }
        }
    }

    fn holds(&self, column: usize) -> bool {
        self.columns.as_ref().is_none_or(|columns| columns.binary_search(&column).is_ok())
    }
}

/// The next thing in the text.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Next {
    /// A row, the line on which it begins, counted from 0, and how many cells it has.
    Row { bytes: RowBytes, line: u64, cells: usize },
    /// No further row.
    End,
    /// The text ends within quotes: `cells` whole cells precede it, the row begins on `row_line` and the
    /// quoted cell on `line`.
    OpenQuote { cells: usize, row_line: u64, line: u64 },
}

impl<'p> Scan<'p, Anywhere> {
    /// Begins at the first byte, which is the beginning of a row.
    pub(super) fn new(bytes: &'p [u8], delimiter: u8) -> Self {
        Self::by(Anywhere, bytes, delimiter, ScanSpace::default())
    }
}

impl<'p, L: ByteClassifier> Scan<'p, L> {
    /// Begins at the first byte, which is the beginning of a row, and classifier at bytes in this way.
    #[inline(always)]
    pub(super) fn by(classifier: L, bytes: &'p [u8], delimiter: u8, space: ScanSpace) -> Self {
        let ScanSpace { strip, quoted } = space;
        Self { classifier, bytes, delimiter, at: 0, lines: 0, strip, quoted }
    }

    /// Returns the workspace, for another text.
    pub(super) fn into_space(self) -> ScanSpace {
        ScanSpace { strip: self.strip.emptied(), quoted: self.quoted }
    }

    /// How many line ends were passed.
    pub(super) fn lines(&self) -> u64 {
        self.lines
    }

    /// Takes the next row and appends those of its cells that are wanted, unless it has fewer cells
    /// than that. A cell that are not in the text as it is goes to `aside`, and its span
    /// begins after the text.
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
        self.strip.come_to(start);
        let bounds = loop {
            if let Some(bounds) = self.strip.row() {
                break bounds;
            }
            if !self.strip.look(self.classifier, (self.bytes, self.delimiter), start) {
                return self.next_by_cells(wanted, cells, aside);
            }
        };
        let [.., end] = *bounds else { return Next::End };
        if self.strip.opens_before(end) {
            return self.next_by_cells(wanted, cells, aside);
        }
        let count = bounds.len() - 1;
        let mut push = |at: usize| cells.push(between(bounds[at], bounds[at + 1]));
        match &wanted.columns {
            None => (0..count).for_each(push),
            Some(columns) if wanted.upto <= count => columns.iter().for_each(|&at| push(at)),
            Some(_) => {}
        }
        self.strip.pass_row();
        let line = self.lines;
        Next::Row { bytes: self.end_row(start, end as usize), line, cells: count }
    }

    /// Takes the next rows as far as they have `cells` cells without an opening quote and end with one
    /// line feed. Calls `take` for each with the positions around its cells, and returns how many there
    /// are. The row after them is for [`Scan::next`].
    #[inline(always)]
    pub(super) fn plain_rows(
        &mut self,
        cells: usize,
        mut take: impl FnMut(RowBytes, &[u32]),
    ) -> u64 {
        let (marks, mut before, ends, quote) = self.strip.rows();
        let mut rows = 0;
        // The structural index begins where the next row does, unless that row was taken cell by cell.
        if marks.get(before).is_some_and(|mark| mark.wrapping_add(1) as usize == self.at) {
            for &end in ends {
                let Some(bounds @ [first, .., last]) = marks.get(before..=end as usize) else {
                    break;
                };
                let (start, content_end) = (first.wrapping_add(1), *last);
                let is_plain = bounds.len() == cells + 1
                    && start < content_end
                    && quote.is_none_or(|quote| content_end < quote)
                    && matches!(self.bytes[content_end as usize..], [b'\n', behind, ..]
                        if !matches!(behind, b'\r' | b'\n'));
                if !is_plain {
                    break;
                }
                take(RowBytes { start, content_end, end: content_end + 1 }, bounds);
                before = end as usize;
                rows += 1;
            }
        }
        if rows > 0 {
            self.at = marks[before] as usize + 1;
            self.lines += rows as u64;
            self.strip.pass_rows(rows, before);
        }
        rows as u64
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

    /// [`Scan::next`] for a row with quoted cells or a very long one, cell by cell.
    #[cold]
    fn next_by_cells(
        &mut self,
        wanted: &Wanted,
        cells: &mut Vec<Span>,
        aside: &mut Vec<u8>,
    ) -> Next {
        let (start, line) = (self.at, self.lines);
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

    /// Takes the cell whose quote opens at `start`: where it is, and where it ends with all
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
    fn next_mark(&self, from: usize) -> usize {
        let rest = &self.bytes[from..];
        let is_mark = |byte: u8| byte == self.delimiter || matches!(byte, b'\n' | b'\r');
        // Behind a quote it is nearly always the next byte.
        let is_next = rest.first().is_none_or(|&first| is_mark(first));
        let ahead = || memchr::memchr3(self.delimiter, b'\n', b'\r', rest);
        from + if is_next { 0 } else { ahead().unwrap_or(rest.len()) }
    }
}

/// The cell between two marks.
#[inline(always)]
fn between(before: u32, behind: u32) -> Span {
    Span { start: before.wrapping_add(1), end: behind }
}

#[inline]
fn span(start: usize, end: usize) -> Span {
    Span { start: start as u32, end: end as u32 }
}

/// How many bytes of line end are at the beginning: `\n`, `\r\n` or `\r`.
#[inline(always)]
fn line_end(bytes: &[u8]) -> Option<usize> {
    match bytes {
        [b'\r', b'\n', ..] => Some(2),
        [b'\n' | b'\r', ..] => Some(1),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Texts of short and long rows, with quotes and line ends of all kinds in some.
    fn texts() -> impl Strategy<Value = String> {
        let piece = prop_oneof![
            4 => "[ab,\n]{0,12}",
            2 => "(\"[,\n]\"|,\"\"|\n\"a\"|\r\n|\r){1,3}",
            1 => "[b,]{60,300}",
        ];
        prop::collection::vec(piece, 0..40).prop_map(|pieces| pieces.concat())
    }

    proptest! {
        /// However long rows are, what is read from the marks of many at once is what going cell by cell
        /// finds.
        #[test]
        fn rows_are_the_same_cell_by_cell(
            text in texts(),
            columns in prop::option::of(prop::collection::btree_set(0..9_usize, 0..4)),
        ) {
            let wanted = columns.map_or_else(Wanted::all, |all| Wanted::only(all.into_iter().collect()));
            let mut scans = [(); 2].map(|()| Scan::new(text.as_bytes(), b','));
            let (mut cells, mut aside) = ([vec![], vec![]], [vec![], vec![]]);
            loop {
                let next = scans[0].next(&wanted, &mut cells[0], &mut aside[0]);
                let [_, scan] = &mut scans;
                scan.skip_empty_lines();
                let by_cells = if scan.at == text.len() {
                    Next::End
                } else {
                    scan.next_by_cells(&wanted, &mut cells[1], &mut aside[1])
                };
                prop_assert_eq!(&next, &by_cells);
                prop_assert_eq!(&cells[0], &cells[1]);
                prop_assert_eq!(&aside[0], &aside[1]);
                if !matches!(next, Next::Row { .. }) {
                    break;
                }
            }
            prop_assert_eq!(scans[0].lines(), scans[1].lines());
        }

        /// Taking plain rows together changes nothing in what is found.
        #[test]
        fn rows_are_the_same_together(text in texts(), cells in 1..5_usize) {
            let all = |together: bool| {
                let mut scan = Scan::new(text.as_bytes(), b',');
                let (wanted, mut found, mut rows) = (Wanted::all(), Vec::new(), Vec::new());
                loop {
                    if together {
                        let line = scan.lines();
                        let first = rows.len();
                        scan.plain_rows(cells, |bytes, bounds| {
                            wanted.push(bounds, &mut found);
                            rows.push(Next::Row { bytes, line: line + (rows.len() - first) as u64, cells });
                        });
                    }
                    rows.push(scan.next(&wanted, &mut found, &mut Vec::new()));
                    if !matches!(rows.last(), Some(Next::Row { .. })) {
                        return (rows, found, scan.lines());
                    }
                }
            };
            prop_assert_eq!(all(true), all(false));
        }
    }

    #[test]
    fn plain_rows_are_taken_together() {
        for (behind, cells, expected) in [
            ("", 2, 9),
            ("", 3, 0),
            ("\"a\",b\n", 2, 10),
            ("a\n", 2, 10),
            ("\nc,d\n", 2, 9),
            ("e,f", 2, 10),
        ] {
            let text = "a,b\n".repeat(11) + behind;
            let mut scan = Scan::new(text.as_bytes(), b',');
            scan.next(&Wanted::all(), &mut Vec::new(), &mut Vec::new());
            assert_eq!(scan.plain_rows(cells, |_, _| {}), expected, "{behind:?} {cells}");
        }
    }
}
