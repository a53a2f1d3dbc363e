//! The key index of a reference: from a packed key to the entries that hold it.
//!
//! An entry is a row, or in a reverse lookup one cell of a row ([`CellEntries`]). The hash index finds the first
//! entry of each key; the few later entries of repeated keys are in a sorted list. With a range, the entries of
//! each key are sorted in [`RangeIndex`].

mod buckets;
mod parallel;
mod ranges;

pub(super) use buckets::{Candidate, HashIndex, MOST_ROWS};
pub(super) use parallel::index_keys;
pub(crate) use ranges::{Interval, RangeMatch};
pub(super) use ranges::{RangeIndex, Ranges};

use super::store::Arena;
use super::{EntryId, RowId};

/// Which entries hold which keys.
#[derive(Debug, Default)]
pub(super) struct KeyIndex {
    pub(super) hashes: HashIndex,
    /// The entries of a reverse lookup; empty in others, where rows are the entries.
    pub(super) cells: CellEntries,
    /// For each entry that repeats a key: the key's first entry, and the entry; sorted.
    pub(super) repeats: Vec<(EntryId, EntryId)>,
    /// A set of bits: the first entries of keys whose rows disagree. Empty when there are none.
    pub(super) conflicting: Vec<u64>,
    /// For each key whose rows disagree, its first entry and the entry that the rule chooses; sorted.
    pub(super) chosen: Vec<(EntryId, EntryId)>,
    /// For each taken column, whether the rows of some key disagree on it.
    pub(super) disputed: Vec<bool>,
    /// How many different keys there are.
    pub(super) keys: u64,
    pub(super) ranges: Option<RangeIndex>,
    /// How many bytes from its start a record is prefetched.
    pub(super) prefetch: usize,
}

/// The cells that hold keys in a reverse lookup.
#[derive(Debug, Default)]
pub(super) struct CellEntries {
    /// The packed keys, in the order in which they were read.
    pub(super) keys: Arena,
    /// The cells in the order in which they count.
    pub(super) all: Vec<CellEntry>,
}

/// A cell that holds a key. The order of the fields is the order in which cells count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct CellEntry {
    /// The cell's column, by its index among the searched ones.
    pub(super) column: u32,
    pub(super) row: RowId,
    /// The number of its key in [`CellEntries::keys`].
    pub(super) key: u32,
}

impl KeyIndex {
    /// Whether several entries hold the key of this first entry.
    pub(super) fn is_repeated(&self, first: EntryId) -> bool {
        let at = self.repeats.partition_point(|repeat| repeat.0 < first);
        self.repeats.get(at).is_some_and(|repeat| repeat.0 == first)
    }

    /// Whether the rows of the key of this first entry disagree.
    #[inline]
    pub(super) fn is_conflicting(&self, first: EntryId) -> bool {
        let word = self.conflicting.get(first.index() / 64);
        word.is_some_and(|word| word >> (first.index() % 64) & 1 == 1)
    }

    /// All entries of the key of this first entry, in order.
    pub(super) fn entries_of(&self, first: EntryId) -> impl Iterator<Item = EntryId> + use<'_> {
        let start = self.repeats.partition_point(|repeat| repeat.0 < first);
        let later = self.repeats[start..].iter().take_while(move |repeat| repeat.0 == first);
        std::iter::once(first).chain(later.map(|repeat| repeat.1))
    }

    /// The entry that the rule chose for a key whose rows disagree.
    pub(super) fn chosen(&self, first: EntryId) -> Option<EntryId> {
        let at = self.chosen.binary_search_by_key(&first, |pair| pair.0).ok()?;
        Some(self.chosen[at].1)
    }
}
