//! A reference table, ready to be asked: what it is asked by, its rows, and the index of their keys.

mod keys;

use std::collections::HashSet;
use std::sync::Arc;

use ahash::RandomState;

use super::index::KeyIndex;
use super::spec::Spec;
use super::store::{RowStore, Tables};
use super::{EntryId, RowId, Rule};
use crate::key::Key;
use crate::spill::{Partitions, ROW_COST};
use crate::table::{Block, CellKind, Headers, RawForm, RawSlice, TotalRow};
use crate::value::Point;

/// A reference table with its rows loaded; a [`ReferenceBuilder`](super::ReferenceBuilder) makes it.
///
/// Methods that take a [`RowId`] or an [`EntryId`] panic when it is of another reference.
#[derive(Debug)]
pub struct Reference {
    pub(super) spec: Arc<Spec>,
    pub(super) tables: Tables,
    pub(super) store: RowStore,
    pub(super) index: KeyIndex,
    pub(super) residence: Residence,
    /// Whether only rows are stored that some main row asks for.
    pub(super) is_filtered: bool,
}

/// Where the rows of a reference are.
#[derive(Debug)]
pub(super) enum Residence {
    /// All of them are in memory.
    Memory,
    /// They are spilled to disk in partitions. None is in memory at first; after the pass, the rows that
    /// the findings name are.
    Partitioned(Partitions),
}

/// The size of a cache line on nearly all machines, in bytes.
const CACHE_LINE: usize = 64;

impl Reference {
    /// The name in messages and gates.
    pub fn name(&self) -> &str {
        &self.spec.name
    }

    /// The headers of its table.
    pub fn headers(&self) -> &Headers {
        &self.spec.headers
    }

    /// Its key; in a reverse lookup the key of the first searched column.
    pub fn key(&self) -> &Key {
        self.spec.key()
    }

    /// Every column that a key is made from, each once.
    pub fn key_columns(&self) -> Vec<usize> {
        self.spec.key_columns()
    }

    /// The columns that a reverse lookup searches, as they were written; empty in other lookups.
    pub fn searched(&self) -> &[usize] {
        &self.spec.searched
    }

    /// Whether rows are matched by their position alone.
    pub fn is_by_position(&self) -> bool {
        self.spec.by_position
    }

    /// Whether every part of its keys is the value of a column as it is.
    pub fn is_verbatim(&self) -> bool {
        self.spec.keys.iter().all(Key::is_verbatim)
    }

    /// The rule for keys whose rows disagree.
    pub fn rule(&self) -> Rule {
        self.spec.rule
    }

    /// The taken columns, from 0.
    pub fn taken(&self) -> &[usize] {
        &self.spec.taken.columns
    }

    /// How many of the taken columns every main row takes.
    pub(crate) fn always(&self) -> usize {
        self.spec.taken.always
    }

    /// The raw form of its taken cells, where they can be passed through to the output.
    pub(crate) fn raw_form(&self) -> Option<RawForm> {
        self.spec.raw_form
    }

    /// Whether the mark `@column` is taken.
    pub(super) fn takes_column(&self) -> bool {
        self.spec.taken.in_column
    }

    /// Whether a blank part of a key matches a blank part.
    pub fn matches_blanks(&self) -> bool {
        self.spec.match_blanks
    }

    /// The hasher of its keys, with a new seed for every run.
    pub(crate) fn hasher(&self) -> &RandomState {
        &self.spec.hasher
    }

    /// How many rows it has.
    pub fn rows(&self) -> u64 {
        self.tables.rows
    }

    /// Whether only rows are stored that some main row asks for. Findings then speak of these rows only.
    pub fn is_filtered(&self) -> bool {
        self.is_filtered
    }

    /// Whether its rows are spilled to disk. After a pass, only the rows that findings name are in memory.
    pub fn is_spilled(&self) -> bool {
        matches!(self.residence, Residence::Partitioned(_))
    }

    /// The partitions of a spilled reference.
    pub(crate) fn partitions(&self) -> Option<&Partitions> {
        match &self.residence {
            Residence::Partitioned(partitions) => Some(partitions),
            Residence::Memory => None,
        }
    }

    /// About how much memory its rows take, in bytes.
    pub fn cost(&self) -> u64 {
        let (store, cells) = (&self.store, &self.index.cells);
        (store.arena.text.len() + cells.keys.text.len() + store.kinds.len()) as u64
            + self.entry_count().max(store.len()) as u64 * ROW_COST
    }

