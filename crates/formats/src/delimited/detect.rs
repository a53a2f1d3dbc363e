//! Finding the delimiter and the header row from how a file begins.

use gather_keys_core::table::{Headers, Span};

use super::cut::last_row_end;
use super::scan::{Next, Scan, Wanted};

/// The delimiters that are looked for, the most usual first.
const DELIMITERS: [u8; 4] = [b',', b';', b'\t', b'|'];

/// How many rows are looked at.
const ROWS: usize = 100;

/// The delimiter with which the first rows all have the same number of cells, preferably many, with or
/// without lines of a title before them. Otherwise the delimiter that splits the most rows, and of
/// several the one that splits the header row most. `whole` says that `piece` is the whole file.
pub(super) fn delimiter(piece: &[u8], whole: bool) -> u8 {
    let best = DELIMITERS.iter().rev().max_by_key(|&&delimiter| {
        let shape = shape(piece, whole, delimiter);
        let width = |rows: &[Shape]| {
            let width = rows.first().map_or(0, |row| row.cells);
            (width > 1 && rows.iter().all(|row| row.cells == width)).then_some(width)
        };
        let title = shape.iter().take_while(|row| row.cells == 1).count();
        let headers = shape.first().map_or(0, |row| row.cells);
        let split = shape.iter().filter(|row| row.cells > 1).count();
        (width(&shape), width(&shape[title..]), split, headers)
    });
    best.copied().unwrap_or(DELIMITERS[0])
}

/// The delimiter that a first line like `sep=;` names, and where the next line begins. Spreadsheets write such a line
/// and read it; it is no row.
pub(super) fn named_delimiter(piece: &[u8]) -> Option<(u8, usize)> {
    let piece_of = |from: usize| piece.get(from..);
    let begins = piece.get(..4)?.eq_ignore_ascii_case(b"sep=");
    let delimiter =
        *piece.get(4).filter(|byte| begins && byte.is_ascii() && !b"\"\r\n\0".contains(byte))?;
    let end = match piece_of(5)? {
        [b'\r', b'\n', ..] => 7,
        [b'\n' | b'\r', ..] => 6,
        _ => return None,
    };
    Some((delimiter, end))
}

/// How many lines of a title are before the header row: rows of one cell, or of three and more of
/// which at most one is not blank, before at least two rows of equally many cells.
pub(super) fn title_rows(piece: &[u8], whole: bool, delimiter: u8) -> usize {
    let shape = shape(piece, whole, delimiter);
    let is_title = |row: &&Shape| row.cells == 1 || (row.cells > 2 && row.filled <= 1);
    let title = shape.iter().take_while(is_title).count();
    let (before, table) = shape.split_at(title);
    let width = table.first().map_or(0, |row| row.cells);
    let is_table = table.len() > 1 && table.iter().all(|row| row.cells == width);
    let fits = before.iter().all(|row| row.cells == 1 || row.cells == width);
    if is_table && fits && title <= MOST_TITLE { title } else { 0 }
}

/// The delimiter and how many rows are before the header row, where that is the first of the first rows that holds most
/// of the headers `asked` for; `preferred` is tried before the other delimiters, and alone if it `is_said`.
pub(super) fn holder(
    piece: &[u8],
    whole: bool,
    asked: &[String],
    (preferred, is_said): (u8, bool),
) -> Option<(u8, usize)> {
    let others = DELIMITERS.into_iter().filter(|other| *other != preferred && !is_said);
    let (mut best, mut most) = (None, 0);
    for delimiter in [preferred].into_iter().chain(others) {
        if most == asked.len() {
            break;
        }
        each_row(piece, whole, delimiter, |at, row| {
            let held = Headers::new("", row).held(asked);
            if held > most {
                (best, most) = (Some((delimiter, at)), held);
            }
            most < asked.len()
        });
    }
    best
}

/// Calls `take` for each of the first rows with its number and cells, while it wants more.
fn each_row(
    piece: &[u8],
    whole: bool,
    delimiter: u8,
    mut take: impl FnMut(usize, Vec<String>) -> bool,
) {
    let end = if whole { Some(piece.len()) } else { last_row_end(piece, delimiter) };
    let piece = &piece[..end.unwrap_or(piece.len())];
    let mut scan = Scan::new(piece, delimiter);
    let (wanted, mut spans, mut aside) = (Wanted::all(), Vec::new(), Vec::new());
    for at in 0..ROWS {
        let Next::Row { .. } = scan.next(&wanted, &mut spans, &mut aside) else { return };
        // Cells with quotes within quotes are after the text.
        let text = |span: &Span| match piece.len().checked_sub(span.start as usize) {
            Some(1..) => piece.get(span.start as usize..span.end as usize),
            _ => aside.get(span.start as usize - piece.len()..span.end as usize - piece.len()),
        };
        let cell = |span| String::from_utf8_lossy(text(span).unwrap_or_default()).into_owned();
        if !take(at, spans.iter().map(cell).collect()) {
            return;
        }
        spans.clear();
    }
}

