//! How many different values there are: exact while there is room, then by a sample.
//!
//! The sample has the values whose hashes begin alike in some bits: half of all values, a quarter, and so on.
//! What is seen of them is multiplied.

use std::hint::black_box;

/// A count, which may be an estimate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Count {
    /// How many.
    pub value: u64,
    /// Whether the number is exact; otherwise it is an estimate.
    pub is_exact: bool,
}

/// Counts different hashes.
#[derive(Debug, Clone, Default)]
pub(super) struct Distinct {
    kept: HashSet,
    /// How often the sample was halved.
    halved: u32,
    added: u64,
    /// How many that were added had been there before.
    repeated: u64,
}

/// The lowest bit of a hash that chooses the sample. The bits next to both ends choose the place in a table.
const LOWEST: u32 = 28;

/// How many places are read at once.
pub(super) const AT_ONCE: usize = 32;

/// How many places a set has at least.
const FEWEST: usize = 64;

/// How often a sample can be halved.
const MOST_HALVED: u32 = 24;

/// Whether a hash is in a sample that was halved so often.
#[inline]
fn is_sampled(hash: u64, halved: u32) -> bool {
    hash >> LOWEST & ((1 << halved) - 1) == 0
}

impl Distinct {
    /// Counts hashes.
    pub(super) fn add_all(&mut self, hashes: &[u64]) {
        for hashes in hashes.chunks(AT_ONCE) {
            self.fetch(hashes);
            for hash in hashes {
                self.add(*hash);
            }
        }
    }

    /// Reads the places of hashes that will be counted: reading many at once takes little longer than one.
    #[inline]
    pub(super) fn fetch(&self, hashes: &[u64]) {
        let sampled = hashes.iter().filter(|hash| is_sampled(**hash, self.halved));
        black_box(sampled.fold(0, |all, hash| all ^ self.kept.at_place(*hash)));
    }

    /// Counts a hash; says whether it is new, as far as is known.
    #[inline]
    pub(super) fn add(&mut self, hash: u64) -> bool {
        self.added += 1;
        if !is_sampled(hash, self.halved) {
            return false;
        }
        let is_new = self.kept.insert(hash);
        if !is_new {
            self.repeated += 1 << self.halved;
        }
        is_new
    }

    /// Keeps half as many values from now on.
    pub(super) fn halve(&mut self) {
        self.halved = MOST_HALVED.min(self.halved + 1);
        let kept = std::mem::take(&mut self.kept);
        let halved = self.halved;
        kept.iter()
            .filter(|hash| is_sampled(*hash, halved))
            .for_each(|hash| _ = self.kept.insert(hash));
    }

    /// How much memory it takes, in bytes.
    pub(super) fn memory(&self) -> usize {
        size_of_val(&self.kept.places[..])
    }

    pub(super) fn is_exact(&self) -> bool {
        self.halved == 0
    }

    /// How many hashes were counted.
    pub(super) fn added(&self) -> u64 {
        self.added
    }

    /// Whether any was counted twice.
    pub(super) fn has_repeats(&self) -> bool {
        self.repeated > 0
    }

    /// How many different hashes there are.
    pub(super) fn count(&self) -> Count {
        let in_sample = (self.kept.count as u64) << self.halved;
        // Where few are repeated, their number is the better measure.
        let value = if self.repeated < in_sample {
            self.added.saturating_sub(self.repeated)
        } else {
            in_sample
        };
        Count { value, is_exact: self.is_exact() }
    }
}

/// A set of hashes, each at the first free place from its own one on.
#[derive(Debug, Clone, Default)]
struct HashSet {
    /// 0 where none is.
    places: Vec<u64>,
    count: usize,
}

impl HashSet {
    /// Says whether the hash is new.
    #[inline]
    fn insert(&mut self, hash: u64) -> bool {
        if self.count * 4 >= self.places.len() * 3 {
            self.grow();
        }
        let (hash, mask) = (hash.max(1), self.places.len() - 1);
        let mut at = hash as usize & mask;
        loop {
            match self.places[at] {
                0 => break,
                known if known == hash => return false,
                _ => at = (at + 1) & mask,
            }
        }
        self.places[at] = hash;
        self.count += 1;
        true
    }

    fn grow(&mut self) {
        let more = vec![0; (self.places.len() * 2).max(FEWEST)];
        let before = std::mem::replace(self, Self { places: more, count: 0 });
        for hash in before.iter() {
            self.insert(hash);
        }
    }

    /// What is at the own place of a hash.
    #[inline]
    fn at_place(&self, hash: u64) -> u64 {
        let mask = self.places.len().wrapping_sub(1);
        self.places.get(hash as usize & mask).copied().unwrap_or_default()
    }

    fn iter(&self) -> impl Iterator<Item = u64> {
        self.places.iter().copied().filter(|hash| *hash != 0)
    }
}

impl FromIterator<u64> for Distinct {
    fn from_iter<I: IntoIterator<Item = u64>>(hashes: I) -> Self {
        let mut distinct = Self::default();
        for hash in hashes {
            distinct.add(hash);
        }
        distinct
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Exact until it is halved, and near the truth afterwards; with few repeats very near.
    #[test]
    fn counts_are_near() {
        let spread = |n: u64| {
            let mut hash = n.wrapping_mul(0x9e37_79b9_7f4a_7c15);
            hash ^= hash >> 29;
            hash = hash.wrapping_mul(0xbf58_476d_1ce4_e5b9);
            hash ^ hash >> 32
        };
        for (different, repeated, most, allowed) in [
            (0, 0, 100, 0.0),
            (100, 100, 100, 0.0),
            (50_000, 50_000, 10_000, 0.06),
            (300_000, 300_000, 5_000, 0.06),
            (300_000, 1_000, 20_000, 0.003),
        ] {
            let mut distinct = Distinct::default();
            for n in (0..different).chain(0..repeated) {
                distinct.add(spread(n));
                if distinct.kept.count > most {
                    distinct.halve();
                }
            }
            let count = distinct.count();
            assert_eq!(count.is_exact, different <= most as u64);
            let off = count.value.abs_diff(different) as f64;
            assert!(off <= different as f64 * allowed, "{different}: {count:?}");
        }
    }
}
