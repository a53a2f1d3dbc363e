//! The key filter: the keys of a small main table, known before a large reference is read.
//!
//! Where the main table is small, a large reference need not be stored and indexed: only rows whose key some main
//! row asks for are stored, and the others are counted as they pass. Nearly all rows pass, so that deciding this
//! is most of the work.

use ahash::RandomState;
use hashbrown::HashTable;

use crate::hashing::hash;
use crate::key::{Key, PackedKeys};
use crate::table::{Block, Packer, Row, Source};
use crate::template::{PartState, StepBuffers};

/// How many rows that no main row asks for are stored of each block, so that the findings can name some.
pub(crate) const SPARE_ROWS: usize = 3;

/// The hashes of the keys that main rows ask for. A reference key with the same hash as one of them is stored
/// without being used.
#[derive(Debug)]
pub(crate) struct KeyFilter(HashTable<u32>);

impl KeyFilter {
    /// Reads the keys of a main table.
    pub(super) fn read<S: Source>(
        key: &Key,
        hasher: &RandomState,
        main: &mut S,
    ) -> Result<Self, S::Error> {
        let mut all = Self(HashTable::new());
        let (mut block, mut packed) = (Block::default(), Packer::default());
        let mut buffers = StepBuffers::default();
        while main.read_block(&mut block)? {
            for row in 0..block.rows() {
                packed.clear();
                // A blank key in the filter does no harm.
                let state = key.pack(Row::of(&block, row), &mut packed, &mut buffers);
                if state != PartState::Malformed {
                    all.insert(hash(hasher, packed.bytes()));
                }
            }
        }
        Ok(all)
    }

    fn insert(&mut self, hash: u32) {
        let is_it = |other: &u32| *other == hash;
        self.0.entry(spread(hash), is_it, |other| spread(*other)).or_insert(hash);
    }

    /// Whether a main row may ask for a key with this hash.
    #[inline]
    pub(super) fn holds(&self, hash: u32) -> bool {
        self.0.find(spread(hash), |other| *other == hash).is_some()
    }
}

/// A hash in the upper and the lower half: the table uses bits of both.
#[inline]
fn spread(hash: u32) -> u64 {
    u64::from(hash) << u32::BITS | u64::from(hash)
}

/// The rows of a block that may be asked for; kept from block to block.
#[derive(Debug, Default)]
pub(super) struct FilteredRows {
    keys: PackedKeys,
    /// For each row whether it is to be packed; empty where every row is.
    wanted: Vec<bool>,
}

impl FilteredRows {
    /// Looks at the keys of all rows at once, where their parts are the cells at these indices.
    pub(super) fn look(
        &mut self,
        filter: Option<&KeyFilter>,
        (block, places): (&Block, Option<&[usize]>),
        hasher: &RandomState,
    ) {
        self.keys.clear();
        self.wanted.clear();
        let (Some(filter), Some(places)) = (filter, places) else { return };
        for row in 0..block.rows() {
            let state = self.keys.pack_cells(block, row, places);
            // Rows without a key are reported, whatever the main table asks for.
            self.wanted.push(state != PartState::Whole);
        }
        // A second pass: reading bytes that were just written stalls.
        for (row, is_wanted) in self.wanted.iter_mut().enumerate() {
            *is_wanted |= filter.holds(hash(hasher, self.keys.get(row)));
        }
    }

    /// Whether a row is known to hold a key that no main row asks for.
    #[inline]
    pub(super) fn is_surplus(&self, row: usize) -> bool {
        self.wanted.get(row) == Some(&false)
    }
}
