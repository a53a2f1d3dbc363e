//! How often each key of a reference was asked for.
//!
//! Rows ask for keys in any order, so that each count is anywhere in memory. A byte for each key is a
//! quarter of what a number would be, and what goes beyond a byte is kept separately.

use std::collections::HashMap;

use crate::lookup::EntryId;

/// How often each key was asked for, under its first entry; where ranges tell which rows count, under
/// each of them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct RequestCounts {
    /// For each entry, the count without what `high` has; 0 means never looked up.
    low: Vec<u8>,
    /// The rest of counts that exceed a byte.
    high: HashMap<EntryId, u64>,
}

/// How much is moved to `high` at a time: less than a byte holds, so that the low part stays above 0.
const AT_ONCE: u8 = 128;

impl RequestCounts {
    /// Counts for `entries` entries, none of which has been asked for.
    pub(crate) fn none(entries: usize) -> Self {
        Self { low: vec![0; entries], high: HashMap::new() }
    }

    /// How often each entry was asked for.
    pub(crate) fn each(times: impl Iterator<Item = u8>) -> Self {
        Self { low: times.collect(), high: HashMap::new() }
    }

    /// Counts the entries that are asked for.
    pub(crate) fn add(&mut self, asked: &[EntryId]) {
        for entry in asked {
            let low = &mut self.low[entry.index()];
            if *low == u8::MAX {
                *low -= AT_ONCE;
                *self.high.entry(*entry).or_default() += u64::from(AT_ONCE);
            }
            *low += 1;
        }
    }

    /// How often a entry was asked for.
    pub(crate) fn of(&self, entry: EntryId) -> u64 {
        let low = self.low.get(entry.index()).copied().unwrap_or_default();
        let high = if low < AT_ONCE { None } else { self.high.get(&entry) };
        u64::from(low) + high.copied().unwrap_or_default()
    }

    /// Whether a entry was asked for.
    pub(crate) fn has(&self, entry: EntryId) -> bool {
        self.low.get(entry.index()).is_some_and(|low| *low > 0)
    }

    /// The entries that were asked for, each with whether that was several times.
    pub(crate) fn asked(&self) -> impl Iterator<Item = (EntryId, bool)> + '_ {
        let all = EntryId::at(0..self.low.len()).zip(&self.low);
        all.filter(|(_, low)| **low > 0).map(|(entry, low)| (entry, *low > 1))
    }

    /// How many were asked for several times.
    pub(crate) fn repeated(&self) -> u64 {
        self.low.iter().filter(|low| **low > 1).count() as u64
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// However often keys are asked for, and in whatever order, each count is right.
        #[test]
        fn counts_are_those_of_each_key(
            asked in prop::collection::vec((0..6_usize, 1..400_usize), 0..12),
        ) {
            let (mut times, mut expected) = (RequestCounts::none(6), [0; 6]);
            for (entry, count) in asked {
                let one = EntryId::at(entry..entry + 1).next().unwrap();
                times.add(&vec![one; count]);
                expected[entry] += count as u64;
            }
            let entries: Vec<EntryId> = EntryId::at(0..6).collect();
            let reported: Vec<u64> = entries.iter().map(|entry| times.of(*entry)).collect();
            prop_assert_eq!(&reported[..], &expected);
            prop_assert!(entries.iter().all(|one| times.has(*one) == (times.of(*one) > 0)));
            let listed: Vec<_> = times.asked().collect();
            let several = entries.iter().filter(|one| times.has(**one));
            let several: Vec<_> = several.map(|one| (*one, times.of(*one) > 1)).collect();
            prop_assert_eq!(listed, several);
            prop_assert_eq!(times.repeated(), expected.iter().filter(|count| **count > 1).count() as u64);
        }
    }
}
