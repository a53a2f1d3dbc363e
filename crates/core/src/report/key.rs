//! Keys of a single table, tested or split, for programs.

use schemars::JsonSchema;
use serde::Serialize;

use super::{FORM, GateTold, LISTED};
use crate::findings::GateResult;
use crate::lookup::{Reference, RowId};
use crate::survey::key_column::Taken;

/// Whether columns are a key.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[schemars(title = "A test of a key by Gather Keys")]
pub struct KeyTested {
    /// The number of this form; another one means other things.
    pub form: u32,
    /// The table.
    pub table: String,
    /// The parts of the key.
    pub parts: Vec<String>,
    /// Whether each row has a key and no two have the same.
    pub is_key: bool,
    /// How many rows the table has.
    pub rows: u64,
    /// How many different keys.
    pub keys: u64,
    /// How many keys are on several rows.
    pub repeated: u64,
    /// How many rows have a blank part.
    pub blank_key: u64,
    /// How many rows have a value that a step can't read.
    pub malformed: u64,
    /// The first keys on several rows.
    pub repeated_keys: Vec<RepeatedKey>,
    /// The first rows with a blank part.
    pub blank_rows: Vec<KeyRow>,
    /// The first rows with a value that a step can't read.
    pub malformed_rows: Vec<KeyRow>,
    /// How what was required came out.
    pub gates: Vec<GateTold>,
}

/// A key on several rows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RepeatedKey {
    /// The cells that the key of the first row is made from.
    pub key: Vec<String>,
    /// The rows, from 1.
    pub rows: Vec<u64>,
}

/// A row and the cells that its key is made from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct KeyRow {
    /// The row, from 1.
    pub row: u64,
    /// The line on which it begins, from 1.
    pub line: u64,
    /// The cells.
    pub key: Vec<String>,
}

/// A column that was split into the parts of its template.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[schemars(title = "A key column split by Gather Keys")]
pub struct KeySplit {
    /// The number of this form; another one means other things.
    pub form: u32,
    /// The table.
    pub table: String,
    /// The header of the column.
    pub column: String,
    /// The template.
    pub template: String,
    /// Where the table was written, unless a gate does not hold.
    pub written: Option<String>,
    /// The headers of the added columns.
    pub added: Vec<String>,
    /// How many rows the table has.
    pub rows: u64,
    /// How many values were split.
    pub split: u64,
    /// How many are blank.
    pub blank: u64,
    /// How many do not fit the template.
    pub not_fitting: u64,
    /// How many fit it in more than one way.
    pub many_ways: u64,
    /// The first values that do not fit.
    pub not_fitting_rows: Vec<KeyRow>,
    /// The first values that fit in more than one way.
    pub many_ways_rows: Vec<KeyRow>,
    /// How what was required came out.
    pub gates: Vec<GateTold>,
}

impl KeyTested {
    /// The test of a table whose keys are counted.
    pub fn of(census: &Reference, gates: &[GateResult]) -> Self {
        let row = |&id: &RowId| KeyRow {
            row: census.number(id),
            line: census.line(id),
            key: census.row_as_read(id).into_iter().map(str::to_owned).collect(),
        };
        let repeated = census.groups().count() as u64;
        let keys = census.groups().take(LISTED).map(|group| RepeatedKey {
            key: census.as_read(group.entries[0]).into_iter().map(str::to_owned).collect(),
            rows: group.rows.iter().map(|&row| census.number(row)).collect(),
        });
        let (blank, malformed) = (census.keyless(), census.malformed());
        Self {
            form: FORM,
            table: census.headers().table().to_owned(),
            parts: census.key().parts().iter().map(|part| part.template().to_string()).collect(),
            is_key: repeated == 0 && blank.is_empty() && malformed.is_empty(),
            rows: census.rows(),
            keys: census.keys(),
            repeated,
            blank_key: blank.len() as u64,
            malformed: malformed.len() as u64,
            repeated_keys: keys.collect(),
            blank_rows: blank.iter().take(LISTED).map(row).collect(),
            malformed_rows: malformed.iter().take(LISTED).map(row).collect(),
            gates: gates.iter().map(GateTold::from).collect(),
        }
    }
}

impl KeySplit {
    /// What came of splitting a column of a table by a template.
    pub fn of(
        (table, column, template): (&str, &str, &str),
        added: &[String],
        taken: &Taken,
        gates: &[GateResult],
    ) -> Self {
        let row = |(row, line, value): &(u64, u64, String)| KeyRow {
            row: *row,
            line: *line,
            key: vec![value.clone()],
        };
        let [not_fitting, many_ways] = &taken.samples;
        Self {
            form: FORM,
            table: table.to_owned(),
            column: column.to_owned(),
            template: template.to_owned(),
            written: None,
            added: added.to_vec(),
            rows: taken.rows,
            split: taken.split(),
            blank: taken.blank,
            not_fitting: taken.no_way,
            many_ways: taken.several_ways,
            not_fitting_rows: not_fitting.iter().map(row).collect(),
            many_ways_rows: many_ways.iter().map(row).collect(),
            gates: gates.iter().map(GateTold::from).collect(),
        }
    }
}
