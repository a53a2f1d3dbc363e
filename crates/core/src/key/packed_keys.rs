//! The packed keys of many rows, end to end.

use super::Key;
use crate::table::{Block, Packer, Row};
use crate::template::{PartState, StepBuffers};
use crate::value::is_blank_bytes;

/// Packed keys in the order in which they were added; kept from batch to batch.
#[derive(Debug, Default)]
pub(crate) struct PackedKeys {
    packer: Packer,
    /// Where each key ends.
    ends: Vec<usize>,
}

impl PackedKeys {
    /// Forgets all keys.
    pub(crate) fn clear(&mut self) {
        self.packer.clear();
        self.ends.clear();
    }

    /// A key.
    #[inline]
    pub(crate) fn get(&self, nth: usize) -> &[u8] {
        let start = nth.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.packer.bytes()[start..self.ends[nth]]
    }

    /// Adds the key of a row.
    pub(crate) fn pack(&mut self, key: &Key, row: Row<'_>, steps: &mut StepBuffers) -> PartState {
        let state = key.pack(row, &mut self.packer, steps);
        self.ends.push(self.packer.len());
        state
    }

    /// Adds the key of a row whose parts are its cells as they are, at these places in the block.
    #[inline(always)]
    pub(crate) fn pack_cells(&mut self, block: &Block, row: usize, places: &[usize]) -> PartState {
        let state = pack_cells(&mut self.packer, block, row, places);
        self.ends.push(self.packer.len());
        state
    }
}

/// Packs the cells of a row at these places in its block. A cell of white space is packed as blank.
#[inline(always)]
pub(crate) fn pack_cells(
    packer: &mut Packer,
    block: &Block,
    row: usize,
    places: &[usize],
) -> PartState {
    let (text, spans) = block.kept_cells(row);
    let mut state = PartState::Whole;
    packer.push_all(places.iter().map(|&place| {
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
        /// Keys are packed in a batch as they are alone, whatever was packed before.
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
                let mut steps = StepBuffers::default();
                for row in 0..rows.len() {
                    let mut alone = Packer::default();
                    let state = key.pack(Row::of(&block, row), &mut alone, &mut steps);
                    let by_cells = keys.pack_cells(&block, row, &places);
                    let by_row = keys.pack(&key, Row::of(&block, row), &mut steps);
                    prop_assert_eq!((by_cells, by_row), (state, state));
                    prop_assert_eq!(keys.get(2 * row), alone.bytes());
                    prop_assert_eq!(keys.get(2 * row + 1), alone.bytes());
                }
            }
        }
    }
}
