//! Packing cells of many rows end to end, in the form of [`packed`].
//!
//! The room is there before it is filled: copying as much of a short cell as ever takes no longer than
//! finding out how much it is, and what is copied too much is written over.

use super::beside::Looks;
use super::packed::{self, ROOM, RowCell};
use super::{Plainly, Span};

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

    /// Adds the cells of a row, which stand in a text: all lengths, and behind them all texts, each with
    /// room before it; see [`packed::push_row`]. Cells of a plain row need no look.
    #[inline(always)]
    pub(crate) fn push_row(
        &mut self,
        (text, spans): (&[u8], &[Span]),
        looks: Option<&Looks>,
        is_plain: bool,
    ) {
        let plainly = looks.map(|looks| looks.plainly);
        let before = plainly.map_or(ROOM, Plainly::room) as u8;
        let (room, texts) = (&mut self.room[..], self.filled + spans.len());
        let mut filled = texts;
        let length = |span: &Span| (span.end - span.start) as usize;
        let mut all = 0;
        let is_short = room.get_mut(self.filled..texts).is_some_and(|lengths| {
            for (digit, span) in lengths.iter_mut().zip(spans) {
                *digit = length(span) as u8;
                all |= length(span);
            }
            all < packed::MORE.into()
        });
        let mut place = |span: &Span| {
            let cell = (&text[span.start as usize..], length(span));
            // The cell itself is looked at: reading what was written just before takes longer.
            let fits = is_plain || looks.is_none_or(|looks| looks.fits(cell));
            fits && place(room, &mut filled, before, cell)
        };
        if is_short && spans.iter().all(&mut place) {
            self.filled = filled;
        } else {
            self.push_row_slowly((text, spans), plainly);
        }
    }

    #[cold]
    fn push_slowly(&mut self, (text, length): InText<'_>) {
        self.push_length(length);
        self.push_long(&text[..length]);
    }

    #[cold]
    fn push_row_slowly(&mut self, (text, spans): (&[u8], &[Span]), plainly: Option<Plainly>) {
        let mut row = String::new();
        let cell = |span: &Span| {
            let cell = &text[span.start as usize..span.end as usize];
            RowCell::Text(str::from_utf8(cell).unwrap_or_default())
        };
        packed::push_row(&mut row, spans.iter().map(cell), plainly);
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
                let mut end = 0;
                let spans: Vec<Span> = cells
                    .iter()
                    .map(|cell| {
                        let start = end;
                        end += cell.len() as u32;
                        Span { start, end }
                    })
                    .collect();
                let mut want = String::new();
                for cell in &cells {
                    packed::push(&mut want, cell);
                }
                let plainly = Plainly::new(b'|', *b"abab").filter(|_| is_plain);
                packed::push_row(&mut want, cells.iter().map(|cell| RowCell::Text(cell)), plainly);
                packing.clear();
                let text = text.as_bytes();
                packing.push_all(spans.iter().map(|span| {
                    (&text[span.start as usize..], (span.end - span.start) as usize)
                }));
                let is_plain = cells.iter().all(|cell| !cell.contains(['a', 'b', '|']));
                packing.push_row((text, &spans), plainly.map(Plainly::looks).as_ref(), is_plain);
                prop_assert_eq!(packing.bytes(), want.as_bytes());
            }
        }
    }
}
