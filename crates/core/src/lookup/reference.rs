//! A reference table, ready to be asked: what it is asked by, its rows, and the index of their keys.

use std::collections::HashSet;
use std::hint::black_box;
use std::sync::Arc;

use ahash::RandomState;

use super::index::KeyIndex;
use super::spec::Spec;
use super::store::{Arena, RowStore, Tables};
use super::{EntryId, RowId, Rule};
use crate::hashing::hash;
use crate::key::{Key, Unreadable};
use crate::spill::{Partitions, ROW_COST};
use crate::table::{Block, CellKind, Headers, RawForm, RawSlice, packed};
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
    pub(crate) fn matches_blanks(&self) -> bool {
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

    /// The addresses of its tables, in order, each with how many rows it has.
    pub fn tables(&self) -> impl Iterator<Item = (&str, u64)> {
        self.tables.iter()
    }

    /// The row's number in its table; data rows count from 1.
    pub fn number(&self, row: RowId) -> u64 {
        self.tables.number(row)
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

    /// The first entry of a packed key.
    pub(super) fn find(&self, key: &[u8]) -> Option<EntryId> {
        self.find_hashed(key, hash(self.hasher(), key))
    }

    /// The first entry of a packed key with this hash.
    pub(super) fn find_hashed(&self, key: &[u8], hash: u32) -> Option<EntryId> {
        let is_equal = |entry| self.key_record(EntryId(entry)).as_bytes().starts_with(key);
        self.index.hashes.find(hash, is_equal).map(EntryId)
    }

    /// The entry of the row with a number; data rows count from 1.
    pub(super) fn at_position(&self, number: u64) -> Option<EntryId> {
        let at = number.checked_sub(1).filter(|&at| at < self.rows())?;
        Some(EntryId(at as u32))
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

    /// The arena that holds the packed keys.
    #[inline]
    fn key_arena(&self) -> &Arena {
        if self.spec.is_reverse() { &self.index.cells.keys } else { &self.store.arena }
    }

    /// The text of the arena that holds the packed keys.
    #[inline]
    pub(super) fn key_texts(&self) -> &[u8] {
        self.key_arena().text.as_bytes()
    }

    /// The number of an entry's key in its arena.
    #[inline]
    fn key_number(&self, entry: EntryId) -> usize {
        if self.spec.is_reverse() {
            self.index.cells.all[entry.index()].key as usize
        } else {
            entry.index()
        }
    }

    /// The record that begins with the packed key of an entry.
    #[inline]
    pub(super) fn key_record(&self, entry: EntryId) -> &str {
        self.key_arena().get(self.key_number(entry))
    }

    /// The packed key of an entry.
    pub(super) fn packed_key(&self, entry: EntryId) -> &str {
        packed::first_cells(self.key_record(entry), self.parts())
    }

    /// Where the packed key of an entry begins in its arena.
    #[inline]
    pub(super) fn key_start(&self, entry: EntryId) -> usize {
        self.key_arena().start(self.key_number(entry))
    }

    /// [`Reference::key_start`], given the lower 32 bits that the index has.
    #[inline]
    pub(super) fn key_start_by(&self, entry: EntryId, offset: u32) -> usize {
        if self.key_arena().has_short_offsets() { offset as usize } else { self.key_start(entry) }
    }

    /// Loads the first cache lines of some records, so that the waits for them overlap.
    pub(super) fn prefetch(&self, starts: &[usize]) {
        let texts = self.key_texts();
        let byte = |at: usize| texts.get(at).copied().unwrap_or_default();
        let last = self.index.prefetch;
        let load = |start: &usize| {
            let Some(first) = texts.get(*start) else { return 0 };
            let mut loaded = first ^ byte(start + last);
            if last > CACHE_LINE {
                loaded ^= byte(start + CACHE_LINE);
            }
            if last > 2 * CACHE_LINE {
                loaded ^= byte(start + 2 * CACHE_LINE);
            }
            loaded
        };
        black_box(starts.iter().fold(0, |loaded, start| loaded ^ load(start)));
    }

    /// How many parts its key has.
    pub(super) fn parts(&self) -> usize {
        self.key().parts().len()
    }

    /// The parts of an entry's key as they are compared.
    pub fn as_compared(&self, entry: EntryId) -> impl Iterator<Item = &str> + use<'_> {
        packed::Cells::new(self.key_record(entry)).take(self.parts())
    }

    /// [`Reference::as_compared`] as an iterator that can be cloned.
    pub(crate) fn key_parts(&self, entry: EntryId) -> impl Iterator<Item = &str> + Clone + use<'_> {
        packed::Cells::new(self.packed_key(entry))
    }

    /// The cells that an entry's key is made from, as they were read, in the order of the key's columns.
    pub fn as_read(&self, entry: EntryId) -> Vec<&str> {
        let read = self.row_as_read(self.row(entry));
        match self.index.cells.all.get(entry.index()) {
            None => read,
            Some(cell) => {
                let (all, key) = (self.key_columns(), &self.spec.keys[cell.column as usize]);
                let place = |column: &usize| all.iter().position(|other| other == column);
                key.columns().iter().filter_map(place).map(|place| read[place]).collect()
            }
        }
    }

    /// The cells that a row's keys are made from, as they were read, in the order of
    /// [`Reference::key_columns`].
    pub fn row_as_read(&self, row: RowId) -> Vec<&str> {
        let stored = self.store.key_as_read(row);
        match &self.spec.verbatim_parts {
            Some(parts) if stored.is_empty() && !self.spec.is_reverse() => {
                let compared: Vec<&str> = self.as_compared(EntryId(row.0)).collect();
                parts.iter().map(|&part| compared[part]).collect()
            }
            _ => stored,
        }
    }

    /// A row's range as it was read: `2026-03-01 .. 2026-05-31`.
    pub fn range_as_read(&self, row: RowId) -> Option<String> {
        let range = self.spec.range.as_ref()?;
        Some(range.written(self.store.bounds_as_read(row)))
    }

    /// The first value of a malformed row that a step could not read.
    pub fn unreadable(&self, row: RowId) -> Option<Unreadable> {
        let (columns, read) = (self.key_columns(), self.row_as_read(row));
        for key in &self.spec.keys {
            let place = |column: &usize| columns.iter().position(|other| other == column);
            let read: Vec<&str> =
                key.columns().iter().filter_map(place).map(|place| read[place]).collect();
            if let Some(bad) = key.unreadable(&read) {
                return Some(bad);
            }
        }
        let (range, index) = (self.spec.range.as_ref()?, self.index.ranges.as_ref()?);
        let read = self.store.bounds_as_read(row);
        let mut from = 0;
        for bound in &range.bounds {
            let cells = &read[from..from + bound.columns().len()];
            from += cells.len();
            let value = bound.of_cells(cells);
            if value.as_deref() == Some("") {
                continue;
            }
            let point = value.as_deref().and_then(Point::of);
            if point.is_none_or(|point| !index.is_on_scale(point)) {
                let value = value.unwrap_or_else(|| cells.join(" "));
                return Some(Unreadable::within(bound, value));
            }
        }
        let (bound, range) = (range.bounds.first()?, self.range_as_read(row)?);
        Some(Unreadable::within(bound, range))
    }

    /// The value of the rank of an entry's row.
    pub(super) fn rank_of(&self, entry: EntryId) -> Option<&str> {
        self.store.rank(self.row(entry))
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
