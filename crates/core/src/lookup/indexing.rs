//! Making the index of a reference, once all its rows are taken in.
//!
//! Each thread has a part of the buckets, and enters the keys whose search begins there, in the order of
//! the rows. The few that find no place up to the end of their part are entered afterwards.

use std::hint::black_box;
use std::sync::{Mutex, PoisonError};

use super::index::{Bucket, Entered, Entry, Index, enter, home};
use super::reference::TOUCHED;
use super::{Holder, Reference, RowId};
use crate::in_parallel::in_parallel;
use crate::table::packed;

/// Enters every key into the index, and notes which holders repeat one.
pub(super) fn index_keys(
    reference: &mut Reference,
    (hashes, without_key): (&[u32], &[RowId]),
    threads: usize,
) {
    if reference.by_position {
        return;
    }
    let length = reference.rows.text.len() / reference.rows.len().max(1);
    // Nearly all of them; what is fetched in vain keeps others waiting.
    reference.touched = (length * 9 / 8).min(TOUCHED - 1);
    // Cells count by column first, and were hashed in the order in which they were read.
    reference.cells.all.sort_unstable();
    let of_cells: Vec<u32> =
        reference.cells.all.iter().map(|cell| hashes[cell.key as usize]).collect();
    // Where cells hold the keys, rows without one have none.
    let (hashes, without_key) = if reference.looked_in.is_empty() {
        (hashes, without_key)
    } else {
        (&of_cells[..], &[][..])
    };
    let (index, repeats) = Index::of(&Holders { reference, hashes, without_key }, threads);
    reference.key_count = index.held as u64;
    reference.index = index;
    reference.repeats =
        repeats.into_iter().map(|(first, other)| (Holder(first), Holder(other))).collect();
}

/// The holders of a reference whose rows are taken in.
struct Holders<'r> {
    reference: &'r Reference,
    /// Of each holder.
    hashes: &'r [u32],
    /// Rows without a key, in order.
    without_key: &'r [RowId],
}

impl Keyed for Holders<'_> {
    fn hashes(&self) -> &[u32] {
        self.hashes
    }

    fn without_key(&self) -> impl Iterator<Item = usize> {
        self.without_key.iter().map(|row| row.index())
    }

    fn place(&self, holder: u32) -> u32 {
        self.reference.key_start(Holder(holder)) as u32
    }

    fn are_equal(&self, one: u32, other: u32) -> bool {
        let parts = self.reference.key().parts().len();
        let key = packed::first_cells(self.reference.key_text(Holder(one)), parts);
        self.reference.key_text(Holder(other)).starts_with(key)
    }
}

/// Rows that have keys, but for some.
trait Keyed: Sync {
    /// The hash of the key of each.
    fn hashes(&self) -> &[u32];
    /// Those that have none, in order.
    fn without_key(&self) -> impl Iterator<Item = usize>;
    /// What is kept with one.
    fn place(&self, row: u32) -> u32;
    /// Whether two have the same key.
    fn are_equal(&self, one: u32, other: u32) -> bool;
}

/// A part of the buckets, in which one thread enters rows.
struct Part<'b> {
    buckets: &'b mut [Bucket],
    /// How many buckets are before it.
    first: usize,
    held: usize,
    repeats: Vec<(u32, u32)>,
    /// Rows that find no place from where their search begins to the end of the part, with their hash.
    beyond: Vec<(u32, Entry)>,
}

/// How many keys there are for each thread at least.
const KEYS_EACH: usize = if cfg!(test) { 8 } else { 1 << 14 };

/// How many buckets are looked at before anything is entered there.
const AT_ONCE: usize = 64;

impl<'b> Part<'b> {
    fn new(buckets: &'b mut [Bucket], first: usize) -> Self {
        Self { buckets, first, held: 0, repeats: Vec::new(), beyond: Vec::new() }
    }

    /// Enters those rows whose search begins in this part of so many buckets.
    fn enter_all(&mut self, keyed: &impl Keyed, all: usize) {
        let (first, size, hashes) = (self.first, self.buckets.len(), keyed.hashes());
        let (mut batch, mut count) = ([(0, 0, 0); AT_ONCE], 0);
        let mut from = 0;
        for upto in keyed.without_key().chain([hashes.len()]) {
            for (row, &hash) in (from as u32..).zip(&hashes[from..upto]) {
                let at = home(hash, all).wrapping_sub(first);
                // It is written over unless it is one of them.
                batch[count] = (at, hash, row);
                count += usize::from(at < size);
                if count == AT_ONCE {
                    self.enter_batch(&batch, keyed);
                    count = 0;
                }
            }
            from = upto + 1;
        }
        self.enter_batch(&batch[..count], keyed);
    }

    /// Enters rows, each with where its search begins and its hash.
    fn enter_batch(&mut self, batch: &[(usize, u32, u32)], keyed: &impl Keyed) {
        // Each may be anywhere; so the waits for them run side by side.
        let touch = |touched: u8, (at, ..): &(usize, u32, u32)| touched ^ self.buckets[*at].marks();
        black_box(batch.iter().fold(0, touch));
        for &(at, hash, row) in batch {
            let entry = Entry { row, place: keyed.place(row) };
            let is_equal = |other| keyed.are_equal(row, other);
            match enter(&mut self.buckets[at..], hash, entry, is_equal) {
                Entered::Held => self.held += 1,
                Entered::Repeats(first) => self.repeats.push((first, row)),
                Entered::Beyond => self.beyond.push((hash, entry)),
            }
        }
    }
}

