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
use crate::table::{Block, Row, packed};
use crate::template::Work;

/// A row in which a part of a key stands in another column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Elsewhere {
    part: usize,
    column: usize,
}

/// The keys that have the same parts but for one, by the value of that.
#[derive(Debug)]
struct Alike {
    part: usize,
    by_value: HashMap<Box<str>, Vec<usize>, RandomState>,
    /// Whether the reference has their other parts.
    is_met: bool,
    count: usize,
}

/// A value of fewer characters stands in many columns by chance.
const LONG_ENOUGH: usize = 3;

/// Goes through the table of a reference once more.
#[derive(Debug)]
pub struct Scout<'a> {
    lookup: &'a Lookup,
    /// By a part that may be elsewhere and what the others are.
    sought: HashMap<Box<str>, Alike, RandomState>,
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
        let mut sought = HashMap::with_hasher(hasher.clone());
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
                let alike: &mut Alike =
                    sought.entry(rest.as_str().into()).or_insert_with(|| Alike {
                        part,
                        by_value: HashMap::with_hasher(hasher.clone()),
                        is_met: false,
                        count: 0,
                    });
                alike.by_value.entry(value.into()).or_default().push(nth);
                alike.count += 1;
            }
        }
        (!sought.is_empty()).then(|| Self { lookup, sought, found: HashSet::new() })
    }

    /// Looks at a block of the reference's rows; every column is wanted.
    pub fn look(&mut self, block: &Block) {
        let key = self.lookup.reference().key();
        let (mut packed_key, mut rest, mut work) = (String::new(), String::new(), Work::default());
        for row in 0..block.rows() {
            packed_key.clear();
            key.pack(Row::of(block, row), &mut packed_key, &mut work);
            for (part, template) in key.parts().iter().enumerate() {
                without(packed::Cells::new(&packed_key), part, &mut rest);
                let Some(alike) = self.sought.get_mut(&rest[..]) else { continue };
                alike.is_met = true;
                let own = template.columns();
                for column in (0..block.columns()).filter(|column| !own.contains(column)) {
                    let cell = block.cell(row, column).trim();
                    for &nth in alike.by_value.get(cell).into_iter().flatten() {
                        self.found.insert((nth, Elsewhere { part, column }));
                    }
                }
            }
        }
    }

    /// Writes what was found into the reasons. What is so for less than half of the keys that it could
    /// be for is taken for chance.
    pub fn tell(self, explained: &mut [Explained]) {
        let mut could: BTreeMap<usize, usize> = BTreeMap::new();
        for alike in self.sought.values().filter(|alike| alike.is_met) {
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

/// A key without one of its parts, packed behind the number of that.
fn without<'k>(parts: impl Iterator<Item = &'k str>, part: usize, packed: &mut String) {
    packed.clear();
    packed.extend(char::from_digit(part as u32 % 36, 36));
    for (_, text) in parts.enumerate().filter(|(nth, _)| *nth != part) {
        packed::push(packed, text);
    }
}
