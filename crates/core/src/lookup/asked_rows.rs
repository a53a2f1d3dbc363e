//! Which rows of a block a small main table asks for, told before anything is kept of them.
//!
//! Of a large reference nearly all rows are passed by, so that this is most of what is done with it.

use super::Reference;
use super::reference::hash;
use crate::key::PackedKeys;
use crate::table::Block;
use crate::template::PartState;

/// What is known of the rows of a block; kept from block to block.
#[derive(Debug, Default)]
pub(super) struct AskedRows {
    keys: PackedKeys,
    /// Of each row whether it may be asked for; none where that has to be seen row by row.
    asked: Vec<bool>,
}

impl AskedRows {
    /// Looks at the keys of all rows at once, where they are cells as they stand and only rows are kept
    /// that are asked for.
    pub(super) fn look(&mut self, reference: &Reference, block: &Block) {
        self.keys.clear();
        self.asked.clear();
        let (Some(asked), Some(places)) = (&reference.only_asked, reference.key().places(block))
        else {
            return;
        };
        for row in 0..block.rows() {
            let state = self.keys.pack_cells(block, row, &places);
            // Rows without a key are told of, whatever is asked for.
            self.asked.push(state != PartState::Whole);
        }
        // Reading what was written just before takes longer.
        for (row, is_asked) in self.asked.iter_mut().enumerate() {
            *is_asked |= asked.hold(hash(&reference.hasher, self.keys.get(row)));
        }
    }

    /// Whether a row is known to hold a key that nothing asks for.
    #[inline]
    pub(super) fn pass(&self, row: usize) -> bool {
        self.asked.get(row) == Some(&false)
    }
}
