//! What a lookup adds to a main row: taken cells and marks.

use std::fmt::Write;

use crate::findings::Kind;
use crate::lookup::{Answer, Lookup, RowId};
use crate::plan::Mark;
use crate::table::Block;

/// The cells that a lookup adds to each row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taking {
    /// The cells, in order.
    pub cells: Vec<AddedCell>,
    /// What becomes of rows that nothing answers.
    pub unmatched: Unmatched,
}

/// One cell that a lookup adds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AddedCell {
    /// A taken cell, by its number among the reference's taken columns.
    Taken(usize),
    /// What the lookup knows of the row.
    Mark(Mark),
}

/// What becomes of main rows that nothing answers.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Unmatched {
    /// Their cells stay blank.
    #[default]
    Blank,
    /// They are left out.
    Drop,
    /// All others are left out.
    Only,
    /// Their taken cells get this text.
    Fill(String),
}

impl Taking {
    /// Taken cells only, of a reference with so many taken columns.
    pub fn all(columns: usize) -> Self {
        let cells = (0..columns).map(AddedCell::Taken).collect();
        Self { cells, unmatched: Unmatched::Blank }
    }

    /// Whether a row with this answer goes into the output.
    pub(crate) fn keeps(&self, answer: Answer) -> bool {
        match self.unmatched {
            Unmatched::Drop => answer != Answer::Unmatched,
            Unmatched::Only => answer == Answer::Unmatched,
            Unmatched::Blank | Unmatched::Fill(_) => true,
        }
    }

    /// Adds the cells of one main row. `row` is the reference row that answers it, where it is one;
    /// otherwise all rows that hold the key do, if any.
    pub(crate) fn add(
        &self,
        lookup: &Lookup,
        (main, main_row): (&Block, usize),
        answer: Answer,
        row: Option<RowId>,
        added: &mut Block,
    ) {
        let reference = lookup.reference();
        if let (Some(row), true) = (row, self.takes_all_in_order(reference.taken().len())) {
            reference.taken_cells(row).for_each(|cell| added.push_cell(cell));
            return;
        }
        let rows: Vec<RowId> = match (row, answer) {
            (Some(row), _) => vec![row],
            (None, Answer::All(first)) => reference.rows_of(first).collect(),
            (None, _) => Vec::new(),
        };
        let taken: Vec<Vec<&str>> =
            rows.iter().map(|&row| reference.taken_cells(row).collect()).collect();
        let mut text = String::new();
        for cell in &self.cells {
            text.clear();
            match *cell {
                AddedCell::Taken(nth) => match (&self.unmatched, answer) {
                    (Unmatched::Fill(fill), Answer::Unmatched) => text.push_str(fill),
                    _ => join_distinct(&mut text, taken.iter().map(|cells| cells[nth])),
                },
                AddedCell::Mark(Mark::Status) => text.push_str(status(lookup, answer).label()),
                AddedCell::Mark(Mark::Row) => {
                    let numbers: Vec<String> =
                        rows.iter().map(|row| row.number().to_string()).collect();
                    join_distinct(&mut text, numbers.iter().map(String::as_str));
                }
                AddedCell::Mark(Mark::Table) if rows.is_empty() => {}
                AddedCell::Mark(Mark::Table) => text.push_str(reference.headers().table()),
                AddedCell::Mark(Mark::Count) => {
                    if let Some(count) = count(lookup, answer) {
                        let _ = write!(text, "{count}");
                    }
                }
                AddedCell::Mark(Mark::Key) => {
                    text.push_str(&lookup.key().as_compared(main, main_row).join(", "));
                }
            }
            added.push_cell(&text);
        }
    }

    fn takes_all_in_order(&self, columns: usize) -> bool {
        let in_order = |(nth, cell): (usize, &AddedCell)| *cell == AddedCell::Taken(nth);
        self.cells.len() == columns && self.cells.iter().enumerate().all(in_order)
    }
}

/// The finding of a row.
fn status(lookup: &Lookup, answer: Answer) -> Kind {
    match answer {
        Answer::All(first) if lookup.reference().is_conflicting(first) => Kind::Chosen,
        Answer::Matched(_) | Answer::All(_) => Kind::Matched,
        Answer::Chosen { .. } => Kind::Chosen,
        Answer::Ambiguous(_) => Kind::Ambiguous,
        Answer::Unmatched => Kind::Unmatched,
        Answer::BlankKey => Kind::BlankKey,
        Answer::Malformed => Kind::Malformed,
    }
}

/// How many reference rows hold the key; `None` when there is no key to hold.
fn count(lookup: &Lookup, answer: Answer) -> Option<usize> {
    match answer {
        Answer::Matched(first)
        | Answer::Chosen { first, .. }
        | Answer::All(first)
        | Answer::Ambiguous(first) => Some(lookup.reference().rows_of(first).count()),
        Answer::Unmatched => Some(0),
        Answer::BlankKey | Answer::Malformed => None,
    }
}

/// What stands between the values of several rows.
const JOINT: &str = "; ";

/// Appends the distinct values that are not blank, in order.
fn join_distinct<'a>(text: &mut String, values: impl Iterator<Item = &'a str>) {
    let mut seen: Vec<&str> = Vec::new();
    for value in values.filter(|value| !value.is_empty()) {
        if !seen.contains(&value) {
            if !seen.is_empty() {
                text.push_str(JOINT);
            }
            text.push_str(value);
            seen.push(value);
        }
    }
}
