//! The hash index: from the hash of a key to the first entry that holds it.
//!
//! ```text
//! bucket  | 7 tags | marks | 7 slots: an entry, and where its key is |    64 bytes
//! ```
//!
//! A bucket is one cache line, so that a search waits for memory once. The upper bits of a hash choose the bucket
//! where the search begins, the lower ones make the tag. An entry that finds no free slot goes to the next bucket,
//! and the full one is marked as passed. A tag only finds candidates; the caller, who has the keys, decides
//! whether one is equal.

/// A table of buckets; more than a third of all slots are empty.
#[derive(Debug)]
pub(in crate::lookup) struct HashIndex {
    pub(in crate::lookup) buckets: Vec<Bucket>,
    /// How many entries it holds.
    pub(in crate::lookup) held: usize,
}

/// How many slots a bucket has.
const SLOTS: usize = 7;

/// Entries that are looked at together.
#[derive(Debug, Clone, Copy)]
#[repr(C, align(64))]
pub(in crate::lookup) struct Bucket {
    /// A byte for each slot, zero where it is empty; the last byte is [`Bucket::marks`].
    tags: [u8; SLOTS + 1],
    slots: [Slot; SLOTS],
}

/// Room for one entry.
#[derive(Debug, Clone, Copy)]
pub(in crate::lookup) struct Slot {
    pub(in crate::lookup) entry: u32,
    /// The lower 32 bits of the offset of its key.
    pub(in crate::lookup) key_offset: u32,
}

/// An entry that was found by its hash alone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::lookup) struct Candidate {
    pub(in crate::lookup) entry: u32,
    pub(in crate::lookup) key_offset: u32,
    /// Whether the rows of its key disagree.
    pub(in crate::lookup) disagree: bool,
}

/// The result of an insertion.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::lookup) enum Inserted {
    Held,
    /// This earlier entry holds the same key.
    Repeats(u32),
    /// All buckets up to the last one are full.
    Beyond,
}

/// The most entries an index can number.
pub(in crate::lookup) const MOST_ROWS: u64 = u32::MAX as u64 - 1;

/// Marks a full bucket that an insertion passed.
const PASSED: u8 = 1 << SLOTS;

/// The tag of an empty slot.
const EMPTY: u8 = 0;

/// A one in each byte.
const EACH: u64 = u64::MAX / 0xff;

impl Bucket {
    const EMPTY: Self =
        Self { tags: [EMPTY; SLOTS + 1], slots: [Slot { entry: 0, key_offset: 0 }; SLOTS] };

    /// One bit for each marked slot, and [`PASSED`].
    #[inline]
    pub(in crate::lookup) fn marks(&self) -> u8 {
        self.tags[SLOTS]
    }

    /// The slots with a tag, in order.
    #[inline]
    fn tagged(&self, tag: u8) -> impl Iterator<Item = usize> + use<> {
        // Only bytes that are zero keep their highest bit.
        let other = u64::from_le_bytes(self.tags) ^ (EACH * u64::from(tag));
        let low = EACH * 0x7f;
        let mut equal = !(((other & low) + low) | other | low) & (u64::MAX >> 8);
        std::iter::from_fn(move || {
            let first = (equal != 0).then(|| equal.trailing_zeros() as usize / 8);
            equal &= equal.wrapping_sub(1);
            first
        })
    }

    fn insert(&mut self, nth: usize, tag: u8, slot: Slot) {
        self.tags[nth] = tag;
        self.slots[nth] = slot;
    }
}

/// The byte of a hash that a slot keeps. It is independent of the upper bits, which choose the bucket, and of the
/// lowest eight, which are the same for all keys of one [partition](crate::spill::partition_of).
#[inline]
pub(in crate::lookup) fn tag(hash: u32) -> u8 {
    ((hash ^ (hash >> 8)) as u8).max(EMPTY + 1)
}

/// The bucket where the search for a hash begins.
#[inline]
pub(in crate::lookup) fn home(hash: u32, buckets: usize) -> usize {
    ((u64::from(hash) * buckets as u64) >> 32) as usize
}

/// Inserts an entry into the first free slot from the first bucket on, unless an equal entry is found before.
pub(in crate::lookup) fn insert(
    buckets: &mut [Bucket],
    hash: u32,
    slot: Slot,
    is_equal: impl Fn(u32) -> bool,
) -> Inserted {
    let tag = tag(hash);
    for bucket in buckets {
        let mut equal = bucket.tagged(tag).map(|nth| bucket.slots[nth].entry);
        if let Some(entry) = equal.find(|entry| is_equal(*entry)) {
            return Inserted::Repeats(entry);
        }
        if let Some(free) = bucket.tagged(EMPTY).next() {
            bucket.insert(free, tag, slot);
            return Inserted::Held;
        }
        bucket.tags[SLOTS] |= PASSED;
    }
    Inserted::Beyond
}

impl Default for HashIndex {
    fn default() -> Self {
        Self::for_keys(0)
    }
}

impl HashIndex {
    /// An index for up to `keys` entries.
    pub(in crate::lookup) fn for_keys(keys: usize) -> Self {
        // Four and a half a bucket on average, so that few insertions pass a full one.
        Self { buckets: vec![Bucket::EMPTY; keys * 2 / 9 + 1], held: 0 }
    }

