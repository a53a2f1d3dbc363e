//! The hash index of a reference: from the hash of a key to the first row that holds it.
//!
//! A slot is twelve bytes: the key's hash, the row's number and where the key stands. A hash only finds
//! candidates; the caller, who has the keys, decides whether one is equal.

use std::hint::black_box;
use std::sync::{Mutex, PoisonError};

use crate::in_parallel::in_parallel;

/// A table of slots, probed one after the other; at least three eighths of them are empty.
#[derive(Debug)]
pub(crate) struct Index {
    slots: Vec<Slot>,
    held: usize,
}

/// Where one row may stand.
#[derive(Debug, Clone, Copy)]
struct Slot {
    hash: u32,
    /// The row's number plus one; zero when the slot is empty.
    behind: u32,
    /// What the caller gave with it.
    place: u32,
}

impl Slot {
    const EMPTY: Self = Self { hash: 0, behind: 0, place: 0 };

    #[inline]
    fn is_empty(self) -> bool {
        self.behind == 0
    }

    #[inline]
    fn row(self) -> u32 {
        self.behind - 1
    }
}

/// The most rows an index can number.
pub(crate) const MOST_ROWS: u64 = u32::MAX as u64 - 1;

const FEWEST_SLOTS: usize = 16;

impl Index {
    pub(crate) fn new() -> Self {
        Self { slots: vec![Slot::EMPTY; FEWEST_SLOTS], held: 0 }
    }

    /// An index with room for so many keys, so that it need not grow.
    fn for_keys(keys: usize) -> Self {
        let slots = (keys * 8 / 5 + 1).max(FEWEST_SLOTS);
        Self { slots: vec![Slot::EMPTY; slots], held: 0 }
    }

    /// An index of all rows that have a key, made by so many threads, and the rows whose key an earlier one
    /// has, each behind that.
    ///
    /// ```text
    /// slots  |....A.BC.....|..D....E..F..|    a thread for each part, by where the search begins;
    ///                     ^G                  what goes beyond its part is entered in the end
    /// ```
    pub(crate) fn of(keyed: &impl Keyed, threads: usize) -> (Self, Vec<(u32, u32)>) {
        let count = keyed.most();
        let mut index = Self::for_keys(count);
        let all = index.slots.len();
        let size = all.div_ceil(threads.clamp(1, count / KEYS_EACH + 1));
        let parts = (0..).step_by(size).zip(index.slots.chunks_mut(size));
        let parts: Vec<Mutex<Part<'_>>> =
            parts.map(|(first, slots)| Mutex::new(Part::new(slots, first))).collect();
        in_parallel(&parts, threads, |part| {
            part.lock().unwrap_or_else(PoisonError::into_inner).enter_all(keyed, all);
        });
        let (mut repeats, mut beyond) = (Vec::new(), Vec::new());
        let mut held = 0;
        for part in parts {
            let part = part.into_inner().unwrap_or_else(PoisonError::into_inner);
            held += part.held;
            repeats.extend(part.repeats);
            beyond.extend(part.beyond);
        }
        index.held = held;
        for Slot { hash, behind, place } in beyond {
            let row = behind - 1;
            if let Some(first) =
                index.enter(hash, (row, place), |other| keyed.are_equal(row, other))
            {
                repeats.push((first, row));
            }
        }
        repeats.sort_unstable_by_key(|(first, row)| (*first, *row));
        (index, repeats)
    }

    /// How many rows are entered.
    pub(crate) fn held(&self) -> usize {
        self.held
    }

    /// The row that was entered under this hash and for which `is_equal` holds.
    pub(crate) fn find(&self, hash: u32, is_equal: impl Fn(u32) -> bool) -> Option<u32> {
        self.seek(hash, is_equal).ok()
    }

    /// The slot where the search for a hash begins, so that it is at hand.
    #[inline]
    pub(crate) fn touch(&self, hash: u32) -> u32 {
        self.slots[home(hash, self.slots.len())].hash
    }

