//! Proposed keys of two tables, for programs.

use schemars::JsonSchema;
use serde::Serialize;

use super::{CountTold, FORM};
use crate::findings::{Counts, Kind};
use crate::survey::{SuggestedKey, Suggestions};

/// What is proposed for two tables.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[schemars(title = "A proposal of Gather Keys")]
pub struct Proposal {
    /// The number of this form; another one means other things.
    pub form: u32,
    /// The main table.
    pub main: String,
    /// The reference table.
    pub reference: String,
    /// How many rows of the main table and of the reference were compared to find the keys, which were then tried on all.
    pub compared_rows: [u64; 2],
    /// The keys, the best first; none where no columns have the same values.
    pub keys: Vec<ProposedKey>,
    /// The columns worth taking, as they are written in `take`.
    pub take: Vec<String>,
    /// The command that uses the first key.
    pub command: Option<String>,
}

/// A proposed key, and what came of it when it was tried.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ProposedKey {
    /// Its parts.
    pub parts: Vec<ProposedPart>,
    /// The range that chooses among equal keys, as it is written in `within`.
    pub within: Option<String>,
    /// How many rows the main table has.
    pub main_rows: u64,
    /// The outcomes of the main rows: every main row has exactly one.
    pub outcomes: Vec<CountTold>,
    /// How many different keys the reference has.
    pub reference_keys: u64,
    /// How many of them are on several rows.
    pub shared_keys: u64,
}

/// A part of a proposed key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ProposedPart {
    /// The part as it is written in `on`.
    pub on: String,
    /// How many different values the main table has.
    pub values: u64,
    /// How many of them the reference has too, however they are spelled.
    pub in_reference: u64,
}

impl Proposal {
    /// The proposal for tables of these names, main table first, of keys that were tried.
    pub fn of(names: &[String; 2], found: &Suggestions, keys: Vec<ProposedKey>) -> Self {
        let [main, reference] = names.clone();
        Self {
            form: FORM,
            main,
            reference,
            compared_rows: found.looked_at.map(|rows| rows as u64),
            keys,
            take: found.take.clone(),
            command: None,
        }
    }
}

impl ProposedKey {
    /// A key with the counts that it gave.
    pub fn of(key: &SuggestedKey, within: Option<&str>, counts: &Counts) -> Self {
        let parts = key.parts.iter().map(|part| ProposedPart {
            on: part.on.clone(),
            values: part.values as u64,
            in_reference: part.covered as u64,
        });
        let outcome =
            |kind: Kind| CountTold { kind: kind.label().to_owned(), count: counts.of(kind) };
        Self {
            parts: parts.collect(),
            within: within.map(str::to_owned),
            main_rows: counts.main_rows,
            outcomes: Kind::OUTCOMES.map(outcome).to_vec(),
            reference_keys: counts.reference_keys,
            shared_keys: counts.of(Kind::Duplicate) + counts.of(Kind::Conflicting),
        }
    }
}
