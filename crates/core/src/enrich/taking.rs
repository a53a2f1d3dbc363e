//! What a lookup gives a main row: cells that it updates, and taken cells and marks that it adds.

use std::cell::OnceCell;

use super::joined::{JOINT, JoinedTexts, join_distinct, joined};
use super::{Appending, Replacing, Status, Updating, Written};
use crate::lookup::{Answer, Holder, Lookup, Miss, RowId};
use crate::plan::Mark;
use crate::table::{Block, CellKind, Overlay, Row};

/// The cells that a lookup gives each row.
#[derive(Debug, Clone)]
pub struct Taking {
    /// The cells, in order.
    pub cells: Vec<AddedCell>,
    /// What becomes of rows that nothing answers.
    pub unmatched: Unmatched,
    /// The columns it writes into, each once.
    pub updates: Vec<Updating>,
    /// What may be replaced there.
    pub replacing: Replacing,
    /// How rows that no main row asked for are added, if they are.
    pub appending: Option<Appending>,
}

/// A row on its way, with the cells that stand beside its own before a lookup gives it more.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Earlier<'a> {
    /// The row as the lookup sees it.
    pub(crate) row: Row<'a>,
    pub(crate) block: &'a Block,
    pub(crate) nth: usize,
    pub(crate) overlay: &'a Overlay,
}

/// The answer of a lookup to a row, and what of it the row takes from.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Given<'n> {
    pub(crate) answer: Answer,
    /// The one holder that it takes from; where there is none, and the answer rests on all that hold its
    /// key, it takes from them.
    pub(crate) one: Option<Holder>,
    /// Where the taken cells of that one begin in the texts of the reference, where it is known.
    pub(crate) at: Option<usize>,
    /// The places of the taken columns that the row names.
    pub(crate) named: &'n [usize],
    /// What was joined for the keys of other rows, where the rows that answer depend on nothing but the key.
    pub(crate) joined: Option<&'n JoinedTexts>,
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
    /// The rows it takes from, and the taken cells of each.
    rows: Vec<RowId>,
    taken: Vec<&'a str>,
    /// How many taken cells each row has.
    columns: usize,
}

impl Taking {
    /// Taken cells only, of a reference with so many taken columns.
    pub fn all(columns: usize) -> Self {
        let cells = (0..columns).map(AddedCell::Taken).collect();
        let (unmatched, updates) = (Unmatched::Blank, Vec::new());
        Self { cells, unmatched, updates, replacing: Replacing::default(), appending: None }
    }

    /// Whether it gives a row that is answered nothing but all taken cells, in their order, behind those
    /// that are there.
    pub(super) fn takes_simply(&self, columns: usize) -> bool {
        self.updates.is_empty()
            && self.unmatched != Unmatched::Only
            && self.cells.len() == columns
            && self.leads_with_all(columns)
    }

    /// Whether it gives every row just one piece more, which is all taken cells where it is answered.
    pub(super) fn only_adds(&self, columns: usize) -> bool {
        self.takes_simply(columns) && self.unmatched != Unmatched::Drop
    }

