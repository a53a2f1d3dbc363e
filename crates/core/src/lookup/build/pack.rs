//! Packing the rows of a block into the records of a reference.
//!
//! One way for every row: its key, its taken cells, and the cells that follow them (see
//! [`store`](crate::lookup::store)). Where the key parts and the taken cells are cells of the block as they are,
//! they are copied by their places in it; most references are like this.

use std::sync::OnceLock;

use super::key_filter::{KeyFilter, SPARE_ROWS};
use super::rows::{BuildRows, PackWorkspace};
use crate::hashing::hash;
use crate::key::pack_cells;
use crate::lookup::RowId;
use crate::lookup::index::CellEntry;
use crate::lookup::spec::{RangeSpec, Spec};
use crate::lookup::store::Dictionaries;
use crate::table::packed::{self, RowCell};
use crate::table::{Block, Packer, RawForm, Row};
use crate::template::{BoundTemplate, PartState};

/// Packs rows by the specification of a reference.
pub(super) struct RowPacker<'b> {
    pub(super) spec: &'b Spec,
    pub(super) dictionaries: &'b OnceLock<Dictionaries>,
    /// The keys whose rows are stored, where not all are.
    pub(super) filter: Option<&'b KeyFilter>,
}

/// The places in a block of the cells that are copied as they are.
struct Places {
    /// The parts of the key, where each is a cell as it is.
    key: Option<Vec<usize>>,
    /// The taken cells, where they are all stored as text.
    taken: Option<Vec<usize>>,
}

