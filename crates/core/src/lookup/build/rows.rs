//! The rows of a reference while it is built: packed by several threads, but not yet indexed.

use super::key_filter::{FilteredRows, KeyFilter};
use crate::hashing::hash;
use crate::lookup::RowId;
use crate::lookup::index::{CellEntries, CellEntry, Interval, MOST_ROWS};
use crate::lookup::store::Arena;
use crate::spill::{Partitions, Record, RowState};
use crate::table::{CellKind, Headers, Packer, Span};
use crate::template::StepBuffers;
use crate::value::Scale;
use crate::{Error, Result};

/// Packed rows. Rows and cells are numbered from the first one here.
#[derive(Debug, Default)]
pub(crate) struct BuildRows {
    pub(super) arena: Arena,
    pub(super) cells: CellEntries,
    /// The hash of each row's key, or in a reverse lookup of each cell's key.
    pub(super) hashes: Vec<u32>,
    pub(super) keyless: Vec<RowId>,
    pub(super) malformed: Vec<RowId>,
    /// Rows whose key is blank or malformed; empty in a reverse lookup, where rows have no key.
    pub(super) without_key: Vec<RowId>,
    pub(super) ranges: BuildRanges,
    /// The kinds of the taken cells, row by row; empty while no kind is known.
    pub(super) kinds: Vec<CellKind>,
    /// How many cells are taken of each row.
    width: usize,
    /// How many rows were read, with those that are not stored.
    pub(super) seen: u32,
    /// The position of each stored row among the rows that were read, where not all are stored.
    pub(super) positions: Vec<u32>,
    /// How many rows of this block were stored though no main row asks for them.
    pub(super) spare: usize,
    pub(super) workspace: PackWorkspace,
}

/// The ranges of rows while a reference is built.
#[derive(Debug, Default)]
pub(super) struct BuildRanges {
    /// The range of each row with its scale, where the row has one.
    pub(super) intervals: Vec<Option<(Scale, Interval)>>,
    /// The first value of a bound that is neither a number nor a date, with its row and the number of the bound.
    pub(super) no_point: Option<(RowId, usize, String)>,
    /// Whether the value of any bound is a number or a date.
    pub(super) has_point: bool,
}

/// Buffers for packing a block; kept from block to block.
#[derive(Debug, Default)]
pub(super) struct PackWorkspace {
    pub(super) packer: Packer,
    /// Where each record ends.
    pub(super) ends: Vec<usize>,
    /// Where the key of each record is.
    pub(super) keys: Vec<(usize, usize)>,
    /// Where the taken cells of a row are in the block.
    pub(super) spans: Vec<Span>,
    pub(super) filtered: FilteredRows,
    pub(super) steps: StepBuffers,
}

impl PackWorkspace {
    /// Forgets what was packed.
    pub(super) fn begin(&mut self) {
        self.packer.clear();
        self.ends.clear();
        self.keys.clear();
    }
}

impl BuildRows {
    /// Moves all rows of `other` to the end.
    pub(in crate::lookup) fn append(&mut self, other: &mut Self) {
        let (row, key, before) = (self.len() as u32, self.cells.keys.len() as u32, self.seen);
        let moved = |id: &RowId| RowId(id.0 + row);
        self.positions.extend(other.positions.drain(..).map(|position| position + before));
        self.seen += std::mem::take(&mut other.seen);
        other.spare = 0;
        if !self.kinds.is_empty() || !other.kinds.is_empty() {
            self.width = self.width.max(other.width);
            other.kinds.resize(other.len() * self.width, CellKind::Untyped);
            self.kinds.resize(self.len() * self.width, CellKind::Untyped);
            self.kinds.append(&mut other.kinds);
        }
        self.arena.append(&mut other.arena);
        self.cells.keys.append(&mut other.cells.keys);
        let cells = other.cells.all.drain(..);
        self.cells.all.extend(cells.map(|cell| CellEntry {
            row: moved(&cell.row),
            key: cell.key + key,
            ..cell
        }));
        self.hashes.append(&mut other.hashes);
        for (all, more) in [
            (&mut self.keyless, &mut other.keyless),
            (&mut self.malformed, &mut other.malformed),
            (&mut self.without_key, &mut other.without_key),
        ] {
            all.extend(more.drain(..).map(|id| moved(&id)));
        }
        self.ranges.intervals.append(&mut other.ranges.intervals);
        if let Some((id, bound, value)) = other.ranges.no_point.take() {
            self.ranges.no_point.get_or_insert((moved(&id), bound, value));
        }
        self.ranges.has_point |= std::mem::take(&mut other.ranges.has_point);
    }