    /// Inserts an entry whose search goes on from a bucket, wrapping around after the last one. Returns an equal
    /// entry if there is one.
    pub(in crate::lookup) fn insert_from(
        &mut self,
        bucket: usize,
        hash: u32,
        slot: Slot,
        is_equal: impl Fn(u32) -> bool,
    ) -> Option<u32> {
        let (front, back) = self.buckets.split_at_mut(bucket);
        let mut inserted = insert(back, hash, slot, &is_equal);
        if inserted == Inserted::Beyond {
            inserted = insert(front, hash, slot, &is_equal);
        }
        // There are more slots than entries, so that one of the two has a free slot.
        self.held += usize::from(inserted == Inserted::Held);
        if let Inserted::Repeats(entry) = inserted { Some(entry) } else { None }
    }

    /// The entry with this hash for which `is_equal` holds.
    pub(in crate::lookup) fn find(&self, hash: u32, is_equal: impl Fn(u32) -> bool) -> Option<u32> {
        let found = self.seek(hash, is_equal);
        found.map(|(bucket, nth)| self.buckets[bucket].slots[nth].entry)
    }

    /// Loads the bucket where the search for a hash begins into the cache.
    #[inline]
    pub(in crate::lookup) fn prefetch(&self, hash: u32) -> u8 {
        self.buckets[home(hash, self.buckets.len())].marks()
    }

    /// The first entry with the tag of this hash. It nearly always is the entry that is searched for, if there is
    /// one; the caller, who has the keys, goes on with [`HashIndex::find`] otherwise.
    #[inline]
    pub(in crate::lookup) fn candidate(&self, hash: u32) -> Option<Candidate> {
        let (bucket, nth) = self.seek(hash, |_| true)?;
        let bucket = &self.buckets[bucket];
        let Slot { entry, key_offset } = bucket.slots[nth];
        Some(Candidate { entry, key_offset, disagree: bucket.marks() >> nth & 1 == 1 })
    }

    /// Marks an entry with this hash.
    pub(in crate::lookup) fn mark(&mut self, hash: u32, entry: u32) {
        if let Some((bucket, nth)) = self.seek(hash, |other| other == entry) {
            self.buckets[bucket].tags[SLOTS] |= 1 << nth;
        }
    }

    /// The bucket and the slot of the entry with this hash for which `is_it` holds.
    #[inline]
    fn seek(&self, hash: u32, is_it: impl Fn(u32) -> bool) -> Option<(usize, usize)> {
        let tag = tag(hash);
        let mut at = home(hash, self.buckets.len());
        loop {
            let bucket = &self.buckets[at];
            if let Some(nth) = bucket.tagged(tag).find(|nth| is_it(bucket.slots[*nth].entry)) {
                return Some((at, nth));
            }
            if bucket.marks() & PASSED == 0 {
                return None;
            }
            at = if at + 1 == self.buckets.len() { 0 } else { at + 1 };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Few keys have the tag of another one, also where all are of one partition.
    #[test]
    fn few_hashes_are_taken_for_others() {
        use crate::spill::partition_of;
        let spread = |nth: u32| nth.wrapping_mul(0x9e37_79b1).rotate_left(7) ^ nth;
        for is_partition in [false, true] {
            let hashes = (0..).map(spread).filter(|hash| !is_partition || partition_of(*hash) == 7);
            let hashes: Vec<u32> = hashes.take(9_000).collect();
            let mut index = HashIndex::for_keys(hashes.len());
            for (entry, &hash) in (0..).zip(&hashes) {
                let begin = home(hash, index.buckets.len());
                index.insert_from(begin, hash, Slot { entry, key_offset: 0 }, |_| false);
            }
            let is_other = |(entry, hash): &(u32, &u32)| {
                index.candidate(**hash).is_none_or(|found| found.entry != *entry)
            };
            let others = (0..).zip(&hashes).filter(is_other).count();
            assert!(others < hashes.len() / 30, "{is_partition}: {others}");
        }
    }

    /// Keys that were made to collide under one seed do not collide under the seed of another run.
    #[test]
    fn chosen_keys_collide_under_one_seed_only() {
        use crate::hashing::hash;
        use ahash::RandomState;
        const CHOSEN: usize = 400;
        let known = RandomState::with_seeds(1, 2, 3, 4);
        // The keys, among many, whose search begins in the first of five hundred parts of the index.
        let chosen: Vec<String> = (0..)
            .map(|n| format!("H-{n}"))
            .filter(|key| home(hash(&known, key.as_bytes()), 500) == 0)
            .take(CHOSEN)
            .collect();
        // The longest way from where a search begins to where it ends, in buckets.
        let longest = |hasher: &RandomState| {
            let mut index = HashIndex::for_keys(chosen.len());
            let mut longest = 0;
            for (entry, key) in (0..).zip(&chosen) {
                let hash = hash(hasher, key.as_bytes());
                let begin = home(hash, index.buckets.len());
                let slot = Slot { entry, key_offset: 0 };
                assert_eq!(index.insert_from(begin, hash, slot, |_| false), None);
                let (end, _) = index.seek(hash, |other| other == entry).unwrap();
                let all = index.buckets.len();
                longest = longest.max((end + all - begin) % all);
            }
            longest
        };
        assert!(longest(&known) > CHOSEN / SLOTS / 2);
        for run in 5..25 {
            let seeds = RandomState::with_seeds(run, run + 1, run * 7, run * 31);
            assert!(longest(&seeds) < CHOSEN / SLOTS / 4, "run {run}: {}", longest(&seeds));
        }
    }
}
