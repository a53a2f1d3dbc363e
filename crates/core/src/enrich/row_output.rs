//! The assembly of an output row: cells that a lookup updates, and taken cells and marks that it adds.

use std::cell::OnceCell;

use super::joined::{JOINT, JoinedTexts, join_distinct, joined};
use super::{Appending, Replacing, Updating};
use crate::findings::{Status, Written};
use crate::lookup::{Answer, EntryId, Lookup, Miss, RowId};
use crate::plan::Mark;
use crate::table::{Block, CellKind, Overlay, Row};

/// The cells that a lookup adds to each row and updates in it.
#[derive(Debug, Clone)]
pub struct RowOutput {
    /// The added cells, in order.
    pub cells: Vec<AddedCell>,
    /// The treatment of unmatched rows.
    pub unmatched: Unmatched,
    /// The updated columns, each once.
    pub updates: Vec<Updating>,
    /// Which cells an update may replace.
    pub replacing: Replacing,
    /// How reference rows without a main row are appended, if they are.
    pub appending: Option<Appending>,
}

/// A row as it comes to a lookup.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RowSoFar<'a> {
    /// The row with all its cells.
    pub(crate) row: Row<'a>,
    /// The cells after its own: this row of a block.
    pub(crate) block: &'a Block,
    pub(crate) nth: usize,
    pub(crate) overlay: &'a Overlay,
}

/// The answer of a lookup to a row, and where the row takes its cells from.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Outcome<'n> {
    pub(crate) answer: Answer,
    /// The entry that it takes from. Without one, and where the answer rests on all entries of the key, it takes
    /// from all of them.
    pub(crate) one: Option<EntryId>,
    /// Where the taken cells of that entry begin in the arena, if that is known.
    pub(crate) start: Option<usize>,
    /// The places, among the taken columns, of the columns that the row names.
    pub(crate) named: &'n [usize],
    /// Texts that were joined for other rows, where the answer depends on nothing but the key.
    pub(crate) joined: Option<&'n JoinedTexts>,
}

/// One cell that a lookup adds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AddedCell {
    /// A taken cell, by its number among the reference's taken columns.
    Taken(usize),
    /// The taken cell that the main row names, by the number of the naming.
    Named(usize),
    /// A mark: what the lookup knows of the row.
    Mark(Mark),
}

/// The treatment of unmatched main rows.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Unmatched {
    /// Their cells stay blank.
    #[default]
    Blank,
    /// They are left out.
    Drop,
    /// All other rows are left out.
    Only,
    /// Their taken cells get this text.
    Fill(String),
}

/// The reference rows that a main row takes from.
struct SourceRows<'a> {
    lookup: &'a Lookup,
    answer: Answer,
    /// The entries of its key, in order.
    entries: Vec<EntryId>,
    /// The rows it takes from, and their taken cells.
    rows: Vec<RowId>,
    taken: Vec<&'a str>,
    /// How many taken cells each row has.
    columns: usize,
}

impl RowOutput {
    /// Adds all taken cells of a reference with `columns` taken columns, and nothing else.
    pub fn all(columns: usize) -> Self {
        let cells = (0..columns).map(AddedCell::Taken).collect();
        let (unmatched, updates) = (Unmatched::Blank, Vec::new());
        Self { cells, unmatched, updates, replacing: Replacing::default(), appending: None }
    }

    /// Whether it adds to a row just all taken cells of the answer, in their order.
    pub(super) fn is_all_taken(&self, columns: usize) -> bool {
        self.updates.is_empty()
            && self.unmatched != Unmatched::Only
            && self.cells.len() == columns
            && self.leads_with_all(columns)
    }

    /// Whether it adds cells to every row, and for an answer just all taken cells.
    pub(super) fn only_adds(&self, columns: usize) -> bool {
        self.is_all_taken(columns) && self.unmatched != Unmatched::Drop
    }

    /// Whether all taken cells are blank for an answer without a row.
    pub(super) fn leaves_blank(&self, answer: Answer) -> bool {
        match answer {
            Answer::All { .. } => false,
            Answer::Unmatched(_) => !matches!(self.unmatched, Unmatched::Fill(_)),
            _ => true,
        }
    }

    /// Whether a row with this answer goes out.
    pub(crate) fn keeps(&self, answer: Answer) -> bool {
        let is_unmatched = matches!(answer, Answer::Unmatched(_));
        match self.unmatched {
            Unmatched::Drop => !is_unmatched,
            Unmatched::Only => is_unmatched,
            Unmatched::Blank | Unmatched::Fill(_) => true,
        }
    }

