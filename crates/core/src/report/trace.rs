//! One row followed through every lookup, for programs.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};

use super::FORM;
use crate::diagnosis::Explained;
use crate::enrich::{Enrichment, LookupTrace};
use crate::findings::{Status, Written};
use crate::lookup::{Alias, Answer, EntryId, Lookup, Miss, Reference};
use crate::table::{Block, Headers, Row};
use crate::template::{BoundTemplate, Trace};

/// A row, and what every reference made of it.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[schemars(title = "A row traced by Gather Keys")]
pub struct RowTrace {
    /// The number of this form; another one means other things.
    pub form: u32,
    /// The main table.
    pub table: String,
    /// The row, from 1; none where a key was named.
    pub row: Option<u64>,
    /// The line on which it begins, from 1.
    pub line: Option<u64>,
    /// The lookups, in order.
    pub references: Vec<LookupTold>,
}

/// A row in one lookup.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct LookupTold {
    /// The name of the reference.
    pub reference: String,
    /// The parts of the key, the value of a range, and the headers that values name.
    pub parts: Vec<PartTrace>,
    /// What became of the row: matched, chosen, unmatched, ambiguous, blank key or malformed.
    pub status: String,
    /// What approved aliases put in the place of this key, or of parts of it.
    pub aliases: Vec<Replaced>,
    /// Why it is unmatched.
    pub reason: Option<String>,
    /// The nearest row of the reference, where none has the key.
    pub nearest: Option<ReferenceRow>,
    /// The parts of the key, as they are to be written, with which it would match.
    pub fix: Option<Vec<String>>,
    /// The reference rows that have the key.
    pub rows: Vec<ReferenceRow>,
    /// The row that a rule chose, from 1.
    pub chosen_row: Option<u64>,
    /// The cells that are updated.
    pub updates: Vec<UpdateTold>,
}

/// What an alias puts in the place of a key, or of parts of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Replaced {
    /// The cells of the main key; blank ones for parts that stay.
    pub key: Vec<String>,
    /// The cells of the reference key; blank ones for parts that stay.
    pub with: Vec<String>,
}

impl From<&Alias> for Replaced {
    fn from(alias: &Alias) -> Self {
        Self { key: alias.main.clone(), with: alias.reference.clone() }
    }
}

/// What was read for a part, and what the steps made of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PartTrace {
    /// The part as it is written.
    pub on: String,
    /// The cells that it is made from.
    pub cells: Vec<CellTrace>,
    /// What is compared; none where a step can't read a cell.
    pub compared: Option<String>,
}

/// A cell and what each step made of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CellTrace {
    /// The header.
    pub header: String,
    /// The cell.
    pub value: String,
    /// Whether it counts as blank.
    pub counts_as_blank: bool,
    /// The steps.
    pub steps: Vec<StepTold>,
}

/// A step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct StepTold {
    /// The step as it is written.
    pub step: String,
    /// What it makes of the value; none where it can't read that.
    pub value: Option<String>,
}

/// A row of a reference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ReferenceRow {
    /// The table, where the reference has several.
    pub table: Option<String>,
    /// The row, from 1.
    pub row: u64,
    /// The line on which it begins, from 1.
    pub line: u64,
    /// The column that has the value, in a reverse lookup.
    pub column: Option<String>,
    /// The cells that its key is made from.
    pub key: Vec<String>,
    /// The cells that are taken, by header: texts.
    pub taken: Map<String, Value>,
}

/// An updated cell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct UpdateTold {
    /// The header of the main table's column.
    pub header: String,
    /// What becomes of it: filled, replaced, erased, same or left.
    pub what: String,
    /// The cell before.
    pub before: String,
    /// The reference's cell.
    pub reference: String,
}

impl RowTrace {
    /// A row of a block, followed by [`Enrichment::trace`]; a row that is none of the table has no place.
    pub fn of(
        enrichment: &Enrichment,
        (main, block, row): (&Headers, &Block, usize),
        followed: &[LookupTrace],
        is_placed: bool,
    ) -> Self {
        let headers = enrichment.headers();
        let references = enrichment.lookups().zip(followed).map(|(lookup, trace)| {
            let row = Row::of(block, row).with(&trace.added, 0).over(enrichment.overlay());
            LookupTold::of(lookup, row, trace, headers)
        });
        let references = references.collect();
        Self {
            form: FORM,
            table: main.table().to_owned(),
            row: is_placed.then(|| block.row_number(row)),
            line: is_placed.then(|| block.line(row)),
            references,
        }
    }
}

