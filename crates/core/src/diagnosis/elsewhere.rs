//! Whether the value of a part is in another column of the reference.
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
use crate::table::{Block, Packer, Row, Source, packed};
use crate::template::{BoundTemplate, StepBuffers};

/// A row in which a part of a key is in another column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Elsewhere {
    part: usize,
    column: usize,
}

/// The keys that have the same parts but for one.
#[derive(Debug)]
struct Alike {
    /// That part.
    part: usize,
    /// How long it is in them.
    lengths: Lengths,
    count: usize,
    /// Whether the reference has their other parts.
    is_met: bool,
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

/// What a thread finds in some rows.
#[derive(Debug, Default)]
struct Seen {
    /// Which of the alike keys the reference has the other parts of.
    met: Vec<usize>,
    found: Vec<(usize, Elsewhere)>,
    packed_key: Packer,
    rest: Packer,
    work: StepBuffers,
}

/// A value of fewer characters is in many columns by chance.
const LONG_ENOUGH: usize = 3;

/// Goes through the table of a reference once more.
#[derive(Debug)]
pub struct Scout<'a> {
    lookup: &'a Lookup,
    sought: Places,
    alike: Vec<Alike>,
    found: HashSet<(usize, Elsewhere)>,
}

/// The keys that are searched for, packed, and where they lead.
#[derive(Debug)]
struct Places {
    /// Which keys are alike but for a part, by the others.
    alike: HashMap<Box<[u8]>, usize, RandomState>,
    /// The key, by the same with that part after it.
    keys: HashMap<Box<[u8]>, usize, RandomState>,
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
        if !reference.searched().is_empty() {
            return None;
        }
        let hasher = reference.hasher();
        let map = || HashMap::with_hasher(hasher.clone());
        let mut sought = Places { alike: map(), keys: map() };
        let mut all: Vec<Alike> = Vec::new();
        let mut rest = Packer::default();
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
                let place = *sought.alike.entry(rest.bytes().into()).or_insert_with(|| {
                    let lengths = Lengths::default();
                    all.push(Alike { part, lengths, count: 0, is_met: false });
                    all.len() - 1
                });
                all[place].lengths.add(value.len());
                all[place].count += 1;
                rest.push(value);
                sought.keys.insert(rest.bytes().into(), nth);
            }
        }
        let found = HashSet::new();
        (!all.is_empty()).then(|| Self { lookup, sought, alike: all, found })
    }

    /// Goes through a table of the reference on this many threads, or one of several.
    ///
    /// # Errors
    /// The errors of the source.
    pub fn read<S: Source<Error: Send> + Send>(
        &mut self,
        source: &mut S,
        threads: usize,
    ) -> Result<(), S::Error> {
        let Self { lookup, sought, alike, found } = self;
        let every: Vec<usize> = (0..source.headers().len()).collect();
        let lengths: Vec<Lengths> = alike.iter().map(|alike| alike.lengths).collect();
        let work = |seen: &mut Seen, block: &Block| look(lookup, sought, &lengths, block, seen);
        let hand_on = |seen: &mut Seen, _: &Block| {
            seen.met.drain(..).for_each(|place| alike[place].is_met = true);
            found.extend(seen.found.drain(..));
            Ok(())
        };
        in_order(source, threads, &every, Seen::default, work, hand_on)
    }

    /// Writes the findings into the reasons. A column that holds the part for less than half of the keys
    /// is taken as chance.
    pub fn tell(self, explained: &mut [Explained]) {
        let mut could: BTreeMap<usize, usize> = BTreeMap::new();
        for alike in self.alike.iter().filter(|alike| alike.is_met) {
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

/// Looks at a block of the reference's rows; `lengths` are those of the alike keys.
fn look(lookup: &Lookup, sought: &Places, lengths: &[Lengths], block: &Block, seen: &mut Seen) {
    let key = lookup.reference().key();
    let Seen { met, found, packed_key, rest, work } = seen;
    let others = |part: &BoundTemplate| -> Vec<usize> {
        (0..block.columns()).filter(|column| !part.columns().contains(column)).collect()
    };
    let others: Vec<Vec<usize>> = key.parts().iter().map(others).collect();
    for row in 0..block.rows() {
        packed_key.clear();
        key.pack(Row::of(block, row), packed_key, work);
        for (part, others) in others.iter().enumerate() {
            without(packed::Cells::new(packed_key.text()), part, rest);
            let Some(&place) = sought.alike.get(rest.bytes()) else { continue };
            met.push(place);
            let without = rest.len();
            for &column in others {
                let cell = trimmed(block.cell(row, column));
                // Hashing every cell would take longer than reading the table does.
                if !lengths[place].may_hold(cell.len()) {
                    continue;
                }
                rest.truncate(without);
                rest.push(cell);
                if let Some(&nth) = sought.keys.get(rest.bytes()) {
                    found.push((nth, Elsewhere { part, column }));
                }
            }
        }
    }
}

/// A cell without white space at its ends, which hardly any has.
fn trimmed(cell: &str) -> &str {
    let ends = [cell.as_bytes().first(), cell.as_bytes().last()];
    let is_bare = ends.iter().all(|end| end.is_some_and(u8::is_ascii_graphic));
    if is_bare { cell } else { cell.trim() }
}

/// A key without one of its parts, packed after the number of that.
fn without<'k>(parts: impl Iterator<Item = &'k str>, part: usize, packer: &mut Packer) {
    packer.clear();
    packer.push(&part.to_string());
    for (_, text) in parts.enumerate().filter(|(nth, _)| *nth != part) {
        packer.push(text);
    }
}
