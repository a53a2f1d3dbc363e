//! What is added to rows, where it stands in a reference just as a format writes it.
//!
//! A format that puts one byte before each added cell, and writes most cells as they are, says so
//! ([`Plainly`]). A reference then keeps its taken cells with that byte before each, and those of a row
//! go out as one piece of its text, without a look at any of them. Rows for which that can't be done
//! have cells in a block of their own.

use wide::u8x16;

use super::Block;

/// How a format writes added cells that need nothing but to be copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Plainly {
    before: u8,
    special: [u8; 4],
}

impl Plainly {
    /// With the byte that stands before each cell, and the bytes for which a cell is not written as it
    /// is. `None` when one of them is not ASCII.
    ///
    /// ```
    /// use gather_keys_core::table::Plainly;
    ///
    /// let plainly = Plainly::new(b',', *b",\"\r\n").unwrap();
    /// assert!(plainly.fits(b",lime,4.2", 2));
    /// assert!(!plainly.fits(b",a little, nervous,4.2", 2));
    /// assert_eq!(Plainly::new(0xa7, *b",\"\r\n"), None);
    /// ```
    pub fn new(before: u8, special: [u8; 4]) -> Option<Self> {
        (before.is_ascii() && special.is_ascii()).then_some(Self { before, special })
    }

    /// So many blank cells as they are written, with more bytes behind them.
    pub(crate) fn blank(self, cells: usize) -> Vec<u8> {
        vec![self.before; cells + BEHIND]
    }

    /// What stands before each cell.
    pub(crate) fn room(self) -> char {
        char::from(self.before)
    }

    /// Whether so many cells that stand end to end, with the byte before each, are written just so.
    pub fn fits(self, cells: &[u8], count: usize) -> bool {
        cells.iter().filter(|byte| self.stops(**byte)).count() == count
    }

    /// What cells are looked at with.
    pub(crate) fn looks(self) -> Looks {
        let [first, second, third, fourth] = self.special;
        Looks {
            plainly: self,
            lanes: [self.before, first, second, third, fourth].map(u8x16::splat),
        }
    }

    fn stops(self, byte: u8) -> bool {
        byte == self.before || self.special.contains(&byte)
    }
}

/// What cells are looked at with, one after the other.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Looks {
    pub(crate) plainly: Plainly,
    /// Each byte for which a cell is not written as it is, as often as bytes are looked at in one go.
    lanes: [u8x16; 5],
}

impl Looks {
    /// Whether a cell is written as it is: a text from its first byte on, and how many bytes it is.
    #[inline(always)]
    pub(crate) fn fits(&self, (text, length): (&[u8], usize)) -> bool {
        let mut at = 0;
        while at < length {
            let Some(lane) = text[at..].first_chunk::<LANE>() else {
                return !text[at..length].iter().any(|byte| self.plainly.stops(*byte));
            };
            // All of them are looked at together, whether they are of the cell or not.
            let lane = u8x16::new(*lane);
            let [before, first, second, third, fourth] = self.lanes.map(|byte| lane.simd_eq(byte));
            let found = (before | first | second | third | fourth).to_bitmask();
            if found & ((1 << (length - at).min(LANE)) - 1) != 0 {
                return false;
            }
            at += LANE;
        }
        true
    }
}

/// How many bytes are looked at in one go.
const LANE: usize = 16;

/// How many bytes stand behind blank cells.
const BEHIND: usize = 64;

/// What one reference adds to each row of a block, in order.
#[derive(Debug, Clone, Copy)]
pub struct Beside<'a> {
    text: &'a [u8],
    pieces: &'a [Piece],
    blank: (&'a [u8], usize),
    apart: &'a Block,
}

/// Where what is added to a row stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Piece {
    /// In the text of the reference: its first byte and its length.
    At(usize, u32),
    /// Nowhere: every cell is blank.
    Blank,
    /// In the next row of the block.
    Apart,
}

/// What is added to one row.
#[derive(Debug, Clone, Copy)]
pub enum Added<'a> {
    /// Its cells as they are written, with the byte before each: a text from the first byte on, and how
    /// many bytes they are.
    Piece(&'a [u8], usize),
    /// The cells of this row of a block that was filled cell by cell.
    Cells(&'a Block, usize),
}

impl<'a> Beside<'a> {
    /// Pieces of a text, and a block for those rows that have none; `blank` are blank cells as they are
    /// written: a text, and how many bytes of it.
    pub(crate) fn new(
        text: &'a [u8],
        pieces: &'a [Piece],
        blank: (&'a [u8], usize),
        apart: &'a Block,
    ) -> Self {
        Self { text, pieces, blank, apart }
    }

    /// How many bytes all of it has, roughly.
    pub fn length(&self) -> usize {
        let of_piece = |piece: &Piece| match piece {
            Piece::At(_, length) => *length as usize,
            Piece::Blank => self.blank.1,
            Piece::Apart => 0,
        };
        self.pieces.iter().map(of_piece).sum::<usize>() + self.apart.text_length()
    }

    /// What is added to each row.
    pub fn rows(self) -> impl Iterator<Item = Added<'a>> {
        let mut apart = 0..;
        self.pieces.iter().map(move |piece| match *piece {
            Piece::At(start, length) => Added::Piece(&self.text[start..], length as usize),
            Piece::Blank => Added::Piece(self.blank.0, self.blank.1),
            Piece::Apart => Added::Cells(self.apart, apart.next().unwrap_or_default()),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// A cell is written as it is when none of its bytes is special, whatever stands behind it.
        #[test]
        fn special_bytes_are_found_in_cells(
            cell in "[a-cé]{0,40}",
            special in prop::option::of((0..40_usize, prop::sample::select(b"|\"\r\n;".to_vec()))),
            behind in "[a|\"]{0,40}",
        ) {
            let mut cell = cell.into_bytes();
            if let Some((at, byte)) = special
                && let Some(place) = cell.get_mut(at)
            {
                *place = byte;
            }
            let plainly = Plainly::new(b'|', *b";\"\r\n").unwrap();
            let fits = !cell.iter().any(|byte| b"|;\"\r\n".contains(byte));
            let text = [&cell[..], behind.as_bytes()].concat();
            prop_assert_eq!(plainly.looks().fits((&text, cell.len())), fits);
            let with_room = [b"|", &cell[..], b"|a"].concat();
            prop_assert_eq!(plainly.fits(&with_room, 2), fits);
        }
    }
}
