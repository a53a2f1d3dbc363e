//! Aliases: main keys, or parts of them, used in place of the reference's, as a person approved them.
//!
//! An alias is used only for a key that is not found, so that it never changes another answer. One of a whole key comes
//! first; after it those of parts, all that fit at once: of two for the same part, the one that is about more parts, or
//! that comes first. An alias whose reference key no longer exists, or whose main key
//! is found without it, is reported.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicU64, Ordering};

use ahash::RandomState;

use super::{EntryId, Lookup, Reference};
use crate::key::Key;
use crate::table::{Block, Packer, Row, packed};
use crate::template::{PartState, StepBuffers};

/// A main key and the reference key it stands for, or some of their parts: the cells that they are made from, as they
/// are read, in the order of the key's columns.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alias {
    /// The row of the table of aliases, as a person counts.
    pub row: u64,
    /// The parts of the key that it is about, ascending. An alias that is not about all of them holds for every key with
    /// these values.
    pub parts: Vec<usize>,
    /// The cells of the main key; blank ones for other parts.
    pub main: Vec<String>,
    /// The cells of the reference key; blank ones for other parts.
    pub reference: Vec<String>,
}

/// The use of an alias in a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AliasState {
    /// How many main rows it answered.
    Used(u64),
    /// The reference has no such key.
    Gone,
    /// The reference has the main key itself, which is used.
    Needless,
    /// An earlier alias has the same main key.
    Again,
    /// A part of one of its keys is blank or can't be read.
    Broken,
}

/// The aliases of a lookup.
#[derive(Debug)]
pub(super) struct Aliases {
    all: Vec<(Alias, AliasState)>,
    /// By the packed main key: the first entry of the reference key, and the number of the alias.
    by_key: HashMap<Box<[u8]>, (EntryId, usize), RandomState>,
    /// Those that are about some parts only, by which parts.
    of_parts: Vec<OfParts>,
    used: Vec<AtomicU64>,
}

/// Aliases that are about the same parts.
#[derive(Debug)]
struct OfParts {
    parts: Vec<usize>,
    /// By the packed values of these parts: the reference's values, and the number of the alias.
    by_values: HashMap<Box<[u8]>, (Vec<String>, usize), RandomState>,
}

impl Aliases {
    /// The first entry of the reference key for a packed main key, and the numbers of the aliases that lead to it.
    pub(super) fn find(&self, reference: &Reference, key: &[u8]) -> Option<(EntryId, Vec<usize>)> {
        if let Some(&(entry, nth)) = self.by_key.get(key) {
            return Some((entry, vec![nth]));
        }
        if self.of_parts.is_empty() {
            return None;
        }
        let mut parts: Vec<&str> = packed::Cells::new(str::from_utf8(key).ok()?).collect();
        let mut packer = Packer::default();
        let fits = self.of_parts.iter().filter_map(|of_parts| {
            packer.clear();
            of_parts.parts.iter().for_each(|&part| packer.push(parts[part]));
            let (values, nth) = of_parts.by_values.get(packer.bytes())?;
            Some((&of_parts.parts[..], values, *nth))
        });
        let mut fitting: Vec<_> = fits.collect();
        fitting.sort_by_key(|(parts, _, nth)| (Reverse(parts.len()), *nth));
        let (mut used, mut replaced) = (Vec::new(), vec![false; parts.len()]);
        for (places, values, nth) in fitting {
            if places.iter().any(|&part| replaced[part]) {
                continue;
            }
            used.push(nth);
            for (&part, value) in places.iter().zip(values) {
                (parts[part], replaced[part]) = (value, true);
            }
        }
        packer.clear();
        for part in &parts {
            packer.push(part);
        }
        let entry = reference.find(packer.bytes()).filter(|_| !used.is_empty())?;
        Some((entry, used))
    }

    /// Counts a row that an alias answered.
    pub(super) fn count(&self, nth: usize) {
        self.used[nth].fetch_add(1, Ordering::Relaxed);
    }
}

