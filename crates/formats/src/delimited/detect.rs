//! Finding the delimiter from how a file begins.

use super::cut::last_row_end;
use super::scan::{Next, Scan, Wanted};

/// The delimiters that are looked for, the most usual first.
const DELIMITERS: [u8; 3] = [b',', b';', b'\t'];

/// How many rows are looked at.
const ROWS: usize = 100;

/// The delimiter under which the first rows all have the same number of cells, the more the
/// better; failing that the one that splits the header row most. `whole` says that `piece` is the
/// whole file.
pub(super) fn delimiter(piece: &[u8], whole: bool) -> u8 {
    let best = DELIMITERS.iter().rev().max_by_key(|&&delimiter| {
        let end = if whole { Some(piece.len()) } else { last_row_end(piece, delimiter) };
        let shape = shape(&piece[..end.unwrap_or(piece.len())], delimiter);
        let headers = shape.first().copied().unwrap_or(0);
        (headers > 1 && shape.iter().all(|&cells| cells == headers), headers)
    });
    best.copied().unwrap_or(DELIMITERS[0])
}

/// How many cells each of the first rows has.
fn shape(piece: &[u8], delimiter: u8) -> Vec<usize> {
    let mut scan = Scan::new(piece, delimiter);
    let (wanted, mut cells, mut aside) = (Wanted::only(Vec::new()), Vec::new(), Vec::new());
    let mut shape = Vec::new();
    while shape.len() < ROWS
        && let Next::Row { cells: count, .. } = scan.next(&wanted, &mut cells, &mut aside)
    {
        shape.push(count);
    }
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
            ("only\n1\n2\n", b','),
            ("", b','),
            // The header row alone would say comma.
            ("Batch;Weight, kg, net\n1;2,5\n", b';'),
            ("\"a;b;c\",d\n1,2\n", b','),
            ("a,b;c\n\n1,2;3\n4,5;6,7\n", b';'),
            // No delimiter fits all rows: the one that splits the headers most.
            ("a;b;c\n1;2\n", b';'),
        ] {
            assert_eq!(char::from(delimiter(text.as_bytes(), true)), char::from(want), "{text:?}");
        }
    }
}
