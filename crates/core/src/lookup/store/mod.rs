//! The row store of a reference: for each row its key and its taken cells, and nothing else.
//!
//! All rows are in one text arena. A record is
//!
//! ```text
//! | packed key | taken cells, a packed row | rank | bounds of the range | cells the key was read from |
//! ```
//!
//! so that comparing a key and reading the cells touches one place in memory. In a reverse lookup the keys are in
//! an arena of the [index](super::index) instead. The last three are there only where they are needed: the cells
//! the key was read from only if steps changed them.

mod arena;
mod dictionary;
mod labels;
mod tables;

use std::sync::{Arc, OnceLock};

pub(super) use arena::Arena;
pub(super) use dictionary::{DICTIONARIES_FROM, Dictionaries};
pub(super) use tables::Tables;

use super::RowId;
use super::spec::Spec;
use crate::table::packed::{self, RowCell};
use crate::table::{Block, CellKind, RawSlice};

/// The rows of a reference that are in memory.
#[derive(Debug)]
pub(super) struct RowStore {
    pub(super) arena: Arena,
    /// Values that many rows take, once enough rows have been read to choose them.
    pub(super) dictionaries: Arc<OnceLock<Dictionaries>>,
    /// The kinds of the taken cells, row by row; empty where the format has no kinds.
    pub(super) kinds: Vec<CellKind>,
    pub(super) layout: RecordLayout,
    /// Rows with a blank part in their key, or a blank end of their range.
    pub(super) keyless: Vec<RowId>,
    /// Rows with a value in their key or range that a step could not read.
    pub(super) malformed: Vec<RowId>,
}

/// How many cells of each sort a record has.
#[derive(Debug, Clone, Copy)]
pub(super) struct RecordLayout {
    /// The parts of the packed key at the front; none in a reverse lookup.
    key_parts: usize,
    taken: usize,
    /// Whether a rank follows the taken cells.
    has_rank: bool,
    /// How many cells of the bounds of a range follow.
    bounds: usize,
}

impl RecordLayout {
    pub(super) fn of(spec: &Spec) -> Self {
        Self {
            key_parts: if spec.is_reverse() { 0 } else { spec.key().parts().len() },
            taken: spec.taken.columns.len(),
            has_rank: spec.rank.is_some(),
            bounds: spec.bound_columns().len(),
        }
    }

    /// The taken cells of a record, and what follows them.
    pub(super) fn taken_row(self, record: &str) -> packed::PackedRow<'_> {
        let key = packed::first_cells(record, self.key_parts).len();
        packed::PackedRow::new(&record[key..], self.taken)
    }
}

impl RowStore {
    /// A store without rows.
    pub(super) fn empty(spec: &Spec, dictionaries: Arc<OnceLock<Dictionaries>>) -> Self {
        Self {
            arena: Arena::default(),
            dictionaries,
            kinds: Vec::new(),
            layout: RecordLayout::of(spec),
            keyless: Vec::new(),
            malformed: Vec::new(),
        }
    }

    /// How many rows there are.
    pub(super) fn len(&self) -> usize {
        self.arena.len()
    }

    /// The record of a row.
    #[inline]
    pub(super) fn record(&self, row: RowId) -> &str {
        self.arena.get(row.index())
    }

    /// Where the taken cells of a row begin in the arena.
    #[inline]
    pub(super) fn taken_start(&self, row: RowId) -> usize {
        let key = packed::first_cells(self.record(row), self.layout.key_parts).len();
        self.arena.start(row.index()) + key
    }

    /// The cells of a record after the taken ones.
    fn after_taken(&self, row: RowId) -> packed::Cells<'_> {
        packed::Cells::new(self.layout.taken_row(self.record(row)).rest())
    }

    /// The value that orders the row.
    pub(super) fn rank(&self, row: RowId) -> Option<&str> {
        if self.layout.has_rank { self.after_taken(row).next() } else { None }
    }

    /// The cells that the bounds of a row's range are made from, as they were read.
    pub(super) fn bounds_as_read(&self, row: RowId) -> Vec<&str> {
        let cells = self.after_taken(row).skip(usize::from(self.layout.has_rank));
        cells.take(self.layout.bounds).collect()
    }

    /// The cells that a row's key was read from, where steps changed them; empty otherwise.
    pub(super) fn key_as_read(&self, row: RowId) -> Vec<&str> {
        let before = usize::from(self.layout.has_rank) + self.layout.bounds;
        self.after_taken(row).skip(before).collect()
    }

    /// The taken cells of a row, in the order of the taken columns. `start` is where they begin in the arena,
    /// where that is known.
    pub(super) fn taken_cells(
        &self,
        row: RowId,
        start: Option<usize>,
    ) -> impl Iterator<Item = &str> + use<'_> {
        let packed = match start {
            Some(start) => packed::PackedRow::new(self.arena.from(start), self.layout.taken),
            None => self.layout.taken_row(self.record(row)),
        };
        (0..).zip(packed).map(|(nth, cell)| self.text_of(nth, cell))
    }

    #[inline]
    fn text_of<'a>(&'a self, nth: usize, cell: RowCell<'a>) -> &'a str {
        match (cell, self.dictionaries.get()) {
            (RowCell::Text(text), _) => text,
            (RowCell::Value(number), Some(dictionaries)) => dictionaries.get(nth, number),
            (RowCell::Value(_), None) => "",
        }
    }

    /// Adds the taken cells of a row, which begin at `start` in the arena, to a block.
    #[inline]
    pub(super) fn push_taken(&self, start: usize, added: &mut Block) {
        let taken = self.layout.taken;
        if let Some((text, lengths)) = packed::joined(&self.arena.text, start, taken) {
            added.push_cells(text, lengths);
            return;
        }
        let packed = packed::PackedRow::new(self.arena.from(start), taken);
        if let (Some(numbers), Some(dictionaries)) = (packed.values(), self.dictionaries.get()) {
            let cells = numbers.enumerate();
            added.push_each(cells.map(|(nth, number)| dictionaries.with_gap(nth, number)));
        } else {
            for (nth, cell) in packed.enumerate() {
                added.push_cell(self.text_of(nth, cell));
            }
        }
    }

    /// Where the taken cells that begin at `start` are in the arena in their raw form; `None` when some cell is
    /// not in it.
    #[inline]
    pub(super) fn raw_slice(&self, start: usize) -> Option<RawSlice> {
        let taken = self.layout.taken;
        let size = packed::joined_size(self.arena.text.as_bytes(), start, taken)?;
        Some(RawSlice::InArena(start, size as u32))
    }

    /// The kinds of the taken cells of a row; empty where the format has no kinds.
    #[inline]
    pub(super) fn kinds_of(&self, row: RowId) -> &[CellKind] {
        let from = row.index() * self.layout.taken;
        self.kinds.get(from..from + self.layout.taken).unwrap_or_default()
    }
}