    /// Adds the records of the workspace, whose keys have yet to be hashed unless cells hold the keys.
    pub(super) fn add_packed(&mut self, hasher: &ahash::RandomState, is_reverse: bool) {
        let PackWorkspace { packer, ends, keys, .. } = &self.workspace;
        if !is_reverse {
            // A second pass: reading bytes that were just written stalls.
            let hash = |&(start, end): &(usize, usize)| hash(hasher, &packer.bytes()[start..end]);
            self.hashes.extend(keys.iter().map(hash));
        }
        self.arena.add(packer.text(), ends);
    }

    /// How many rows are stored.
    pub(super) fn len(&self) -> usize {
        self.arena.len()
    }

    /// Sets how many cells are taken of each row, before any kind is added.
    pub(super) fn set_width(&mut self, width: usize) {
        self.width = width;
        self.kinds.resize(self.len() * width, CellKind::Untyped);
    }

    /// How much memory the rows take, with their part of the index, in bytes.
    pub(super) fn cost(&self) -> u64 {
        (self.arena.text.len() + self.kinds.len()) as u64
            + self.len() as u64 * crate::spill::ROW_COST
    }

    /// An error where there are more rows than can be numbered, with `spilled` rows elsewhere.
    pub(super) fn refuse_too_many(&self, headers: &Headers, spilled: u32) -> Result<()> {
        let seen = self.seen.max(spilled) as usize;
        let held = self.len().max(self.cells.all.len()).max(seen);
        if (held as u64) < MOST_ROWS {
            return Ok(());
        }
        Err(Error::TooManyRows { table: headers.table().to_owned(), most: MOST_ROWS })
    }

    /// Moves all rows to the partitions of a spilled reference, with `width` taken cells in each. Rows that
    /// `filter` does not hold are left out.
    pub(super) fn spill(
        &mut self,
        partitions: &mut Partitions,
        width: usize,
        filter: Option<&KeyFilter>,
    ) -> Result<()> {
        let states = [
            (&self.without_key, RowState::WITHOUT_KEY),
            (&self.keyless, RowState::KEYLESS),
            (&self.malformed, RowState::MALFORMED),
        ];
        let mut states = states.map(|(ids, bit)| (ids.iter().peekable(), bit));
        for nth in 0..self.len() {
            let mut state = RowState::default();
            for (ids, bit) in &mut states {
                if ids.next_if_eq(&&RowId(nth as u32)).is_some() {
                    state = state.with(*bit);
                }
            }
            let hash = self.hashes[nth];
            if state == RowState::default() && filter.is_some_and(|filter| !filter.holds(hash)) {
                continue;
            }
            let position = self.positions.get(nth).copied().unwrap_or(nth as u32);
            let kinds = self.kinds.get(nth * width..(nth + 1) * width).unwrap_or_default();
            partitions.push((position, hash, state), kinds, self.arena.get(nth))?;
        }
        partitions.pass(self.seen, self.cost());
        let workspace = std::mem::take(&mut self.workspace);
        *self = Self { workspace, ..Self::default() };
        Ok(())
    }

    /// Rows of spilled records, with `width` taken cells in each.
    pub(in crate::lookup) fn of_records<'r>(
        records: impl Iterator<Item = Result<Record<'r>>>,
        width: usize,
    ) -> Result<Self> {
        let records = records.collect::<Result<Vec<_>>>()?;
        let mut rows = Self::default();
        rows.arena.reserve(records.len(), records.iter().map(Record::text_length).sum());
        rows.hashes.reserve_exact(records.len());
        rows.positions.reserve_exact(records.len());
        for record in records {
            rows.push(record, width)?;
        }
        Ok(rows)
    }

    fn push(&mut self, record: Record<'_>, width: usize) -> Result<()> {
        let id = RowId(self.len() as u32);
        if record.has_kinds() || !self.kinds.is_empty() {
            self.set_width(width);
            self.kinds.extend(record.kinds());
        }
        self.arena.text.push_str(record.text()?);
        self.arena.end_one();
        self.hashes.push(record.hash);
        self.positions.push(record.position);
        for (ids, bit) in [
            (&mut self.without_key, RowState::WITHOUT_KEY),
            (&mut self.keyless, RowState::KEYLESS),
            (&mut self.malformed, RowState::MALFORMED),
        ] {
            if record.state.has(bit) {
                ids.push(id);
            }
        }
        Ok(())
    }
}
