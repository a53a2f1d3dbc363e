//! Packing cells of many rows end to end, in the form of [`packed`].
//!
//! The room is there before it is filled: copying as much of a short cell as ever takes no longer than
//! finding out how much it is, and what is copied too much is written over.

use super::Plainly;
use super::packed::{self, ROOM, RowCell};

/// How long cells are at most that are copied with what stands behind them: most cells, and nearly all.
const SHORT: usize = 16;
const LONGER: usize = 48;

/// Packed cells, and behind them what is left of others.
#[derive(Debug, Default)]
pub(crate) struct Packing {
    room: Vec<u8>,
    filled: usize,
}

/// A cell as it stands in a text: the text from its first byte on, and how many bytes it is.
pub(crate) type InText<'t> = (&'t [u8], usize);

impl Packing {
    /// Forgets all cells.
    pub(crate) fn clear(&mut self) {
        self.filled = 0;
    }

    /// How many bytes are packed.
    #[inline]
    pub(crate) fn len(&self) -> usize {
        self.filled
    }

    /// All that is packed.
    #[inline]
    pub(crate) fn bytes(&self) -> &[u8] {
        &self.room[..self.filled]
    }

    /// Adds what is packed already.
    pub(crate) fn push_packed(&mut self, packed: &[u8]) {
        self.push_long(packed);
    }

    /// Adds cells, each behind its length.
    #[inline(always)]
    pub(crate) fn push_all<'c>(&mut self, mut cells: impl Iterator<Item = InText<'c>>) {
        // At hand while nothing but cells is written.
        let (room, mut filled) = (&mut self.room[..], self.filled);
        let rest = cells.find(|&cell| !place(room, &mut filled, cell.1 as u8, cell));
        self.filled = filled;
        if let Some(cell) = rest {
            self.push_slowly(cell);
            cells.for_each(|cell| self.push_slowly(cell));
        }
    }

    /// Adds the cells of a row: all lengths, and behind them all texts, each with room before it; see
    /// [`packed::push_row`].
    #[inline(always)]
    pub(crate) fn push_row<'c>(
        &mut self,
        cells: impl ExactSizeIterator<Item = InText<'c>> + Clone,
        plainly: Option<Plainly>,
    ) {
        let before = plainly.map_or(ROOM, Plainly::room) as u8;
        let (room, texts) = (&mut self.room[..], self.filled + cells.len());
        let mut filled = texts;
        let is_short = |(digit, (_, length)): (&mut u8, InText<'c>)| {
            *digit = length as u8;
            length < packed::MORE.into()
        };
        let are_short = room
            .get_mut(self.filled..texts)
            .is_some_and(|lengths| lengths.iter_mut().zip(cells.clone()).all(is_short));
        if are_short
            && cells.clone().all(|cell| place(room, &mut filled, before, cell))
            && plainly.is_none_or(|plainly| {
                plainly.fits_within(&room[texts..], filled - texts, cells.len())
            })
        {
            self.filled = filled;
        } else {
            self.push_row_slowly(cells, plainly);
        }
    }

    #[cold]
    fn push_slowly(&mut self, (text, length): InText<'_>) {
        self.push_length(length);
        self.push_long(&text[..length]);
    }

    #[cold]
    fn push_row_slowly<'c>(
        &mut self,
        cells: impl Iterator<Item = InText<'c>> + Clone,
        plainly: Option<Plainly>,
    ) {
        let mut row = String::new();
        let text = |(text, length): InText<'c>| str::from_utf8(&text[..length]).unwrap_or_default();
        packed::push_row(&mut row, cells.map(|cell| RowCell::Text(text(cell))), plainly);
        self.push_long(row.as_bytes());
    }

    fn push_length(&mut self, length: usize) {
        packed::each_digit(length, |digit| self.push_long(&[digit]));
    }

    #[cold]
    fn push_long(&mut self, bytes: &[u8]) {
        let start = self.filled;
        self.filled += bytes.len();
        if self.room.len() < self.filled {
            self.room.resize((2 * self.filled).max(1024), 0);
        }
        self.room[start..self.filled].copy_from_slice(bytes);
    }
}

/// Puts a byte and a cell behind what fills the room so far, where there is room for more than it; says
/// whether there is.
#[inline(always)]
fn place(room: &mut [u8], filled: &mut usize, before: u8, (text, length): InText<'_>) -> bool {
    let Some(room) = room.get_mut(*filled..) else { return false };
    if length <= SHORT
        && let Some(cell) = text.first_chunk::<SHORT>()
        && let Some([first, room @ ..]) = room.first_chunk_mut::<{ SHORT + 1 }>()
    {
        (*first, *room) = (before, *cell);
    } else if length <= LONGER
        && let Some(cell) = text.first_chunk::<LONGER>()
        && let Some([first, room @ ..]) = room.first_chunk_mut::<{ LONGER + 1 }>()
    {
        (*first, *room) = (before, *cell);
    } else {
        return false;
    }
    *filled += 1 + length;
    true
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// What is packed so is what is packed cell by cell, whatever was packed before.
        #[test]
        fn cells_are_packed_alike(
            batches in prop::collection::vec(
                prop::collection::vec("[aé]{0,3}|[a-c]{14,18}|x{45,50}|x{60,70}", 0..20),
                1..4,
            ),
            is_plain in any::<bool>(),
        ) {
            let mut packing = Packing::default();
            for cells in batches {
                let text: String = cells.concat();
                let mut start = 0;
                let at: Vec<InText<'_>> = cells
                    .iter()
                    .map(|cell| {
                        let at = (&text.as_bytes()[start..], cell.len());
                        start += cell.len();
                        at
                    })
                    .collect();
                let mut want = String::new();
                for cell in &cells {
                    packed::push(&mut want, cell);
                }
                let plainly = Plainly::new(b'|', *b"abab").filter(|_| is_plain);
                packed::push_row(&mut want, cells.iter().map(|cell| RowCell::Text(cell)), plainly);
                packing.clear();
                packing.push_all(at.iter().copied());
                packing.push_row(at.iter().copied(), plainly);
                prop_assert_eq!(packing.bytes(), want.as_bytes());
            }
        }
    }
}
