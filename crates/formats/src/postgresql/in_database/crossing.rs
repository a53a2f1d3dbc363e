//! What other servers send while tables that are divided over them are joined.
//!
//! A statement is carried out with the plan that the server made for it; out come how many rows came from other servers,
//! and which tables these joined themselves.

use std::collections::BTreeSet;

use postgres::SimpleQueryMessage;
use serde_json::Value;

use super::{InDatabase, failed};
use crate::Result;

/// What came from other servers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Crossing {
    /// How many rows.
    pub rows: u64,
    /// The tables that these servers joined, each group by its names.
    pub joined: BTreeSet<Vec<String>>,
}

impl InDatabase {
    /// Counts from now on what comes from other servers.
    pub fn count_crossing(&mut self) {
        self.crossing = Some(Crossing::default());
    }

    /// What came from other servers for the answers and the output, if it is counted.
    pub fn crossing(&self) -> Option<&Crossing> {
        self.crossing.as_ref()
    }

    /// Carries out a statement that makes a table of a query, or adds its rows to one; returns how many rows that were.
    pub(super) fn make(&mut self, statement: &str) -> Result<u64> {
        if self.crossing.is_none() {
            return self.execute(statement);
        }
        let explain = format!(
            "explain (analyze, verbose, costs off, timing off, summary off, format json) {statement}"
        );
        let messages = self.client.simple_query(&explain);
        let messages = messages.map_err(|error| failed(&self.name, &error))?;
        let text = messages.iter().find_map(|message| match message {
            SimpleQueryMessage::Row(row) => row.get(0),
            _ => None,
        });
        let plan: Value = serde_json::from_str(text.unwrap_or_default()).unwrap_or_default();
        let plan = &plan[0]["Plan"];
        if let Some(crossing) = &mut self.crossing {
            crossing.add(plan);
        }
        // Rows that are added are those of the plan below.
        let is_adding = plan["Node Type"] == "ModifyTable";
        Ok(rows_of(if is_adding { &plan["Plans"][0] } else { plan }))
    }
}

impl Crossing {
    /// Adds what a part of a plan brought here.
    fn add(&mut self, plan: &Value) {
        if plan["Node Type"] == "Foreign Scan" {
            self.rows += rows_of(plan);
            let tables = joined_tables(plan["Relations"].as_str().unwrap_or_default());
            self.joined.extend(Some(tables).filter(|tables| tables.len() > 1));
        }
        for part in plan["Plans"].as_array().into_iter().flatten() {
            self.add(part);
        }
    }
}

/// The tables of a scan as the server describes it: `Aggregate on ((harvest_1 m) LEFT JOIN (hives_1 t))`.
fn joined_tables(relations: &str) -> Vec<String> {
    let tables = relations.split('(').filter_map(|piece| piece.split_once(')')?.0.rsplit_once(' '));
    tables.map(|(table, _alias)| table.to_owned()).collect()
}

/// How many rows a part of a plan gave, in all its loops.
fn rows_of(plan: &Value) -> u64 {
    let number = |name: &str| plan[name].as_f64().unwrap_or_default();
    // A count of rows, far below what a float holds.
    #[allow(clippy::cast_sign_loss)]
    let rows = (number("Actual Rows") * number("Actual Loops")).round() as u64;
    rows
}
