//! Building the key index on several threads, once all rows are in the store.
//!
//! Each thread owns a section of the buckets, and inserts the keys whose search begins there, in the order of the
//! rows. The few that find no free slot up to the end of their section are inserted afterwards.

use std::hint::black_box;
use std::sync::{Mutex, PoisonError};

use super::buckets::{Bucket, HashIndex, Inserted, Slot, home, insert};
use crate::lookup::{EntryId, Reference, RowId};
use crate::parallel::in_parallel;

/// How many bytes of a record are prefetched at most.
const MOST_PREFETCH: usize = 3 * 64;

/// Fills the key index of a reference whose rows are stored: `hashes` has the hash of each row's key, or of each
/// key of a reverse lookup; the rows of `without_key` have none.
pub(in crate::lookup) fn index_keys(
    reference: &mut Reference,
    (hashes, without_key): (&[u32], &[RowId]),
    threads: usize,
) {
    if reference.spec.by_position {
        return;
    }
    let length = reference.store.arena.text.len() / reference.store.len().max(1);
    // Slightly more than the average: prefetching too much delays other loads.
    reference.index.prefetch = (length * 9 / 8).min(MOST_PREFETCH - 1);
    // Cells count by column first, but were hashed in the order in which they were read.
    reference.index.cells.all.sort_unstable();
    let of_cells: Vec<u32> =
        reference.index.cells.all.iter().map(|cell| hashes[cell.key as usize]).collect();
    // In a reverse lookup, rows without a key have no entry.
    let (hashes, without_key) =
        if reference.spec.is_reverse() { (&of_cells[..], &[][..]) } else { (hashes, without_key) };
    let (index, repeats) = HashIndex::of(&Entries { reference, hashes, without_key }, threads);
    reference.index.keys = index.held as u64;
    reference.index.hashes = index;
    reference.index.repeats =
        repeats.into_iter().map(|(first, other)| (EntryId(first), EntryId(other))).collect();
}

/// The entries of a reference.
struct Entries<'r> {
    reference: &'r Reference,
    /// The hash of each entry's key.
    hashes: &'r [u32],
    /// Rows without a key, in order.
    without_key: &'r [RowId],
}

impl Keyed for Entries<'_> {
    fn hashes(&self) -> &[u32] {
        self.hashes
    }

    fn without_key(&self) -> impl Iterator<Item = usize> {
        self.without_key.iter().map(|entry| entry.index())
    }

    fn key_offset(&self, entry: u32) -> u32 {
        self.reference.key_start(EntryId(entry)) as u32
    }

    fn are_equal(&self, one: u32, other: u32) -> bool {
        let key = self.reference.packed_key(EntryId(one));
        self.reference.key_record(EntryId(other)).starts_with(key)
    }
}

/// Entries with keys.
trait Keyed: Sync {
    /// The hash of each entry's key.
    fn hashes(&self) -> &[u32];
    /// The entries without a key, in order.
    fn without_key(&self) -> impl Iterator<Item = usize>;
    /// The number that a slot keeps for an entry.
    fn key_offset(&self, entry: u32) -> u32;
    /// Whether two entries hold the same key.
    fn are_equal(&self, one: u32, other: u32) -> bool;
}

/// A section of the buckets, owned by one thread.
struct Section<'b> {
    buckets: &'b mut [Bucket],
    /// How many buckets are before it.
    first: usize,
    held: usize,
    repeats: Vec<(u32, u32)>,
    /// Entries that found no free slot up to the end of the section, with their hash.
    beyond: Vec<(u32, Slot)>,
}

/// How many keys a thread gets at least.
const KEYS_EACH: usize = if cfg!(test) { 8 } else { 1 << 14 };

/// How many buckets are prefetched at a time.
const AT_ONCE: usize = 64;

impl<'b> Section<'b> {
    fn new(buckets: &'b mut [Bucket], first: usize) -> Self {
        Self { buckets, first, held: 0, repeats: Vec::new(), beyond: Vec::new() }
    }

    /// Inserts the entries whose search begins in this section of `all` buckets.
    fn insert_all(&mut self, keyed: &impl Keyed, all: usize) {
        let (first, size, hashes) = (self.first, self.buckets.len(), keyed.hashes());
        let (mut batch, mut count) = ([(0, 0, 0); AT_ONCE], 0);
        let mut from = 0;
        for upto in keyed.without_key().chain([hashes.len()]) {
            for (entry, &hash) in (from as u32..).zip(&hashes[from..upto]) {
                let at = home(hash, all).wrapping_sub(first);
                // Overwritten by the next entry unless this one belongs to the section.
                batch[count] = (at, hash, entry);
                count += usize::from(at < size);
                if count == AT_ONCE {
                    self.insert_batch(&batch, keyed);
                    count = 0;
                }
            }
            from = upto + 1;
        }
        self.insert_batch(&batch[..count], keyed);
    }

    /// Inserts entries, each given as the bucket where its search begins, its hash and its number.
    fn insert_batch(&mut self, batch: &[(usize, u32, u32)], keyed: &impl Keyed) {
        // Each bucket may be anywhere in memory; loading all of them first makes the waits overlap.
        let prefetch =
            |touched: u8, (at, ..): &(usize, u32, u32)| touched ^ self.buckets[*at].marks();
        black_box(batch.iter().fold(0, prefetch));
        for &(at, hash, entry) in batch {
            let slot = Slot { entry, key_offset: keyed.key_offset(entry) };
            let is_equal = |other| keyed.are_equal(entry, other);
            match insert(&mut self.buckets[at..], hash, slot, is_equal) {
                Inserted::Held => self.held += 1,
                Inserted::Repeats(first) => self.repeats.push((first, entry)),
                Inserted::Beyond => self.beyond.push((hash, slot)),
            }
        }
    }
}

