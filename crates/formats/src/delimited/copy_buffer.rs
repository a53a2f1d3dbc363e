//! Bytes that are put together of pieces of texts, in room that is there already.
//!
//! Copying a fixed number of bytes takes less time than looking up how many there are; the next copy
//! overwrites the surplus.

/// The lengths up to which a slice is copied together with the bytes after it, or in two halves.
const SHORT: usize = 32;
const LONGER: usize = 2 * SHORT;
const LONGEST: usize = 2 * LONGER;

/// Bytes end to end, and after them what is left of others.
#[derive(Debug)]
pub(super) struct CopyBuffer {
    room: Vec<u8>,
    filled: usize,
    /// Bytes before they are added.
    aside: Vec<u8>,
}

impl CopyBuffer {
    /// Begins without bytes, in a buffer whose content is not needed, with room for `size` bytes.
    pub(super) fn of(mut room: Vec<u8>, size: usize) -> Self {
        if room.len() < size {
            room.reserve_exact(size - room.len());
            room.resize(size, 0);
        }
        Self { room, filled: 0, aside: Vec::new() }
    }

    /// How many bytes there are.
    pub(super) fn length(&self) -> usize {
        self.filled
    }

    /// Forgets all but the first `length` bytes.
    pub(super) fn truncate(&mut self, length: usize) {
        self.filled = self.filled.min(length);
    }

    /// Adds this many bytes from the beginning of a text.
    #[inline(always)]
    pub(super) fn push(&mut self, text: &[u8], length: usize) {
        let room = self.room.get_mut(self.filled..).unwrap_or_default();
        // The bytes after a longer slice may not be in the cache, so that they are not read.
        let is_pushed = if length <= SHORT {
            with_behind(room, text)
        } else if length <= LONGER {
            in_halves::<SHORT>(room, text, length)
        } else {
            length <= LONGEST && in_halves::<LONGER>(room, text, length)
        };
        if !is_pushed {
            return self.push_exactly(&text[..length]);
        }
        self.filled += length;
    }

    /// Adds slices of a text, each given by its first byte and its length, with the delimiter after each. Says whether all are
    /// there and there is room for them; if not, nothing is added.
    #[inline(always)]
    pub(super) fn push_slices(
        &mut self,
        text: &[u8],
        slices: impl Iterator<Item = Option<(u32, u32)>>,
        delimiter: u8,
    ) -> bool {
        let mut room = self.room.get_mut(self.filled..).unwrap_or_default();
        let before = room.len();
        for slice in slices {
            let Some((from, length)) = slice else { return false };
            let (from, length) = (from as usize, length as usize);
            if length > SHORT {
                let left = slice_exactly(room, text, from, length, delimiter);
                let Some(left) = left else { return false };
                room = left;
                continue;
            }
            let (Some(slice), Some(piece)) =
                (text.get(from..from + SHORT), room.first_chunk_mut::<{ SHORT + 1 }>())
            else {
                return false;
            };
            piece[..SHORT].copy_from_slice(slice);
            piece[length] = delimiter;
            room = &mut std::mem::take(&mut room)[length + 1..];
        }
        self.filled += before - room.len();
        true
    }

    /// Adds a byte.
    #[inline(always)]
    pub(super) fn push_byte(&mut self, byte: u8) {
        match self.room.get_mut(self.filled) {
            Some(room) => {
                *room = byte;
                self.filled += 1;
            }
            None => self.push_exactly(&[byte]),
        }
    }

    /// Puts a line end in place of the last byte. Says whether there are both.
    #[inline(always)]
    pub(super) fn end_row(&mut self, line_end: &[u8]) -> bool {
        let Some(last) = self.filled.checked_sub(1) else { return false };
        self.filled = last;
        self.push_line_end(line_end);
        !line_end.is_empty()
    }

    /// Adds a line end.
    #[inline(always)]
    pub(super) fn push_line_end(&mut self, line_end: &[u8]) {
        match line_end {
            [byte] => self.push_byte(*byte),
            _ => self.push_exactly(line_end),
        }
    }

