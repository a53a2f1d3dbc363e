//! Cells packed into one piece of text, each behind its length.
//!
//! This is the form in which keys and taken cells are kept and compared. Because every length
//! stands before its cell, packed cells can be told apart whatever they hold (`AB` + `C` is not
//! `A` + `BC`), and a record begins with a packed key only if it begins with exactly those parts.
//! The length is written in ASCII, six bits a character, so that packed cells are text like the
//! cells themselves.

/// Marks a length character that another one follows; without it the length ends here.
const MORE: u8 = 0x40;

/// How many characters the length of a cell takes at most.
const LONGEST_LENGTH: usize = 11;

/// Appends one cell to packed cells.
#[inline]
pub(crate) fn push(packed: &mut String, cell: &str) {
    packed.reserve(cell.len() + LONGEST_LENGTH);
    push_length(packed, cell.len());
    packed.push_str(cell);
}

#[inline]
fn push_length(packed: &mut String, mut length: usize) {
    while length >= usize::from(MORE) {
        packed.push(char::from(MORE | (length as u8 & (MORE - 1))));
        length >>= 6;
    }
    packed.push(char::from(length as u8));
}

/// The cells of a packed text, in order. Ends at the first one that is not whole.
#[derive(Debug, Clone)]
pub(crate) struct Cells<'a>(&'a str);

impl<'a> Cells<'a> {
    pub(crate) fn new(packed: &'a str) -> Self {
        Self(packed)
    }
}

impl<'a> Iterator for Cells<'a> {
    type Item = &'a str;

    #[inline]
    fn next(&mut self) -> Option<&'a str> {
        let first = *self.0.as_bytes().first()?;
        if first & MORE == 0 {
            let (cell, rest) = self.0.split_at_checked(usize::from(first) + 1)?;
            self.0 = rest;
            return cell.get(1..);
        }
        self.next_long()
    }
}

impl<'a> Cells<'a> {
    /// The next cell, whose length takes several characters.
    #[cold]
    fn next_long(&mut self) -> Option<&'a str> {
        let (mut length, mut shift) = (0, 0);
        for (at, &byte) in self.0.as_bytes().iter().enumerate() {
            length |= usize::from(byte & (MORE - 1)) << shift;
            shift += 6;
            if byte & MORE == 0 {
                let start = at + 1;
                let cell = self.0.get(start..start + length)?;
                self.0 = &self.0[start + length..];
                return Some(cell);
            }
        }
        None
    }
}

/// What stands before each cell of a packed row and of a block that is filled cell by cell: room for
/// what a format may put between cells, so that it can take a row over as a whole.
pub(crate) const ROOM: char = '\0';

/// Appends several cells as one packed row: all lengths, and behind them all cells, each with room
/// before it.
pub(crate) fn push_row<'c>(packed: &mut String, cells: impl Iterator<Item = &'c str> + Clone) {
    for cell in cells.clone() {
        push_length(packed, cell.len());
    }
    for cell in cells {
        packed.push(ROOM);
        packed.push_str(cell);
    }
}

/// The cells of a packed row that begins here, and what stands behind it.
#[derive(Debug, Clone)]
pub(crate) struct PackedRow<'a> {
    lengths: &'a str,
    /// The cells, end to end with room before each; behind them stands what is not of the row.
    text: &'a str,
}

impl<'a> PackedRow<'a> {
    /// The packed row of so many cells at the beginning of a text.
    pub(crate) fn new(packed: &'a str, cells: usize) -> Self {
        let is_last = |byte: &u8| byte & MORE == 0;
        let bytes = packed.as_bytes();
        // Nearly all cells are short, and their lengths one character each.
        let short = bytes.get(..cells).is_some_and(|lengths| lengths.iter().all(is_last));
        let upto = if short {
            cells
        } else {
            let mut ends = bytes.iter().enumerate().filter(|(_, byte)| is_last(byte));
            match cells.checked_sub(1) {
                None => 0,
                Some(last) => ends.nth(last).map_or(bytes.len(), |(at, _)| at + 1),
            }
        };
        let (lengths, text) = packed.split_at_checked(upto).unwrap_or((packed, ""));
        Self { lengths, text }
    }

