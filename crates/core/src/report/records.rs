//! Rows that were found by value, for programs.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};

use super::FORM;
use crate::lookup::{Hit, Hits};
use crate::table::Headers;

/// The rows of a table that have a value.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[schemars(title = "Rows found by Gather Keys")]
pub struct Records {
    /// The number of this form; another one means other things.
    pub form: u32,
    /// The table.
    pub table: String,
    /// The rows, in order.
    pub rows: Vec<Record>,
    /// The nearest rows, where none has the value.
    pub nearest: Vec<Record>,
}

/// A row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Record {
    /// Its number, from 1.
    pub row: u64,
    /// The line on which it begins, from 1.
    pub line: u64,
    /// The headers of the columns that have a value, where any column may.
    pub found_in: Vec<String>,
    /// The cells by header, in the order of the columns: texts.
    pub cells: Map<String, Value>,
}

impl Records {
    /// What was found in a table with these headers, as far as these columns are concerned.
    pub fn of(hits: &Hits, headers: &Headers, columns: &[usize]) -> Self {
        let record = |hit: &Hit| {
            let value = |column: usize| Value::from(&hit.cells[column][..]);
            let cell = |&column: &usize| (headers.address(column), value(column));
            Record {
                row: hit.row,
                line: hit.line,
                found_in: hit.columns.iter().map(|&column| headers.address(column)).collect(),
                cells: columns.iter().map(cell).collect(),
            }
        };
        Self {
            form: FORM,
            table: headers.table().to_owned(),
            rows: hits.rows.iter().map(record).collect(),
            nearest: hits.nearest.iter().map(record).collect(),
        }
    }
}
