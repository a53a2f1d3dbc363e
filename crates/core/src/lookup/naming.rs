//! The column that a main row names: in a table that is a grid, the row is found by one value and
//! the column by another.

use std::collections::HashMap;

use crate::table::{Headers, Row};
use crate::template::{Bound, PartState, Work};

/// A template that makes the header of a column, and the columns that it may be.
#[derive(Debug, Clone)]
pub struct Naming {
    template: Bound,
    /// Where each column stands among the taken ones, by its header.
    exact: HashMap<String, usize>,
    /// The same by headers without case and surplus space; `None` where several are alike.
    loose: HashMap<String, Option<usize>>,
    headers: Headers,
}

/// What came of naming a column.
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

impl Naming {
    /// The columns of a table that `template`, over the main table's columns, may name. Each stands
    /// with its place among the taken ones.
    pub fn new(template: Bound, columns: &[(usize, usize)], table: &Headers) -> Self {
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
    pub fn template(&self) -> &Bound {
        &self.template
    }

    /// The column that a main row names.
    pub(crate) fn column(&self, row: Row<'_>, blanks: &[String], work: &mut Work) -> NamedColumn {
        self.template.value(
            |column| row.cell(column),
            blanks,
            work,
            |state, name| match state {
                PartState::Blank => NamedColumn::Blank,
                PartState::Malformed => NamedColumn::Malformed,
                PartState::Whole => {
                    let found = self.exact.get(name).copied();
                    let found = found
                        .or_else(|| self.loose.get(&Headers::loosened(name)).copied().flatten());
                    found.map_or(NamedColumn::Unknown, NamedColumn::Taken)
                }
            },
        )
    }

    /// The header that a main row names, where no column has it, and those that come near.
    pub fn unknown(&self, row: Row<'_>, blanks: &[String]) -> Option<(String, Vec<String>)> {
        let work = &mut Work::default();
        if self.column(row, blanks, work) != NamedColumn::Unknown {
            return None;
        }
        let name = self.template.value(|c| row.cell(c), blanks, work, |_, name| name.to_owned());
        let nearest = self.headers.near(&name);
        Some((name, nearest))
    }
}