    /// Adds bytes that nothing is known to follow.
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
        aside.reserve(LONGEST);
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

/// Copies a short piece with what follows it, where there is room for both; says whether there is.
#[inline(always)]
fn with_behind(room: &mut [u8], text: &[u8]) -> bool {
    let (Some(piece), Some(room)) = (text.first_chunk::<SHORT>(), room.first_chunk_mut()) else {
        return false;
    };
    *room = *piece;
    true
}

/// Copies a piece in two halves of this many bytes, which may overlap, where there is room for both; says
/// whether there is.
#[inline(always)]
fn in_halves<const HALF: usize>(room: &mut [u8], text: &[u8], length: usize) -> bool {
    let (Some(piece), Some(room)) = (text.get(..length), room.get_mut(..2 * HALF)) else {
        return false;
    };
    let (Some(first), Some(last)) = (piece.first_chunk::<HALF>(), piece.last_chunk::<HALF>())
    else {
        return false;
    };
    room[..HALF].copy_from_slice(first);
    room[length - HALF..length].copy_from_slice(last);
    true
}

/// Copies a slice of any length and the delimiter, where it and room for both are there; returns the room after them.
// Inlined, it would be made one with the short case, which then looks up how many bytes there are.
#[inline(never)]
fn slice_exactly<'r>(
    room: &'r mut [u8],
    text: &[u8],
    from: usize,
    length: usize,
    delimiter: u8,
) -> Option<&'r mut [u8]> {
    let text = text.get(from..)?;
    let is_copied = if length <= LONGER {
        in_halves::<SHORT>(room, text, length)
    } else {
        length <= LONGEST && in_halves::<LONGER>(room, text, length)
    };
    if !is_copied {
        room.get_mut(..length)?.copy_from_slice(text.get(..length)?);
    }
    *room.get_mut(length)? = delimiter;
    room.get_mut(length + 1..)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Slices come out with delimiters after them, or none does.
        #[test]
        fn slices_have_delimiters_after_them(
            slices in prop::collection::vec((0..300_u32, 0..80_u32), 0..30),
            (size, left_out) in (0..6000_usize, 0..200_usize),
        ) {
            let text: Vec<u8> = (0..500_usize).map(|at| (at % 251) as u8).collect();
            let text = &text[..text.len() - left_out];
            let mut buffer = CopyBuffer::of(vec![7; 10], size);
            buffer.push_by(|bytes| bytes.extend_from_slice(b"before"));
            let is_pushed = buffer.push_slices(text, slices.iter().map(|slice| Some(*slice)), 255);
            let mut expected = b"before".to_vec();
            for &(from, length) in slices.iter().filter(|_| is_pushed) {
                expected.extend(&text[from as usize..(from + length) as usize]);
                expected.push(255);
            }
            let is_near_end = slices.iter().any(|(from, length)| {
                (from + length.max(&(SHORT as u32))) as usize > text.len()
            });
            prop_assert!(is_pushed || is_near_end || size < 30 * 81 + 64);
            prop_assert_eq!(buffer.into_bytes(), expected);
        }

        /// The pieces come out end to end, whatever room there is and whatever it held before.
        #[test]
        fn pieces_stand_end_to_end(
            pieces in prop::collection::vec((0..300_usize, 0..200_usize, 0..4_u8), 0..40),
            (left, size) in (0..2000_usize, 0..4000_usize),
        ) {
            let text: Vec<u8> = (0..500_usize).map(|at| (at % 251) as u8).collect();
            let mut buffer = CopyBuffer::of(vec![7; left], size);
            let mut expected = Vec::new();
            for (start, length, way) in pieces {
                let piece = &text[start..start + length];
                expected.extend_from_slice(piece);
                match way {
                    0 => buffer.push(&text[start..], length),
                    1 => buffer.push(piece, length),
                    2 => buffer.push_line_end(piece),
                    _ => buffer.push_by(|bytes| bytes.extend_from_slice(piece)),
                }
            }
            prop_assert_eq!(buffer.into_bytes(), expected);
        }
    }
}