impl Index {
    /// An index of all rows that have a key, made by so many threads, and the rows whose key an earlier one
    /// has, each behind that.
    ///
    /// ```text
    /// buckets  |....A.BC.....|..D....E..F..|    a thread for each part, by where the search begins;
    ///                       ^G                  what goes beyond its part is entered in the end
    /// ```
    fn of(keyed: &impl Keyed, threads: usize) -> (Self, Vec<(u32, u32)>) {
        let count = keyed.hashes().len();
        let mut index = Self::for_keys(count);
        let all = index.buckets.len();
        let size = all.div_ceil(threads.clamp(1, count / KEYS_EACH + 1));
        let parts = (0..).step_by(size).zip(index.buckets.chunks_mut(size));
        let parts: Vec<Mutex<Part<'_>>> =
            parts.map(|(first, buckets)| Mutex::new(Part::new(buckets, first))).collect();
        in_parallel(&parts, threads, |part| {
            part.lock().unwrap_or_else(PoisonError::into_inner).enter_all(keyed, all);
        });
        let (mut repeats, mut beyond) = (Vec::new(), Vec::new());
        for (nth, part) in parts.into_iter().enumerate() {
            let part = part.into_inner().unwrap_or_else(PoisonError::into_inner);
            index.held += part.held;
            repeats.extend(part.repeats);
            // The search goes on behind the part.
            let behind = ((nth + 1) * size).min(all);
            beyond.extend(part.beyond.into_iter().map(|(hash, entry)| (behind, hash, entry)));
        }
        for (behind, hash, entry) in beyond {
            let is_equal = |other| keyed.are_equal(entry.row, other);
            let equal = index.enter_from(behind, hash, entry, is_equal);
            repeats.extend(equal.map(|first| (first, entry.row)));
        }
        repeats.sort_unstable_by_key(|(first, row)| (*first, *row));
        (index, repeats)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::super::index::tag;
    use super::*;
    use proptest::prelude::*;

    /// Keys with hashes of their own.
    struct Keys<'k>(&'k [String], &'k [u32]);

    impl Keyed for Keys<'_> {
        fn hashes(&self) -> &[u32] {
            self.1
        }

        fn without_key(&self) -> impl Iterator<Item = usize> {
            (0..self.0.len()).filter(|row| self.0[*row].is_empty())
        }

        fn place(&self, row: u32) -> u32 {
            3 * row
        }

        fn are_equal(&self, one: u32, other: u32) -> bool {
            self.0[one as usize] == self.0[other as usize]
        }
    }

    proptest! {
        /// Whatever the hash does, and however many threads make the index, equal keys are found and
        /// unequal ones are not.
        #[test]
        fn a_hash_only_finds_candidates(
            keys in prop::collection::vec("[a-e]{0,3}", 0..200),
            way in 0..4_u32,
            threads in 1..6_usize,
        ) {
            // All hashes alike, a few, all near the end of a part, or none like another.
            let hash = |key: &str| {
                let sum = key.bytes().fold(7_u32, |sum, byte| sum * 31 + u32::from(byte));
                [7, sum % 3 * 0x7fff_ffff, sum % 9 + 0x7fff_fff0, sum.wrapping_mul(0x9e37_79b9)]
                    [way as usize]
            };
            let hashes: Vec<u32> = keys.iter().map(|key| hash(key)).collect();
            let keyed = Keys(&keys, &hashes);
            let (mut index, repeats) = Index::of(&keyed, threads);
            let first = |key: &str| keys.iter().position(|other| other == key).unwrap() as u32;
            let mut expected: Vec<(u32, u32)> = (0..)
                .zip(&keys)
                .filter(|(row, key)| !key.is_empty() && first(key) != *row)
                .map(|(row, key)| (first(key), row))
                .collect();
            expected.sort_unstable();
            prop_assert_eq!(repeats, expected);
            for row in (0..keys.len() as u32).filter(|row| !keys[*row as usize].is_empty()) {
                let (key, hash) = (&keys[row as usize], hashes[row as usize]);
                let equal = |other: u32| keys[other as usize] == *key;
                prop_assert_eq!(index.find(hash, equal), Some(first(key)));
                prop_assert_eq!(index.find(hash, |_| false), None);
                prop_assert!(index.candidate(hash).is_some());
                if first(key) == row && key.starts_with('a') {
                    index.mark(hash, row);
                }
            }
            // What is found first is the key itself, where no other one has its hash.
            for (row, key) in (0_u32..).zip(&keys).filter(|(_, key)| !key.is_empty()) {
                let found = index.candidate(hashes[row as usize]).unwrap();
                let candidate = &keys[found.row as usize];
                prop_assert_eq!(tag(hash(candidate)), tag(hash(key)));
                prop_assert_eq!(found.place, 3 * found.row);
                prop_assert_eq!(found.row, first(candidate));
                prop_assert_eq!(found.is_marked, candidate.starts_with('a'));
            }
            let held = keys.iter().filter(|key| !key.is_empty()).collect::<HashSet<_>>();
            prop_assert_eq!(index.held, held.len());
        }
    }
}