    /// Assembles a row: the cells it has so far, updated, and the cells that this lookup adds. `note` is called
    /// for each updated cell with the cell before and the reference's cell.
    pub(crate) fn assemble(
        &self,
        lookup: &Lookup,
        so_far: RowSoFar<'_>,
        outcome: Outcome<'_>,
        added: &mut Block,
        note: impl FnMut(&Updating, Written, &str, &str),
    ) {
        let changed = if self.updates.is_empty() {
            added.push_row_of(so_far.block, so_far.nth);
            None
        } else {
            Some(self.update(lookup, so_far, outcome, added, note))
        };
        let status = Status::of(outcome.answer, changed);
        self.add(lookup, so_far.row, outcome, status, added);
    }

    /// Adds the cells that a row has so far, updated; returns whether any changed.
    pub(super) fn update(
        &self,
        lookup: &Lookup,
        so_far: RowSoFar<'_>,
        outcome: Outcome<'_>,
        added: &mut Block,
        mut note: impl FnMut(&Updating, Written, &str, &str),
    ) -> bool {
        let (reference, row) = (lookup.reference(), so_far.row);
        let (single, several);
        let source_rows: &[RowId] = match (outcome.one, outcome.answer) {
            (Some(one), _) => {
                single = [reference.row(one)];
                &single
            }
            (None, Answer::All { .. }) => {
                several = reference.rows_among(&lookup.entries(row, outcome.answer));
                &several
            }
            (None, _) => &[],
        };
        let cell = |row: &RowId, taken| {
            reference.taken_cells_at(*row, outcome.start).nth(taken).unwrap_or_default()
        };
        let mut joined_text = String::new();
        let mut changed = false;
        for place in 0..so_far.block.columns() {
            let now = so_far.block.cell(so_far.nth, place);
            let kind = so_far.block.kind(so_far.nth, place);
            let is_here =
                |one: &&Updating| so_far.overlay.place_of(one.column, row.own()) == Some(place);
            let Some(updating) = self.updates.iter().find(is_here) else {
                added.push_cell_of(now, kind);
                continue;
            };
            let new = match source_rows {
                [] => {
                    added.push_cell_of(now, kind);
                    continue;
                }
                [one] => cell(one, updating.taken),
                several => {
                    joined_text.clear();
                    join_distinct(
                        &mut joined_text,
                        several.iter().map(|row| cell(row, updating.taken)),
                    );
                    &joined_text
                }
            };
            let written = self.replacing.written(now, new);
            note(updating, written, now, new);
            changed |= written.is_change();
            match source_rows {
                _ if !written.is_change() => added.push_cell_of(now, kind),
                [one] => added.push_cell_of(new, reference.taken_kind(*one, updating.taken)),
                _ => added.push_cell_of(new, CellKind::Text),
            }
        }
        changed
    }

    /// Adds the cells that this lookup adds to a row.
    pub(super) fn add(
        &self,
        lookup: &Lookup,
        row: Row<'_>,
        outcome: Outcome<'_>,
        status: Status,
        added: &mut Block,
    ) {
        let reference = lookup.reference();
        let columns = reference.taken().len();
        let rest = match outcome.one {
            Some(one) if self.leads_with_all(columns) => {
                reference.push_taken(one, outcome.start, added);
                &self.cells[columns..]
            }
            _ => &self.cells[..],
        };
        let single = outcome.one.map(|one| reference.row(one));
        let one_row = || single.map(|row| reference.taken_cells_at(row, outcome.start));
        // Taken cells are mostly in the order of their columns, so that the iterator goes on from the last one.
        let (mut cells, mut next) = (None, 0);
        let several = OnceCell::new();
        let source_rows = || several.get_or_init(|| SourceRows::new(lookup, row, outcome));
        for cell in rest {
            let place = match *cell {
                AddedCell::Mark(mark) => {
                    add_mark(mark, lookup, row, (outcome, status), source_rows, added);
                    continue;
                }
                AddedCell::Taken(place) => Some(place),
                AddedCell::Named(nth) => outcome.named.get(nth).copied(),
            };
            match (&self.unmatched, outcome.answer, place, single) {
                (Unmatched::Fill(fill), Answer::Unmatched(_), _, _) => added.push_cell(fill),
                (_, _, Some(place), Some(single)) => {
                    if place < next || cells.is_none() {
                        (cells, next) = (one_row(), 0);
                    }
                    let cell = cells.as_mut().and_then(|cells| cells.nth(place - next));
                    next = place + 1;
                    let kind = reference.taken_kind(single, place);
                    added.push_cell_of(cell.unwrap_or_default(), kind);
                }
                (_, Answer::All { first, .. }, Some(place), None) => {
                    let values = || {
                        let source_rows = source_rows();
                        let kind = match source_rows.rows[..] {
                            [one] => reference.taken_kind(one, place),
                            _ => CellKind::Untyped,
                        };
                        (kind, source_rows.cells(place))
                    };
                    match outcome.joined {
                        Some(joined) => {
                            let take = |text: &str, kind| added.push_cell_of(text, kind);
                            joined.with((first, place), values, take);
                        }
                        None => {
                            let (kind, values) = values();
                            added.push_cell_of(&joined(values), kind);
                        }
                    }
                }
                _ => added.push_cell(""),
            }
        }
    }

