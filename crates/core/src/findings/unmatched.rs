//! The keys of main rows that no reference row holds, each once, so that their reasons can be sought
//! when the pass is over.

use std::collections::HashMap;

use crate::lookup::Lookup;
use crate::table::{Row, packed};
use crate::template::Work;

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
    pub(crate) packed: Box<str>,
    /// The cells that the key is made from, as they were read in the first row.
    pub read: Vec<String>,
    /// How many main rows hold it.
    pub rows: u64,
    /// The first of them, as a person counts.
    pub row: u64,
    /// The line of the file on which that begins.
    pub line: u64,
}

impl UnmatchedKeys {
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
            read: lookup.key().as_read(row).map(str::to_owned).collect(),
            rows: 1,
            row: row.number(),
            line: row.line(),
        }
    }

    /// The parts as they are compared.
    pub fn parts(&self) -> impl Iterator<Item = &str> + Clone {
        packed::Cells::new(&self.packed)
    }
}

/// Takes unmatched keys while the pass runs.
#[derive(Debug)]
pub(crate) struct Collecting {
    all: UnmatchedKeys,
    places: HashMap<Box<str>, usize, ahash::RandomState>,
    packed: String,
    work: Work,
}

impl Collecting {
    /// Begins to take the keys that a lookup does not find.
    pub(crate) fn of(lookup: &Lookup) -> Self {
        Self {
            all: UnmatchedKeys::default(),
            places: HashMap::with_hasher(lookup.reference().hasher().clone()),
            packed: String::new(),
            work: Work::default(),
        }
    }

    /// Takes the key of a row that is unmatched.
    pub(crate) fn take(&mut self, lookup: &Lookup, row: Row<'_>) {
        self.packed.clear();
        lookup.key().pack(row, &mut self.packed, &mut self.work);
        if let Some(&at) = self.places.get(&self.packed[..]) {
            self.all.keys[at].rows += 1;
            return;
        }
        if self.all.keys.len() == KEPT {
            self.all.beyond += 1;
            return;
        }
        self.places.insert(self.packed.as_str().into(), self.all.keys.len());
        self.all.keys.push(UnmatchedKey::of(lookup, row, &self.packed));
    }

    /// What was taken.
    pub(crate) fn finish(self) -> UnmatchedKeys {
        self.all
    }
}
