//! Proposed tables with their keys, for programs.

use schemars::JsonSchema;
use serde::Serialize;

use super::{CountTold, FORM, UnlikeTold};
use crate::findings::{Counts, Kind};
use crate::survey::SuggestedKey;

/// What is proposed for a main table and the tables that may bring columns.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[schemars(title = "A proposal of Gather Keys")]
pub struct Proposal {
    /// The number of this form; another one means other things.
    pub form: u32,
    /// The main table.
    pub main: String,
    /// The tables with a key that main rows are found by, those that lead to others before these.
    pub tables: Vec<ProposedTable>,
    /// The wanted columns, where some were asked for.
    pub wanted: Vec<WantedColumn>,
    /// The tables that no rows of the main table lead to.
    pub nothing_in_common: Vec<String>,
    /// The tables that could not be read.
    pub not_read: Vec<NotRead>,
    /// The command that takes what is worth taking.
    pub command: Option<String>,
}

/// A table with a key that main rows are found by.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ProposedTable {
    /// Its name.
    pub table: String,
    /// The table between the main table and it, by whose columns it is found.
    pub by_way_of: Option<String>,
    /// How many rows of the table that leads to it and of itself were compared to find the keys, which were then tried on
    /// all.
    pub compared_rows: [u64; 2],
    /// The keys, the best first; none where no columns have the same values.
    pub keys: Vec<ProposedKey>,
    /// The columns worth taking, as they are written in `take`.
    pub take: Vec<String>,
    /// Why the command does not take any, where that is so.
    pub left_out: Option<String>,
}

/// A wanted column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct WantedColumn {
    /// Its header as it was asked for.
    pub asked: String,
    /// Its header as the table has it; `null` where no table has it.
    pub header: Option<String>,
    /// The table that it is taken from.
    pub table: Option<String>,
    /// The other columns that it could be taken from.
    pub others: Vec<String>,
}

/// A table that could not be read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct NotRead {
    /// Its name.
    pub table: String,
    /// Why.
    pub why: String,
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
    /// How many of the values that were compared are made one by its steps although their letters differ.
    pub unlike: u64,
    /// The first such value.
    pub unlike_example: Option<UnlikeTold>,
}

impl Proposal {
    /// A proposal for a main table of this name, without any table yet.
    pub fn of(main: String) -> Self {
        Self {
            form: FORM,
            main,
            tables: Vec::new(),
            wanted: Vec::new(),
            nothing_in_common: Vec::new(),
            not_read: Vec::new(),
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
            unlike: part.unlike.as_ref().map_or(0, |unlike| unlike.count as u64),
            unlike_example: part.unlike.as_ref().map(|unlike| {
                let [main, reference] = unlike.example.clone();
                UnlikeTold { main, reference }
            }),
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
