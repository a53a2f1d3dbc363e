//! The commonest values: counted exactly while they are few; later, rare ones are dropped.

use std::collections::HashMap;

use ahash::RandomState;

/// How many values are counted at a time.
const COUNTED: usize = 8192;

/// A value longer than this, in bytes, is not counted among the commonest.
const LONGEST: usize = 200;

/// Counts values.
#[derive(Debug)]
pub(super) struct Frequent {
    counts: HashMap<Box<str>, u64, RandomState>,
    /// How often values were let go: so much any count may be short of the truth.
    short: u64,
}

impl Frequent {
    pub(super) fn new(hasher: &RandomState) -> Self {
        Self { counts: HashMap::with_hasher(hasher.clone()), short: 0 }
    }

    pub(super) fn add(&mut self, value: &str) {
        if let Some(count) = self.counts.get_mut(value) {
            *count += 1;
        } else if value.len() <= LONGEST {
            if self.counts.len() == COUNTED {
                self.let_go();
            }
            if self.counts.len() < COUNTED {
                self.counts.insert(value.into(), 1);
            }
        }
    }

    /// Takes as much off every count as the smaller half of them has, and lets go of those.
    fn let_go(&mut self) {
        let mut counts: Vec<u64> = self.counts.values().copied().collect();
        let middle = counts.len() / 2;
        let (_, &mut off, _) = counts.select_nth_unstable(middle);
        self.short += off;
        self.counts.retain(|_, count| {
            *count = count.saturating_sub(off);
            *count > 0
        });
    }

    /// The commonest values with their counts, and whether these are exact.
    pub(super) fn commonest(self, most: usize) -> (Vec<(String, u64)>, bool) {
        let mut all: Vec<(String, u64)> =
            self.counts.into_iter().map(|(value, count)| (value.into(), count)).collect();
        all.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        all.truncate(most);
        // A value that is more frequent than the dropped ones is among the commonest.
        if self.short > 0 {
            all.retain(|(_, count)| *count > self.short);
        }
        (all, self.short == 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_commonest_stand_out_of_any_number() {
        let hasher = RandomState::with_seeds(1, 2, 3, 4);
        let mut frequent = Frequent::new(&hasher);
        for n in 0..200_000 {
            frequent.add(&format!("rare {n}"));
            if n % 4 == 0 {
                frequent.add("common");
            }
        }
        let (all, exact) = frequent.commonest(5);
        assert!(!exact);
        assert_eq!(all.len(), 1);
        assert_eq!(all[0].0, "common");
        assert!(all[0].1 <= 50_000 && all[0].1 > 49_000, "{all:?}");
        let mut few = Frequent::new(&hasher);
        for value in ["b", "a", "b", "c", "a"] {
            few.add(value);
        }
        let (all, exact) = few.commonest(2);
        assert!(exact);
        assert_eq!(all, [("a".to_owned(), 2), ("b".to_owned(), 2)]);
    }
}
