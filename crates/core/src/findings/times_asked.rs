//! How often each key of a reference was asked for.
//!
//! Rows ask for keys in any order, so that each count is anywhere in memory. A byte for each key is a
//! quarter of what a number would be, and what goes beyond a byte is kept apart.

use std::collections::HashMap;

use crate::lookup::Holder;

/// How often each key was asked for, under its first holder; where ranges tell which rows count, under
/// each of them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct TimesAsked {
    /// For each holder, what is not kept apart; only of those that nothing asks for it is 0.
    near: Vec<u8>,
    /// What is kept apart of those that are asked for more often than a byte can tell.
    apart: HashMap<Holder, u64>,
}

/// What is kept apart in one go: less than a byte holds, so that something stays.
const AT_ONCE: u8 = 128;

impl TimesAsked {
    /// Of so many holders none is asked for yet.
    pub(crate) fn none(holders: usize) -> Self {
        Self { near: vec![0; holders], apart: HashMap::new() }
    }

    /// How often each holder was asked for.
    pub(crate) fn each(times: impl Iterator<Item = u8>) -> Self {
        Self { near: times.collect(), apart: HashMap::new() }
    }

    /// Counts those that are asked for.
    pub(crate) fn add(&mut self, asked: &[Holder]) {
        for holder in asked {
            let near = &mut self.near[holder.index()];
            if *near == u8::MAX {
                *near -= AT_ONCE;
                *self.apart.entry(*holder).or_default() += u64::from(AT_ONCE);
            }
            *near += 1;
        }
    }

    /// How often a holder was asked for.
    pub(crate) fn of(&self, holder: Holder) -> u64 {
        let near = self.near.get(holder.index()).copied().unwrap_or_default();
        let apart = if near < AT_ONCE { None } else { self.apart.get(&holder) };
        u64::from(near) + apart.copied().unwrap_or_default()
    }

    /// Whether a holder was asked for.
    pub(crate) fn has(&self, holder: Holder) -> bool {
        self.near.get(holder.index()).is_some_and(|near| *near > 0)
    }

    /// Those that were asked for, each with whether that was several times.
    pub(crate) fn asked(&self) -> impl Iterator<Item = (Holder, bool)> + '_ {
        let all = Holder::at(0..self.near.len()).zip(&self.near);
        all.filter(|(_, near)| **near > 0).map(|(holder, near)| (holder, *near > 1))
    }

    /// How many were asked for several times.
    pub(crate) fn repeated(&self) -> u64 {
        self.near.iter().filter(|near| **near > 1).count() as u64
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
            let (mut times, mut expected) = (TimesAsked::none(6), [0; 6]);
            for (holder, count) in asked {
                let one = Holder::at(holder..holder + 1).next().unwrap();
                times.add(&vec![one; count]);
                expected[holder] += count as u64;
            }
            let holders: Vec<Holder> = Holder::at(0..6).collect();
            let told: Vec<u64> = holders.iter().map(|holder| times.of(*holder)).collect();
            prop_assert_eq!(&told[..], &expected);
            prop_assert!(holders.iter().all(|one| times.has(*one) == (times.of(*one) > 0)));
            let listed: Vec<_> = times.asked().collect();
            let several = holders.iter().filter(|one| times.has(**one));
            let several: Vec<_> = several.map(|one| (*one, times.of(*one) > 1)).collect();
            prop_assert_eq!(listed, several);
            prop_assert_eq!(times.repeated(), expected.iter().filter(|count| **count > 1).count() as u64);
        }
    }
}
