//! Two-way lookups: the column whose header a main row names. In a grid, one value finds the row and another the
//! column.

use std::collections::HashMap;

use crate::table::{Headers, Row};
use crate::template::{BoundTemplate, PartState, StepBuffers};

/// A template over the main table that makes the header of a reference column, and the columns it may name.
#[derive(Debug, Clone)]
pub struct HeaderTemplate {
    template: BoundTemplate,
    /// The place of each column among the taken ones, by its header.
    exact: HashMap<String, usize>,
    /// The place of each column by its header without case and surplus space; `None` where several are
    /// equal.
    loose: HashMap<String, Option<usize>>,
    headers: Headers,
}

/// The column that a main row names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NamedColumn {
    /// A column, by its place among the taken ones.
    Taken(usize),
    /// The value that names it is blank.
    Blank,
    /// A step could not read the value.
    Malformed,
    /// No column has this header.
    Unknown,
}

impl HeaderTemplate {
    /// A template over the main table's columns. `columns` are the reference columns that it may name, each with its
    /// place among the taken ones.
    pub fn new(template: BoundTemplate, columns: &[(usize, usize)], table: &Headers) -> Self {
        let (mut exact, mut loose) = (HashMap::new(), HashMap::new());
        for &(column, place) in columns {
            exact.insert(table.address(column), place);
            let alike = loose.entry(Headers::loosened(table.name(column)));
            alike.and_modify(|other| *other = None).or_insert(Some(place));
        }
        let names = columns.iter().map(|&(column, _)| table.address(column));
        Self { template, exact, loose, headers: Headers::new(table.table(), names) }
    }

    /// The template, over the main table's columns.
    pub fn template(&self) -> &BoundTemplate {
        &self.template
    }

    /// The places, among the taken columns, of the columns that it may name.
    pub(crate) fn places(&self) -> Vec<usize> {
        let mut places: Vec<usize> = self.exact.values().copied().collect();
        places.sort_unstable();
        places
    }

    /// The column that a main row names.
    pub(crate) fn column(
        &self,
        row: Row<'_>,
        blanks: &[String],
        work: &mut StepBuffers,
    ) -> NamedColumn {
        self.column_of(|column| row.cell(column), blanks, work)
    }

    /// The column that the cells of a main row name; `cell` returns them by column.
    pub(crate) fn column_of<'c>(
        &self,
        cell: impl Fn(usize) -> &'c str,
        blanks: &[String],
        work: &mut StepBuffers,
    ) -> NamedColumn {
        self.template.value(cell, blanks, work, |state, name| match state {
            PartState::Blank => NamedColumn::Blank,
            PartState::Malformed => NamedColumn::Malformed,
            PartState::Whole => {
                let found = self.exact.get(name).copied();
                let found =
                    found.or_else(|| self.loose.get(&Headers::loosened(name)).copied().flatten());
                found.map_or(NamedColumn::Unknown, NamedColumn::Taken)
            }
        })
    }

    /// The header that a main row names, where no column has it, and the nearest headers.
    pub fn unknown(&self, row: Row<'_>, blanks: &[String]) -> Option<(String, Vec<String>)> {
        let work = &mut StepBuffers::default();
        if self.column(row, blanks, work) != NamedColumn::Unknown {
            return None;
        }
        let name = self.template.value(|c| row.cell(c), blanks, work, |_, name| name.to_owned());
        let nearest = self.headers.near(&name);
        Some((name, nearest))
    }
}