impl Lookup {
    /// Uses aliases for keys that are not found. The whole reference must be in memory.
    #[must_use]
    pub fn aliased(mut self, aliases: Vec<Alias>) -> Self {
        if aliases.is_empty() || self.reference.is_by_position() {
            return self;
        }
        let hasher = self.reference.hasher().clone();
        let mut by_key = HashMap::with_hasher(hasher.clone());
        let mut of_parts: Vec<OfParts> = Vec::new();
        let (mut main, mut theirs) = (Packer::default(), Packer::default());
        let mut all = Vec::new();
        for (nth, alias) in aliases.into_iter().enumerate() {
            let may_be_blank = self.reference.matches_blanks();
            let parts = &alias.parts[..];
            let is_of_key = parts.len() == self.key.parts().len();
            let is_whole = !parts.is_empty()
                && packed_parts(&self.key, &alias.main, parts, may_be_blank, &mut main)
                && packed_parts(
                    self.reference.key(),
                    &alias.reference,
                    parts,
                    may_be_blank,
                    &mut theirs,
                );
            let state = if !is_whole {
                AliasState::Broken
            } else if !is_of_key {
                let place = of_parts.iter().position(|other| other.parts == parts);
                let place = place.unwrap_or_else(|| {
                    let by_values = HashMap::with_hasher(hasher.clone());
                    of_parts.push(OfParts { parts: parts.to_vec(), by_values });
                    of_parts.len() - 1
                });
                let by_values = &mut of_parts[place].by_values;
                if by_values.contains_key(main.bytes()) {
                    AliasState::Again
                } else {
                    let values = packed::Cells::new(theirs.text()).map(str::to_owned).collect();
                    by_values.insert(main.bytes().into(), (values, nth));
                    AliasState::Used(0)
                }
            } else if self.reference.find(main.bytes()).is_some() {
                AliasState::Needless
            } else if by_key.contains_key(main.bytes()) {
                AliasState::Again
            } else if let Some(entry) = self.reference.find(theirs.bytes()) {
                by_key.insert(main.bytes().into(), (entry, nth));
                AliasState::Used(0)
            } else {
                AliasState::Gone
            };
            all.push((alias, state));
        }
        for of_parts in &of_parts {
            of_parts.note_gone(&self.reference, &mut all);
        }
        let used = all.iter().map(|_| AtomicU64::new(0)).collect();
        self.aliases = Some(Aliases { all, by_key, of_parts, used });
        self
    }

    /// The aliases that lead from the key of a main row to another.
    pub fn aliases_of(&self, row: Row<'_>) -> Vec<&Alias> {
        let Some(aliases) = &self.aliases else { return Vec::new() };
        let mut key = Packer::default();
        self.key.pack(row, &mut key, &mut StepBuffers::default());
        let is_found = self.reference.find(key.bytes()).is_some();
        let found = aliases.find(&self.reference, key.bytes()).filter(|_| !is_found);
        found.into_iter().flat_map(|(_, used)| used).map(|nth| &aliases.all[nth].0).collect()
    }

    /// Every alias with its use, once main rows have been answered.
    pub fn aliases(&self) -> impl Iterator<Item = (&Alias, AliasState)> {
        self.aliases.iter().flat_map(|aliases| {
            let used = aliases.used.iter().map(|used| used.load(Ordering::Relaxed));
            aliases.all.iter().zip(used).map(|((alias, state), used)| {
                let state = match state {
                    AliasState::Used(_) => AliasState::Used(used),
                    other => *other,
                };
                (alias, state)
            })
        })
    }
}

impl OfParts {
    /// Notes which of the aliases lead to values that no reference row has.
    fn note_gone(&self, reference: &Reference, all: &mut [(Alias, AliasState)]) {
        let mut gone: HashSet<&[String]> =
            self.by_values.values().map(|(values, _)| &values[..]).collect();
        for entry in EntryId::at(0..reference.entry_count()) {
            if gone.is_empty() {
                return;
            }
            let key: Vec<&str> = reference.as_compared(entry).collect();
            let held: Vec<String> = self.parts.iter().map(|&part| key[part].to_owned()).collect();
            gone.remove(&held[..]);
        }
        for (values, nth) in self.by_values.values() {
            if gone.contains(&values[..]) {
                all[*nth].1 = AliasState::Gone;
            }
        }
    }
}

/// Packs some parts of the key of cells, given in the order of its columns. Returns whether they can match: they are
/// whole, or blank where blanks match.
fn packed_parts(
    key: &Key,
    cells: &[String],
    parts: &[usize],
    may_be_blank: bool,
    packer: &mut Packer,
) -> bool {
    let width = key.columns().iter().max().map_or(0, |last| last + 1);
    let mut block = Block::new(width);
    for column in 0..width {
        let place = key.columns().iter().position(|&other| other == column);
        block.push_cell(place.and_then(|place| cells.get(place)).map_or("", String::as_str));
    }
    block.push_line(0);
    packer.clear();
    let row = Row::of(&block, 0);
    let mut steps = StepBuffers::default();
    parts.iter().all(|&part| match key.pack_part(part, row, packer, &mut steps) {
        PartState::Whole => true,
        PartState::Blank => may_be_blank,
        PartState::Malformed => false,
    })
}