    /// The cells end to end with room before each, and the length of each.
    #[inline]
    pub(crate) fn joined(&self) -> (&'a str, impl Iterator<Item = usize> + Clone + use<'a>) {
        let lengths = Lengths(self.lengths.as_bytes());
        (self.text.get(..self.size()).unwrap_or(self.text), lengths)
    }

    /// How many bytes the cells take with the room before each.
    fn size(&self) -> usize {
        Lengths(self.lengths.as_bytes()).map(|length| length + ROOM.len_utf8()).sum()
    }

    /// What stands behind the row.
    pub(crate) fn behind(&self) -> &'a str {
        self.text.get(self.size()..).unwrap_or("")
    }
}

impl<'a> Iterator for PackedRow<'a> {
    type Item = &'a str;

    fn next(&mut self) -> Option<&'a str> {
        let mut lengths = Lengths(self.lengths.as_bytes());
        let length = lengths.next()?;
        let (cell, rest) = self.text.split_at_checked(length + ROOM.len_utf8())?;
        self.lengths = &self.lengths[self.lengths.len() - lengths.0.len()..];
        self.text = rest;
        cell.get(ROOM.len_utf8()..)
    }
}

/// Lengths that are written one behind the other.
#[derive(Debug, Clone)]
struct Lengths<'a>(&'a [u8]);

impl Iterator for Lengths<'_> {
    type Item = usize;

    #[inline]
    fn next(&mut self) -> Option<usize> {
        let (first, rest) = self.0.split_first()?;
        self.0 = rest;
        if first & MORE == 0 {
            return Some(usize::from(*first));
        }
        let (mut length, mut shift) = (usize::from(first & (MORE - 1)), 6);
        while let Some((digit, rest)) = self.0.split_first() {
            self.0 = rest;
            length |= usize::from(digit & (MORE - 1)) << shift;
            shift += 6;
            if digit & MORE == 0 {
                break;
            }
        }
        Some(length)
    }
}

/// The piece of a packed text that holds its first cells.
pub(crate) fn first_cells(packed: &str, count: usize) -> &str {
    let mut cells = Cells::new(packed);
    cells.by_ref().take(count).for_each(drop);
    &packed[..packed.len() - cells.0.len()]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn pack(cells: &[String]) -> String {
        let mut packed = String::new();
        for cell in cells {
            push(&mut packed, cell);
        }
        packed
    }

    #[test]
    fn long_cells_survive() {
        for length in [0, 1, 63, 64, 65, 4095, 4096, 300_000] {
            let cells = ["é".repeat(length / 2), "x".repeat(length), String::new()];
            assert!(Cells::new(&pack(&cells)).eq(cells.iter().map(String::as_str)));
            let mut row = String::new();
            push_row(&mut row, cells.iter().map(String::as_str));
            row.push_str("behind");
            assert!(PackedRow::new(&row, 3).eq(cells.iter().map(String::as_str)));
            assert_eq!(PackedRow::new(&row, 3).behind(), "behind");
            let (text, lengths) = PackedRow::new(&row, 3).joined();
            assert_eq!(text.replace(ROOM, ""), cells.concat());
            assert!(lengths.eq(cells.iter().map(String::len)));
        }
        assert_eq!(PackedRow::new("behind", 0).behind(), "behind");
    }

    proptest! {
        /// `AB` + `C` never meets `A` + `BC`, whatever separators and zero bytes the parts hold.
        #[test]
        fn equal_only_part_by_part(
            a in prop::collection::vec("[ABC|,;\u{0}\u{1}@é ]{0,4}", 3),
            b in prop::collection::vec("[ABC|,;\u{0}\u{1}@é ]{0,4}", 3),
        ) {
            prop_assert_eq!(pack(&a) == pack(&b), a == b);
            prop_assert_eq!((pack(&a) + "more").starts_with(&pack(&b)), a == b);
            prop_assert!(Cells::new(&pack(&a)).eq(a.iter().map(String::as_str)));
            let packed = pack(&a);
            prop_assert_eq!(first_cells(&packed, 2), pack(&a[..2]));
        }
    }
}