    /// Whether all taken cells are blank where no reference row gives this answer.
    pub(super) fn leaves_blank(&self, answer: Answer) -> bool {
        match answer {
            Answer::All { .. } => false,
            Answer::Unmatched(_) => !matches!(self.unmatched, Unmatched::Fill(_)),
            _ => true,
        }
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

    /// Adds a row with the cells it has so far, updated, and those that this lookup adds. What becomes of
    /// each updated cell is told with what stood there and what the reference holds.
    pub(crate) fn give(
        &self,
        lookup: &Lookup,
        earlier: Earlier<'_>,
        given: Given<'_>,
        added: &mut Block,
        told: impl FnMut(&Updating, Written, &str, &str),
    ) {
        if self.updates.is_empty() {
            added.push_row_of(earlier.block, earlier.nth);
            let status = Status::of(given.answer, None);
            self.add(lookup, earlier.row, given, status, added);
            return;
        }
        let changed = self.update(lookup, earlier, given, added, told);
        let status = Status::of(given.answer, Some(changed));
        self.add(lookup, earlier.row, given, status, added);
    }

    /// Adds the cells that a row has so far, updated; says whether any is another than before.
    pub(super) fn update(
        &self,
        lookup: &Lookup,
        earlier: Earlier<'_>,
        given: Given<'_>,
        added: &mut Block,
        mut told: impl FnMut(&Updating, Written, &str, &str),
    ) -> bool {
        let (reference, row) = (lookup.reference(), earlier.row);
        let (single, several);
        let givers: &[RowId] = match (given.one, given.answer) {
            (Some(one), _) => {
                single = [reference.row(one)];
                &single
            }
            (None, Answer::All { .. }) => {
                several = reference.rows_among(&lookup.holders(row, given.answer));
                &several
            }
            (None, _) => &[],
        };
        let cell = |row: &RowId, taken| {
            reference.taken_cells_at(*row, given.at).nth(taken).unwrap_or_default()
        };
        let mut joint = String::new();
        let mut changed = false;
        for place in 0..earlier.block.columns() {
            let now = earlier.block.cell(earlier.nth, place);
            let kind = earlier.block.kind(earlier.nth, place);
            let is_here =
                |one: &&Updating| earlier.overlay.place_of(one.column, row.own()) == Some(place);
            let Some(updating) = self.updates.iter().find(is_here) else {
                added.push_cell_of(now, kind);
                continue;
            };
            let new = match givers {
                [] => {
                    added.push_cell_of(now, kind);
                    continue;
                }
                [one] => cell(one, updating.taken),
                several => {
                    joint.clear();
                    join_distinct(&mut joint, several.iter().map(|row| cell(row, updating.taken)));
                    &joint
                }
            };
            let written = self.replacing.written(now, new);
            told(updating, written, now, new);
            changed |= written.is_change();
            match givers {
                _ if !written.is_change() => added.push_cell_of(now, kind),
                [one] => added.push_cell_of(new, reference.taken_kind(*one, updating.taken)),
                _ => added.push_cell_of(new, CellKind::Text),
            }
        }
        changed
    }

    /// Adds the cells that the lookup adds to one main row; see [`Taking::give`].
    pub(super) fn add(
        &self,
        lookup: &Lookup,
        row: Row<'_>,
        given: Given<'_>,
        status: Status,
        added: &mut Block,
    ) {
        let reference = lookup.reference();
        let columns = reference.taken().len();
        let rest = match (given.one, given.at) {
            (Some(one), at) if self.leads_with_all(columns) => {
                match at {
                    Some(at) => reference.push_taken_at(at, one, added),
                    None => reference.push_taken(reference.row(one), added),
                }
                &self.cells[columns..]
            }
            _ => &self.cells[..],
        };
        let single = given.one.map(|one| reference.row(one));
        let one_row = || single.map(|row| reference.taken_cells_at(row, given.at));
        // Taken cells mostly stand in the order of their columns, so that one goes on from the last.
        let (mut cells, mut next) = (None, 0);
        let several = OnceCell::new();
        let givers = || several.get_or_init(|| Givers::new(lookup, row, given));
        for cell in rest {
            let place = match *cell {
                AddedCell::Mark(mark) => {
                    add_mark(mark, lookup, row, (given, status), givers, added);
                    continue;
                }
                AddedCell::Taken(place) => Some(place),
                AddedCell::Named(nth) => given.named.get(nth).copied(),
            };
            match (&self.unmatched, given.answer, place, single) {
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
                        let givers = givers();
                        let kind = match givers.rows[..] {
                            [one] => reference.taken_kind(one, place),
                            _ => CellKind::Unsaid,
                        };
                        (kind, givers.cells(place))
                    };
                    match given.joined {
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

    /// The added cells that tell the row's status.
    pub(super) fn status_cells(&self) -> impl Iterator<Item = usize> + '_ {
        let cells = self.cells.iter().enumerate();
        cells.filter(|(_, cell)| **cell == AddedCell::Mark(Mark::Status)).map(|(nth, _)| nth)
    }

    /// Whether its first cells are all taken cells of a reference with so many taken columns, in their
    /// order.
    fn leads_with_all(&self, columns: usize) -> bool {
        let in_order = |(nth, cell): (usize, &AddedCell)| *cell == AddedCell::Taken(nth);
        self.cells.get(..columns).is_some_and(|cells| cells.iter().enumerate().all(in_order))
    }
}

impl<'a> Givers<'a> {
    fn new(lookup: &'a Lookup, row: Row<'_>, given: Given<'_>) -> Self {
        let reference = lookup.reference();
        let holders = match given.answer {
            // Its key is held; only the header that it names is not there.
            Answer::Unmatched(Miss::Header) => lookup.holders_of_key(row),
            answer => lookup.holders(row, answer),
        };
        let rows = match (given.one, given.answer) {
            (Some(one), _) => vec![reference.row(one)],
            (None, Answer::All { .. }) => reference.rows_among(&holders),
            (None, _) => Vec::new(),
        };
        let taken = rows.iter().flat_map(|&row| reference.taken_cells(row)).collect();
        let columns = reference.taken().len();
        Self { lookup, answer: given.answer, holders, rows, taken, columns }
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

    /// The headers of the columns in which the key stands.
    fn columns(&self) -> String {
        let reference = self.lookup.reference();
        let giving = |holder: &&Holder| self.rows.contains(&reference.row(**holder));
        let columns = self.holders.iter().filter(giving);
        let columns = columns.filter_map(|&holder| reference.column(holder));
        let names: Vec<String> =
            columns.map(|column| reference.headers().address(column)).collect();
        joined(names.iter().map(String::as_str))
    }

    /// How many rows hold the key; nothing when there is no key to hold.
    fn count(&self) -> Option<u64> {
        let has_key = !matches!(self.answer, Answer::BlankKey | Answer::Malformed);
        has_key.then(|| self.lookup.reference().rows_among(&self.holders).len() as u64)
    }
}

/// Adds what the lookup knows of a row. `givers` are looked for only where one does not tell it.
fn add_mark<'g, 'l: 'g>(
    mark: Mark,
    lookup: &Lookup,
    row: Row<'_>,
    (given, status): (Given<'_>, Status),
    givers: impl FnOnce() -> &'g Givers<'l>,
    added: &mut Block,
) {
    let reference = lookup.reference();
    let mut push_number = |number: u64| added.push_cell(itoa::Buffer::new().format(number));
    match (mark, given.one) {
        (Mark::Status, _) => added.push_cell(status.label()),
        (Mark::Row, Some(one)) => push_number(reference.number(reference.row(one))),
        (Mark::Row, None) => added.push_cell(&givers().numbers()),
        (Mark::Table, Some(one)) => added.push_cell(reference.table_of(reference.row(one))),
        (Mark::Table, None) => added.push_cell(&givers().tables()),
        (Mark::Column, _) => added.push_cell(&givers().columns()),
        (Mark::Count, _) if lookup.is_held_once(given.answer) => push_number(1),
        (Mark::Count, _) => match givers().count() {
            Some(count) => push_number(count),
            None => added.push_cell(""),
        },
        (Mark::Key, _) if reference.is_by_position() => push_number(row.number()),
        (Mark::Key, _) => added.push_cell_by(|text| {
            lookup.key().write_compared(row, ", ", text);
            CellKind::Unsaid
        }),
    }
}
