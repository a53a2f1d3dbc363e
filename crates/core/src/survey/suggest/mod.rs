//! Which columns of two tables go together as a key: by their values first, by their names second.
//!
//! In go the first rows of both tables; out come the sets of pairs that find most main rows in
//! exactly one reference row, each with the steps that make the spellings of both sides one, and the
//! columns worth taking. Values are compared by what is left of them when spelling does not count,
//! so that a pair is seen before its steps are known.

mod by_value;
mod column;
mod cut;
mod naming;
mod pairs;
mod profile;
mod ranges;
mod routes;
mod sets;
mod sketch;
mod written;

use super::look::Look;
use crate::table::Headers;
use column::{Column, Form};
use naming::{naming, take};
use pairs::{Pair, pairs};
pub use profile::{LOOKED_AT, Profile};
use ranges::{bounds, ranges};
pub use routes::{Reached, Wanted, fewest, with_those_between};
use sets::{Proposed, sets};
pub use sketch::Sketch;
use written::Writing;

/// The columns of a table that are looked at, with its headers.
type Side<'a> = (&'a [Column], &'a Headers);

/// Keys that are proposed for two tables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suggestions {
    /// How many rows of the main table and of the reference were looked at, at most [`LOOKED_AT`].
    pub looked_at: [usize; 2],
    /// The keys, the best first.
    pub keys: Vec<SuggestedKey>,
    /// Ranges that choose a row, where the reference has ranges, as they are written; each is tried.
    pub within: Vec<String>,
}

/// A key that is proposed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SuggestedKey {
    /// Its parts.
    pub parts: Vec<SuggestedPart>,
    /// The columns to take, as they are to be written.
    pub take: Vec<String>,
    /// Whether it may be a key by chance only: its values, such as running numbers, are found in any table.
    pub is_by_chance: bool,
    /// Keys of one part more, to be tried where several rows hold a key.
    pub wider: Vec<SuggestedKey>,
}

/// A part of a key that is proposed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SuggestedPart {
    /// The part as it is to be written.
    pub on: String,
    /// The columns of the main table and of the reference that are in it.
    pub columns: [Vec<usize>; 2],
    /// How many steps it has on both sides.
    pub steps: usize,
    /// How many different values the main table has.
    pub values: usize,
    /// How many of them the reference has too, however they are spelled.
    pub covered: usize,
    /// The values that its steps make one although their letters differ.
    pub unlike: Option<UnlikeValues>,
}

/// Values of a main table that steps make one with values of a reference whose letters differ: `a9` with `B-009`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnlikeValues {
    /// How many there are.
    pub count: usize,
    /// How many were compared.
    pub of: usize,
    /// The first, of the main table and of the reference.
    pub example: [String; 2],
}

/// Which keys are proposed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trust {
    /// Only keys that are not found by chance, as is right where there are many tables.
    Keys,
    /// Those found by chance too, where there is nothing else.
    Chance,
}

/// Proposes keys for a main table and a reference, whose profile was made for it.
pub fn suggest(main: &Profile, reference: &Profile, trust: Trust) -> Suggestions {
    let looked_at = [main.rows(), reference.rows()];
    let Profile { columns: left, headers: ours, hasher, .. } = main;
    let Profile { columns: right, headers: theirs, .. } = reference;
    let naming = naming(left, theirs, ours);
    let mut pairs = pairs((left, ours), &main.by_value, (right, theirs));
    if trust == Trust::Keys && pairs.iter().all(|pair| pair.is_by_chance) {
        pairs.clear();
    }
    // Where digits are all that they have in common, no steps make them one.
    let writing = Writing::of((left, ours), (right, theirs), hasher);
    pairs.retain(|pair| pair.form == Form::Loose || writing.meets(pair));
    let bounds = bounds(right);
    let has_date = left.iter().any(|column| matches!(column.look(), Look::Date | Look::Time));
    let lower = bounds.first().filter(|_| has_date).map(|(lower, _)| *lower);
    let mut sets = sets(left, right, &pairs, lower);
    if trust == Trust::Keys {
        sets.retain(|proposed| !proposed.is_by_chance);
    }
    let mut known: Vec<(Pair, SuggestedPart)> = Vec::new();
    let mut written = |set: &[Pair]| -> Vec<SuggestedPart> {
        let mut part = |pair: &Pair| {
            if let Some((_, part)) = known.iter().find(|(known, _)| known == pair) {
                return part.clone();
            }
            let part = writing.part(pair);
            known.push((pair.clone(), part.clone()));
            part
        };
        let with_rest = |pair: &Pair| {
            let part = part(pair);
            let unlike = part.unlike.filter(|_| !writing.has_rest(pair, set));
            SuggestedPart { unlike, ..part }
        };
        set.iter().map(with_rest).collect()
    };
    let in_key = |set: &[Pair]| -> Vec<usize> {
        set.iter().flat_map(|pair| pair.reference.iter().map(|&nth| right[nth].of)).collect()
    };
    let mut key = |set: &[Pair], is_by_chance: bool, wider: Vec<SuggestedKey>| {
        let take = take(naming.as_ref(), (right, theirs), ours, &in_key(set), set);
        SuggestedKey { parts: written(set), take, is_by_chance, wider }
    };
    let keys: Vec<SuggestedKey> = sets
        .iter()
        .map(|Proposed { set, wider, is_by_chance }| {
            let wider = wider.iter().map(|set| key(set, *is_by_chance, Vec::new())).collect();
            key(set, *is_by_chance, wider)
        })
        .collect();
    let in_key = sets.first().map(|best| in_key(&best.set)).unwrap_or_default();
    let within = ranges((left, ours), (right, theirs), &bounds, &in_key);
    Suggestions { looked_at, keys, within }
}
