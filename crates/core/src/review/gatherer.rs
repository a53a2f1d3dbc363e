//! Takes the keys that a person may settle while the pass runs: those with several answers, and those with a value
//! that a step can't read.

use std::collections::HashMap;
use std::marker::PhantomData;

use crate::findings::{Kind, MainFinding, Recorder};
use crate::key::Unreadable;
use crate::lookup::{EntryId, Lookup, ProbeBuffers};
use crate::table::Row;
use crate::template::{PartState, StepBuffers};

/// How many different keys of each kind are kept for each lookup; rows of further ones are counted.
const KEPT: usize = 100_000;

/// A key that several rows of the reference hold, which disagree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DisputedKey {
    /// The cells that the answer depends on as they were read, in the order of [`Lookup::columns`].
    pub cells: Vec<String>,
    /// How many main rows have them.
    pub rows: u64,
    /// The first such row, as a person counts, and its line.
    pub place: (u64, u64),
    /// The entries of the reference that hold the key.
    pub entries: Vec<EntryId>,
    /// The places, among the taken columns, of the columns that the row names.
    pub named: Vec<usize>,
}

/// A key with a part that a step can't read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnreadableKey {
    /// The cells of the key as they were read, in the order of its columns.
    pub cells: Vec<String>,
    /// How many main rows have them.
    pub rows: u64,
    /// The first such row, as a person counts, and its line.
    pub place: (u64, u64),
    /// The parts as they are compared; `None` where one can't be read.
    pub parts: Vec<Option<String>>,
    /// The first value that can't be read.
    pub unreadable: Unreadable,
}

/// Takes the keys of each lookup; `E` is the error of the pass, which never comes from here.
#[derive(Debug)]
pub struct Gatherer<E> {
    lookups: Vec<Gathered>,
    no_error: PhantomData<fn() -> E>,
}

/// The keys of one lookup.
#[derive(Debug, Default)]
struct Gathered {
    disputed: Vec<DisputedKey>,
    unreadable: Vec<UnreadableKey>,
    places: HashMap<(bool, Vec<String>), usize>,
    beyond: u64,
    buffers: ProbeBuffers,
}

impl<E> Gatherer<E> {
    /// Takes the keys of this many lookups.
    pub fn new(lookups: usize) -> Self {
        let lookups = (0..lookups).map(|_| Gathered::default()).collect();
        Self { lookups, no_error: PhantomData }
    }

    /// The keys of a lookup that several rows hold, in the order in which they first came.
    pub fn disputed(&self, lookup: usize) -> &[DisputedKey] {
        &self.lookups[lookup].disputed
    }

    /// The keys of a lookup with a value that can't be read, in the order in which they first came.
    pub fn unreadable(&self, lookup: usize) -> &[UnreadableKey] {
        &self.lookups[lookup].unreadable
    }

    /// How many rows have further keys, which are not kept.
    pub fn beyond(&self) -> u64 {
        self.lookups.iter().map(|lookup| lookup.beyond).sum()
    }
}

impl<E> Recorder for Gatherer<E> {
    type Error = E;

    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), E> {
        let gathered = &mut self.lookups[finding.nth];
        match finding.kind {
            Kind::Ambiguous => gathered.take_disputed(finding),
            Kind::Malformed => gathered.take_unreadable(finding.lookup, finding.row),
            _ => {}
        }
        Ok(())
    }

    fn wants_repeated(&self) -> bool {
        false
    }
}

impl Gathered {
    fn take_disputed(&mut self, finding: &MainFinding<'_>) {
        let cells: Vec<String> =
            finding.lookup.as_read(finding.row).into_iter().map(str::to_owned).collect();
        let key = (true, cells);
        match self.places.get(&key) {
            Some(&at) => self.disputed[at].rows += 1,
            None if self.disputed.len() == KEPT => self.beyond += 1,
            None => {
                finding.lookup.name_columns(finding.row, &mut self.buffers);
                self.disputed.push(DisputedKey {
                    cells: key.1.clone(),
                    rows: 1,
                    place: (finding.row.number(), finding.row.line()),
                    entries: finding.lookup.entries(finding.row, finding.answer),
                    named: self.buffers.named().to_vec(),
                });
                self.places.insert(key, self.disputed.len() - 1);
            }
        }
    }

    fn take_unreadable(&mut self, lookup: &Lookup, row: Row<'_>) {
        let cells: Vec<String> = lookup.key().as_read(row).map(str::to_owned).collect();
        // What can't be read may also be the value in a range, for which there is no other.
        let Some(unreadable) = lookup.key().unreadable(&cells) else { return };
        let key = (false, cells);
        match self.places.get(&key) {
            Some(&at) => self.unreadable[at].rows += 1,
            None if self.unreadable.len() == KEPT => self.beyond += 1,
            None => {
                self.unreadable.push(UnreadableKey {
                    cells: key.1.clone(),
                    rows: 1,
                    place: (row.number(), row.line()),
                    parts: readable_parts(lookup, row),
                    unreadable,
                });
                self.places.insert(key, self.unreadable.len() - 1);
            }
        }
    }
}

/// The parts of a row's key as they are compared; `None` where one can't be read.
fn readable_parts(lookup: &Lookup, row: Row<'_>) -> Vec<Option<String>> {
    let mut steps = StepBuffers::default();
    let parts = lookup.key().parts().iter().map(|part| {
        part.value(
            |column| row.cell(column),
            lookup.key().blanks(),
            &mut steps,
            |state, value| match state {
                PartState::Malformed => None,
                PartState::Blank => Some(String::new()),
                PartState::Whole => Some(value.to_owned()),
            },
        )
    });
    parts.collect()
}
