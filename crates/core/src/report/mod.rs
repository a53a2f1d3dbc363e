//! The report of a run: all that there is to say of it, as values.
//!
//! In go the findings and the diagnoses; out comes a [`Report`], which a program shows as a page or
//! writes as JSON. Its form has a number, [`FORM`], that changes when something in it does.

mod document;
mod gather;
mod key;
mod proposal;
mod records;
mod survey;
mod trace;

pub use document::Document;
pub use gather::{Gathering, LISTED};
pub use key::{KeyRow, KeySplit, KeyTested, RepeatedKey};
pub use proposal::{NotRead, Proposal, ProposedKey, ProposedPart, ProposedTable, WantedColumn};
pub use records::{Record, Records};
pub use survey::{
    CandidateTold, ColumnTold, Counted, LookTold, SurveyTold, SurveyedTable, TroubleTold, ValueTold,
};
pub use trace::{
    CellTrace, LookupTold, PartTrace, ReferenceRow, Replaced, RowTrace, StepTold, UpdateTold,
};

use schemars::JsonSchema;
use serde::Serialize;

use crate::diagnosis::Diagnosis;
use crate::findings::{GateResult, LookupFindings};

/// The number of the form that reports have.
pub const FORM: u32 = 1;

/// The findings and output of a run.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[schemars(title = "A report of Gather Keys")]
pub struct Report {
    /// The number of this form; another one means other things.
    pub form: u32,
    /// The version of the program.
    pub version: String,
    /// What was done, such as `harvest.csv enriched from hives and bloom`.
    pub title: String,
    /// What was written, in a sentence: also that nothing was, where something that is required does not hold.
    pub outcome: String,
    /// The call.
    pub command: Option<String>,
    /// The plan of the run, as a file would have it.
    pub plan: Option<String>,
    /// The changes since the run before, where there is a receipt of it.
    pub since: Vec<String>,
    /// What was changed by hand in the output that is there, where that is in the way of replacing it.
    pub edits: Vec<String>,
    /// The table that is enriched.
    pub main: TableTold,
    /// The output, if there is one.
    pub written: Option<WrittenTold>,
    /// The findings of each reference, in order.
    pub references: Vec<ReferenceTold>,
    /// How what was required came out.
    pub gates: Vec<GateTold>,
}

/// A table that was read.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct TableTold {
    /// Its name.
    pub name: String,
    /// How many rows it has.
    pub rows: u64,
}

/// The table that was written.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct WrittenTold {
    /// Where.
    pub name: String,
    /// How many rows it has.
    pub rows: u64,
    /// The headers of the columns that were added.
    pub added: Vec<String>,
    /// Whether it was written; it was not, and has no rows, where something that is required does not hold.
    pub appeared: bool,
}

/// How often a kind of finding occurs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CountTold {
    /// The kind.
    pub kind: String,
    /// How often.
    pub count: u64,
}

/// The findings of one reference.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ReferenceTold {
    /// Its name.
    pub name: String,
    /// The tables that its rows are in.
    pub tables: Vec<TableTold>,
    /// How many rows it has.
    pub rows: u64,
    /// How many different keys.
    pub keys: u64,
    /// How many ranges there are, where rows are chosen by a range: all `reference_findings` except
    /// `unused` are then of ranges.
    pub ranges: Option<u64>,
    /// The rows that the outcomes count: `main rows`, or `main rows and their copies` after an earlier
    /// reference has repeated them.
    pub counted: &'static str,
    /// The parts of the key.
    pub on: Vec<String>,
    /// The headers of the cells that main keys are made from.
    pub main_key: Vec<String>,
    /// The headers of the cells that the reference's keys are made from.
    pub reference_key: Vec<String>,
    /// The outcomes of the main rows: every main row has exactly one.
    pub outcomes: Vec<CountTold>,
    /// The matched main rows for which a rule chose, and the unmatched ones that name an unknown header.
    pub of_these: Vec<CountTold>,
    /// The findings of the reference's keys and rows.
    pub reference_findings: Vec<CountTold>,
    /// Why main rows are unmatched, the commonest reason first.
    pub reasons: Vec<ReasonTold>,
    /// Of which keys reasons and nearest keys were not sought; `null` where they were sought of all.
    pub reasons_bound: Option<BoundTold>,
    /// How many unmatched rows each part of the key is in the way of.
    pub parts: Vec<PartTold>,
    /// Changes of the key that would match more, with their effect.
    #[serde(rename = "mends")]
    pub fixes: Vec<FixTold>,
    /// Other advice for each trouble, in sentences.
    pub advice: Vec<String>,
    /// The first unmatched keys.
    pub unmatched: Vec<UnmatchedTold>,
    /// The first main rows that are ambiguous, have a blank key or a malformed one.
    pub main_rows: Vec<RowTold>,
    /// The first keys of the reference that several of its rows hold.
    pub shared_keys: Vec<SharedTold>,
    /// The first rows of the reference that no main row asked for.
    pub unused: Vec<RowTold>,
    /// The use of each alias.
    pub aliases: Vec<AliasTold>,
}

