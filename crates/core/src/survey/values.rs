//! The different values of a column with what is known of each: all of them while they are few; later, rare ones are let
//! go.

use hashbrown::HashTable;

use super::look::Look;
use super::trouble::Marks;
use crate::table::CellKind;

/// A value longer than this, in bytes, is not kept.
const LONGEST: usize = 200;

/// Once rare values are let go, one in this number of new ones is kept: what is common is soon met again.
const ONE_OF: usize = 8;

/// A value of a column.
#[derive(Debug, Clone, Copy)]
pub(super) struct Value {
    pub(super) hash: u64,
    pub(super) look: Look,
    pub(super) marks: Marks,
    /// The number or the day that it is.
    pub(super) measure: Option<f64>,
}

/// The values that are kept.
#[derive(Debug)]
pub(super) struct Values {
    most: usize,
    /// The values by their hashes.
    places: HashTable<Place>,
    /// For each value, the cells that count when rare values are let go.
    counts: Vec<u64>,
    kept: Vec<Kept>,
    /// Their texts, one after the other.
    text: Vec<u8>,
    /// How often values were let go: so much any count may be short of the truth.
    short: u64,
    /// How many values were met since, while there was no room.
    met: usize,
}

#[derive(Debug, Clone, Copy)]
struct Place {
    hash: u64,
    nth: u32,
}

#[derive(Debug)]
struct Kept {
    value: Value,
    kind: CellKind,
    /// Where its text is.
    start: usize,
    end: usize,
    /// How much was taken off its count.
    off: u64,
}

/// The hash of a value that is one with those of its kind only. Hashes are seeded, so that two values having the same one need
/// not be feared.
fn of_kind(hash: u64, kind: CellKind) -> u64 {
    hash.wrapping_add(kind as u64)
}

impl Values {
    /// Keeps no more values than this at a time.
    pub(super) fn up_to(most: usize) -> Self {
        let (places, counts, kept) = (HashTable::new(), Vec::new(), Vec::new());
        Self { most, places, counts, kept, text: Vec::new(), short: 0, met: 0 }
    }

    /// Counts a cell if its value is kept; says whether it is.
    #[inline]
    pub(super) fn count(&mut self, hash: u64, kind: CellKind) -> bool {
        let hash = of_kind(hash, kind);
        let place = self.places.find(hash, |place| place.hash == hash);
        place.is_some_and(|place| {
            self.counts[place.nth as usize] += 1;
            true
        })
    }

    /// Whether there is room for every value so far.
    pub(super) fn has_room(&self, text: &str) -> bool {
        self.short == 0 && self.kept.len() < self.most && text.len() <= LONGEST
    }

    /// Keeps the value of a cell that is not kept yet. Values that are let go or not kept are `gone`, each with its cells.
    pub(super) fn keep(
        &mut self,
        value: Value,
        text: &str,
        kind: CellKind,
        mut gone: impl FnMut(&Value, u64),
    ) {
        let is_chosen = self.short == 0 || self.met.is_multiple_of(ONE_OF);
        self.met += 1;
        if !is_chosen || text.len() > LONGEST {
            return gone(&value, 1);
        }
        if self.kept.len() == self.most {
            self.let_go(gone);
        }
        let start = self.text.len();
        self.text.extend_from_slice(text.as_bytes());
        self.kept.push(Kept { value, kind, start, end: self.text.len(), off: 0 });
        self.counts.push(1);
        self.place(self.kept.len() - 1);
    }

    fn place(&mut self, nth: usize) {
        let Kept { value, kind, .. } = &self.kept[nth];
        let hash = of_kind(value.hash, *kind);
        self.places.insert_unique(hash, Place { hash, nth: nth as u32 }, |place| place.hash);
    }

    /// Takes as much off every count as the smaller half of them has, and lets go of those; each with its cells.
    fn let_go(&mut self, mut gone: impl FnMut(&Value, u64)) {
        let mut counts = self.counts.clone();
        let middle = counts.len() / 2;
        let (_, &mut off, _) = counts.select_nth_unstable(middle);
        self.short += off;
        let Self { counts, text, .. } = self;
        let (mut counts, mut length) = (counts.iter(), 0);
        self.kept.retain_mut(|kept| {
            let count = *counts.next().unwrap_or(&0);
            if count <= off {
                gone(&kept.value, count + kept.off);
                return false;
            }
            let start = length;
            length += kept.end - kept.start;
            text.copy_within(kept.start..kept.end, start);
            (kept.start, kept.end, kept.off) = (start, length, kept.off + off);
            true
        });
        text.truncate(length);
        self.counts.retain_mut(|count| {
            *count = count.saturating_sub(off);
            *count > 0
        });
        self.places.clear();
        (0..self.kept.len()).for_each(|nth| self.place(nth));
    }

    /// The values, each with its cells since it was kept.
    pub(super) fn iter(&self) -> impl Iterator<Item = (&Value, u64)> {
        self.kept.iter().zip(&self.counts).map(|(kept, count)| (&kept.value, count + kept.off))
    }

    /// The commonest texts with their counts, and whether these are exact.
    pub(super) fn commonest(&self, most: usize) -> (Vec<(String, u64)>, bool) {
        let texts = self.kept.iter().map(|kept| &self.text[kept.start..kept.end]);
        let mut all: Vec<(&[u8], u64)> = texts.zip(self.counts.iter().copied()).collect();
        // A text is kept once for each kind.
        all.sort_unstable();
        all.dedup_by(|one, before| {
            let is_same = one.0 == before.0;
            before.1 += if is_same { one.1 } else { 0 };
            is_same
        });
        all.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        // A value that is more frequent than those let go is among the commonest.
        let is_common = |count: u64| self.short == 0 || count > self.short;
        let commonest = all.into_iter().take(most).filter(|(_, count)| is_common(*count));
        let owned = |(text, count)| (String::from_utf8_lossy(text).into_owned(), count);
        (commonest.map(owned).collect(), self.short == 0)
    }
}

#[cfg(test)]
mod tests {
    use ahash::RandomState;

    use super::*;

    #[test]
    fn the_commonest_stand_out_of_any_number() {
        let hasher = RandomState::with_seeds(1, 2, 3, 4);
        let mut gone = 0;
        let mut add = |values: &mut Values, text: &str| {
            let (hash, kind) = (hasher.hash_one(text), CellKind::Untyped);
            if !values.count(hash, kind) {
                let marks = Marks::default();
                let value = Value { hash, look: Look::Text, marks, measure: None };
                values.keep(value, text, kind, |_, cells| gone += cells);
            }
        };
        let mut values = Values::up_to(8192);
        for n in 0..200_000 {
            add(&mut values, &format!("rare {n}"));
            if n % 4 == 0 {
                add(&mut values, "common");
            }
        }
        let mut few = Values::up_to(8192);
        for text in ["b", "a", "b", "c", "a"] {
            add(&mut few, text);
        }
        let (all, is_exact) = values.commonest(5);
        assert!(!is_exact);
        assert_eq!(all.len(), 1);
        assert_eq!(all[0].0, "common");
        assert!(all[0].1 <= 50_000 && all[0].1 > 49_000, "{all:?}");
        // No cell is lost.
        assert_eq!(gone + values.iter().map(|(_, cells)| cells).sum::<u64>(), 250_000);
        let (all, is_exact) = few.commonest(2);
        assert!(is_exact);
        assert_eq!(all, [("a".to_owned(), 2), ("b".to_owned(), 2)]);
    }
}