    /// How many rows are not stored; no main row asks for any of them.
    pub(crate) fn skipped(&self) -> u64 {
        self.rows() - self.store.len() as u64
    }

    /// How many different keys its rows hold.
    pub fn keys(&self) -> u64 {
        self.index.keys
    }

    /// How many ranges its rows have, where rows are chosen by a range.
    pub fn ranges(&self) -> Option<u64> {
        self.index.ranges.as_ref().map(|index| index.ranges.len() as u64)
    }

    /// The rows with a blank part in their key or range, which no main row can ask for.
    pub fn keyless(&self) -> &[RowId] {
        &self.store.keyless
    }

    /// The rows with a value in their key or range that a step could not read.
    pub fn malformed(&self) -> &[RowId] {
        &self.store.malformed
    }

    /// The taken columns on which the rows of some key disagree, from 0 in the table.
    pub fn disputed(&self) -> impl Iterator<Item = usize> {
        let columns = self.taken().iter().zip(&self.index.disputed);
        columns.filter(|(_, disputed)| **disputed).map(|(&column, _)| column)
    }

    /// The label of the table that a row is in, when there are several tables.
    pub fn table(&self, row: RowId) -> Option<&str> {
        (self.tables.len() > 1).then(|| self.table_of(row))
    }

    /// The label of the table that a row is in: the shortest end of its path that no other table has.
    pub fn table_of(&self, row: RowId) -> &str {
        self.tables.label_of(row).unwrap_or_else(|| self.headers().table())
    }

    /// The last rows of its tables that look like a total, each with the name of its table.
    pub fn total_rows(&self) -> &[(String, TotalRow)] {
        &self.tables.total_rows
    }

    /// The addresses of its tables, in order, each with how many rows it has.
    pub fn tables(&self) -> impl Iterator<Item = (&str, u64)> {
        self.tables.iter()
    }

    /// The row's number in its table; data rows count from 1.
    pub fn number(&self, row: RowId) -> u64 {
        self.tables.number(row)
    }

    /// The name of a row that has no number of its own: its key or its place in a database.
    pub fn name_of(&self, row: RowId) -> Option<&str> {
        self.tables.names.get(row.index()).map(|name| &**name)
    }

    /// The line of the file on which a row begins, from 1.
    pub fn line(&self, row: RowId) -> u64 {
        self.tables.line(row)
    }

    /// The position of a row among all rows of the tables, from 0.
    pub(crate) fn position_of(&self, row: RowId) -> u32 {
        self.tables.position_of(row).0
    }

    /// The stored row at a position, where the rows are spilled.
    pub(crate) fn row_at(&self, position: u32) -> Option<RowId> {
        self.tables.row_at(position)
    }

    /// The row of an entry.
    pub fn row(&self, entry: EntryId) -> RowId {
        if self.spec.is_reverse() {
            self.index.cells.all[entry.index()].row
        } else {
            RowId(entry.0)
        }
    }

    /// The entry of a row, where rows are the entries.
    pub fn entry_of(&self, row: RowId) -> Option<EntryId> {
        (!self.spec.is_reverse()).then_some(EntryId(row.0))
    }

    /// The column of an entry, from 0 in the table, where entries are cells.
    pub fn column(&self, entry: EntryId) -> Option<usize> {
        let cell = self.index.cells.all.get(entry.index())?;
        Some(self.searched()[cell.column as usize])
    }

    /// How many entries there are.
    pub(crate) fn entry_count(&self) -> usize {
        if self.spec.is_reverse() { self.index.cells.all.len() } else { self.store.len() }
    }

    /// The first of the given entries in each of their rows, in order.
    pub(crate) fn first_in_rows(&self, entries: &[EntryId]) -> Vec<EntryId> {
        if !self.spec.is_reverse() {
            return entries.to_vec();
        }
        let mut seen = HashSet::new();
        let is_first = |entry: &EntryId| seen.insert(self.row(*entry).0);
        entries.iter().copied().filter(is_first).collect()
    }

    /// The rows of the given entries, each once and in their order.
    pub fn rows_among(&self, entries: &[EntryId]) -> Vec<RowId> {
        self.first_in_rows(entries).into_iter().map(|entry| self.row(entry)).collect()
    }

