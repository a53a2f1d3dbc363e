//! Which columns of two tables go together as a key: by their values first, by their names second.
//!
//! In go the first rows of both tables; out come the sets of pairs that find most main rows in
//! exactly one reference row, each with the steps that make the spellings of both sides one, and the
//! columns worth taking. Values are compared by what is left of them when spelling does not count,
//! so that a pair is seen before its steps are known.

mod columns;
mod naming;
mod pairs;
mod ranges;
mod sets;
mod written;

use ahash::RandomState;

use super::look::Look;
use crate::lookup::Seed;
use crate::table::{Headers, Source};
use columns::{Column, columns};
use naming::{naming, take};
use pairs::{Pair, pairs};
use ranges::{bounds, ranges};
use sets::{Proposed, sets};
use written::part;

/// The columns of a table that are looked at, with its headers.
type Side<'a> = (&'a [Column], &'a Headers);

/// Keys that are proposed for two tables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suggestions {
    /// How many rows of the main table and of the reference were looked at, at most [`LOOKED_AT`].
    pub looked_at: [usize; 2],
    /// The keys, the best first.
    pub keys: Vec<SuggestedKey>,
    /// The columns to take, as they are to be written; the same for each key.
    pub take: Vec<String>,
    /// Ranges that choose a row, where the reference has ranges, as they are written; each is tried.
    pub within: Vec<String>,
}

/// A key that is proposed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SuggestedKey {
    /// Its parts.
    pub parts: Vec<SuggestedPart>,
    /// Keys of one part more, to be tried where several rows hold a key.
    pub wider: Vec<SuggestedKey>,
}

/// A part of a key that is proposed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SuggestedPart {
    /// The part as it is to be written.
    pub on: String,
    /// How many different values the main table has.
    pub values: usize,
    /// How many of them the reference has too, however they are spelled.
    pub covered: usize,
}

/// How many rows of each table are looked at.
pub const LOOKED_AT: [usize; 2] = [50_000, 300_000];

/// Proposes keys for two tables.
///
/// # Errors
/// The errors of the sources.
pub fn suggest<M: Source, R: Source<Error = M::Error>>(
    main: &mut M,
    reference: &mut R,
    seed: Seed,
) -> Result<Suggestions, M::Error> {
    let hasher = RandomState::with_seeds(seed[0], seed[1], seed[2], seed[3]);
    let (ours, theirs) = (main.headers().clone(), reference.headers().clone());
    let left = columns(main, LOOKED_AT[0], &hasher, true)?;
    let right = columns(reference, LOOKED_AT[1], &hasher, false)?;
    let rows = |columns: &[Column]| columns.first().map_or(0, |column| column.loose.len());
    let looked_at = [rows(&left), rows(&right)];
    let naming = naming(&left, &theirs, &ours);
    let pairs = pairs((&left, &ours), (&right, &theirs));
    let bounds = bounds(&right);
    let has_date = left.iter().any(|column| matches!(column.look(), Look::Date | Look::Time));
    let lower = bounds.first().filter(|_| has_date).map(|(lower, _)| *lower);
    let sets = sets(&left, &right, &pairs, lower);
    let written = |set: &[Pair]| -> Vec<SuggestedPart> {
        set.iter().map(|pair| part(pair, (&left, &ours), (&right, &theirs), &hasher)).collect()
    };
    let keys: Vec<SuggestedKey> = sets
        .iter()
        .map(|Proposed { set, wider }| SuggestedKey {
            parts: written(set),
            wider: wider
                .iter()
                .map(|set| SuggestedKey { parts: written(set), wider: Vec::new() })
                .collect(),
        })
        .collect();
    let in_key: Vec<usize> = sets
        .first()
        .into_iter()
        .flat_map(|proposed| &proposed.set)
        .flat_map(|pair| pair.reference.iter().map(|&nth| right[nth].of))
        .collect();
    let within = ranges((&left, &ours), (&right, &theirs), &bounds, &in_key);
    let take = take(
        naming.as_ref(),
        (&right, &theirs),
        &ours,
        &in_key,
        sets.first().map(|best| &best.set),
    );
    Ok(Suggestions { looked_at, keys, take, within })
}
