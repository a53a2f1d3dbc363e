//! The keys that a small main table asks for, known before a large reference is read.
//!
//! Where the main table is small, there is no need to keep and index a large reference: of its rows
//! only those are kept whose key some main row asks for, and the others are counted as they pass.

use std::collections::HashSet;

use ahash::RandomState;

use super::reference::hash;
use crate::key::Key;
use crate::table::{Block, Row, Source};
use crate::template::{PartState, Work};

/// How many rows that nothing asks for are kept of each block, so that they can be named.
pub(super) const SPARE: usize = crate::findings::SAMPLES;

/// The hashes of the keys that are asked for. A hash may be that of another key too, whose rows are
/// then kept and not used.
#[derive(Debug)]
pub(super) struct AskedKeys(HashSet<u32, RandomState>);

impl AskedKeys {
    /// Reads the keys of a main table.
    pub(super) fn read<S: Source>(
        key: &Key,
        hasher: &RandomState,
        main: &mut S,
    ) -> Result<Self, S::Error> {
        let mut all = Self(HashSet::with_hasher(hasher.clone()));
        let (mut block, mut packed, mut work) = (Block::default(), String::new(), Work::default());
        while main.read_block(&mut block)? {
            for row in 0..block.rows() {
                packed.clear();
                // Of a key that is not whole it does not matter whether it is held.
                if key.pack(Row::of(&block, row), &mut packed, &mut work) != PartState::Malformed {
                    all.0.insert(hash(hasher, packed.as_bytes()));
                }
            }
        }
        Ok(all)
    }

    /// Whether a key of this hash may be asked for.
    #[inline]
    pub(super) fn hold(&self, hash: u32) -> bool {
        self.0.contains(&hash)
    }
}
