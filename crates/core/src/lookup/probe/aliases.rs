//! Aliases: main keys, or parts of them, used in place of the reference's, as a person approved them.
//!
//! An alias is used only for a key that is not found, so that it never changes another answer. One of a whole key comes
//! first; after it those of parts, all that fit at once: of two for the same part, the one that is about more parts, or
//! that comes first. An alias of a value that a step can't read holds for cells that are just like its own. An alias
//! whose reference key no longer exists, or whose main key is found without it, is reported.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicU64, Ordering};

use ahash::RandomState;

use super::alias_keys::{Alias, AliasKeys, AliasState, OfParts, Replaced};
use super::{EntryId, Lookup, Reference};
use crate::key::Key;
use crate::table::{Packer, Row};
use crate::template::{PartState, StepBuffers};

/// The aliases of a lookup.
#[derive(Debug)]
pub(super) struct Aliases {
    keys: AliasKeys,
    states: Vec<AliasState>,
    /// By the packed main key: the first entry of the reference key, and the number of the alias.
    by_key: HashMap<Box<[u8]>, (EntryId, usize), RandomState>,
    used: Vec<AtomicU64>,
    /// Whether rows are counted here, and each copy that an earlier lookup made of one by itself.
    counts: bool,
    counts_copies: bool,
}

impl Aliases {
    /// The first entry of the reference key for a packed main key, and the numbers of the aliases that lead to it.
    pub(super) fn find(&self, reference: &Reference, key: &[u8]) -> Option<(EntryId, Vec<usize>)> {
        if let Some(&(entry, nth)) = self.by_key.get(key) {
            return Some((entry, vec![nth]));
        }
        found(reference, self.keys.replace(key)?)
    }

    /// The same for a row with a part that a step can't read.
    fn find_unreadable(
        &self,
        (key, reference): (&Key, &Reference),
        row: Row<'_>,
    ) -> Option<(EntryId, Vec<usize>)> {
        found(reference, self.keys.replace_unreadable(key, row)?)
    }

    /// Whether copies of a row count by themselves.
    pub(super) fn counts_copies(&self) -> bool {
        self.counts_copies
    }

    /// Counts a row that an alias answered.
    pub(super) fn count(&self, nth: usize) {
        if self.counts {
            self.used[nth].fetch_add(1, Ordering::Relaxed);
        }
    }
}

/// The first entry of a key in which aliases have replaced parts.
fn found(reference: &Reference, (parts, used): Replaced) -> Option<(EntryId, Vec<usize>)> {
    Some((reference.find(packed(&parts).bytes())?, used))
}

/// Packs the parts of a key.
fn packed(parts: &[String]) -> Packer {
    let mut packer = Packer::default();
    for part in parts {
        packer.push(part);
    }
    packer
}

/// What is known of aliases whose reference is elsewhere, each by its number, from 0.
#[derive(Debug, Clone, Default)]
pub struct AliasFacts {
    /// The ones whose main key the reference has itself.
    pub needless: HashSet<usize>,
    /// The ones whose reference key it has, or whose values of some parts.
    pub there: HashSet<usize>,
    /// How many main rows each answered.
    pub used: HashMap<usize, u64>,
}

impl Lookup {
    /// Uses aliases for keys that are not found. The whole reference must be in memory.
    #[must_use]
    pub fn aliased(self, aliases: Vec<Alias>) -> Self {
        if aliases.is_empty() || self.reference.is_by_position() {
            return self;
        }
        let sides = (&self.key, self.reference.key());
        let keys = AliasKeys::new(aliases, sides, self.reference.matches_blanks());
        let mut facts = AliasFacts::default();
        for whole in keys.whole() {
            let is_there = |parts: &[String]| self.reference.find(packed(parts).bytes()).is_some();
            facts.needless.extend(is_there(&whole.main).then_some(whole.nth));
            facts.there.extend(is_there(&whole.reference).then_some(whole.nth));
        }
        for of_parts in keys.of_parts().iter().chain(keys.of_cells()) {
            facts.there.extend(there(&self.reference, of_parts));
        }
        self.with_aliases(keys, &facts, true)
    }

    /// Uses aliases for keys that are not found, where it was found out elsewhere what the reference has, and how often each is
    /// used.
    #[must_use]
    pub fn aliased_by(self, keys: AliasKeys, facts: &AliasFacts) -> Self {
        self.with_aliases(keys, facts, false)
    }

    fn with_aliases(mut self, keys: AliasKeys, facts: &AliasFacts, counts: bool) -> Self {
        let states =
            keys.states(|nth| facts.needless.contains(&nth), |nth| facts.there.contains(&nth));
        let mut by_key = HashMap::with_hasher(self.reference.hasher().clone());
        let used = keys.whole().iter().filter(|one| matches!(states[one.nth], AliasState::Used(_)));
        for whole in used {
            if let Some(entry) = self.reference.find(packed(&whole.reference).bytes()) {
                by_key.insert(packed(&whole.main).bytes().into(), (entry, whole.nth));
            }
        }
        let times = |nth: usize| facts.used.get(&nth).copied().unwrap_or_default();
        let used = (0..states.len()).map(|nth| AtomicU64::new(times(nth))).collect();
        self.aliases = Some(Aliases { keys, states, by_key, used, counts, counts_copies: false });
        self
    }

    /// Has aliases count copies that an earlier lookup made of a row by themselves, since they may have different keys.
    pub(crate) fn count_copies(&mut self) {
        if let Some(aliases) = &mut self.aliases {
            aliases.counts_copies = true;
        }
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
        let used = found.into_iter().flat_map(|(_, used)| used);
        used.map(|nth| &aliases.keys.all[nth].0).collect()
    }

    /// The first entry of the key that aliases give a row with a part that can't be read, and their numbers.
    pub(super) fn find_unreadable(&self, row: Row<'_>) -> Option<(EntryId, Vec<usize>)> {
        self.aliases.as_ref()?.find_unreadable((&self.key, &self.reference), row)
    }

    /// Every alias with its use, once main rows have been answered.
    pub fn aliases(&self) -> impl Iterator<Item = (&Alias, AliasState)> {
        self.aliases.iter().flat_map(|aliases| {
            let used = aliases.used.iter().map(|used| used.load(Ordering::Relaxed));
            let states = aliases.states.iter().zip(used);
            aliases.keys.all.iter().zip(states).map(|((alias, _), (state, used))| {
                let state = match state {
                    AliasState::Used(_) => AliasState::Used(used),
                    other => *other,
                };
                (alias, state)
            })
        })
    }
}

/// The aliases that lead to values which a row of the reference has.
fn there(reference: &Reference, of_parts: &OfParts) -> Vec<usize> {
    let mut sought: HashMap<Vec<&str>, Vec<usize>> = HashMap::new();
    for (_, values, nth) in of_parts.each() {
        sought.entry(values.iter().map(String::as_str).collect()).or_default().push(nth);
    }
    let mut there = Vec::new();
    for entry in EntryId::at(0..reference.entry_count()) {
        if sought.is_empty() {
            break;
        }
        let key: Vec<&str> = reference.as_compared(entry).collect();
        let held: Vec<&str> = of_parts.parts.iter().map(|&part| key[part]).collect();
        // Nothing is found by a key that is not whole.
        let is_found = || {
            let mut packer = Packer::default();
            for part in &key {
                packer.push(part);
            }
            reference.find(packer.bytes()).is_some()
        };
        if sought.contains_key(&held[..]) && is_found() {
            there.extend(sought.remove(&held[..]).into_iter().flatten());
        }
    }
    there
}
