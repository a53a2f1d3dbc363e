//! Bytes that are put together of pieces of texts, in room that is there already.
//!
//! Copying as much of a short piece as ever takes no longer than finding out how much it is; what is
//! copied too much is written over.

/// How long pieces are at most that are copied with what stands behind them, or in two halves that may
/// overlap.
const HALF: usize = 32;
const SHORT: usize = 2 * HALF;
const LONGER: usize = 128;

/// Bytes end to end, and behind them what is left of others.
#[derive(Debug)]
pub(super) struct Filling {
    room: Vec<u8>,
    filled: usize,
    /// Bytes before they are added.
    aside: Vec<u8>,
}

impl Filling {
    /// Begins with no bytes, in a buffer whose own are of no use, and with room for so many.
    pub(super) fn of(mut room: Vec<u8>, size: usize) -> Self {
        if room.len() < size {
            room.reserve_exact(size - room.len());
            room.resize(size, 0);
        }
        Self { room, filled: 0, aside: Vec::new() }
    }

    /// Adds so many bytes from the beginning of a text.
    #[inline(always)]
    pub(super) fn push(&mut self, text: &[u8], length: usize) {
        let room = self.room.get_mut(self.filled..).unwrap_or_default();
        if length <= HALF
            && let Some(piece) = text.first_chunk::<HALF>()
            && let Some(room) = room.first_chunk_mut()
        {
            *room = *piece;
        } else if length > HALF
            && length <= SHORT
            && let Some((first, last)) = text.get(..length).and_then(both_ends)
            && let Some(room) = room.first_chunk_mut::<SHORT>()
        {
            // What stands behind it may have to be waited for.
            room[..HALF].copy_from_slice(first);
            room[length - HALF..length].copy_from_slice(last);
        } else if length <= LONGER
            && let Some(piece) = text.first_chunk::<LONGER>()
            && let Some(room) = room.first_chunk_mut()
        {
            *room = *piece;
        } else {
            return self.push_exactly(&text[..length]);
        }
        self.filled += length;
    }

    /// Adds a line end.
    #[inline(always)]
    pub(super) fn push_line_end(&mut self, line_end: &[u8]) {
        match (line_end, self.room.get_mut(self.filled)) {
            ([byte], Some(room)) => {
                *room = *byte;
                self.filled += 1;
            }
            _ => self.push_exactly(line_end),
        }
    }

    /// Adds bytes behind which nothing is known to stand.
    fn push_exactly(&mut self, bytes: &[u8]) {
        let end = self.filled + bytes.len();
        if self.room.len() < end {
            self.room.resize(2 * end, 0);
        }
        self.room[self.filled..end].copy_from_slice(bytes);
        self.filled = end;
    }

    /// Adds bytes that are made first.
    pub(super) fn push_by(&mut self, make: impl FnOnce(&mut Vec<u8>)) {
        let mut aside = std::mem::take(&mut self.aside);
        aside.clear();
        aside.reserve(LONGER);
        make(&mut aside);
        self.push_exactly(&aside);
        self.aside = aside;
    }

    /// The bytes.
    pub(super) fn into_bytes(mut self) -> Vec<u8> {
        self.room.truncate(self.filled);
        self.room
    }
}

/// So many bytes of a piece from its beginning, and as many up to its end.
#[inline(always)]
fn both_ends(piece: &[u8]) -> Option<(&[u8; HALF], &[u8; HALF])> {
    Some((piece.first_chunk()?, piece.last_chunk()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// The pieces come out end to end, whatever room there is and whatever it held before.
        #[test]
        fn pieces_stand_end_to_end(
            pieces in prop::collection::vec((0..300_usize, 0..200_usize, 0..4_u8), 0..40),
            (left, size) in (0..2000_usize, 0..4000_usize),
        ) {
            let text: Vec<u8> = (0..500_usize).map(|at| (at % 251) as u8).collect();
            let mut filling = Filling::of(vec![7; left], size);
            let mut expected = Vec::new();
            for (start, length, way) in pieces {
                let piece = &text[start..start + length];
                expected.extend_from_slice(piece);
                match way {
                    0 => filling.push(&text[start..], length),
                    1 => filling.push(piece, length),
                    2 => filling.push_line_end(piece),
                    _ => filling.push_by(|bytes| bytes.extend_from_slice(piece)),
                }
            }
            prop_assert_eq!(filling.into_bytes(), expected);
        }
    }
}
