//! Rows of a reference as they are taken in: packed, by several threads, but not yet indexed.

use super::asked_keys::SPARE;
use super::asked_rows::AskedRows;
use super::ranges::Ends;
use super::records::Records;
use super::reference::{CellAt, Cells, Joint, Ranged, hash};
use super::taken_as_read::PackedBlock;
use super::{Line, Position, Reference, RowId};
use crate::lookup::index::MOST_ROWS;
use crate::table::packed::{self, RowCell};
use crate::table::{Block, CellKind, Headers, Row};
use crate::template::{Bound, PartState, Work};
use crate::{Error, Result};

/// Rows of a reference as they are taken in: packed, but not yet indexed. Rows and cells count from
/// the first one here.
#[derive(Debug, Default)]
pub(super) struct TakenIn {
    pub(super) rows: Records,
    pub(super) cells: Cells,
    /// The hash of each row's key, or of each cell's.
    pub(super) hashes: Vec<u32>,
    pub(super) keyless: Vec<RowId>,
    pub(super) malformed: Vec<RowId>,
    /// Rows whose key is blank in part or could not be read, unless cells hold the keys.
    pub(super) without_key: Vec<RowId>,
    /// For each row its range, where it has one, with the line that it is on.
    pub(super) ends: Vec<Option<(Line, Ends)>>,
    /// The first value of a bound that is neither a number nor a date, with its row and bound.
    pub(super) no_position: Option<(RowId, usize, String)>,
    /// Whether any bound has a position.
    pub(super) has_position: bool,
    /// The kinds of the taken cells, row by row; empty while none was said.
    pub(super) kinds: Vec<CellKind>,
    /// How many cells are taken of each row.
    width: usize,
    /// How many rows there were, with those that were not kept.
    pub(super) seen: u32,
    /// Where each row stands among these, when not all are kept.
    pub(super) positions: Vec<u32>,
    /// The numbers of the taken cells of one row, of those that have one.
    numbers: Vec<Option<u16>>,
    /// How many rows of this block were kept though nothing asks for them.
    spare: usize,
    pub(super) packed: PackedBlock,
    asked_rows: AskedRows,
}

impl TakenIn {
    /// Takes rows over behind its own, and leaves none.
    pub(super) fn append(&mut self, other: &mut Self) {
        let row = self.rows.len() as u32;
        let key = self.cells.keys.len() as u32;
        let behind = |id: &RowId| RowId(id.0 + row);
        let before = self.seen;
        self.positions.extend(other.positions.drain(..).map(|at| at + before));
        self.seen += std::mem::take(&mut other.seen);
        other.spare = 0;
        if !self.kinds.is_empty() || !other.kinds.is_empty() {
            self.width = self.width.max(other.width);
            other.kinds.resize(other.rows.len() * self.width, CellKind::Unsaid);
            self.kinds.resize(self.rows.len() * self.width, CellKind::Unsaid);
            self.kinds.append(&mut other.kinds);
        }
        self.rows.append(&mut other.rows);
        self.cells.keys.append(&mut other.cells.keys);
        let cells = other.cells.all.drain(..);
        self.cells.all.extend(cells.map(|cell| CellAt {
            row: behind(&cell.row),
            key: cell.key + key,
            ..cell
        }));
        self.hashes.append(&mut other.hashes);
        for (all, more) in [
            (&mut self.keyless, &mut other.keyless),
            (&mut self.malformed, &mut other.malformed),
            (&mut self.without_key, &mut other.without_key),
        ] {
            all.extend(more.drain(..).map(|id| behind(&id)));
        }
        self.ends.append(&mut other.ends);
        if let Some((id, bound, value)) = other.no_position.take() {
            self.no_position.get_or_insert((behind(&id), bound, value));
        }
        self.has_position |= std::mem::take(&mut other.has_position);
    }
}

impl TakenIn {
    /// Says how many cells are taken of each row, before a kind of any is said.
    pub(super) fn say_width(&mut self, width: usize) {
        self.width = width;
        self.kinds.resize(self.rows.len() * width, CellKind::Unsaid);
    }

