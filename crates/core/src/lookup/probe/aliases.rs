//! Aliases: main keys that stand for reference keys, as a person approved them.
//!
//! An alias is used only for a key that is not found, so that it never changes another answer. An alias whose
//! reference key no longer exists, or whose main key is found without it, is reported.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};

use ahash::RandomState;

use super::{EntryId, Lookup};
use crate::key::Key;
use crate::table::{Block, Packer, Row};
use crate::template::{PartState, StepBuffers};

/// A main key and the reference key it stands for, each by the cells that it is made from, as they
/// are read, in the order of the key's columns.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alias {
    /// The row of the table of aliases, as a person counts.
    pub row: u64,
    /// The cells of the main key.
    pub main: Vec<String>,
    /// The cells of the reference key.
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
    used: Vec<AtomicU64>,
}

impl Aliases {
    /// The first entry of the reference key for a packed main key, and the number of the alias.
    pub(super) fn find(&self, key: &[u8]) -> Option<(EntryId, usize)> {
        self.by_key.get(key).copied()
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
        let mut by_key = HashMap::with_hasher(self.reference.hasher().clone());
        let (mut main, mut theirs) = (Packer::default(), Packer::default());
        let mut all = Vec::new();
        for (nth, alias) in aliases.into_iter().enumerate() {
            let may_be_blank = self.reference.matches_blanks();
            let is_whole = packed(&self.key, &alias.main, may_be_blank, &mut main)
                && packed(self.reference.key(), &alias.reference, may_be_blank, &mut theirs);
            let state = if !is_whole {
                AliasState::Broken
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
        let used = all.iter().map(|_| AtomicU64::new(0)).collect();
        self.aliases = Some(Aliases { all, by_key, used });
        self
    }

    /// The alias for the key of a main row.
    pub fn alias_of(&self, row: Row<'_>) -> Option<&Alias> {
        let aliases = self.aliases.as_ref()?;
        let mut key = Packer::default();
        self.key.pack(row, &mut key, &mut StepBuffers::default());
        let (_, nth) = aliases.find(key.bytes())?;
        Some(&aliases.all[nth].0)
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

/// Packs the key of cells, given in the order of its columns. Returns whether it can match: it is whole, or blank
/// where blanks match.
fn packed(key: &Key, cells: &[String], may_be_blank: bool, packed: &mut Packer) -> bool {
    let width = key.columns().iter().max().map_or(0, |last| last + 1);
    let mut block = Block::new(width);
    for column in 0..width {
        let place = key.columns().iter().position(|&other| other == column);
        block.push_cell(place.and_then(|place| cells.get(place)).map_or("", String::as_str));
    }
    block.push_line(0);
    packed.clear();
    match key.pack(Row::of(&block, 0), packed, &mut StepBuffers::default()) {
        PartState::Whole => true,
        PartState::Blank => may_be_blank,
        PartState::Malformed => false,
    }
}
