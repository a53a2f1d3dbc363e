//! The hash index of a reference: from the hash of a key to the first row that holds it.
//!
//! ```text
//! bucket  | 7 tags | marks | 7 entries: a row, and where its key stands |    64 bytes
//! ```
//!
//! A bucket is one line of memory, so that a search waits for memory once. The upper bits of a hash tell
//! the bucket where the search begins, the lower ones make the tag; what finds no place goes to the next
//! bucket, and the one that it passed says so. A tag only finds candidates; the caller, who has the keys,
//! decides whether one is equal.

/// A table of buckets; more than a third of all entries is empty.
#[derive(Debug)]
pub(crate) struct Index {
    pub(super) buckets: Vec<Bucket>,
    /// How many rows are entered.
    pub(super) held: usize,
}

/// How many entries a bucket has.
const ENTRIES: usize = 7;

/// Entries that are looked at together.
#[derive(Debug, Clone, Copy)]
#[repr(C, align(64))]
pub(super) struct Bucket {
    /// A byte for each entry, zero where it is empty; the last one is [`Bucket::marks`].
    tags: [u8; ENTRIES + 1],
    entries: [Entry; ENTRIES],
}

/// Where one row may stand.
#[derive(Debug, Clone, Copy)]
pub(super) struct Entry {
    pub(super) row: u32,
    /// What the caller gave with it.
    pub(super) place: u32,
}

/// What was found by a hash alone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Candidate {
    pub(crate) row: u32,
    pub(crate) place: u32,
    /// Whether it was marked.
    pub(crate) is_marked: bool,
}

/// What became of a row that was to be entered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Entered {
    Held,
    /// This row is equal.
    Repeats(u32),
    /// All buckets to the last one are full.
    Beyond,
}

/// The most rows an index can number.
pub(crate) const MOST_ROWS: u64 = u32::MAX as u64 - 1;

/// The mark of a bucket that others went past since it was full.
const PASSED: u8 = 1 << ENTRIES;

/// What stands in place of the tag of an entry that is empty.
const EMPTY: u8 = 0;

/// The lowest bit of each byte.
const EACH: u64 = u64::MAX / 0xff;

impl Bucket {
    const EMPTY: Self =
        Self { tags: [EMPTY; ENTRIES + 1], entries: [Entry { row: 0, place: 0 }; ENTRIES] };

    /// Bits of its own: one for each entry that is marked, and [`PASSED`].
    #[inline]
    pub(super) fn marks(&self) -> u8 {
        self.tags[ENTRIES]
    }

    /// The entries that have a tag, in order.
    #[inline]
    fn tagged(&self, tag: u8) -> impl Iterator<Item = usize> + use<> {
        // Of a byte that is zero the highest bit is left, and nothing of any other one.
        let other = u64::from_le_bytes(self.tags) ^ (EACH * u64::from(tag));
        let low = EACH * 0x7f;
        let mut equal = !(((other & low) + low) | other | low) & (u64::MAX >> 8);
        std::iter::from_fn(move || {
            let first = (equal != 0).then(|| equal.trailing_zeros() as usize / 8);
            equal &= equal.wrapping_sub(1);
            first
        })
    }

    fn enter(&mut self, nth: usize, tag: u8, entry: Entry) {
        self.tags[nth] = tag;
        self.entries[nth] = entry;
    }
}

/// What a bucket keeps of a hash: bits that tell nothing of where it is. Where all keys are of one
/// [share](super::shares::share_of), the lowest eight are the same, and those before them tell keys apart.
#[inline]
pub(super) fn tag(hash: u32) -> u8 {
    ((hash ^ (hash >> 8)) as u8).max(EMPTY + 1)
}

/// The bucket where the search for a hash begins: its share of the whole range.
#[inline]
pub(super) fn home(hash: u32, buckets: usize) -> usize {
    ((u64::from(hash) * buckets as u64) >> 32) as usize
}

/// Enters a row into buckets, of which the first is where its search begins or goes on, unless an equal
/// row is there.
pub(super) fn enter(
    buckets: &mut [Bucket],
    hash: u32,
    entry: Entry,
    is_equal: impl Fn(u32) -> bool,
) -> Entered {
    let tag = tag(hash);
    for bucket in buckets {
        let mut equal = bucket.tagged(tag).map(|nth| bucket.entries[nth].row);
        if let Some(row) = equal.find(|row| is_equal(*row)) {
            return Entered::Repeats(row);
        }
        if let Some(free) = bucket.tagged(EMPTY).next() {
            bucket.enter(free, tag, entry);
            return Entered::Held;
        }
        bucket.tags[ENTRIES] |= PASSED;
    }
    Entered::Beyond
}

impl Index {
    /// An index with nothing in it.
    pub(crate) fn new() -> Self {
        Self::for_keys(0)
    }