impl RowPacker<'_> {
    /// Packs the rows of a block and adds them to `rows`.
    pub(super) fn pack_block(&self, block: &Block, rows: &mut BuildRows) {
        let spec = self.spec;
        if block.has_kinds() {
            rows.set_width(spec.taken.columns.len());
        }
        let places = self.places(block);
        let mut workspace = std::mem::take(&mut rows.workspace);
        workspace.begin();
        workspace.filtered.look(self.filter, (block, places.key.as_deref()), &spec.hasher);
        workspace.ends.reserve(block.rows());
        let scanner = spec.raw_form.map(RawForm::scanner);
        let mut unquoted_rows = block.unquoted_rows(spec.raw_form);
        let first = rows.len() as u32;
        for nth in 0..block.rows() {
            rows.seen += 1;
            if rows.spare == SPARE_ROWS && workspace.filtered.is_surplus(nth) {
                continue;
            }
            let row = Row::of(block, nth);
            let id = RowId(first + workspace.ends.len() as u32);
            let start = workspace.packer.len();
            let state = match &places.key {
                Some(places) => pack_cells(&mut workspace.packer, block, nth, places),
                None if spec.is_reverse() => self.pack_searched(id, row, rows, &mut workspace),
                None => spec.keys[0].pack(row, &mut workspace.packer, &mut workspace.steps),
            };
            let key = (start, workspace.packer.len());
            if let Some(filter) = self.filter {
                let hash = || hash(&spec.hasher, &workspace.packer.bytes()[key.0..key.1]);
                if state == PartState::Whole && !filter.holds(hash()) {
                    if rows.spare == SPARE_ROWS {
                        workspace.packer.truncate(start);
                        continue;
                    }
                    rows.spare += 1;
                }
                rows.positions.push(rows.seen - 1);
            }
            let PackWorkspace { packer, spans, .. } = &mut workspace;
            match &places.taken {
                Some(places) => {
                    let (text, all) = block.kept_cells(nth);
                    spans.clear();
                    spans.extend(places.iter().map(|&place| all[place]));
                    let is_plain = unquoted_rows.has(nth);
                    packer.push_row_of((text, spans), scanner.as_ref(), is_plain);
                }
                None => self.pack_taken(row, packer),
            }
            let state = self.pack_rest(id, row, (state, key), rows, &mut workspace);
            workspace.ends.push(workspace.packer.len());
            workspace.keys.push(key);
            match state {
                PartState::Blank => rows.keyless.push(id),
                PartState::Malformed => rows.malformed.push(id),
                PartState::Whole => {}
            }
            if block.has_kinds() {
                let kinds = spec.taken.columns.iter().map(|&column| block.kind(nth, column));
                rows.kinds.extend(kinds);
            }
        }
        rows.workspace = workspace;
        rows.add_packed(&spec.hasher, spec.is_reverse());
    }

    fn places(&self, block: &Block) -> Places {
        let spec = self.spec;
        let place = |&column: &usize| block.kept_columns().kept_place(column);
        let key = if spec.is_reverse() { None } else { spec.key().places(block) };
        let is_text = self.dictionaries.get().is_none();
        let taken = is_text.then(|| spec.taken.columns.iter().map(place).collect()).flatten();
        Places { key, taken }
    }

    /// Packs the taken cells of a row one by one, with numbers in place of the values of dictionaries.
    fn pack_taken(&self, row: Row<'_>, packer: &mut Packer) {
        let cell = |(nth, &column): (usize, &usize)| {
            let cell = row.cell(column);
            let number = self.dictionaries.get().and_then(|all| all.number(nth, cell));
            number.map_or(RowCell::Text(cell), RowCell::Value)
        };
        packer.push_row(self.spec.taken.columns.iter().enumerate().map(cell), self.spec.raw_form);
    }

    /// Packs the cells after the taken ones, and notes what the state of the key says of the row; returns the
    /// state of the row. Most references have no such cells.
    #[inline]
    fn pack_rest(
        &self,
        id: RowId,
        row: Row<'_>,
        (mut state, key): (PartState, (usize, usize)),
        rows: &mut BuildRows,
        workspace: &mut PackWorkspace,
    ) -> PartState {
        let spec = self.spec;
        if let Some(rank) = &spec.rank {
            let PackWorkspace { packer, steps, .. } = workspace;
            let cell = |column| row.cell(column);
            rank.value(cell, &[], steps, |state, value| {
                packer.push(if state == PartState::Whole { value } else { "" });
            });
        }
        if state == PartState::Blank && spec.match_blanks {
            state = PartState::Whole;
        }
        let has_key = state == PartState::Whole;
        if !has_key && !spec.is_reverse() {
            rows.without_key.push(id);
        }
        if let Some(range) = &spec.range {
            for &column in range.bounds.iter().flat_map(BoundTemplate::columns) {
                workspace.packer.push(row.cell(column));
            }
            state = state.max(self.read_range(range, (id, has_key), row, rows, workspace));
        }
        if !self.is_as_read(key, row, &workspace.packer) {
            for column in spec.key_columns() {
                workspace.packer.push(row.cell(column));
            }
        }
        state
    }

    /// Packs the key of each searched cell of a row, and adds an entry for each whole one.
    fn pack_searched(
        &self,
        row_id: RowId,
        row: Row<'_>,
        rows: &mut BuildRows,
        workspace: &mut PackWorkspace,
    ) -> PartState {
        let spec = self.spec;
        let PackWorkspace { packer, steps, .. } = workspace;
        let (mut has_key, mut is_malformed) = (false, false);
        for (column, key) in (0..).zip(&spec.keys) {
            let start = packer.len();
            let state = key.pack(row, packer, steps);
            if state == PartState::Whole || state == PartState::Blank && spec.match_blanks {
                let packed = packer.text_of(start..packer.len());
                rows.hashes.push(hash(&spec.hasher, packed.as_bytes()));
                let keys = &mut rows.cells.keys;
                let key = keys.len() as u32;
                keys.text.push_str(packed);
                keys.end_one();
                rows.cells.all.push(CellEntry { column, row: row_id, key });
                has_key = true;
            }
            packer.truncate(start);
            is_malformed |= state == PartState::Malformed;
        }
        // One key is enough to find the row, whatever its other cells hold.
        match (has_key, is_malformed) {
            (true, _) => PartState::Whole,
            (false, true) => PartState::Malformed,
            (false, false) => PartState::Blank,
        }
    }

    /// Reads the range of a row; only rows with a key use it.
    fn read_range(
        &self,
        range: &RangeSpec,
        (id, has_key): (RowId, bool),
        row: Row<'_>,
        rows: &mut BuildRows,
        workspace: &mut PackWorkspace,
    ) -> PartState {
        let cell = |column| row.cell(column);
        let read = range.read(cell, self.spec.key().blanks(), &mut workspace.steps);
        let ranges = &mut rows.ranges;
        if let Some((nth, value)) = read.no_point {
            ranges.no_point.get_or_insert((id, nth, value));
        }
        ranges.has_point |= read.has_point;
        ranges.intervals.push(read.interval.filter(|_| has_key));
        read.state
    }

    /// Whether the packed key of a row holds the cells of its key columns as they were read.
    #[inline]
    fn is_as_read(&self, (start, end): (usize, usize), row: Row<'_>, packer: &Packer) -> bool {
        let spec = self.spec;
        if spec.is_reverse() {
            return false;
        }
        if spec.key().is_verbatim() {
            return true;
        }
        let Some(parts) = &spec.verbatim_parts else { return false };
        let compared = packed::Cells::new(packer.text_of(start..end));
        let mut pairs = parts.iter().zip(spec.key().as_read(row));
        pairs.all(|(&part, read)| compared.clone().nth(part) == Some(read))
    }
}