/// The beginning of a line, counted from 1, in a text with usual line ends.
pub(super) fn line_start(text: &[u8], line: u64) -> usize {
    let ends = memchr::memchr_iter(b'\n', text);
    let before = ends.take(line.saturating_sub(1) as usize);
    before.last().map_or(0, |end| end + 1)
}

/// How many lines a title may have.
const MOST_TITLE: usize = 20;

/// The shape of a row.
struct Shape {
    cells: usize,
    /// How many of them are not blank.
    filled: usize,
}

/// The shape of each of the first rows.
fn shape(piece: &[u8], whole: bool, delimiter: u8) -> Vec<Shape> {
    let mut shape = Vec::new();
    each_row(piece, whole, delimiter, |_, row| {
        let filled = row.iter().filter(|cell| !cell.is_empty()).count();
        shape.push(Shape { cells: row.len(), filled });
        true
    });
    shape
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_delimiter_is_found() {
        for (text, want) in [
            ("a,b\n1,2\n", b','),
            ("a;b\n1;2\n", b';'),
            ("a\tb\n1\t2\n", b'\t'),
            ("a|b\n1|2\n", b'|'),
            ("only\n1\n2\n", b','),
            ("", b','),
            // The header row alone would say comma.
            ("Batch;Weight, kg, net\n1;2,5\n", b';'),
            ("\"a;b;c\",d\n1,2\n", b','),
            ("a,b;c\n\n1,2;3\n4,5;6,7\n", b';'),
            // No delimiter fits all rows: the one that splits the headers most.
            ("a;b;c\n1;2\n", b';'),
            ("Harvest of 2026, all valleys\n\nBatch;Kg\n1;2,5\n2;3,5\n", b';'),
        ] {
            assert_eq!(char::from(delimiter(text.as_bytes(), true)), char::from(want), "{text:?}");
        }
    }

    #[test]
    fn a_first_line_may_name_the_delimiter() {
        for (text, want) in [
            ("sep=;\r\nA;B\r\n", Some((b';', 7))),
            ("SEP=|\nA|B\n", Some((b'|', 6))),
            ("sep=;", None),
            ("sep=;x\nA\n", None),
            ("sep\n", None),
            ("", None),
        ] {
            assert_eq!(named_delimiter(text.as_bytes()), want, "{text:?}");
        }
    }

    #[test]
    fn the_row_that_holds_what_is_asked_for_is_found() {
        let asked = ["tag".to_owned(), "Site".to_owned()];
        for (text, want) in [
            ("Harvest,2026-11-30\nCo-op,x\nSite,Tag\nFellside,1\n", Some((b',', 2))),
            ("Harvest, all of it\n\"Site\";\"Tag\"\nFellside;1\n", Some((b';', 1))),
            ("Site|\"Tag\"|Note\na,b|1|\n", Some((b'|', 0))),
            ("Harvest;x\nSite,Kg\n", Some((b',', 1))),
            ("Kg\n", None),
            ("", None),
        ] {
            assert_eq!(holder(text.as_bytes(), true, &asked, (b',', false)), want, "{text:?}");
        }
        assert_eq!(holder(b"Site;Tag\n", true, &asked, (b',', true)), None);
    }

    #[test]
    fn a_title_is_told_from_the_headers() {
        for (text, want) in [
            ("a,b\n1,2\n", 0),
            ("Harvest\nof 2026\n\na,b\n1,2\n", 2),
            ("Harvest,,\n,,\na,b,c\n1,2,3\n", 2),
            ("only\n1\n2\n", 0),
            // The rows after it have other numbers of cells: that is no title.
            ("name\na,b\nc,d,e\nf\n", 0),
            ("name\n\"a,b\"\n", 0),
            ("name\na,b\n", 0),
            ("a,\n1,2\n3,4\n", 0),
            // A header row with blanks in it is one all the same.
            ("a,,b\n1,2,3\n", 0),
        ] {
            assert_eq!(title_rows(text.as_bytes(), true, b','), want, "{text:?}");
        }
    }
}