/// How far reasons and nearest keys were sought.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BoundTold {
    /// How many unmatched rows have keys beyond the first ones, which were not examined.
    pub rows_not_examined: u64,
    /// Of how many examined keys no nearest one was sought.
    pub keys_not_sought: u64,
    /// Of how many keys that were examined in all.
    pub keys: u64,
    /// Whether more came near to a key than could be compared.
    pub not_all_compared: bool,
}

impl BoundTold {
    /// The bounds that a diagnosis of findings met; `None` when it met none.
    pub fn of(diagnosis: &Diagnosis, found: &LookupFindings) -> Option<Self> {
        let bound = Self {
            rows_not_examined: found.unmatched.beyond(),
            keys_not_sought: diagnosis.not_sought,
            keys: diagnosis.explained.len() as u64,
            not_all_compared: diagnosis.is_bounded,
        };
        let is_any = bound.rows_not_examined > 0 || bound.keys_not_sought > 0;
        (is_any || bound.not_all_compared).then_some(bound)
    }
}

/// A reason, and how many main rows are unmatched for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ReasonTold {
    /// The reason.
    pub reason: String,
    /// How many main rows.
    pub rows: u64,
    /// One of their keys.
    pub example: Option<UnmatchedTold>,
}

/// A part of the key, and how many unmatched main rows it is in the way of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PartTold {
    /// The headers of the main table that it is made from.
    pub part: String,
    /// How many main rows.
    pub rows: u64,
}

/// A change of the key, and what it would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename = "MendTold")]
pub struct FixTold {
    /// The parts of the key as they are to be written.
    pub on: Vec<String>,
    /// How many unmatched main rows would match.
    #[serde(rename = "mended")]
    pub fixed: u64,
    /// How many of them would match by steps that remove letters, although theirs differ.
    pub unlike: u64,
    /// The values of the first such row.
    pub unlike_example: Option<UnlikeTold>,
    /// How many main rows would become ambiguous.
    pub newly_ambiguous: u64,
    /// How many main rows that match now would not.
    pub lost: u64,
    /// How many keys of the reference would be one with another.
    pub joined: u64,
}

/// Values that steps make one although their letters differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct UnlikeTold {
    /// That of the main table.
    pub main: String,
    /// That of the reference.
    pub reference: String,
}

/// An unmatched key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct UnmatchedTold {
    /// The cells that it is made from.
    pub key: Vec<String>,
    /// How many main rows hold it.
    pub rows: u64,
    /// The first of them, from 1; 0 where it has a name.
    pub row: u64,
    /// The name of the row, by its primary key inside a database; it has no number then.
    pub name: Option<String>,
    /// The line on which that begins, from 1.
    pub line: u64,
    /// Why it is unmatched.
    pub reason: String,
    /// The nearest key of the reference.
    pub nearest: Option<Vec<String>>,
    /// How many changes of one character lie between the two.
    pub distance: Option<u64>,
}

/// A row in trouble.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RowTold {
    /// The kind of finding.
    pub kind: String,
    /// The table, where a reference has several.
    pub table: Option<String>,
    /// The row, from 1.
    pub row: u64,
    /// The name of the row, by its primary key inside a database; it has no number then.
    pub name: Option<String>,
    /// The line on which it begins, from 1.
    pub line: u64,
    /// The cells that its key is made from.
    pub key: Vec<String>,
    /// Details: the reference's rows that disagree, or the value that could not be read.
    pub more: String,
}

/// A key of the reference that several rows hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SharedTold {
    /// Duplicate or conflicting.
    pub kind: String,
    /// The cells that the key of the first row is made from.
    pub key: Vec<String>,
    /// Whether the rows spell it differently.
    pub collapsed: bool,
    /// The rows, from 1.
    pub rows: Vec<u64>,
    /// Their names, by the primary key inside a database; they have no numbers then.
    pub names: Vec<String>,
}

/// An alias, and what became of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AliasTold {
    /// Its row in the table of aliases, from 1.
    pub row: u64,
    /// The main key; cells of parts that it is not about are blank.
    pub key: Vec<String>,
    /// The reference key that is used for it.
    pub stands_for: Vec<String>,
    /// Its use.
    pub state: String,
    /// How many main rows it answered.
    pub rows: u64,
}

/// How something that is required came out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct GateTold {
    /// The condition as it was written.
    pub gate: String,
    /// The reference.
    pub reference: String,
    /// How often the kind occurs.
    pub count: u64,
    /// The size of the population.
    pub total: u64,
    /// Whether it holds.
    pub holds: bool,
}

impl From<&GateResult> for GateTold {
    fn from(gate: &GateResult) -> Self {
        Self {
            gate: gate.gate.clone(),
            reference: gate.reference.clone(),
            count: gate.count,
            total: gate.total,
            holds: gate.holds,
        }
    }
}