    /// Whether one of the cells is the row's key as it is compared.
    pub(crate) fn shows_key(&self) -> bool {
        self.cells.contains(&AddedCell::Mark(Mark::Key))
    }

    /// The added cells that hold the row's status.
    pub(super) fn status_cells(&self) -> impl Iterator<Item = usize> + '_ {
        let cells = self.cells.iter().enumerate();
        cells.filter(|(_, cell)| **cell == AddedCell::Mark(Mark::Status)).map(|(nth, _)| nth)
    }

    /// Whether its first cells are all `columns` taken cells, in their order.
    fn leads_with_all(&self, columns: usize) -> bool {
        let in_order = |(nth, cell): (usize, &AddedCell)| *cell == AddedCell::Taken(nth);
        self.cells.get(..columns).is_some_and(|cells| cells.iter().enumerate().all(in_order))
    }
}

impl<'a> SourceRows<'a> {
    fn new(lookup: &'a Lookup, row: Row<'_>, outcome: Outcome<'_>) -> Self {
        let reference = lookup.reference();
        let entries = match outcome.answer {
            // The key is found; only the header that the row names is not.
            Answer::Unmatched(Miss::Header) => lookup.entries_of_key(row),
            answer => lookup.entries(row, answer),
        };
        let rows = match (outcome.one, outcome.answer) {
            (Some(one), _) => vec![reference.row(one)],
            (None, Answer::All { .. }) => reference.rows_among(&entries),
            (None, _) => Vec::new(),
        };
        let taken = rows.iter().flat_map(|&row| reference.taken_cells(row)).collect();
        let columns = reference.taken().len();
        Self { lookup, answer: outcome.answer, entries, rows, taken, columns }
    }

    /// The taken cells of one column.
    fn cells(&self, column: usize) -> impl Iterator<Item = &'a str> {
        self.taken.iter().skip(column).step_by(self.columns.max(1)).copied()
    }

    /// The numbers of the rows. Rows of several tables may have the same one.
    fn numbers(&self) -> String {
        let number = |&row: &RowId| self.lookup.reference().number(row).to_string();
        self.rows.iter().map(number).collect::<Vec<_>>().join(JOINT)
    }

    /// The names of their tables.
    fn tables(&self) -> String {
        joined(self.rows.iter().map(|&row| self.lookup.reference().table_of(row)))
    }

    /// The headers of the columns that hold the key.
    fn columns(&self) -> String {
        let reference = self.lookup.reference();
        let is_source = |entry: &&EntryId| self.rows.contains(&reference.row(**entry));
        let columns = self.entries.iter().filter(is_source);
        let columns = columns.filter_map(|&entry| reference.column(entry));
        let names: Vec<String> =
            columns.map(|column| reference.headers().address(column)).collect();
        joined(names.iter().map(String::as_str))
    }

    /// How many rows hold the key; `None` when the main row has no key.
    fn count(&self) -> Option<u64> {
        let has_key = !matches!(self.answer, Answer::BlankKey | Answer::Malformed);
        has_key.then(|| self.lookup.reference().rows_among(&self.entries).len() as u64)
    }
}

/// Adds a mark. `source_rows` are searched only where one entry is not enough.
fn add_mark<'g, 'l: 'g>(
    mark: Mark,
    lookup: &Lookup,
    row: Row<'_>,
    (outcome, status): (Outcome<'_>, Status),
    source_rows: impl FnOnce() -> &'g SourceRows<'l>,
    added: &mut Block,
) {
    let reference = lookup.reference();
    let mut push_number = |number: u64| added.push_cell(itoa::Buffer::new().format(number));
    match (mark, outcome.one) {
        (Mark::Status, _) => added.push_cell(status.label()),
        (Mark::Row, Some(one)) => push_number(reference.number(reference.row(one))),
        (Mark::Row, None) => added.push_cell(&source_rows().numbers()),
        (Mark::Table, Some(one)) => added.push_cell(reference.table_of(reference.row(one))),
        (Mark::Table, None) => added.push_cell(&source_rows().tables()),
        (Mark::Column, _) => added.push_cell(&source_rows().columns()),
        (Mark::Count, _) if lookup.is_held_once(outcome.answer) => push_number(1),
        (Mark::Count, _) => match source_rows().count() {
            Some(count) => push_number(count),
            None => added.push_cell(""),
        },
        (Mark::Key, _) if reference.is_by_position() => push_number(row.number()),
        (Mark::Key, _) => added.push_cell_by(|text| {
            lookup.key().write_compared(row, ", ", text);
            CellKind::Untyped
        }),
    }
}
