//! The keys that a small main table asks for, known before a large reference is read.
//!
//! Where the main table is small, there is no need to keep and index a large reference: of its rows
//! only those are kept whose key some main row asks for, and the others are counted as they pass.

use ahash::RandomState;
use hashbrown::HashTable;

use super::reference::hash;
use crate::key::Key;
use crate::table::{Block, Row, Source};
use crate::template::{PartState, Work};

/// How many rows that nothing asks for are kept of each block, so that they can be named.
pub(super) const SPARE: usize = crate::findings::SAMPLES;

/// The hashes of the keys that are asked for. A hash may be that of another key too, whose rows are
/// then kept and not used.
#[derive(Debug)]
pub(super) struct AskedKeys(HashTable<u32>);

impl AskedKeys {
    /// Reads the keys of a main table.
    pub(super) fn read<S: Source>(
        key: &Key,
        hasher: &RandomState,
        main: &mut S,
    ) -> Result<Self, S::Error> {
        let mut all = Self(HashTable::new());
        let (mut block, mut packed, mut work) = (Block::default(), String::new(), Work::default());
        while main.read_block(&mut block)? {
            for row in 0..block.rows() {
                packed.clear();
                // Of a key that is not whole it does not matter whether it is held.
                if key.pack(Row::of(&block, row), &mut packed, &mut work) != PartState::Malformed {
                    all.insert(hash(hasher, packed.as_bytes()));
                }
            }
        }
        Ok(all)
    }

    fn insert(&mut self, hash: u32) {
        let is_it = |other: &u32| *other == hash;
        self.0.entry(spread(hash), is_it, |other| spread(*other)).or_insert(hash);
    }

    /// Whether a key of this hash may be asked for.
    #[inline]
    pub(super) fn hold(&self, hash: u32) -> bool {
        self.0.find(spread(hash), |other| *other == hash).is_some()
    }
}

/// A hash, as a table wants it: with all that it tells in its upper half and in its lower half.
#[inline]
fn spread(hash: u32) -> u64 {
    u64::from(hash) << u32::BITS | u64::from(hash)
}
