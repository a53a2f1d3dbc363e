//! The packed keys of many rows, end to end.

use super::Key;
use crate::table::{Block, Row, packed};
use crate::template::{PartState, Work};

/// How long a cell is at most that is copied with what stands behind it.
const SHORT: usize = 16;

/// Keys in the order in which they came; kept from batch to batch.
#[derive(Debug, Default)]
pub(crate) struct PackedKeys {
    /// The keys, and behind them what is left of others.
    room: Vec<u8>,
    filled: usize,
    /// Where each ends.
    ends: Vec<usize>,
    one: String,
}

impl PackedKeys {
    /// Forgets all keys.
    pub(crate) fn clear(&mut self) {
        self.filled = 0;
        self.ends.clear();
    }

    /// One of them.
    #[inline]
    pub(crate) fn get(&self, nth: usize) -> &[u8] {
        let start = nth.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.room[start..self.ends[nth]]
    }

    /// Adds the key of a row.
    pub(crate) fn pack(&mut self, key: &Key, row: Row<'_>, work: &mut Work) -> PartState {
        self.one.clear();
        let state = key.pack(row, &mut self.one, work);
        let start = self.filled;
        self.make_room(self.one.len());
        self.room[start..self.filled].copy_from_slice(self.one.as_bytes());
        self.ends.push(self.filled);
        state
    }

    /// Adds the key of a row whose parts are cells of it as they stand, in these places among those
    /// that the block holds.
    #[inline]
    pub(crate) fn pack_cells(&mut self, block: &Block, row: usize, places: &[usize]) -> PartState {
        let (text, spans) = block.kept_cells(row);
        let mut state = PartState::Whole;
        for &place in places {
            let (start, end) = (spans[place].start as usize, spans[place].end as usize);
            if start == end {
                state = PartState::Blank;
            }
            self.push(&text[start..], end - start);
        }
        self.ends.push(self.filled);
        state
    }

    /// Adds a cell, which so many bytes of a text are.
    #[inline]
    fn push(&mut self, text: &[u8], length: usize) {
        let room = self.room.get_mut(self.filled..).unwrap_or_default();
        // Copying as much as ever takes no longer than finding out how much it is.
        if length <= SHORT
            && let Some(cell) = text.first_chunk::<SHORT>()
            && let Some([first, room @ ..]) = room.first_chunk_mut::<{ SHORT + 1 }>()
        {
            *first = length as u8;
            *room = *cell;
            self.filled += 1 + length;
        } else {
            self.push_long(&text[..length]);
        }
    }

    #[cold]
    fn push_long(&mut self, cell: &[u8]) {
        let start = self.filled;
        let mut length = cell.len();
        self.make_room(packed::LONGEST_LENGTH + cell.len());
        let mut at = start;
        packed::each_digit(length, |digit| {
            self.room[at] = digit;
            at += 1;
        });
        length += at;
        self.room[at..length].copy_from_slice(cell);
        self.filled = length;
    }

    /// Takes so many bytes more.
    fn make_room(&mut self, more: usize) {
        self.filled += more;
        if self.room.len() < self.filled {
            self.room.resize((2 * self.filled).max(1024), 0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::template::Template;
    use proptest::prelude::*;

    proptest! {
        /// Keys that are packed together are those that are packed by themselves, whatever their length
        /// and whatever was packed before.
        #[test]
        fn keys_are_the_same_together(
            batches in prop::collection::vec(
                prop::collection::vec(prop::array::uniform3("[aé]{0,3}|[a-c]{14,18}|x{60,70}"), 0..20),
                1..4,
            ),
        ) {
            let headers = crate::table::Headers::new("t", ["a", "b", "c"]);
            let part = |text: &str| Template::parse("on", text).unwrap().bind(&headers).unwrap();
            let key = Key::new(vec![part("c"), part("a")], Vec::new());
            let mut keys = PackedKeys::default();
            for rows in batches {
                let block = Block::of_rows(3, &rows);
                let places = key.places(&block).unwrap();
                keys.clear();
                let mut work = Work::default();
                for row in 0..rows.len() {
                    let mut alone = String::new();
                    let state = key.pack(Row::of(&block, row), &mut alone, &mut work);
                    let by_cells = keys.pack_cells(&block, row, &places);
                    let by_row = keys.pack(&key, Row::of(&block, row), &mut work);
                    prop_assert_eq!((by_cells, by_row), (state, state));
                    prop_assert_eq!(keys.get(2 * row), alone.as_bytes());
                    prop_assert_eq!(keys.get(2 * row + 1), alone.as_bytes());
                }
            }
        }
    }
}
