//! The packed layout: cells end to end in one text, with their lengths.
//!
//! Keys and taken cells are kept and compared in this form. It has two shapes, both written by
//! [`Packer`](super::Packer) alone and read by this module alone:
//!
//! ```text
//! cells   | length text | length text | …              keys, and whatever follows a row
//! row     | length length … | gap text gap text … |    the taken cells of a reference row
//! ```
//!
//! Because lengths are stored, packed cells are distinct whatever they hold (`AB` + `C` is not `A` + `BC`), and
//! a record begins with a packed key only if it begins with exactly those parts. A length is written in ASCII,
//! six bits a character, so that packed cells are valid text. The gap before each text of a row is the byte
//! that a format writes between cells, so that it can copy a whole row of cells.
//!
//! # Advice for maintainers
//! A change of the layout touches [`Packer`](super::Packer), the readers here, `lookup::store` (which cuts a
//! record into key, taken row and rest) and `spill::partitions` (which stores records as they are). The tests of
//! this module and of `packer` compare both sides.

/// Marks a length character that another one follows; without it the length ends here.
pub(super) const MORE: u8 = 0x40;

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

/// The byte before each text of a packed row, and before each cell of a block that is filled cell by cell, where
/// no format has its own: a format that copies whole rows replaces it.
pub(crate) const GAP: char = '\0';

/// A cell of a packed row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RowCell<'a> {
    /// Its text.
    Text(&'a str),
    /// The number that it has among values which are stored elsewhere.
    Value(u16),
}

/// The first of the characters that take two bytes: the upper bits of the first byte tell it from any
/// length.
pub(super) const FIRST_VALUE: u16 = 0x80;
const TWO_BYTES: u8 = 0xc0;

/// How many numbers there are for values.
pub(crate) const VALUES: usize = 0x800 - FIRST_VALUE as usize;

#[inline]
fn value_of(first: u8, second: u8) -> u16 {
    (u16::from(first & 0x1f) << 6 | u16::from(second & 0x3f)) - FIRST_VALUE
}

/// The cells of a packed row of `cells` cells at an offset, end to end with a gap before each, and their
/// lengths. `None` unless all of them are short texts.
#[inline]
pub(crate) fn joined(packed: &str, at: usize, cells: usize) -> Option<(&str, &[u8])> {
    let (text, size) = (at + cells, joined_size(packed.as_bytes(), at, cells)?);
    Some((packed.get(text..text + size)?, &packed.as_bytes()[at..text]))
}

/// How many bytes these take, gap and all.
#[inline]
pub(crate) fn joined_size(packed: &[u8], at: usize, cells: usize) -> Option<usize> {
    let gap = cells * GAP.len_utf8();
    if cells <= EIGHT
        && let Some(eight) = packed.get(at..).and_then(<[u8]>::first_chunk)
    {
        return Some(gap + short_sum(u64::from_le_bytes(*eight), cells)?);
    }
    let lengths = packed.get(at..at + cells)?;
    let (mut all, mut size) = (0, gap);
    for length in lengths {
        all |= length;
        size += usize::from(*length);
    }
    (all < MORE).then_some(size)
}

/// How many lengths are looked at in one go.
const EIGHT: usize = 8;

/// The sum of the first `count` of eight lengths, if all of these are short.
#[inline]
fn short_sum(lengths: u64, count: usize) -> Option<usize> {
    const EVERY_OTHER: u64 = u64::MAX / 0xffff;
    const LOWER_OF_TWO: u64 = EVERY_OTHER * 0xff;
    const NOT_SHORT: u64 = u64::MAX / 0xff * !(MORE - 1) as u64;
    let lengths = lengths & !u64::MAX.checked_shl(8 * count as u32).unwrap_or(0);
    // Two by two, so that the sum of all has sixteen bits.
    let pairs = (lengths & LOWER_OF_TWO) + ((lengths >> 8) & LOWER_OF_TWO);
    let sum = pairs.wrapping_mul(EVERY_OTHER) >> 48;
    (lengths & NOT_SHORT == 0).then_some(sum as usize)
}

/// The cells of a packed row that begins here, and what follows it.
#[derive(Debug, Clone)]
pub(crate) struct PackedRow<'a> {
    lengths: &'a str,
    /// The cells, end to end with a gap before each, followed by bytes that are not of the row.
    text: &'a str,
    /// Whether every length is one character.
    short: bool,
    /// Whether every cell is a value.
    all_values: bool,
}

impl<'a> PackedRow<'a> {
    /// The packed row of `cells` cells at the beginning of a text.
    #[inline]
    pub(crate) fn new(packed: &'a str, cells: usize) -> Self {
        let (is_last, is_short) = (|byte: &u8| byte & MORE == 0, |byte: &u8| *byte < MORE);
        let bytes = packed.as_bytes();
        // Nearly all cells are short, and their lengths one character each.
        let short = bytes.get(..cells).is_some_and(|lengths| lengths.iter().all(is_short));
        let all_values = !short
            && bytes
                .get(..2 * cells)
                .is_some_and(|pairs| pairs.iter().step_by(2).all(|first| *first >= TWO_BYTES));
        let upto = if short {
            cells
        } else if all_values {
            2 * cells
        } else {
            let mut ends = bytes.iter().enumerate().filter(|(_, byte)| is_last(byte));
            match cells.checked_sub(1) {
                None => 0,
                Some(last) => ends.nth(last).map_or(bytes.len(), |(at, _)| at + 1),
            }
        };
        let (lengths, text) = packed.split_at_checked(upto).unwrap_or((packed, ""));
        Self { lengths, text, short, all_values }
    }

