//! Aliases: main keys, or parts of them, used in place of the reference's, as a person approved them.
//!
//! An alias is used only for a key that is not found, so that it never changes another answer. One of a whole key comes
//! first; after it those of parts, all that fit at once: of two for the same part, the one that is about more parts, or
//! that comes first. An alias of a value that a step can't read holds for cells that are just like its own. An alias
//! whose reference key no longer exists, or whose main key is found without it, is reported.

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
    /// A part of the main key is blank, or one of the reference key is blank or can't be read.
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
    /// Those with a part of the main key that a step can't read, by the cells of their parts as they were read.
    of_cells: Vec<OfParts>,
    used: Vec<AtomicU64>,
}

/// Aliases that are about the same parts.
#[derive(Debug)]
struct OfParts {
    parts: Vec<usize>,
    /// By the packed values of the parts, or the cells that they are made from: the reference's values, and the number
    /// of the alias.
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
        let parts: Vec<&str> = packed::Cells::new(str::from_utf8(key).ok()?).collect();
        let mut packer = Packer::default();
        let fits = self.of_parts.iter().filter_map(|of_parts| {
            packer.clear();
            of_parts.parts.iter().for_each(|&part| packer.push(parts[part]));
            of_parts.fitting(&packer)
        });
        let fits: Vec<_> = fits.collect();
        replaced(reference, parts.into_iter().map(Some).collect(), fits)
    }

    /// The same for a row with a part that a step can't read.
    fn find_unreadable(
        &self,
        (key, reference): (&Key, &Reference),
        row: Row<'_>,
    ) -> Option<(EntryId, Vec<usize>)> {
        if self.of_cells.is_empty() {
            return None;
        }
        let (mut packer, mut steps) = (Packer::default(), StepBuffers::default());
        let may_be_blank = reference.matches_blanks();
        let is_whole: Vec<bool> = (0..key.parts().len())
            .map(|part| match key.pack_part(part, row, &mut packer, &mut steps) {
                PartState::Whole => true,
                PartState::Blank => may_be_blank,
                PartState::Malformed => false,
            })
            .collect();
        let packed = packer.text().to_owned();
        let parts = packed::Cells::new(&packed).zip(&is_whole);
        let parts: Vec<Option<&str>> = parts.map(|(part, is)| is.then_some(part)).collect();
        let fits = self.of_cells.iter().filter_map(|of_cells| {
            packer.clear();
            let columns = of_cells.parts.iter().flat_map(|&part| key.parts()[part].columns());
            columns.for_each(|&column| packer.push(row.cell(column)));
            of_cells.fitting(&packer)
        });
        let fits: Vec<_> = fits.collect();
        replaced(reference, parts, fits)
    }

    /// Counts a row that an alias answered.
    pub(super) fn count(&self, nth: usize) {
        self.used[nth].fetch_add(1, Ordering::Relaxed);
    }
}

/// An alias that fits a key: the parts it is about, their values in the reference, and its number.
type Fitting<'a> = (&'a [usize], &'a [String], usize);

