//! The keys of main rows that no reference row holds, each once, so that their reasons can be sought
//! when the pass is over.

use hashbrown::HashTable;

use crate::key::Key;
use crate::lookup::Lookup;
use crate::table::{Packer, Row, packed};
use crate::template::StepBuffers;

/// How many different keys are kept of each lookup. Rows of further keys are counted.
pub const KEPT: usize = 100_000;

/// The unmatched keys of a lookup, in the order in which they first came.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct UnmatchedKeys {
    keys: Vec<UnmatchedKey>,
    beyond: u64,
}

/// A key that no reference row holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnmatchedKey {
    /// The parts as they are compared, packed.
    packed: Box<str>,
    /// The cells that the key is made from, packed, where they are others than the parts.
    read: Option<Box<str>>,
    /// How many main rows hold it.
    pub rows: u64,
    /// The first of them, as a person counts; 0 for a row that is named otherwise.
    pub row: u64,
    /// The line of the file on which that begins.
    pub line: u64,
    /// The name of the row, where it has a better one than its number.
    pub name: Option<Box<str>>,
}

impl UnmatchedKeys {
    /// Keys that were found elsewhere, each once, and how many rows hold others.
    pub(super) fn of(keys: Vec<UnmatchedKey>, beyond: u64) -> Self {
        Self { keys, beyond }
    }

    /// The keys that are kept.
    pub fn keys(&self) -> &[UnmatchedKey] {
        &self.keys
    }

    /// How many rows hold keys that are not kept.
    pub fn beyond(&self) -> u64 {
        self.beyond
    }
}

impl UnmatchedKey {
    /// The key of one main row.
    pub(crate) fn of(lookup: &Lookup, row: Row<'_>, packed: &str) -> Self {
        Self {
            packed: packed.into(),
            read: (!is_as_read(lookup.key())).then(|| {
                let mut read = Packer::default();
                lookup.key().as_read(row).for_each(|cell| read.push(cell));
                read.text().into()
            }),
            rows: 1,
            row: row.number(),
            line: row.line(),
            name: None,
        }
    }

    /// The parts as they are compared.
    pub fn parts(&self) -> impl Iterator<Item = &str> + Clone {
        packed::Cells::new(&self.packed)
    }

    /// The cells that the key is made from, as they were read in the first row.
    pub fn read(&self) -> impl Iterator<Item = &str> + Clone {
        packed::Cells::new(self.read.as_ref().unwrap_or(&self.packed))
    }
}

/// Whether the parts of a key are just the cells that it is made from.
fn is_as_read(key: &Key) -> bool {
    key.is_verbatim() && key.parts().len() == key.columns().len()
}

/// Takes unmatched keys while the pass runs.
#[derive(Debug)]
pub(crate) struct Collecting {
    all: UnmatchedKeys,
    /// The index of each key in `all`, by its hash.
    places: HashTable<u32>,
    packed: Packer,
    steps: StepBuffers,
}

impl Collecting {
    /// Begins to take keys.
    pub(crate) fn new() -> Self {
        Self {
            all: UnmatchedKeys::default(),
            places: HashTable::new(),
            packed: Packer::default(),
            steps: StepBuffers::default(),
        }
    }

    /// Takes the key of a row that is unmatched.
    pub(crate) fn take(&mut self, lookup: &Lookup, row: Row<'_>) {
        self.packed.clear();
        lookup.key().pack(row, &mut self.packed, &mut self.steps);
        let packed = self.packed.text();
        let hasher = lookup.reference().hasher();
        let hash = hasher.hash_one(packed);
        let keys = &mut self.all.keys;
        let found = self.places.find(hash, |at| *keys[*at as usize].packed == *packed);
        match found {
            Some(at) => keys[*at as usize].rows += 1,
            None if keys.len() == KEPT => self.all.beyond += 1,
            None => {
                let of_key = |at: &u32| hasher.hash_one(&*keys[*at as usize].packed);
                self.places.insert_unique(hash, keys.len() as u32, of_key);
                keys.push(UnmatchedKey::of(lookup, row, packed));
            }
        }
    }

    /// The keys that were collected.
    pub(crate) fn finish(self) -> UnmatchedKeys {
        self.all
    }
}