    /// The numbers of the cells, where all of them are values.
    #[inline]
    pub(crate) fn values(&self) -> Option<impl Iterator<Item = u16> + use<'a>> {
        let (pairs, _) = self.lengths.as_bytes().as_chunks::<2>();
        self.all_values.then(|| pairs.iter().map(|[first, second]| value_of(*first, *second)))
    }

    /// How many bytes the cells take with the gap before each.
    #[inline]
    fn size(&self) -> usize {
        if self.short {
            let lengths = self.lengths.bytes().map(usize::from);
            return lengths.sum::<usize>() + self.lengths.len() * GAP.len_utf8();
        }
        let widths = Lengths(self.lengths.as_bytes());
        widths
            .map(|width| if let Width::Bytes(bytes) = width { bytes + GAP.len_utf8() } else { 0 })
            .sum()
    }

    /// The bytes after the row.
    pub(crate) fn rest(&self) -> &'a str {
        self.text.get(self.size()..).unwrap_or("")
    }
}

impl<'a> Iterator for PackedRow<'a> {
    type Item = RowCell<'a>;

    #[inline]
    fn next(&mut self) -> Option<RowCell<'a>> {
        let mut lengths = Lengths(self.lengths.as_bytes());
        let width = lengths.next()?;
        self.lengths = &self.lengths[self.lengths.len() - lengths.0.len()..];
        match width {
            Width::Value(number) => Some(RowCell::Value(number)),
            Width::Bytes(bytes) => {
                let (cell, rest) = self.text.split_at_checked(bytes + GAP.len_utf8())?;
                self.text = rest;
                cell.get(GAP.len_utf8()..).map(RowCell::Text)
            }
        }
    }
}

/// The stored widths of the cells of a row, in order.
#[derive(Debug, Clone)]
struct Lengths<'a>(&'a [u8]);

/// The stored width of a cell.
enum Width {
    /// How long its text is.
    Bytes(usize),
    /// Its number among values.
    Value(u16),
}

impl Iterator for Lengths<'_> {
    type Item = Width;

    #[inline]
    fn next(&mut self) -> Option<Width> {
        let (first, rest) = self.0.split_first()?;
        self.0 = rest;
        if *first < MORE {
            return Some(Width::Bytes(usize::from(*first)));
        }
        if let (TWO_BYTES.., Some((second, rest))) = (*first, rest.split_first()) {
            self.0 = rest;
            return Some(Width::Value(value_of(*first, *second)));
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
        Some(Width::Bytes(length))
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
    use crate::table::{Packer, RawForm};
    use proptest::prelude::*;

    fn pack(cells: &[String]) -> String {
        let mut packer = Packer::default();
        for cell in cells {
            packer.push(cell);
        }
        packer.text().to_owned()
    }

    #[test]
    fn long_cells_survive() {
        for length in [0, 1, 63, 64, 65, 4095, 4096, 300_000] {
            let cells = ["é".repeat(length / 2), "x".repeat(length), String::new()];
            assert!(Cells::new(&pack(&cells)).eq(cells.iter().map(String::as_str)));
            // Also the texts of a row, values with any number.
            let number = (length % 1024) as u16;
            let [first, second, third] = &cells;
            let texts = [RowCell::Text(first), RowCell::Text(second), RowCell::Text(third)];
            let mixed = [texts[0], RowCell::Value(number), RowCell::Value(63), texts[1]];
            let raw_form = [None, RawForm::new(b',', *b",\"\r\n"), RawForm::new(b',', *b",x\r\n")];
            for (held, raw_form) in [&texts[..], &mixed]
                .into_iter()
                .flat_map(|held| raw_form.map(|raw_form| (held, raw_form)))
            {
                let mut packer = Packer::default();
                packer.push_row(held.iter().copied(), raw_form);
                let row = packer.text().to_owned() + "behind";
                assert!(PackedRow::new(&row, held.len()).eq(held.iter().copied()));
                assert_eq!(PackedRow::new(&row, held.len()).rest(), "behind");
                let gap = raw_form.map_or(GAP, RawForm::gap);
                let is_special = raw_form == RawForm::new(b',', *b",x\r\n") && length > 0;
                match joined(&row, 0, held.len()) {
                    Some((text, lengths)) => {
                        assert!(!is_special);
                        assert_eq!(text.replace(gap, ""), cells.concat());
                        assert!(
                            lengths
                                .iter()
                                .copied()
                                .map(usize::from)
                                .eq(cells.iter().map(String::len))
                        );
                    }
                    None => assert!(length >= 64 || held.len() == 4 || is_special),
                }
            }
        }
        assert_eq!(PackedRow::new("behind", 0).rest(), "behind");
    }

    proptest! {
        /// The bytes that cells take are the same however many of them are looked at in one go.
        #[test]
        fn sizes_are_sums_of_short_lengths(
            lengths in prop::collection::vec(prop_oneof![9 => 0..64_u8, 1 => any::<u8>()], 0..24),
            (at, cells) in (0..6_usize, 0..14_usize),
        ) {
            let these = lengths.get(at..at + cells);
            let expected = these.filter(|these| these.iter().all(|length| *length < MORE));
            let expected = expected.map(|these| cells + these.iter().map(|l| usize::from(*l)).sum::<usize>());
            prop_assert_eq!(joined_size(&lengths, at, cells), expected);
        }

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
