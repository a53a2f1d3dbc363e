//! Whether the value of a part stands in another column of the reference.
//!
//! A reference keeps nothing but its key and what is taken, so this takes a second look at its table,
//! for the keys that spelling does not explain.

use std::collections::{BTreeMap, HashMap, HashSet};

use ahash::RandomState;

use super::explain::Explained;
use super::reason::Reason;
use crate::findings::UnmatchedKey;
use crate::lookup::Lookup;
use crate::table::in_order::in_order;
use crate::table::{Block, Row, Source, packed};
use crate::template::{Bound, Work};

/// A row in which a part of a key stands in another column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Elsewhere {
    part: usize,
    column: usize,
}

/// The keys that have the same parts but for one, by the value of that.
#[derive(Debug)]
struct Alike {
    /// Its number among all such.
    nth: usize,
    part: usize,
    by_value: HashMap<Box<str>, Vec<usize>, RandomState>,
    /// How long the values are.
    lengths: Lengths,
    count: usize,
}

/// How many bytes some values have, a bit for each number; the highest is for all beyond.
#[derive(Debug, Default, Clone, Copy)]
struct Lengths(u64);

impl Lengths {
    fn bit(length: usize) -> u64 {
        1 << length.min(63)
    }

    fn add(&mut self, length: usize) {
        self.0 |= Self::bit(length);
    }

    fn may_hold(self, length: usize) -> bool {
        self.0 & Self::bit(length) != 0
    }
}

/// What was seen in some rows.
#[derive(Debug, Default)]
struct Seen {
    /// Which keys without one of their parts the reference has.
    met: Vec<usize>,
    found: Vec<(usize, Elsewhere)>,
    packed_key: String,
    rest: String,
    work: Work,
}

/// A value of fewer characters stands in many columns by chance.
const LONG_ENOUGH: usize = 3;

/// Goes through the table of a reference once more.
#[derive(Debug)]
pub struct Scout<'a> {
    lookup: &'a Lookup,
    /// By a part that may be elsewhere and what the others are.
    sought: HashMap<Box<str>, Alike, RandomState>,
    /// Of each of them whether the reference has it.
    is_met: Vec<bool>,
    found: HashSet<(usize, Elsewhere)>,
}

impl<'a> Scout<'a> {
    /// Seeks the parts of the keys that nothing explains; `None` when there are none, or when the
    /// lookup looks in several columns anyway.
    pub fn new(
        lookup: &'a Lookup,
        keys: &'a [UnmatchedKey],
        explained: &[Explained],
    ) -> Option<Self> {
        let reference = lookup.reference();
        if !reference.looked_in().is_empty() {
            return None;
        }
        let hasher = reference.hasher();
        let mut sought: HashMap<Box<str>, Alike, _> = HashMap::with_hasher(hasher.clone());
        let mut rest = String::new();
        for (nth, (key, explained)) in keys.iter().zip(explained).enumerate() {
            let reason = &explained.reason;
            if !matches!(reason, Reason::Nothing | Reason::NotSought | Reason::OnePart(_)) {
                continue;
            }
            for (part, value) in key.parts().enumerate() {
                if value.chars().nth(LONG_ENOUGH - 1).is_none() {
                    continue;
                }
                without(key.parts(), part, &mut rest);
                let number = sought.len();
                let alike = sought.entry(rest.as_str().into()).or_insert_with(|| Alike {
                    nth: number,
                    part,
                    by_value: HashMap::with_hasher(hasher.clone()),
                    lengths: Lengths::default(),
                    count: 0,
                });
                alike.by_value.entry(value.into()).or_default().push(nth);
                alike.lengths.add(value.len());
                alike.count += 1;
            }
        }
        let is_met = vec![false; sought.len()];
        (!sought.is_empty()).then(|| Self { lookup, sought, is_met, found: HashSet::new() })
    }

    /// Goes through a table of the reference on so many threads, or one of several.
    ///
    /// # Errors
    /// Those of the source.
    pub fn read<S: Source<Error: Send> + Send>(
        &mut self,
        source: &mut S,
        threads: usize,
    ) -> Result<(), S::Error> {
        let Self { lookup, sought, is_met, found } = self;
        let every: Vec<usize> = (0..source.headers().len()).collect();
        let work = |seen: &mut Seen, block: &Block| look(lookup, sought, block, seen);
        let hand_on = |seen: &mut Seen, _: &Block| {
            seen.met.drain(..).for_each(|nth| is_met[nth] = true);
            found.extend(seen.found.drain(..));
            Ok(())
        };
        in_order(source, threads, &every, Seen::default, work, hand_on)
    }

    /// Writes what was found into the reasons. What is so for less than half of the keys that it could
    /// be for is taken for chance.
    pub fn tell(self, explained: &mut [Explained]) {
        let mut could: BTreeMap<usize, usize> = BTreeMap::new();
        for alike in self.sought.values().filter(|alike| self.is_met[alike.nth]) {
            *could.entry(alike.part).or_default() += alike.count;
        }
        let mut is_so: BTreeMap<Elsewhere, usize> = BTreeMap::new();
        for (_, here) in &self.found {
            *is_so.entry(*here).or_default() += 1;
        }
        let is_likely = |here: &Elsewhere| {
            is_so.get(here).zip(could.get(&here.part)).is_some_and(|(is, could)| is * 2 >= *could)
        };
        let mut found: Vec<(usize, Elsewhere)> =
            self.found.iter().filter(|(_, here)| is_likely(here)).copied().collect();
        found.sort_unstable();
        found.dedup_by_key(|(nth, _)| *nth);
        for (nth, Elsewhere { part, column }) in found {
            let reason = Reason::Elsewhere { part, column };
            explained[nth] = Explained { reason, ..Explained::nothing() };
        }
    }
}

/// Looks at a block of the reference's rows.
fn look(
    lookup: &Lookup,
    sought: &HashMap<Box<str>, Alike, RandomState>,
    block: &Block,
    seen: &mut Seen,
) {
    let key = lookup.reference().key();
    let Seen { met, found, packed_key, rest, work } = seen;
    let own: Vec<&[usize]> = key.parts().iter().map(Bound::columns).collect();
    for row in 0..block.rows() {
        packed_key.clear();
        key.pack(Row::of(block, row), packed_key, work);
        for (part, own) in own.iter().enumerate() {
            without(packed::Cells::new(packed_key), part, rest);
            let Some(alike) = sought.get(&rest[..]) else { continue };
            met.push(alike.nth);
            for column in (0..block.columns()).filter(|column| !own.contains(column)) {
                let cell = block.cell(row, column).trim();
                // Hashing every cell would take longer than reading the table does.
                if alike.lengths.may_hold(cell.len()) {
                    let keys = alike.by_value.get(cell).into_iter().flatten();
                    found.extend(keys.map(|&nth| (nth, Elsewhere { part, column })));
                }
            }
        }
    }
}

/// A key without one of its parts, packed behind the number of that.
fn without<'k>(parts: impl Iterator<Item = &'k str>, part: usize, packed: &mut String) {
    packed.clear();
    packed.extend(char::from_digit(part as u32 % 36, 36));
    for (_, text) in parts.enumerate().filter(|(nth, _)| *nth != part) {
        packed::push(packed, text);
    }
}
