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
    let mut length = cell.len();
    while length >= usize::from(MORE) {
        packed.push(char::from(MORE | (length as u8 & (MORE - 1))));
        length >>= 6;
    }
    packed.push(char::from(length as u8));
    packed.push_str(cell);
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
        }
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
