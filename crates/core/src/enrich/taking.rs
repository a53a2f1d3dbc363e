//! What a lookup adds to a main row: taken cells and marks.

use std::fmt::Write;

use crate::findings::Kind;
use crate::lookup::{Answer, Holder, Lookup, RowId};
use crate::plan::Mark;
use crate::table::{Block, Row};

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
    /// The taken cell that the main row names, by the number of the naming.
    Named(usize),
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

/// The reference rows that a main row takes from.
struct Givers<'a> {
    lookup: &'a Lookup,
    answer: Answer,
    /// What holds its key, in order.
    holders: Vec<Holder>,
    /// The rows it takes from.
    rows: Vec<RowId>,
}

impl Taking {
    /// Taken cells only, of a reference with so many taken columns.
    pub fn all(columns: usize) -> Self {
        let cells = (0..columns).map(AddedCell::Taken).collect();
        Self { cells, unmatched: Unmatched::Blank }
    }

    /// Whether a row with this answer goes into the output.
    pub(crate) fn keeps(&self, answer: Answer) -> bool {
        let is_unmatched = matches!(answer, Answer::Unmatched(_));
        match self.unmatched {
            Unmatched::Drop => !is_unmatched,
            Unmatched::Only => is_unmatched,
            Unmatched::Blank | Unmatched::Fill(_) => true,
        }
    }

    /// Adds the cells of one main row. Beside its answer stands the one holder that it takes from;
    /// where there is none, and the answer rests on all that hold its key, it takes from them.
    /// `named` holds the places of the taken columns that it names.
    pub(crate) fn add(
        &self,
        lookup: &Lookup,
        row: Row<'_>,
        (answer, one): (Answer, Option<Holder>),
        named: &[usize],
        added: &mut Block,
    ) {
        let reference = lookup.reference();
        if let (Some(one), true) = (one, self.takes_all_in_order(reference.taken().len())) {
            reference.push_taken(reference.row(one), added);
            return;
        }
        let givers = Givers::new(lookup, row, answer, one);
        let taken: Vec<Vec<&str>> =
            givers.rows.iter().map(|&row| reference.taken_cells(row).collect()).collect();
        let mut text = String::new();
        for cell in &self.cells {
            text.clear();
            let place = match *cell {
                AddedCell::Mark(mark) => {
                    givers.write_mark(mark, row, &mut text);
                    added.push_cell(&text);
                    continue;
                }
                AddedCell::Taken(place) => Some(place),
                AddedCell::Named(nth) => named.get(nth).copied(),
            };
            match (&self.unmatched, answer, place) {
                (Unmatched::Fill(fill), Answer::Unmatched(_), _) => text.push_str(fill),
                (_, _, Some(place)) => {
                    join_distinct(&mut text, taken.iter().map(|cells| cells[place]));
                }
                (_, _, None) => {}
            }
            added.push_cell(&text);
        }
    }

    fn takes_all_in_order(&self, columns: usize) -> bool {
        let in_order = |(nth, cell): (usize, &AddedCell)| *cell == AddedCell::Taken(nth);
        self.cells.len() == columns && self.cells.iter().enumerate().all(in_order)
    }
}

impl<'a> Givers<'a> {
    fn new(lookup: &'a Lookup, row: Row<'_>, answer: Answer, one: Option<Holder>) -> Self {
        let reference = lookup.reference();
        let holders = lookup.holders(row, answer);
        let rows = match (one, answer) {
            (Some(one), _) => vec![reference.row(one)],
            (None, Answer::All { .. }) => reference.rows_among(&holders),
            (None, _) => Vec::new(),
        };
        Self { lookup, answer, holders, rows }
    }

    fn write_mark(&self, mark: Mark, row: Row<'_>, text: &mut String) {
        let reference = self.lookup.reference();
        match mark {
            Mark::Status => text.push_str(status(self.answer).label()),
            Mark::Row => {
                let numbers = self.rows.iter().map(|&row| reference.number(row).to_string());
                let numbers: Vec<String> = numbers.collect();
                join_distinct(text, numbers.iter().map(String::as_str));
            }
            Mark::Table => {
                let whole = reference.headers().table();
                let tables = self.rows.iter().map(|&row| reference.table(row).unwrap_or(whole));
                join_distinct(text, tables);
            }
            Mark::Column => {
                let giving = |holder: &&Holder| self.rows.contains(&reference.row(**holder));
                let columns = self.holders.iter().filter(giving);
                let columns = columns.filter_map(|&holder| reference.column(holder));
                let names: Vec<String> =
                    columns.map(|column| reference.headers().address(column)).collect();
                join_distinct(text, names.iter().map(String::as_str));
            }
            Mark::Count => {
                // How many rows hold the key; nothing when there is no key to hold.
                let _ = match self.answer {
                    Answer::BlankKey | Answer::Malformed => Ok(()),
                    _ => write!(text, "{}", reference.rows_among(&self.holders).len()),
                };
            }
            Mark::Key if reference.is_by_position() => {
                let _ = write!(text, "{}", row.number());
            }
            Mark::Key => text.push_str(&self.lookup.key().as_compared(row).join(", ")),
        }
    }
}

/// The finding of a row.
fn status(answer: Answer) -> Kind {
    match answer {
        Answer::All { disagree: true, .. } | Answer::Chosen { .. } => Kind::Chosen,
        Answer::Matched(_) | Answer::All { .. } => Kind::Matched,
        Answer::Ambiguous(_) => Kind::Ambiguous,
        Answer::Unmatched(_) => Kind::Unmatched,
        Answer::BlankKey => Kind::BlankKey,
        Answer::Malformed => Kind::Malformed,
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
