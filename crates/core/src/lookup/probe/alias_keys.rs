//! Aliases with their keys made, before it is known which of them a reference has.
//!
//! In go aliases as a person wrote them and the keys of both sides; out come the keys that they are about, as these are compared,
//! and for a main key the parts that aliases put in place of its own.

use std::cmp::Reverse;
use std::collections::HashMap;

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

/// Aliases with their keys.
#[derive(Debug, Clone)]
pub struct AliasKeys {
    /// Each alias, with what is known of it without the reference: it is broken, or again, or may be used.
    pub(super) all: Vec<(Alias, AliasState)>,
    /// The ones that are about a whole key.
    whole: Vec<WholeAlias>,
    /// Those that are about some parts only, by which parts.
    of_parts: Vec<OfParts>,
    /// Those with a part of the main key that a step can't read, by the cells of their parts as they were read.
    of_cells: Vec<OfParts>,
    matches_blanks: bool,
}

/// An alias of a whole key: its number, from 0, and the parts of both keys.
#[derive(Debug, Clone)]
pub(crate) struct WholeAlias {
    pub(crate) nth: usize,
    pub(crate) main: Vec<String>,
    pub(crate) reference: Vec<String>,
}

/// Aliases that are about the same parts.
#[derive(Debug, Clone)]
pub(crate) struct OfParts {
    pub(crate) parts: Vec<usize>,
    /// By the packed values of the parts, or the cells that they are made from: the reference's values, and the number
    /// of the alias.
    by_values: HashMap<Box<[u8]>, (Vec<String>, usize)>,
}

/// The parts of a key in which aliases have replaced some, and the numbers of the aliases.
pub(crate) type Replaced = (Vec<String>, Vec<usize>);