impl HashIndex {
    /// Builds the index of all entries that have a key. Also returns the entries that repeat a key, each as the
    /// key's first entry and the entry.
    ///
    /// ```text
    /// buckets  |....A.BC.....|..D....E..F..|    a thread for each section, by where the search begins;
    ///                       ^G                  entries past the end of their section come last
    /// ```
    fn of(keyed: &impl Keyed, threads: usize) -> (Self, Vec<(u32, u32)>) {
        let count = keyed.hashes().len();
        let mut index = Self::for_keys(count);
        let all = index.buckets.len();
        let size = all.div_ceil(threads.clamp(1, count / KEYS_EACH + 1));
        let sections = (0..).step_by(size).zip(index.buckets.chunks_mut(size));
        let sections: Vec<Mutex<Section<'_>>> =
            sections.map(|(first, buckets)| Mutex::new(Section::new(buckets, first))).collect();
        in_parallel(&sections, threads, |section| {
            section.lock().unwrap_or_else(PoisonError::into_inner).insert_all(keyed, all);
        });
        let (mut repeats, mut beyond) = (Vec::new(), Vec::new());
        for (nth, section) in sections.into_iter().enumerate() {
            let section = section.into_inner().unwrap_or_else(PoisonError::into_inner);
            index.held += section.held;
            repeats.extend(section.repeats);
            // The search goes on after the section.
            let after = ((nth + 1) * size).min(all);
            beyond.extend(section.beyond.into_iter().map(|(hash, slot)| (after, hash, slot)));
        }
        for (after, hash, slot) in beyond {
            let is_equal = |other| keyed.are_equal(slot.entry, other);
            let equal = index.insert_from(after, hash, slot, is_equal);
            repeats.extend(equal.map(|first| (first, slot.entry)));
        }
        repeats.sort_unstable_by_key(|(first, entry)| (*first, *entry));
        (index, repeats)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::super::buckets::tag;
    use super::*;
    use proptest::prelude::*;

    /// Keys with hashes of their own.
    struct Keys<'k>(&'k [String], &'k [u32]);

    impl Keyed for Keys<'_> {
        fn hashes(&self) -> &[u32] {
            self.1
        }

        fn without_key(&self) -> impl Iterator<Item = usize> {
            (0..self.0.len()).filter(|entry| self.0[*entry].is_empty())
        }

        fn key_offset(&self, entry: u32) -> u32 {
            3 * entry
        }

        fn are_equal(&self, one: u32, other: u32) -> bool {
            self.0[one as usize] == self.0[other as usize]
        }
    }

    proptest! {
        /// Equal keys are found and unequal ones are not, whatever the hash function and the number of threads.
        #[test]
        fn a_hash_only_finds_candidates(
            keys in prop::collection::vec("[a-e]{0,3}", 0..200),
            function in 0..4_u32,
            threads in 1..6_usize,
        ) {
            // All hashes equal, a few, all near the end of a section, or all different.
            let hash = |key: &str| {
                let sum = key.bytes().fold(7_u32, |sum, byte| sum * 31 + u32::from(byte));
                [7, sum % 3 * 0x7fff_ffff, sum % 9 + 0x7fff_fff0, sum.wrapping_mul(0x9e37_79b9)]
                    [function as usize]
            };
            let hashes: Vec<u32> = keys.iter().map(|key| hash(key)).collect();
            let keyed = Keys(&keys, &hashes);
            let (mut index, repeats) = HashIndex::of(&keyed, threads);
            let first = |key: &str| keys.iter().position(|other| other == key).unwrap() as u32;
            let mut expected: Vec<(u32, u32)> = (0..)
                .zip(&keys)
                .filter(|(entry, key)| !key.is_empty() && first(key) != *entry)
                .map(|(entry, key)| (first(key), entry))
                .collect();
            expected.sort_unstable();
            prop_assert_eq!(repeats, expected);
            for entry in (0..keys.len() as u32).filter(|entry| !keys[*entry as usize].is_empty()) {
                let (key, hash) = (&keys[entry as usize], hashes[entry as usize]);
                let equal = |other: u32| keys[other as usize] == *key;
                prop_assert_eq!(index.find(hash, equal), Some(first(key)));
                prop_assert_eq!(index.find(hash, |_| false), None);
                prop_assert!(index.candidate(hash).is_some());
                if first(key) == entry && key.starts_with('a') {
                    index.mark(hash, entry);
                }
            }
            // The candidate is the key itself, unless another key has its tag.
            for (entry, key) in (0_u32..).zip(&keys).filter(|(_, key)| !key.is_empty()) {
                let found = index.candidate(hashes[entry as usize]).unwrap();
                let candidate = &keys[found.entry as usize];
                prop_assert_eq!(tag(hash(candidate)), tag(hash(key)));
                prop_assert_eq!(found.key_offset, 3 * found.entry);
                prop_assert_eq!(found.entry, first(candidate));
                prop_assert_eq!(found.disagree, candidate.starts_with('a'));
            }
            let held = keys.iter().filter(|key| !key.is_empty()).collect::<HashSet<_>>();
            prop_assert_eq!(index.held, held.len());
        }
    }
}
