//! The packed keys of many rows, end to end.

use super::Key;
use crate::table::{Block, Packing, Row, is_blank_bytes};
use crate::template::{PartState, Work};

/// Keys in the order in which they came; kept from batch to batch.
#[derive(Debug, Default)]
pub(crate) struct PackedKeys {
    packing: Packing,
    /// Where each ends.
    ends: Vec<usize>,
    one: String,
}

impl PackedKeys {
    /// Forgets all keys.
    pub(crate) fn clear(&mut self) {
        self.packing.clear();
        self.ends.clear();
    }

    /// One of them.
    #[inline]
    pub(crate) fn get(&self, nth: usize) -> &[u8] {
        let start = nth.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.packing.bytes()[start..self.ends[nth]]
    }

    /// Adds the key of a row.
    pub(crate) fn pack(&mut self, key: &Key, row: Row<'_>, work: &mut Work) -> PartState {
        self.one.clear();
        let state = key.pack(row, &mut self.one, work);
        self.packing.push_packed(self.one.as_bytes());
        self.ends.push(self.packing.len());
        state
    }

    /// Adds the key of a row whose parts are cells of it as they stand, in these places among those
    /// that the block holds.
    #[inline(always)]
    pub(crate) fn pack_cells(&mut self, block: &Block, row: usize, places: &[usize]) -> PartState {
        let state = pack_cells(&mut self.packing, block, row, places);
        self.ends.push(self.packing.len());
        state
    }
}

/// Packs the cells of a row in these places among those that its block holds.
#[inline(always)]
pub(crate) fn pack_cells(
    packing: &mut Packing,
    block: &Block,
    row: usize,
    places: &[usize],
) -> PartState {
    let (text, spans) = block.kept_cells(row);
    let mut state = PartState::Whole;
    packing.push_all(places.iter().map(|&place| {
        let (start, mut end) = (spans[place].start as usize, spans[place].end as usize);
        if is_blank_bytes(&text[start..end]) {
            (state, end) = (PartState::Blank, start);
        }
        (&text[start..], end - start)
    }));
    state
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
                prop::collection::vec(prop::array::uniform3("[aé]{0,3}|[ \u{a0}]{1,2}|[a-c]{14,18}|x{60,70}"), 0..20),
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
