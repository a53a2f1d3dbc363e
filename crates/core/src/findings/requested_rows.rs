//! Which rows of a reference main rows asked for, when only some of them are available at a time.

use super::RequestCounts;
use crate::lookup::{EntryId, Reference, RowId};

/// For each row of a reference what became of it.
#[derive(Debug, Clone)]
pub(crate) struct RequestedRows {
    /// Whether its key was asked for.
    all: Bits,
    /// Whether the first row of each key was asked for, and whether several times.
    first: Bits,
    repeated: Bits,
}

impl RequestedRows {
    /// Nothing is requested yet of a reference with `rows` rows.
    pub(crate) fn none(rows: u64) -> Self {
        Self { all: Bits::none(rows), first: Bits::none(rows), repeated: Bits::none(rows) }
    }

    /// Notes how often keys of the rows were asked for that are available.
    pub(crate) fn note(&mut self, reference: &Reference, asked: &RequestCounts) {
        for (first, is_repeated) in asked.asked() {
            let position = |entry| reference.position_of(reference.row(entry));
            for entry in reference.entries_of(first) {
                self.all.set(position(entry));
            }
            if is_repeated || self.first.get(position(first)) {
                self.repeated.set(position(first));
            }
            self.first.set(position(first));
        }
    }

    /// How often the key of each row was asked for which is available: none, one or two times.
    pub(super) fn times(&self, reference: &Reference) -> RequestCounts {
        let times = |entry| {
            let position = reference.position_of(reference.row(entry));
            u8::from(self.first.get(position)) + u8::from(self.repeated.get(position))
        };
        RequestCounts::each(EntryId::at(0..reference.entry_count()).map(times))
    }

    /// How many rows were asked for.
    pub(super) fn used(&self) -> u64 {
        self.all.count()
    }

    /// How many keys were asked for several times.
    pub(super) fn repeated(&self) -> u64 {
        self.repeated.count()
    }

    /// The positions of the first rows that were not asked for, in a table of `rows` rows.
    pub(crate) fn unused(&self, rows: u64) -> impl Iterator<Item = u32> + '_ {
        (0..rows as u32).filter(|&position| !self.all.get(position))
    }
}

/// The place in its table of what a sample names, and back.
pub(super) fn placed(reference: &Reference, entry: EntryId) -> EntryId {
    EntryId::of_row(RowId::at(reference.position_of(reference.row(entry))))
}

pub(super) fn at_hand(reference: &Reference, place: EntryId) -> Option<EntryId> {
    reference.row_at(place.index() as u32).map(EntryId::of_row)
}

/// A set of numbers.
#[derive(Debug, Clone)]
struct Bits(Vec<u64>);

impl Bits {
    fn none(numbers: u64) -> Self {
        Self(vec![0; numbers.div_ceil(64) as usize])
    }

    fn set(&mut self, number: u32) {
        self.0[number as usize / 64] |= 1 << (number % 64);
    }

    fn get(&self, number: u32) -> bool {
        self.0[number as usize / 64] >> (number % 64) & 1 == 1
    }

    fn count(&self) -> u64 {
        self.0.iter().map(|word| u64::from(word.count_ones())).sum()
    }
}