/// The first entry of a key in which all fitting aliases have replaced their parts; parts that can't be read are `None`.
fn replaced<'a>(
    reference: &Reference,
    mut parts: Vec<Option<&'a str>>,
    mut fitting: Vec<Fitting<'a>>,
) -> Option<(EntryId, Vec<usize>)> {
    fitting.sort_by_key(|(parts, _, nth)| (Reverse(parts.len()), *nth));
    let (mut used, mut is_replaced) = (Vec::new(), vec![false; parts.len()]);
    for (places, values, nth) in fitting {
        if places.iter().any(|&part| is_replaced[part]) {
            continue;
        }
        used.push(nth);
        for (&part, value) in places.iter().zip(values) {
            (parts[part], is_replaced[part]) = (Some(&value[..]), true);
        }
    }
    let mut packer = Packer::default();
    for part in parts {
        packer.push(part?);
    }
    let entry = reference.find(packer.bytes()).filter(|_| !used.is_empty())?;
    Some((entry, used))
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
        let (mut of_parts, mut of_cells): (Vec<OfParts>, Vec<OfParts>) = (Vec::new(), Vec::new());
        let (mut main, mut theirs) = (Packer::default(), Packer::default());
        let mut all = Vec::new();
        for (nth, alias) in aliases.into_iter().enumerate() {
            let may_be_blank = self.reference.matches_blanks();
            let parts = &alias.parts[..];
            let is_of_key = parts.len() == self.key.parts().len();
            let can_match = |state| match state {
                PartState::Whole => true,
                PartState::Blank => may_be_blank,
                PartState::Malformed => false,
            };
            let state_of_main = packed_parts(&self.key, &alias.main, parts, &mut main);
            let is_unreadable = state_of_main == PartState::Malformed;
            let of_theirs =
                packed_parts(self.reference.key(), &alias.reference, parts, &mut theirs);
            let is_whole = !parts.is_empty()
                && (is_unreadable || can_match(state_of_main))
                && can_match(of_theirs);
            let state = if !is_whole {
                AliasState::Broken
            } else if is_unreadable || !is_of_key {
                let groups = if is_unreadable { &mut of_cells } else { &mut of_parts };
                if is_unreadable {
                    main.clear();
                    let columns = parts.iter().flat_map(|&part| self.key.parts()[part].columns());
                    let place = |column| self.key.columns().iter().position(|one| one == column);
                    columns
                        .filter_map(place)
                        .for_each(|at| main.push(alias.main.get(at).map_or("", String::as_str)));
                }
                let place = groups.iter().position(|other| other.parts == parts);
                let place = place.unwrap_or_else(|| {
                    let by_values = HashMap::with_hasher(hasher.clone());
                    groups.push(OfParts { parts: parts.to_vec(), by_values });
                    groups.len() - 1
                });
                let by_values = &mut groups[place].by_values;
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
        for of_parts in of_parts.iter().chain(&of_cells) {
            of_parts.note_gone(&self.reference, &mut all);
        }
        let used = all.iter().map(|_| AtomicU64::new(0)).collect();
        self.aliases = Some(Aliases { all, by_key, of_parts, of_cells, used });
        self
    }

    /// The aliases that lead from the key of a main row to another.
    pub fn aliases_of(&self, row: Row<'_>) -> Vec<&Alias> {
        let Some(aliases) = &self.aliases else { return Vec::new() };
        let mut key = Packer::default();
        let state = self.key.pack(row, &mut key, &mut StepBuffers::default());
        let found = if state == PartState::Malformed {
            aliases.find_unreadable((&self.key, &self.reference), row)
        } else {
            let is_found = self.reference.find(key.bytes()).is_some();
            aliases.find(&self.reference, key.bytes()).filter(|_| !is_found)
        };
        found.into_iter().flat_map(|(_, used)| used).map(|nth| &aliases.all[nth].0).collect()
    }

    /// The first entry of the key that aliases give a row with a part that can't be read, and their numbers.
    pub(super) fn find_unreadable(&self, row: Row<'_>) -> Option<(EntryId, Vec<usize>)> {
        self.aliases.as_ref()?.find_unreadable((&self.key, &self.reference), row)
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
    /// The alias of packed values, or cells.
    fn fitting(&self, values: &Packer) -> Option<Fitting<'_>> {
        let (values, nth) = self.by_values.get(values.bytes())?;
        Some((&self.parts[..], &values[..], *nth))
    }

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

/// Packs some parts of the key of cells, given in the order of its columns; returns the worst state of a part.
fn packed_parts(key: &Key, cells: &[String], parts: &[usize], packer: &mut Packer) -> PartState {
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
    let states = parts.iter().map(|&part| key.pack_part(part, row, packer, &mut steps));
    states.max().unwrap_or(PartState::Blank)
}
