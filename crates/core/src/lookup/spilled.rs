//! References of spilled rows: one partition, the rows that some main rows ask for, or the rows that findings
//! name.

use std::sync::Arc;

use super::build::BuildRows;
use super::probe::ProbeBuffers;
use super::{Group, Lookup, Reference, RowId};
use crate::Result;
use crate::hashing::hash;
use crate::parallel::in_parallel;
use crate::spill::{SortedRecords, records};
use crate::table::Row;
use crate::template::PartState;

/// Statistics of the keys of whole partitions.
#[derive(Debug, Default, Clone)]
pub(crate) struct KeyStatistics {
    pub(crate) keys: u64,
    pub(crate) keyless: u64,
    pub(crate) malformed: u64,
    pub(crate) duplicate: u64,
    pub(crate) conflicting: u64,
    pub(crate) collapsed: u64,
    /// For each taken column, whether the rows of some key disagree on it.
    disputed: Vec<bool>,
    /// For each kind of example, the positions of the rows of the first keys; a row without a key is a group of
    /// its own.
    examples: [Vec<Vec<u32>>; 5],
}

/// The kinds of examples.
const DUPLICATE: usize = 0;
const CONFLICTING: usize = 1;
const COLLAPSED: usize = 2;
const KEYLESS: usize = 3;
const MALFORMED: usize = 4;

impl KeyStatistics {
    /// Adds the statistics of another partition, and keeps the first `examples` examples.
    pub(crate) fn add(&mut self, other: Self, examples: usize) {
        self.keys += other.keys;
        self.keyless += other.keyless;
        self.malformed += other.malformed;
        self.duplicate += other.duplicate;
        self.conflicting += other.conflicting;
        self.collapsed += other.collapsed;
        self.disputed.resize(other.disputed.len().max(self.disputed.len()), false);
        for (all, more) in self.disputed.iter_mut().zip(other.disputed) {
            *all |= more;
        }
        for (all, more) in self.examples.iter_mut().zip(other.examples) {
            all.extend(more);
            all.sort_unstable();
            all.truncate(examples);
        }
    }

    /// The positions of the rows of all examples.
    pub(crate) fn positions(&self) -> impl Iterator<Item = u32> + '_ {
        self.examples.iter().flatten().flatten().copied()
    }
}

impl Reference {
    /// A reference like this one with other rows, which are in memory.
    fn with_rows(&self, rows: BuildRows, threads: usize) -> Result<Self> {
        let dictionaries = Arc::clone(&self.store.dictionaries);
        let tables = self.tables.without_rows();
        Self::of_rows(Arc::clone(&self.spec), tables, (rows, dictionaries), false, threads)
    }

    /// A reference of the records of a whole partition.
    pub(crate) fn of_partition(&self, bytes: &[u8]) -> Result<Self> {
        self.with_rows(BuildRows::of_records(records(bytes), self.taken().len())?, 1)
    }

    /// A reference of records in the order of the table.
    pub(crate) fn of_records(&self, sorted: &SortedRecords, threads: usize) -> Result<Self> {
        let batches: Vec<_> = sorted.batches().collect();
        let width = self.taken().len();
        let mut built = in_parallel(&batches, threads, |batch| {
            BuildRows::of_records(sorted.records(batch), width)
        })
        .into_iter();
        let mut all = built.next().transpose()?.unwrap_or_default();
        for more in built {
            all.append(&mut more?);
        }
        self.with_rows(all, threads)
    }

    /// The statistics of its keys, when its rows are those of a partition, with up to `examples` examples of each
    /// kind.
    pub(crate) fn key_statistics(&self, examples: usize) -> KeyStatistics {
        let mut statistics = KeyStatistics {
            keys: self.keys(),
            keyless: self.keyless().len() as u64,
            malformed: self.malformed().len() as u64,
            disputed: self.index.disputed.clone(),
            ..KeyStatistics::default()
        };
        let positions = |rows: &[RowId]| rows.iter().map(|&row| self.position_of(row)).collect();
        let mut keep = |kind: usize, rows: &[RowId]| {
            if statistics.examples[kind].len() < examples {
                statistics.examples[kind].push(positions(rows));
            }
        };
        for Group { rows, conflicting, collapsed, .. } in self.groups() {
            if conflicting {
                statistics.conflicting += 1;
                keep(CONFLICTING, &rows);
            } else {
                statistics.duplicate += 1;
                keep(DUPLICATE, &rows);
            }
            if collapsed {
                statistics.collapsed += 1;
                keep(COLLAPSED, &rows);
            }
        }
        self.keyless().iter().take(examples).for_each(|row| keep(KEYLESS, &[*row]));
        self.malformed().iter().take(examples).for_each(|row| keep(MALFORMED, &[*row]));
        statistics
    }

    /// The whole of a spilled reference for the report: its tables and partitions, the statistics of all keys, and
    /// the rows of `sampled`.
    pub(crate) fn with_samples(mut self, statistics: &KeyStatistics, sampled: Self) -> Self {
        self.tables.positions = sampled.tables.positions;
        self.store = sampled.store;
        self.index = sampled.index;
        self.index.keys = statistics.keys;
        self.index.disputed.clone_from(&statistics.disputed);
        self
    }
}

impl Lookup {
    /// Replaces the reference, and returns the one it had.
    pub(crate) fn replace_reference(&mut self, reference: Reference) -> Reference {
        std::mem::replace(&mut self.reference, reference)
    }

    /// The hash of a main row's key; `None` for a key that no reference row can hold.
    pub(crate) fn hash_of(&self, row: Row<'_>, buffers: &mut ProbeBuffers) -> Option<u32> {
        let ProbeBuffers { key, steps, .. } = buffers;
        key.clear();
        let state = self.key.pack(row, key, steps);
        let is_whole = state == PartState::Whole
            || state == PartState::Blank && self.reference.matches_blanks();
        is_whole.then(|| hash(self.reference.hasher(), key.bytes()))
    }
}