impl LookupTold {
    fn of(lookup: &Lookup, row: Row<'_>, trace: &LookupTrace, headers: &Headers) -> Self {
        let (reference, answer) = (lookup.reference(), trace.answer);
        let compared = lookup.key().as_compared(row);
        let part = |on: &str, template: &BoundTemplate, compared: Option<&String>| {
            PartTrace::of(on, template, (lookup, row, headers), compared)
        };
        let keys = lookup.key().parts().iter().zip(&compared).zip(lookup.on());
        let mut parts: Vec<PartTrace> =
            keys.map(|((template, value), on)| part(on, template, Some(value))).collect();
        if let (Some(value), Some(on)) = (lookup.range_value(), lookup.on().last()) {
            parts.push(part(on, value, None));
        }
        for naming in lookup.named_columns() {
            let template = naming.template();
            parts.push(part(&template.template().to_string(), template, None));
        }
        let is_sought =
            matches!(answer, Answer::Unmatched(Miss::Key)) && !reference.is_by_position();
        let explained = is_sought.then(|| Explained::of(lookup, row));
        let entries = lookup.entries(row, answer);
        let nearest = explained.as_ref().and_then(|explained| explained.nearest);
        Self {
            reference: reference.name().to_owned(),
            parts,
            status: Status::of(answer, None).label().to_owned(),
            aliases: lookup.aliases_of(row).into_iter().map(Replaced::from).collect(),
            reason: explained.as_ref().map(|explained| explained.reason.of(lookup)),
            nearest: nearest.map(|entry| ReferenceRow::of(reference, entry)),
            fix: explained.and_then(|explained| explained.fix(lookup)),
            rows: entries.iter().map(|&entry| ReferenceRow::of(reference, entry)).collect(),
            chosen_row: match answer {
                Answer::Chosen { entry, .. } => Some(reference.number(reference.row(entry))),
                _ => None,
            },
            updates: trace.updated.iter().map(|cell| UpdateTold::of(cell, headers)).collect(),
        }
    }
}

impl PartTrace {
    fn of(
        on: &str,
        template: &BoundTemplate,
        (lookup, row, headers): (&Lookup, Row<'_>, &Headers),
        compared: Option<&String>,
    ) -> Self {
        let traces = template.trace(|column| row.cell(column), lookup.key().blanks());
        let is_read = traces.iter().all(|trace| trace.unreadable().is_none());
        let cell = |trace: &Trace| CellTrace {
            header: headers.address(trace.column),
            value: trace.read.clone(),
            counts_as_blank: trace.counts_as_blank,
            steps: trace
                .steps
                .iter()
                .map(|step| StepTold { step: step.step.clone(), value: step.value.clone() })
                .collect(),
        };
        Self {
            on: on.to_owned(),
            cells: traces.iter().map(cell).collect(),
            compared: compared.filter(|_| is_read).cloned(),
        }
    }
}

impl ReferenceRow {
    fn of(reference: &Reference, entry: EntryId) -> Self {
        let (row, headers) = (reference.row(entry), reference.headers());
        let taken = reference.taken().iter().zip(reference.taken_cells(row));
        Self {
            table: reference.table(row).map(str::to_owned),
            row: reference.number(row),
            line: reference.line(row),
            column: reference.column(entry).map(|column| headers.address(column)),
            key: reference.as_read(entry).into_iter().map(str::to_owned).collect(),
            taken: taken.map(|(&at, cell)| (headers.address(at), cell.into())).collect(),
        }
    }
}

impl UpdateTold {
    fn of(
        (column, written, before, new): &(usize, Written, String, String),
        headers: &Headers,
    ) -> Self {
        Self {
            header: headers.address(*column),
            what: written.label().to_owned(),
            before: before.clone(),
            reference: new.clone(),
        }
    }
}
