//! Packing cells of many rows end to end, in the form of [`packed`].
//!
//! The room is there before it is filled: copying as much of a short cell as ever takes no longer than
//! finding out how much it is, and what is copied too much is written over.

use super::packed::{self, ROOM};

/// How long a cell is at most that is copied with what stands behind it.
const SHORT: usize = 16;

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

    /// Adds a cell behind its length.
    #[inline(always)]
    pub(crate) fn push(&mut self, (text, length): InText<'_>) {
        if !self.push_short(length as u8, (text, length)) {
            self.push_length(length);
            self.push_long(&text[..length]);
        }
    }

    /// Adds the cells of a row: all lengths, and behind them all texts, each with room before it.
    #[inline]
    pub(crate) fn push_row<'c>(&mut self, cells: impl Iterator<Item = InText<'c>> + Clone) {
        for (_, length) in cells.clone() {
            self.push_length(length);
        }
        for (text, length) in cells {
            if !self.push_short(ROOM as u8, (text, length)) {
                self.push_long(&[ROOM as u8]);
                self.push_long(&text[..length]);
            }
        }
    }

    /// Adds a byte and a short cell, where there is room for more than it.
    #[inline(always)]
    fn push_short(&mut self, before: u8, (text, length): InText<'_>) -> bool {
        let room = self.room.get_mut(self.filled..).unwrap_or_default();
        if length <= SHORT
            && let Some(cell) = text.first_chunk::<SHORT>()
            && let Some([first, room @ ..]) = room.first_chunk_mut::<{ SHORT + 1 }>()
        {
            *first = before;
            *room = *cell;
            self.filled += 1 + length;
            return true;
        }
        false
    }

    #[inline]
    fn push_length(&mut self, length: usize) {
        match self.room.get_mut(self.filled) {
            Some(digit) if length < packed::MORE.into() => {
                *digit = length as u8;
                self.filled += 1;
            }
            _ => packed::each_digit(length, |digit| self.push_long(&[digit])),
        }
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::packed::RowCell;
    use super::*;

    proptest! {
        /// What is packed so is what is packed cell by cell, whatever was packed before.
        #[test]
        fn cells_are_packed_alike(
            batches in prop::collection::vec(
                prop::collection::vec("[aé]{0,3}|[a-c]{14,18}|x{60,70}", 0..20),
                1..4,
            ),
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
                packed::push_row(&mut want, cells.iter().map(|cell| RowCell::Text(cell)));
                packing.clear();
                for &cell in &at {
                    packing.push(cell);
                }
                packing.push_row(at.iter().copied());
                prop_assert_eq!(packing.bytes(), want.as_bytes());
            }
        }
    }
}