    /// The first entry of each key, in order.
    pub(crate) fn firsts(&self) -> impl Iterator<Item = EntryId> + '_ {
        let mut is_first = vec![true; self.entry_count()];
        self.index.repeats.iter().for_each(|(_, later)| is_first[later.index()] = false);
        if !self.spec.is_reverse() {
            for row in self.keyless().iter().chain(self.malformed()) {
                is_first[row.index()] = false;
            }
        }
        let all = is_first.into_iter().enumerate();
        all.filter(|(_, is_first)| *is_first).map(|(at, _)| EntryId(at as u32))
    }

    /// The first entry of the key that an entry holds.
    pub(crate) fn first_of(&self, entry: EntryId) -> EntryId {
        self.find(self.packed_key(entry).as_bytes()).unwrap_or(entry)
    }

    /// All entries of the key of this first entry, in order.
    pub fn entries_of(&self, first: EntryId) -> impl Iterator<Item = EntryId> + use<'_> {
        self.index.entries_of(first)
    }

    /// The entries whose key has these parts; `None` stands for any part.
    pub fn entries_with<'a>(
        &'a self,
        parts: &'a [Option<&'a str>],
    ) -> impl Iterator<Item = EntryId> + 'a {
        let fits = move |entry: &EntryId| {
            let held = self.as_compared(*entry);
            held.zip(parts).all(|(held, wanted)| wanted.is_none_or(|wanted| wanted == held))
        };
        EntryId::at(0..self.entry_count()).filter(fits)
    }

    /// The point of a main row's value, where it is on the scale of the ranges.
    pub(super) fn point(&self, value: &str) -> Option<Point> {
        self.index.ranges.as_ref()?.point(value)
    }

    /// Finds the entries of the key of this first entry whose range matches a point.
    pub(super) fn in_range(&self, first: EntryId, point: Point, found: &mut Vec<EntryId>) {
        found.clear();
        if let Some(index) = &self.index.ranges {
            index.ranges.find(first, point.at(), found);
        }
    }

    /// The row of the key of this first entry whose range is nearest to a point.
    pub(super) fn nearest_range(&self, first: EntryId, point: Point) -> Option<RowId> {
        let nearest = self.index.ranges.as_ref()?.ranges.nearest(first, point.at())?;
        Some(self.row(nearest))
    }

    /// The taken cells of a row, in the order of the taken columns.
    pub fn taken_cells(&self, row: RowId) -> impl Iterator<Item = &str> + use<'_> {
        self.store.taken_cells(row, None)
    }

    /// [`Reference::taken_cells`], given where they begin in the arena if that is known.
    pub(crate) fn taken_cells_at(
        &self,
        row: RowId,
        start: Option<usize>,
    ) -> impl Iterator<Item = &str> + use<'_> {
        self.store.taken_cells(row, start)
    }

    /// Adds the taken cells of an entry's row to a block, given where they begin in the arena if that is known.
    #[inline]
    pub(crate) fn push_taken(&self, entry: EntryId, start: Option<usize>, added: &mut Block) {
        let start = start.unwrap_or_else(|| self.store.taken_start(self.row(entry)));
        self.store.push_taken(start, added);
        if !self.store.kinds.is_empty() {
            added.set_kinds(self.store.kinds_of(self.row(entry)));
        }
    }

    /// Where the taken cells of an entry's row are in [`Reference::arena`] in their raw form, given where they
    /// begin if that is known; `None` when some cell is not in it.
    #[inline]
    pub(crate) fn raw_slice(&self, entry: EntryId, start: Option<usize>) -> Option<RawSlice> {
        let start = start.unwrap_or_else(|| self.store.taken_start(self.row(entry)));
        self.store.raw_slice(start)
    }

    /// The arena of its records.
    pub(crate) fn arena(&self) -> &str {
        &self.store.arena.text
    }

    /// The kind of a taken cell of a row.
    pub fn taken_kind(&self, row: RowId, place: usize) -> CellKind {
        self.store.kinds_of(row).get(place).copied().unwrap_or_default()
    }

    /// The rows that no main row asked for, in order. `is_asked` says whether one did, for the first entry of each
    /// key, or with ranges for each entry.
    pub(crate) fn unused<F: Fn(EntryId) -> bool>(
        &self,
        is_asked: F,
    ) -> impl Iterator<Item = RowId> + use<'_, F> {
        let mut used = vec![false; self.store.len()];
        for entry in EntryId::at(0..self.entry_count()).filter(|entry| is_asked(*entry)) {
            used[self.row(entry).index()] = true;
        }
        if self.spec.range.is_none() {
            for (first, entry) in &self.index.repeats {
                if is_asked(*first) {
                    used[self.row(*entry).index()] = true;
                }
            }
        }
        used.into_iter().enumerate().filter(|(_, used)| !used).map(|(row, _)| RowId(row as u32))
    }
}