    /// An error where there are more than can be told apart, with so many that are kept elsewhere.
    pub(super) fn refuse_too_many(&self, headers: &Headers, kept: u32) -> Result<()> {
        let seen = self.seen.max(kept) as usize;
        let held = self.rows.len().max(self.cells.all.len()).max(seen);
        if (held as u64) < MOST_ROWS {
            return Ok(());
        }
        Err(Error::TooManyRows { table: headers.table().to_owned(), most: MOST_ROWS })
    }
}

impl Reference {
    /// The columns that are looked at.
    pub(super) fn wanted(&self) -> Vec<usize> {
        let mut wanted = self.key_columns();
        wanted.extend(&self.taken);
        wanted.extend(self.rank.iter().flat_map(Bound::columns));
        wanted.extend(self.bound_columns());
        wanted
    }

    /// Packs the rows of a block.
    pub(super) fn take_in(&self, block: &Block, taken_in: &mut TakenIn, work: &mut Work) {
        if block.has_kinds() {
            taken_in.say_width(self.taken.len());
        }
        let are_packed = self.take_in_as_read(block, taken_in);
        taken_in.asked_rows.look(self, block);
        for row in 0..block.rows() {
            if taken_in.spare == SPARE && taken_in.asked_rows.pass(row) {
                taken_in.seen += 1;
                continue;
            }
            let kept = are_packed || self.take_in_row(Row::of(block, row), taken_in, work);
            if kept && block.has_kinds() {
                let kinds = self.taken.iter().map(|&column| block.kind(row, column));
                taken_in.kinds.extend(kinds);
            }
        }
    }

    /// Packs a row, unless nothing asks for it; says whether it is kept.
    fn take_in_row(&self, row: Row<'_>, taken_in: &mut TakenIn, work: &mut Work) -> bool {
        let position = taken_in.seen;
        taken_in.seen += 1;
        let id = RowId(taken_in.rows.len() as u32);
        let start = taken_in.rows.text.len();
        let mut state = if self.looked_in.is_empty() {
            self.keys[0].pack(row, &mut taken_in.rows.text, work)
        } else {
            self.take_in_cells(id, row, taken_in, work)
        };
        let text = &mut taken_in.rows.text;
        let key = start..text.len();
        if let Some(asked) = &self.only_asked {
            let is_asked = || asked.hold(hash(&self.hasher, &text.as_bytes()[key.clone()]));
            if state == PartState::Whole && !is_asked() {
                if taken_in.spare == SPARE {
                    text.truncate(start);
                    return false;
                }
                taken_in.spare += 1;
            }
            taken_in.positions.push(position);
        }
        let cell = |&column: &usize| RowCell::Text(row.cell(column));
        match self.values.get() {
            None => packed::push_row(text, self.taken.iter().map(cell), self.plainly),
            Some(values) => {
                let columns = self.taken.iter().enumerate();
                taken_in.numbers.clear();
                let number = |(nth, &column)| values.number(nth, row.cell(column));
                taken_in.numbers.extend(columns.map(number));
                let cells = self.taken.iter().zip(&taken_in.numbers);
                let cells =
                    cells.map(|(column, number)| number.map_or(cell(column), RowCell::Value));
                packed::push_row(text, cells, self.plainly);
            }
        }
        if let Some(rank) = &self.rank {
            rank.value(
                |column| row.cell(column),
                &[],
                work,
                |state, value| {
                    packed::push(text, if state == PartState::Whole { value } else { "" });
                },
            );
        }
        if self.match_blanks && state == PartState::Blank {
            state = PartState::Whole;
        }
        let has_key = state == PartState::Whole;
        if self.looked_in.is_empty() {
            if !has_key {
                taken_in.without_key.push(id);
            }
            taken_in.hashes.push(hash(&self.hasher, &text.as_bytes()[key.clone()]));
        }
        if let Some(ranged) = &self.ranged {
            for &column in ranged.bounds.iter().flat_map(Bound::columns) {
                packed::push(text, row.cell(column));
            }
            state = state.max(self.take_in_range(ranged, id, row, has_key, taken_in, work));
        }
        let text = &mut taken_in.rows.text;
        if !self.was_read_so(&text[key], row) {
            for column in self.key_columns() {
                packed::push(text, row.cell(column));
            }
        }
        taken_in.rows.end_one();
        match state {
            PartState::Blank => taken_in.keyless.push(id),
            PartState::Malformed => taken_in.malformed.push(id),
            PartState::Whole => {}
        }
        true
    }