    /// An index with room for so many keys.
    pub(super) fn for_keys(keys: usize) -> Self {
        // Four and a half in each on average, so that few go past a full one.
        Self { buckets: vec![Bucket::EMPTY; keys * 2 / 9 + 1], held: 0 }
    }

    /// Enters a row whose search goes on from a bucket, and from the front behind the last one, unless an
    /// equal row is there: then that one is returned.
    pub(super) fn enter_from(
        &mut self,
        bucket: usize,
        hash: u32,
        entry: Entry,
        is_equal: impl Fn(u32) -> bool,
    ) -> Option<u32> {
        let (front, back) = self.buckets.split_at_mut(bucket);
        let mut entered = enter(back, hash, entry, &is_equal);
        if entered == Entered::Beyond {
            entered = enter(front, hash, entry, &is_equal);
        }
        // There are more entries than rows, so that one of the two has a place.
        self.held += usize::from(entered == Entered::Held);
        if let Entered::Repeats(row) = entered { Some(row) } else { None }
    }

    /// The row that was entered under this hash and for which `is_equal` holds.
    pub(crate) fn find(&self, hash: u32, is_equal: impl Fn(u32) -> bool) -> Option<u32> {
        let found = self.seek(hash, is_equal);
        found.map(|(bucket, nth)| self.buckets[bucket].entries[nth].row)
    }

    /// The bucket where the search for a hash begins, so that it is at hand.
    #[inline]
    pub(crate) fn touch(&self, hash: u32) -> u8 {
        self.buckets[home(hash, self.buckets.len())].marks()
    }

    /// The first row that may have been entered under this hash, and what was given with it. Nearly
    /// always it is the one that is sought, if there is one; the caller, who knows the keys, goes on
    /// with [`Index::find`] when not.
    #[inline]
    pub(crate) fn candidate(&self, hash: u32) -> Option<Candidate> {
        let (bucket, nth) = self.seek(hash, |_| true)?;
        let bucket = &self.buckets[bucket];
        let Entry { row, place } = bucket.entries[nth];
        Some(Candidate { row, place, is_marked: bucket.marks() >> nth & 1 == 1 })
    }

    /// Marks a row that was entered under this hash.
    pub(crate) fn mark(&mut self, hash: u32, row: u32) {
        if let Some((bucket, nth)) = self.seek(hash, |other| other == row) {
            self.buckets[bucket].tags[ENTRIES] |= 1 << nth;
        }
    }

    /// The bucket and the entry in it that hold a row which was entered under this hash and for which
    /// `is_it` holds.
    #[inline]
    fn seek(&self, hash: u32, is_it: impl Fn(u32) -> bool) -> Option<(usize, usize)> {
        let tag = tag(hash);
        let mut at = home(hash, self.buckets.len());
        loop {
            let bucket = &self.buckets[at];
            if let Some(nth) = bucket.tagged(tag).find(|nth| is_it(bucket.entries[*nth].row)) {
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

    /// Keys are told apart by their hash alone, but for few, also where all are of one share.
    #[test]
    fn few_hashes_are_taken_for_others() {
        use super::super::shares::share_of;
        let spread = |nth: u32| nth.wrapping_mul(0x9e37_79b1).rotate_left(7) ^ nth;
        for is_share in [false, true] {
            let hashes = (0..).map(spread).filter(|hash| !is_share || share_of(*hash) == 7);
            let hashes: Vec<u32> = hashes.take(9_000).collect();
            let mut index = Index::for_keys(hashes.len());
            for (row, &hash) in (0..).zip(&hashes) {
                let begin = home(hash, index.buckets.len());
                index.enter_from(begin, hash, Entry { row, place: 0 }, |_| false);
            }
            let is_other = |(row, hash): &(u32, &u32)| {
                index.candidate(**hash).is_none_or(|found| found.row != *row)
            };
            let others = (0..).zip(&hashes).filter(is_other).count();
            assert!(others < hashes.len() / 30, "{is_share}: {others}");
        }
    }

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
        // The longest way from where a search begins to where it ends, in buckets.
        let longest = |hasher: &RandomState| {
            let mut index = Index::for_keys(chosen.len());
            let mut longest = 0;
            for (row, key) in (0..).zip(&chosen) {
                let hash = hash(hasher, key.as_bytes());
                let begin = home(hash, index.buckets.len());
                let entry = Entry { row, place: 0 };
                assert_eq!(index.enter_from(begin, hash, entry, |_| false), None);
                let (end, _) = index.seek(hash, |other| other == row).unwrap();
                let all = index.buckets.len();
                longest = longest.max((end + all - begin) % all);
            }
            longest
        };
        assert!(longest(&known) > CHOSEN / ENTRIES / 2);
        for run in 5..25 {
            let seeds = RandomState::with_seeds(run, run + 1, run * 7, run * 31);
            assert!(longest(&seeds) < CHOSEN / ENTRIES / 4, "run {run}: {}", longest(&seeds));
        }
    }
}