impl AliasKeys {
    /// Makes the keys of aliases for the key of a main table and that of a reference; `matches_blanks` says whether a blank part
    /// matches a blank part.
    pub fn new(aliases: Vec<Alias>, (key, reference): (&Key, &Key), matches_blanks: bool) -> Self {
        let none = Vec::new;
        let (whole, of_parts, of_cells) = (none(), Vec::new(), Vec::new());
        let mut keys = Self { all: Vec::new(), whole, of_parts, of_cells, matches_blanks };
        let (mut main, mut theirs) = (Packer::default(), Packer::default());
        for (nth, alias) in aliases.into_iter().enumerate() {
            let parts = &alias.parts[..];
            let of_main = packed_parts(key, &alias.main, parts, &mut main);
            let is_unreadable = of_main == PartState::Malformed;
            let of_theirs = packed_parts(reference, &alias.reference, parts, &mut theirs);
            let is_whole = !parts.is_empty()
                && (is_unreadable || keys.can_match(of_main))
                && keys.can_match(of_theirs);
            let mut state = AliasState::Used(0);
            if !is_whole {
                state = AliasState::Broken;
            } else if is_unreadable || parts.len() != key.parts().len() {
                if is_unreadable {
                    main.clear();
                    let columns = parts.iter().flat_map(|&part| key.parts()[part].columns());
                    let place = |column| key.columns().iter().position(|one| one == column);
                    columns
                        .filter_map(place)
                        .for_each(|at| main.push(alias.main.get(at).map_or("", String::as_str)));
                }
                let groups = if is_unreadable { &mut keys.of_cells } else { &mut keys.of_parts };
                let place = groups.iter().position(|other| other.parts == parts);
                let place = place.unwrap_or_else(|| {
                    groups.push(OfParts { parts: parts.to_vec(), by_values: HashMap::new() });
                    groups.len() - 1
                });
                let by_values = &mut groups[place].by_values;
                if by_values.contains_key(main.bytes()) {
                    state = AliasState::Again;
                } else {
                    by_values.insert(main.bytes().into(), (texts(&theirs), nth));
                }
            } else {
                let (main, reference) = (texts(&main), texts(&theirs));
                keys.whole.push(WholeAlias { nth, main, reference });
            }
            keys.all.push((alias, state));
        }
        keys
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Whether a part in this state can match.
    fn can_match(&self, state: PartState) -> bool {
        match state {
            PartState::Whole => true,
            PartState::Blank => self.matches_blanks,
            PartState::Malformed => false,
        }
    }

    /// The aliases of whole keys, in order.
    pub(crate) fn whole(&self) -> &[WholeAlias] {
        &self.whole
    }

    /// The other aliases, by the values of their parts.
    pub(crate) fn of_parts(&self) -> &[OfParts] {
        &self.of_parts
    }

    /// The aliases of parts that a step can't read, by their cells.
    pub(crate) fn of_cells(&self) -> &[OfParts] {
        &self.of_cells
    }

    /// Replaces parts of a whole key that is packed.
    pub(crate) fn replace(&self, key: &[u8]) -> Option<Replaced> {
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
        replaced(parts.into_iter().map(Some).collect(), fits)
    }

    /// Replaces parts of the key of a row with a part that a step can't read.
    pub(crate) fn replace_unreadable(&self, key: &Key, row: Row<'_>) -> Option<Replaced> {
        if self.of_cells.is_empty() {
            return None;
        }
        let (mut packer, mut steps) = (Packer::default(), StepBuffers::default());
        let is_whole: Vec<bool> = (0..key.parts().len())
            .map(|part| self.can_match(key.pack_part(part, row, &mut packer, &mut steps)))
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
        replaced(parts, fits)
    }

    /// What became of each alias, where `has_main` and `has_reference` say by the number of an alias whether the reference has
    /// its main key and its reference key, or these values of some parts. No row is counted yet.
    pub(super) fn states(
        &self,
        has_main: impl Fn(usize) -> bool,
        has_reference: impl Fn(usize) -> bool,
    ) -> Vec<AliasState> {
        let mut states: Vec<AliasState> = self.all.iter().map(|(_, state)| *state).collect();
        let mut used: std::collections::HashSet<&[String]> = std::collections::HashSet::new();
        for WholeAlias { nth, main, .. } in &self.whole {
            states[*nth] = if has_main(*nth) {
                AliasState::Needless
            } else if used.contains(&main[..]) {
                AliasState::Again
            } else if has_reference(*nth) {
                used.insert(main);
                AliasState::Used(0)
            } else {
                AliasState::Gone
            };
        }
        for (_, _, nth) in self.of_parts.iter().chain(&self.of_cells).flat_map(OfParts::each) {
            if !has_reference(nth) {
                states[nth] = AliasState::Gone;
            }
        }
        states
    }
}

impl OfParts {
    /// The alias of packed values, or cells.
    fn fitting(&self, values: &Packer) -> Option<Fitting<'_>> {
        let (values, nth) = self.by_values.get(values.bytes())?;
        Some((&self.parts[..], &values[..], *nth))
    }

    /// Each alias: the values or cells of the main key, the values of the reference's, and its number.
    pub(crate) fn each(&self) -> impl Iterator<Item = (Vec<&str>, &[String], usize)> {
        let all = self.by_values.iter();
        all.map(|(main, (reference, nth))| {
            let main = packed::Cells::new(str::from_utf8(main).unwrap_or_default());
            (main.collect(), &reference[..], *nth)
        })
    }
}

/// An alias that fits a key: the parts it is about, their values in the reference, and its number.
type Fitting<'a> = (&'a [usize], &'a [String], usize);

/// The parts of a key in which all fitting aliases have replaced theirs; parts that can't be read are `None`.
fn replaced<'k>(
    mut parts: Vec<Option<&'k str>>,
    mut fitting: Vec<Fitting<'k>>,
) -> Option<Replaced> {
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
    let parts: Option<Vec<String>> = parts.into_iter().map(|part| Some(part?.to_owned())).collect();
    Some((parts.filter(|_| !used.is_empty())?, used))
}

/// The texts that are packed.
fn texts(packer: &Packer) -> Vec<String> {
    packed::Cells::new(packer.text()).map(str::to_owned).collect()
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