    /// The first row that was entered under this hash, and the place that was given with it. Nearly
    /// always it is the one that is sought, if there is one; the caller, who knows the keys, goes on
    /// with [`Index::find`] when not.
    #[inline]
    pub(crate) fn candidate(&self, hash: u32) -> Option<(u32, u32)> {
        let mut at = home(hash, self.slots.len());
        loop {
            let slot = self.slots[at];
            if slot.is_empty() {
                return None;
            }
            if slot.hash == hash {
                return Some((slot.row(), slot.place));
            }
            at += 1;
            if at == self.slots.len() {
                at = 0;
            }
        }
    }

    /// Enters a row and a place, unless an equal row is there: then that one is returned.
    pub(crate) fn enter(
        &mut self,
        hash: u32,
        (row, place): (u32, u32),
        is_equal: impl Fn(u32) -> bool,
    ) -> Option<u32> {
        if (self.held + 1) * 8 > self.slots.len() * 5 {
            self.grow();
        }
        match self.seek(hash, is_equal) {
            Ok(equal) => Some(equal),
            Err(free) => {
                self.slots[free] = Slot { hash, behind: row + 1, place };
                self.held += 1;
                None
            }
        }
    }

    /// The equal row, or the slot where it would stand.
    fn seek(&self, hash: u32, is_equal: impl Fn(u32) -> bool) -> Result<u32, usize> {
        let mut at = home(hash, self.slots.len());
        loop {
            let slot = self.slots[at];
            if slot.is_empty() {
                return Err(at);
            }
            if slot.hash == hash && is_equal(slot.row()) {
                return Ok(slot.row());
            }
            at += 1;
            if at == self.slots.len() {
                at = 0;
            }
        }
    }

    /// Doubles the slots. The hashes are in them, so no key is looked at.
    fn grow(&mut self) {
        let doubled = vec![Slot::EMPTY; self.slots.len() * 2];
        for slot in std::mem::replace(&mut self.slots, doubled) {
            if !slot.is_empty() {
                // No two entered rows are equal, so each only needs a free slot.
                if let Err(free) = self.seek(slot.hash, |_| false) {
                    self.slots[free] = slot;
                }
            }
        }
    }
}

/// Rows that have keys.
pub(crate) trait Keyed: Sync {
    /// How many there are at most.
    fn most(&self) -> usize;
    /// Those that have one, in order.
    fn rows(&self) -> impl Iterator<Item = u32>;
    /// The hash of one's key.
    fn hash(&self, row: u32) -> u32;
    /// What is kept with it.
    fn place(&self, row: u32) -> u32;
    /// Whether two have the same key.
    fn are_equal(&self, one: u32, other: u32) -> bool;
}

/// A part of the slots, in which one thread enters rows.
struct Part<'s> {
    slots: &'s mut [Slot],
    /// How many slots are before it.
    first: usize,
    held: usize,
    repeats: Vec<(u32, u32)>,
    /// What finds no free slot from where its search begins to the end of the part.
    beyond: Vec<Slot>,
}

/// How many keys there are for each thread at least.
const KEYS_EACH: usize = if cfg!(test) { 8 } else { 1 << 14 };

/// How many slots are looked at before anything is entered there.
const AT_ONCE: usize = 64;

impl<'s> Part<'s> {
    fn new(slots: &'s mut [Slot], first: usize) -> Self {
        Self { slots, first, held: 0, repeats: Vec::new(), beyond: Vec::new() }
    }

    /// Enters those rows whose search begins in this part of so many slots.
    fn enter_all(&mut self, keyed: &impl Keyed, all: usize) {
        let (first, size) = (self.first, self.slots.len());
        let mut own = keyed.rows().filter_map(|row| {
            let hash = keyed.hash(row);
            let at = home(hash, all).wrapping_sub(first);
            (at < size).then_some((at, hash, row))
        });
        let mut batch = Vec::with_capacity(AT_ONCE);
        loop {
            batch.clear();
            batch.extend(own.by_ref().take(AT_ONCE));
            if batch.is_empty() {
                return;
            }
            // Each may be anywhere; so the waits for them run side by side.
            black_box(batch.iter().fold(0, |touched, (at, ..)| touched ^ self.slots[*at].hash));
            for &(at, hash, row) in &batch {
                let new = Slot { hash, behind: row + 1, place: keyed.place(row) };
                self.enter(at, new, |other| keyed.are_equal(row, other));
            }
        }
    }

