//! Provenance: the tables that the rows of a reference come from, and their row and line numbers.

use super::labels::labels;
use crate::lookup::RowId;
use crate::table::{Lines, TotalRow};

/// The tables of a reference.
#[derive(Debug, Clone, Default)]
pub(in crate::lookup) struct Tables {
    /// The address of each table, with the position of its first row.
    all: Vec<(RowId, String)>,
    /// A short name for each table.
    labels: Vec<String>,
    /// The lines on which the rows of each table begin.
    pub(in crate::lookup) lines: Vec<Lines>,
    /// The position of each stored row among all rows, where not all rows are stored.
    pub(in crate::lookup) positions: Vec<u32>,
    /// The name of each stored row, where rows have no number; empty for rows that nobody names.
    pub(in crate::lookup) names: Vec<Box<str>>,
    /// How many rows the tables have, stored or not.
    pub(in crate::lookup) rows: u64,
    /// The tables whose last row looks like a total, with that row.
    pub(in crate::lookup) total_rows: Vec<(String, TotalRow)>,
}

impl Tables {
    /// A single table.
    pub(in crate::lookup) fn of(address: &str) -> Self {
        Self {
            all: vec![(RowId(0), address.to_owned())],
            lines: vec![Lines::default()],
            ..Self::default()
        }
    }

    /// Adds the next table, whose first row is at this position.
    pub(in crate::lookup) fn push(&mut self, first: RowId, address: String) {
        self.all.push((first, address));
        self.lines.push(Lines::default());
    }

    /// Replaces the first table's address.
    pub(in crate::lookup) fn rename_first(&mut self, address: String) {
        self.all = vec![(RowId(0), address)];
    }

    /// Makes the labels, once all tables are known.
    pub(in crate::lookup) fn finish(&mut self) {
        let addresses: Vec<&str> = self.all.iter().map(|(_, address)| &address[..]).collect();
        self.labels = labels(&addresses);
    }

    /// The same tables for a store of other rows.
    pub(in crate::lookup) fn without_rows(&self) -> Self {
        Self { lines: Vec::new(), positions: Vec::new(), names: Vec::new(), ..self.clone() }
    }

    /// How many tables there are.
    pub(in crate::lookup) fn len(&self) -> usize {
        self.all.len()
    }

    /// Each table's address, with how many rows it has.
    pub(in crate::lookup) fn iter(&self) -> impl Iterator<Item = (&str, u64)> {
        let firsts = self.all.iter().map(|(first, _)| u64::from(first.0));
        let ends = firsts.clone().skip(1).chain([self.rows]);
        let rows = firsts.zip(ends).map(|(first, end)| end - first);
        self.all.iter().map(|(_, address)| &address[..]).zip(rows)
    }

    /// The position of a stored row among all rows of the tables, from 0.
    pub(in crate::lookup) fn position_of(&self, row: RowId) -> RowId {
        self.positions.get(row.index()).map_or(row, |&position| RowId(position))
    }

    /// The stored row at a position, where the store holds only some rows.
    pub(in crate::lookup) fn row_at(&self, position: u32) -> Option<RowId> {
        self.positions.binary_search(&position).ok().map(|at| RowId(at as u32))
    }

    fn table_of(&self, row: RowId) -> usize {
        let row = self.position_of(row);
        self.all.partition_point(|(first, _)| *first <= row).saturating_sub(1)
    }

    /// The label of the table that a row is in.
    pub(in crate::lookup) fn label_of(&self, row: RowId) -> Option<&str> {
        self.labels.get(self.table_of(row)).map(String::as_str)
    }

    /// The row's number in its table: data rows count from 1.
    pub(in crate::lookup) fn number(&self, row: RowId) -> u64 {
        let first = self.all.get(self.table_of(row)).map_or(0, |(first, _)| first.0);
        u64::from(self.position_of(row).0 - first) + 1
    }

    /// The line of the file on which a row begins, from 1.
    pub(in crate::lookup) fn line(&self, row: RowId) -> u64 {
        let table = self.table_of(row);
        self.lines.get(table).map_or(0, |lines| lines.of(self.number(row) - 1))
    }
}
