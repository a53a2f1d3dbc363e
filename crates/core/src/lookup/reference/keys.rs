//! The keys of a reference: finding one, and its parts as compared and as read.

use std::hint::black_box;

use super::{CACHE_LINE, Reference};
use crate::hashing::hash;
use crate::key::Unreadable;
use crate::lookup::store::Arena;
use crate::lookup::{EntryId, RowId};
use crate::table::packed;
use crate::value::Point;

impl Reference {
    /// The first entry of a packed key.
    pub(in crate::lookup) fn find(&self, key: &[u8]) -> Option<EntryId> {
        self.find_hashed(key, hash(self.hasher(), key))
    }

    /// The first entry of a packed key with this hash.
    pub(in crate::lookup) fn find_hashed(&self, key: &[u8], hash: u32) -> Option<EntryId> {
        let is_equal = |entry| self.key_record(EntryId(entry)).as_bytes().starts_with(key);
        self.index.hashes.find(hash, is_equal).map(EntryId)
    }

    /// The entry of the row with a number; data rows count from 1.
    pub(in crate::lookup) fn at_position(&self, number: u64) -> Option<EntryId> {
        let at = number.checked_sub(1).filter(|&at| at < self.rows())?;
        Some(EntryId(at as u32))
    }

    /// The arena that holds the packed keys.
    #[inline]
    pub(in crate::lookup) fn key_arena(&self) -> &Arena {
        if self.spec.is_reverse() { &self.index.cells.keys } else { &self.store.arena }
    }

    /// The text of the arena that holds the packed keys.
    #[inline]
    pub(in crate::lookup) fn key_texts(&self) -> &[u8] {
        self.key_arena().text.as_bytes()
    }

    /// The number of an entry's key in its arena.
    #[inline]
    pub(in crate::lookup) fn key_number(&self, entry: EntryId) -> usize {
        if self.spec.is_reverse() {
            self.index.cells.all[entry.index()].key as usize
        } else {
            entry.index()
        }
    }

    /// The record that begins with the packed key of an entry.
    #[inline]
    pub(in crate::lookup) fn key_record(&self, entry: EntryId) -> &str {
        self.key_arena().get(self.key_number(entry))
    }

    /// The packed key of an entry.
    pub(in crate::lookup) fn packed_key(&self, entry: EntryId) -> &str {
        packed::first_cells(self.key_record(entry), self.parts())
    }

    /// Where the packed key of an entry begins in its arena.
    #[inline]
    pub(in crate::lookup) fn key_start(&self, entry: EntryId) -> usize {
        self.key_arena().start(self.key_number(entry))
    }

    /// [`Reference::key_start`], given the lower 32 bits that the index has.
    #[inline]
    pub(in crate::lookup) fn key_start_by(&self, entry: EntryId, offset: u32) -> usize {
        if self.key_arena().has_short_offsets() { offset as usize } else { self.key_start(entry) }
    }

    /// Loads the first cache lines of some records, so that the waits for them overlap.
    pub(in crate::lookup) fn prefetch(&self, starts: &[usize]) {
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
    pub(in crate::lookup) fn parts(&self) -> usize {
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

    /// The value of the rank of an entry's row.
    pub(in crate::lookup) fn rank_of(&self, entry: EntryId) -> Option<&str> {
        self.store.rank(self.row(entry))
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
}