    fn enter(&mut self, from: usize, new: Slot, is_equal: impl Fn(u32) -> bool) {
        for slot in &mut self.slots[from..] {
            if slot.is_empty() {
                *slot = new;
                self.held += 1;
                return;
            }
            if slot.hash == new.hash && is_equal(slot.row()) {
                self.repeats.push((slot.row(), new.row()));
                return;
            }
        }
        self.beyond.push(new);
    }
}

/// The slot where the search for a hash begins: its share of the whole range.
fn home(hash: u32, slots: usize) -> usize {
    ((u64::from(hash) * slots as u64) >> 32) as usize
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Keys that somebody made to collide under one seed do not under that of another run: none of
    /// them makes others wait longer than keys that nobody chose.
    #[test]
    fn chosen_keys_collide_under_one_seed_only() {
        use super::super::reference::hash;
        use ahash::RandomState;
        const CHOSEN: usize = 400;
        let known = RandomState::with_seeds(1, 2, 3, 4);
        // Of many keys those whose search begins within one of five hundred parts of the index.
        let chosen: Vec<String> = (0..)
            .map(|n| format!("H-{n}"))
            .filter(|key| home(hash(&known, key.as_bytes()), 500) == 0)
            .take(CHOSEN)
            .collect();
        // The longest way from where a search begins to where it ends.
        let longest = |hasher: &RandomState| {
            let mut index = Index::for_keys(chosen.len());
            let mut longest = 0;
            for (row, key) in chosen.iter().enumerate() {
                let hash = hash(hasher, key.as_bytes());
                index.enter(hash, (row as u32, 0), |_| false);
                let (begin, slots) = (home(hash, index.slots.len()), index.slots.len());
                let end = index.slots.iter().position(|slot| slot.behind == row as u32 + 1);
                longest = longest.max((end.unwrap() + slots - begin) % slots);
            }
            longest
        };
        assert!(longest(&known) > CHOSEN / 2);
        for run in 5..25 {
            let seeds = RandomState::with_seeds(run, run + 1, run * 7, run * 31);
            assert!(longest(&seeds) < CHOSEN / 4, "run {run}: {}", longest(&seeds));
        }
    }

    /// Keys with hashes of their own.
    struct Keys<'k>(&'k [String], &'k [u32]);

    impl Keyed for Keys<'_> {
        fn most(&self) -> usize {
            self.0.len()
        }

        fn rows(&self) -> impl Iterator<Item = u32> {
            (0..self.0.len() as u32).filter(|row| !self.0[*row as usize].is_empty())
        }

        fn hash(&self, row: u32) -> u32 {
            self.1[row as usize]
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
            let (index, repeats) = Index::of(&keyed, threads);
            let first = |key: &str| keys.iter().position(|other| other == key).unwrap() as u32;
            let mut expected: Vec<(u32, u32)> = (0..)
                .zip(&keys)
                .filter(|(row, key)| !key.is_empty() && first(key) != *row)
                .map(|(row, key)| (first(key), row))
                .collect();
            expected.sort_unstable();
            prop_assert_eq!(repeats, expected);
            let mut one_by_one = Index::new();
            for row in keyed.rows() {
                let (key, hash) = (&keys[row as usize], hashes[row as usize]);
                let equal = |other: u32| keys[other as usize] == *key;
                prop_assert_eq!(index.find(hash, equal), Some(first(key)));
                prop_assert_eq!(index.find(hash, |_| false), None);
                let (candidate, place) = index.candidate(hash).unwrap();
                prop_assert_eq!((hashes[candidate as usize], place), (hash, 3 * candidate));
                let entered = one_by_one.enter(hash, (row, 3 * row), equal);
                prop_assert_eq!(entered, (first(key) != row).then(|| first(key)));
            }
            prop_assert_eq!(index.held(), one_by_one.held());
        }
    }
}
