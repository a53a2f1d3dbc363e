//! The characters of a value without their order, which show at once that another value is far from it.

use std::ops::Range;

use super::seek::{Beginning, Sharing, beginning};
use crate::lookup::EntryId;

/// Which characters a value has, and how often, up to a few times: a bit for each.
///
/// One change of a character changes at most two bits; a swap of two changes none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Bag {
    bits: u128,
    length: u32,
}

/// How many bits a digit, a letter and any other character have.
const DIGIT: u32 = 4;
const LETTER: u32 = 3;
const OTHER: u32 = 10;

impl Bag {
    pub(super) fn of(value: &str) -> Self {
        let mut bits = 0_u128;
        let mut length = 0;
        for character in value.chars() {
            length += 1;
            let (first, count) = match character.to_ascii_lowercase() {
                digit @ '0'..='9' => ((digit as u32 - '0' as u32) * DIGIT, DIGIT),
                letter @ 'a'..='z' => (10 * DIGIT + (letter as u32 - 'a' as u32) * LETTER, LETTER),
                _ => (10 * DIGIT + 26 * LETTER, OTHER),
            };
            let free = (first..first + count).find(|bit| bits >> bit & 1 == 0);
            bits |= free.map_or(0, |bit| 1 << bit);
        }
        Self { bits, length }
    }

    /// The least number of changes of a character, or swaps of two next to each other, between the two values.
    pub(super) fn apart(self, other: Self) -> usize {
        let unlike = (self.bits ^ other.bits).count_ones();
        unlike.div_ceil(2).max(self.length.abs_diff(other.length)) as usize
    }
}

/// The entries of a part's values, those together whose values have the same characters: codes of digits have few bags.
#[derive(Debug)]
pub(super) struct Bags {
    /// Each with where its entries are, in the order in which the least of its values begin.
    groups: Vec<(Beginning, Bag, Range<usize>)>,
    entries: Vec<EntryId>,
}

/// How far off values are distinguished by their bags.
pub(super) const FAR: usize = 6;

impl Bags {
    /// The bags of entries, by the values that `of` gives.
    pub(super) fn of<'v>(all: &[Sharing], of: impl Fn(EntryId) -> &'v str) -> Self {
        let bag = |one: &Sharing| (Bag::of(of(one.entry)), one.begins, one.entry);
        let mut all: Vec<(Bag, Beginning, EntryId)> = all.iter().map(bag).collect();
        all.sort_unstable();
        let mut groups: Vec<(Beginning, Bag, Range<usize>)> = Vec::new();
        for (nth, (bag, begins, _)) in all.iter().enumerate() {
            match groups.last_mut().filter(|(_, known, _)| known == bag) {
                Some((.., entries)) => entries.end = nth + 1,
                None => groups.push((*begins, *bag, nth..nth + 1)),
            }
        }
        groups.sort_unstable_by_key(|(begins, _, entries)| (*begins, entries.start));
        Self { groups, entries: all.into_iter().map(|(.., entry)| entry).collect() }
    }

    /// How many bags there are.
    pub(super) fn len(&self) -> usize {
        self.groups.len()
    }

    /// The entries by how far they are off at least, all from [`FAR`] on together. No more than `most` bags are compared: those
    /// around the place of the value.
    pub(super) fn by_distance(&self, value: &str, most: usize) -> [Vec<&[EntryId]>; FAR + 1] {
        let begins = beginning(value);
        let at = self.groups.partition_point(|(other, ..)| *other < begins);
        let from = at.saturating_sub(most / 2).min(self.groups.len().saturating_sub(most));
        let bag = Bag::of(value);
        let mut all: [Vec<&[EntryId]>; FAR + 1] = Default::default();
        for (_, other, entries) in self.groups[from..].iter().take(most) {
            all[bag.apart(*other).min(FAR)].push(&self.entries[entries.clone()]);
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// It never says more than is true.
        #[test]
        fn bags_are_no_farther_apart_than_values(one in "[a-cA-Z0-3ß -]{0,9}", other in "[a-cA-Z0-3ß -]{0,9}") {
            let far = Bag::of(&one).apart(Bag::of(&other));
            prop_assert!(far <= strsim::osa_distance(&one, &other), "{one} {other} {far}");
        }
    }
}