    /// Notes every cell of a row that holds a key.
    fn take_in_cells(
        &self,
        id: RowId,
        row: Row<'_>,
        taken_in: &mut TakenIn,
        work: &mut Work,
    ) -> PartState {
        let mut all = PartState::Blank;
        let mut unread = false;
        for (column, key) in (0..).zip(&self.keys) {
            let keys = &mut taken_in.cells.keys;
            let start = keys.text.len();
            let state = key.pack(row, &mut keys.text, work);
            if state == PartState::Whole || state == PartState::Blank && self.match_blanks {
                taken_in.hashes.push(hash(&self.hasher, &keys.text.as_bytes()[start..]));
                let key = keys.len() as u32;
                keys.end_one();
                taken_in.cells.all.push(CellAt { column, row: id, key });
                all = PartState::Whole;
            } else {
                keys.text.truncate(start);
            }
            unread |= state == PartState::Malformed;
        }
        // A row that holds a key in one cell is found by that, whatever is in the others.
        match all {
            PartState::Whole => all,
            _ if unread => PartState::Malformed,
            _ => all,
        }
    }

    /// Notes the range of a row; it is of no use unless the row has a key.
    fn take_in_range(
        &self,
        ranged: &Ranged,
        id: RowId,
        row: Row<'_>,
        has_key: bool,
        taken_in: &mut TakenIn,
        work: &mut Work,
    ) -> PartState {
        let (mut state, mut positions) = (PartState::Whole, Vec::with_capacity(2));
        for (nth, bound) in ranged.bounds.iter().enumerate() {
            let blanks = self.keys[0].blanks();
            bound.value(
                |column| row.cell(column),
                blanks,
                work,
                |made, value| {
                    let position =
                        if made == PartState::Whole { Position::of(value) } else { None };
                    if made == PartState::Whole && position.is_none() {
                        state = PartState::Malformed;
                        taken_in.no_position.get_or_insert_with(|| (id, nth, value.to_owned()));
                    }
                    state = state.max(made);
                    positions.extend(position);
                },
            );
        }
        taken_in.has_position |= !positions.is_empty();
        let on_one_line = positions.windows(2).all(|pair| pair[0].line() == pair[1].line());
        let ends = match (ranged.joint, &positions[..]) {
            (Joint::Closed, [lower, upper]) => Some(Ends { lower: lower.at(), upper: upper.end() }),
            (Joint::Open, [lower, upper]) => {
                Some(Ends { lower: lower.at(), upper: upper.at().saturating_sub(1) })
            }
            (Joint::From | Joint::UpTo, [bound]) => {
                Some(Ends { lower: bound.at(), upper: bound.end() })
            }
            _ => None,
        };
        let is_backwards = ends.is_some_and(|ends| ends.upper < ends.lower) || !on_one_line;
        let ends = ends.filter(|_| has_key && !is_backwards);
        taken_in.ends.push(ends.zip(positions.first()).map(|(ends, first)| (first.line(), ends)));
        if is_backwards { PartState::Malformed } else { state }
    }

    /// Whether the packed key of a row is what stands in it, cell for cell.
    fn was_read_so(&self, key: &str, row: Row<'_>) -> bool {
        if !self.looked_in.is_empty() {
            return false;
        }
        let only = &self.keys[0];
        if only.is_verbatim() {
            return true;
        }
        let Some(parts) = &self.verbatim_parts else { return false };
        let compared = packed::Cells::new(key);
        let mut pairs = parts.iter().zip(only.as_read(row));
        pairs.all(|(&part, read)| compared.clone().nth(part) == Some(read))
    }
}
