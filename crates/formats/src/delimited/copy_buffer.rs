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

    /// Adds cells, each this many bytes from the beginning of a text, with the delimiter between them. Says whether all are
    /// there and there is room for them; if not, nothing is added.
    #[inline(always)]
    pub(super) fn push_cells<'t>(
        &mut self,
        cells: impl Iterator<Item = Option<(&'t [u8], usize)>>,
        delimiter: u8,
    ) -> bool {
        let room = self.room.get_mut(self.filled..).unwrap_or_default();
        // Every cell has a delimiter after it here, and that of the last one is taken back.
        let mut end = 0;
        for cell in cells {
            let Some((text, length)) = cell else { return false };
            let Some(left) = room.get_mut(end..) else { return false };
            let is_copied = if length <= SHORT {
                cell_with_behind(left, text, length, delimiter)
            } else {
                cell_exactly(left, text, length, delimiter)
            };
            if !is_copied {
                return false;
            }
            end += length + 1;
        }
        self.filled += end.saturating_sub(1);
        true
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

/// Copies a short cell with what follows it, and the delimiter in place of that, where there is room for all; says
/// whether there is.
#[inline(always)]
fn cell_with_behind(room: &mut [u8], text: &[u8], length: usize, delimiter: u8) -> bool {
    let (Some(piece), Some(room)) =
        (text.first_chunk::<SHORT>(), room.first_chunk_mut::<{ SHORT + 1 }>())
    else {
        return false;
    };
    if let Some(cell) = room.first_chunk_mut() {
        *cell = *piece;
    }
    room[length.min(SHORT)] = delimiter;
    true
}

/// Copies a cell of any length and the delimiter, where it and room for both are there; says whether they are.
// Inlined, it would be made one with the short case, which then looks up how many bytes there are.
#[inline(never)]
fn cell_exactly(room: &mut [u8], text: &[u8], length: usize, delimiter: u8) -> bool {
    let (Some(piece), Some(room)) = (text.get(..length), room.get_mut(..=length)) else {
        return false;
    };
    room[..length].copy_from_slice(piece);
    room[length] = delimiter;
    true
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Cells come out with delimiters between them, or none does.
        #[test]
        fn cells_have_delimiters_between_them(
            cells in prop::collection::vec((0..300_usize, 0..80_usize), 0..30),
            (size, is_near_end) in (0..6000_usize, any::<bool>()),
        ) {
            let text: Vec<u8> = (0..500_usize).map(|at| (at % 251) as u8).collect();
            let mut buffer = CopyBuffer::of(vec![7; 10], size);
            buffer.push_by(|bytes| bytes.extend_from_slice(b"before"));
            let slice = |&(start, length): &(usize, usize)| {
                let from = &text[start..];
                let from = if is_near_end { &from[..length] } else { from };
                Some((from, length))
            };
            let is_pushed = buffer.push_cells(cells.iter().map(slice), 255);
            let cells: Vec<&[u8]> =
                cells.iter().map(|(start, length)| &text[*start..start + length]).collect();
            let mut expected = b"before".to_vec();
            if is_pushed {
                expected.extend(cells.join(&255));
            }
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
