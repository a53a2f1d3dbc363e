//! The taken cells of a reference's rows: where they stand in a record, and how they come to a main row.

use super::{Holder, Reference, RowId};
use crate::table::packed::{self, RowCell};
use crate::table::{Block, CellKind, Piece};

impl Reference {
    /// How many cells of a row's record stand before those that are taken.
    fn before_taken(&self) -> usize {
        if self.looked_in.is_empty() { self.parts() } else { 0 }
    }

    /// The taken cells of a row, and what stands behind them in its record.
    #[inline]
    fn packed_row(&self, row: RowId) -> packed::PackedRow<'_> {
        self.packed_in(self.rows.get(row.index()))
    }

    /// The taken cells in a record, and what stands behind them.
    pub(super) fn packed_in<'r>(&self, record: &'r str) -> packed::PackedRow<'r> {
        let key = packed::first_cells(record, self.before_taken()).len();
        packed::PackedRow::new(&record[key..], self.taken.len())
    }

    /// The text of a taken cell.
    #[inline]
    fn taken_text<'a>(&'a self, nth: usize, cell: RowCell<'a>) -> &'a str {
        match (cell, self.values.get()) {
            (RowCell::Text(text), _) => text,
            (RowCell::Value(number), Some(values)) => values.get(nth, number),
            (RowCell::Value(_), None) => "",
        }
    }

    /// The cells of a row's record behind those that are taken.
    pub(super) fn behind_taken(&self, row: RowId) -> packed::Cells<'_> {
        packed::Cells::new(self.packed_row(row).behind())
    }

    /// The taken cells of a row, in the order of the taken columns.
    pub fn taken_cells(&self, row: RowId) -> impl Iterator<Item = &str> + use<'_> {
        self.taken_cells_at(row, None)
    }

    /// The same, where it may be known where they begin in the texts.
    pub(crate) fn taken_cells_at(
        &self,
        row: RowId,
        at: Option<usize>,
    ) -> impl Iterator<Item = &str> + use<'_> {
        let packed = match at {
            Some(at) => packed::PackedRow::new(self.rows.from(at), self.taken.len()),
            None => self.packed_row(row),
        };
        (0..).zip(packed).map(|(nth, cell)| self.taken_text(nth, cell))
    }

    /// Adds the taken cells of a row to a block.
    #[inline]
    pub(crate) fn push_taken(&self, row: RowId, added: &mut Block) {
        let record = self.rows.get(row.index());
        let key = packed::first_cells(record, self.before_taken()).len();
        self.push_taken_from(self.rows.start(row.index()) + key, added);
        if !self.taken_kinds.is_empty() {
            added.say_kinds(self.kinds_of(row));
        }
    }

    /// Adds the taken cells of a holder's row to a block, which begin at a place in the texts.
    #[inline]
    pub(crate) fn push_taken_at(&self, at: usize, holder: Holder, added: &mut Block) {
        self.push_taken_from(at, added);
        if !self.taken_kinds.is_empty() {
            added.say_kinds(self.kinds_of(self.row(holder)));
        }
    }

    #[inline]
    fn push_taken_from(&self, at: usize, added: &mut Block) {
        if let Some((text, lengths)) = packed::joined(&self.rows.text, at, self.taken.len()) {
            added.push_cells(text, lengths);
        } else {
            self.push_packed(packed::PackedRow::new(self.rows.from(at), self.taken.len()), added);
        }
    }

    /// Where in [`Reference::text`] the taken cells of a holder's row stand as they are written; it may be
    /// known where they begin. `None` when they have to be looked at.
    #[inline]
    pub(crate) fn piece(&self, holder: Holder, at: Option<usize>) -> Option<Piece> {
        let at = at.unwrap_or_else(|| {
            let row = self.row(holder).index();
            let key = packed::first_cells(self.rows.get(row), self.before_taken()).len();
            self.rows.start(row) + key
        });
        let cells = self.taken.len();
        let size = packed::joined_size(self.rows.text.as_bytes(), at, cells)?;
        Some(Piece::At(at + cells, size as u32))
    }

    /// What pieces of its rows stand in.
    pub(crate) fn text(&self) -> &str {
        &self.rows.text
    }

    /// Adds packed cells, some of which may be long, or values.
    fn push_packed(&self, packed: packed::PackedRow<'_>, added: &mut Block) {
        if let (Some(numbers), Some(values)) = (packed.values(), self.values.get()) {
            let cells = numbers.enumerate();
            added.push_each(cells.map(|(nth, number)| values.with_room(nth, number)));
        } else {
            for (nth, cell) in packed.enumerate() {
                added.push_cell(self.taken_text(nth, cell));
            }
        }
    }

    /// The kinds of the taken cells of a row; none where none was said.
    fn kinds_of(&self, row: RowId) -> &[CellKind] {
        let from = row.index() * self.taken.len();
        self.taken_kinds.get(from..from + self.taken.len()).unwrap_or_default()
    }

    /// The kind of a taken cell of a row.
    pub fn taken_kind(&self, row: RowId, place: usize) -> CellKind {
        self.kinds_of(row).get(place).copied().unwrap_or_default()
    }
}
