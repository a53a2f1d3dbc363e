//! How many different values there are: exact while they fit, then by a sketch.
//!
//! The sketch keeps the smallest few thousand of all hashes. Their spacing shows how many values there
//! are, to about two per cent.

use std::collections::{BinaryHeap, HashSet};

use crate::hashing::PassHash;

/// How many hashes are kept before the count becomes a sketch.
const MOST: usize = 1 << 21;

/// How many the sketch keeps.
const SKETCHED: usize = 4096;

/// A count, which may be one of a sketch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Count {
    /// How many.
    pub value: u64,
    /// Whether the number is exact; otherwise it is an estimate.
    pub is_exact: bool,
}

/// Counts different hashes.
#[derive(Debug, Clone)]
pub(super) struct Distinct {
    all: HashSet<u64, PassHash>,
    most: usize,
    /// The smallest hashes, the largest of them on top; empty while all are kept.
    smallest: BinaryHeap<u64>,
}

impl Distinct {
    pub(super) fn new() -> Self {
        Self::up_to(MOST)
    }

    /// A count that becomes a sketch beyond this many values.
    pub(super) fn up_to(most: usize) -> Self {
        Self { all: HashSet::default(), most, smallest: BinaryHeap::new() }
    }

    /// Counts a hash; says whether it is new as far as is known.
    pub(super) fn add(&mut self, hash: u64) -> bool {
        if self.smallest.is_empty() {
            let is_new = self.all.insert(hash);
            if self.all.len() > self.most {
                let mut hashes: Vec<u64> = std::mem::take(&mut self.all).into_iter().collect();
                hashes.sort_unstable();
                hashes.truncate(SKETCHED);
                self.all = hashes.iter().copied().collect();
                self.smallest = hashes.into();
            }
            return is_new;
        }
        let largest = self.smallest.peek().copied().unwrap_or(u64::MAX);
        if hash < largest && self.all.insert(hash) {
            self.smallest.push(hash);
            if let Some(out) = self.smallest.pop() {
                self.all.remove(&out);
            }
            return true;
        }
        false
    }

    pub(super) fn is_exact(&self) -> bool {
        self.smallest.is_empty()
    }

    pub(super) fn count(&self) -> Count {
        match self.smallest.peek() {
            None => Count { value: self.all.len() as u64, is_exact: true },
            Some(&largest) => {
                let share = (largest as f64 + 1.0) / (u64::MAX as f64 + 1.0);
                // A count of rows, far below what a float holds.
                #[allow(clippy::cast_sign_loss)]
                let value = ((self.smallest.len() as f64 - 1.0) / share) as u64;
                Count { value, is_exact: false }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Exact up to the bound, and near the truth beyond it.
    #[test]
    fn counts_are_near() {
        let spread = |n: u64| {
            let mut hash = n.wrapping_mul(0x9e37_79b9_7f4a_7c15);
            hash ^= hash >> 29;
            hash = hash.wrapping_mul(0xbf58_476d_1ce4_e5b9);
            hash ^ hash >> 32
        };
        for (different, most) in
            [(0, 100), (100, 100), (101, 100), (50_000, 10_000), (300_000, 5_000)]
        {
            let mut distinct = Distinct::up_to(most);
            for n in 0..different * 2 {
                distinct.add(spread(n % different.max(1)));
            }
            let count = distinct.count();
            assert_eq!(count.is_exact, different <= most as u64);
            let off = count.value.abs_diff(different) as f64;
            let allowed = if count.is_exact { 0.0 } else { different as f64 * 0.06 + 1.0 };
            assert!(off <= allowed, "{different}: {count:?}");
        }
    }
}
