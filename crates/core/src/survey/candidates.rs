//! Candidate keys: the columns, alone or together, that distinguish all rows.
//!
//! For a single column, the number of different values decides. Sets of columns are tried on the first
//! rows; sets that distinguish these, or nearly, are followed through the rest of the table.

use ahash::RandomState;

use super::column::ColumnProfile;
use super::distinct::{Count, Distinct};
use super::look::Look;
use crate::table::Block;
use crate::value::is_blank;

/// Columns that are a key, or nearly.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CandidateKey {
    /// The columns, from 0.
    pub columns: Vec<usize>,
    /// How many rows have the same as a row before them, or a blank in one of the columns: a key has
    /// none.
    pub failing: Count,
}

/// How many rows sets of columns are tried on.
const TRIED: usize = 20_000;

/// How many columns are tried with each other.
const COLUMNS: usize = 24;

/// How many pairs are tried with a third column.
const PAIRS: usize = 8;

/// How many sets are followed, of this many columns and of fewer.
const FOLLOWED: usize = 10;
const WIDE: usize = 3;

/// A set of columns is nearly a key when at most one row in this many fails.
const NEARLY: u64 = 10;

/// How unlikely a measure or a remark is part of a key.
const UNLIKELY: u64 = 3;

/// How many keys are reported.
const TOLD: usize = 6;

/// How many hashes are kept of a set before the count becomes a sketch.
const MOST: usize = 1 << 20;

/// Finds the sets.
#[derive(Debug)]
pub(super) struct Candidates {
    hasher: RandomState,
    width: usize,
    /// The hashes of the cells of the first rows, row by row; 0 for a blank one.
    first: Vec<u64>,
    followed: Vec<LookupTrace>,
    is_choosing: bool,
    hashes: Vec<u64>,
}

#[derive(Debug)]
struct LookupTrace {
    columns: Vec<usize>,
    distinct: Distinct,
    blanks: u64,
    rows: u64,
}

impl LookupTrace {
    fn new(columns: Vec<usize>) -> Self {
        Self { columns, distinct: Distinct::up_to(MOST), blanks: 0, rows: 0 }
    }

    fn add(&mut self, hashes: &[u64]) {
        self.rows += 1;
        match together(hashes, &self.columns) {
            Some(hash) => drop(self.distinct.add(hash)),
            None => self.blanks += 1,
        }
    }

    fn failing(&self) -> Count {
        let Count { value, is_exact } = self.distinct.count();
        Count { value: self.rows.saturating_sub(value), is_exact }
    }
}

/// The hash of several cells of a row; `None` where one is blank.
fn together(hashes: &[u64], columns: &[usize]) -> Option<u64> {
    columns.iter().try_fold(0_u64, |all, &column| {
        let hash = hashes[column];
        (hash != 0).then(|| {
            let mixed = (all ^ hash).wrapping_mul(0x9e37_79b9_7f4a_7c15);
            mixed ^ mixed >> 29
        })
    })
}

impl Candidates {
    pub(super) fn of(width: usize, hasher: &RandomState) -> Self {
        Self {
            hasher: hasher.clone(),
            width,
            first: Vec::new(),
            followed: Vec::new(),
            is_choosing: true,
            hashes: Vec::new(),
        }
    }

    /// Takes the rows of a block; each whole row is counted in `whole`.
    pub(super) fn look(&mut self, block: &Block, whole: &mut Distinct) {
        let columns: Vec<usize> = (0..self.width).collect();
        for row in 0..block.rows() {
            self.hashes.clear();
            for column in 0..self.width {
                let cell = block.cell(row, column);
                let is_blank = is_blank(cell);
                self.hashes.push(if is_blank { 0 } else { self.hasher.hash_one(cell) | 1 });
            }
            let all = columns.iter().fold(1_u64, |all, &column| {
                let mixed = (all ^ self.hashes[column]).wrapping_mul(0xd6e8_feb8_6659_fd93);
                mixed ^ mixed >> 32
            });
            whole.add(all);
            if self.is_choosing {
                self.first.extend(&self.hashes);
                if self.first.len() >= TRIED * self.width.max(1) {
                    self.choose();
                }
            } else {
                let Self { followed, hashes, .. } = self;
                for set in followed {
                    set.add(hashes);
                }
            }
        }
    }

    /// Chooses the sets to follow by the first rows, and takes these into them.
    fn choose(&mut self) {
        self.is_choosing = false;
        let first = std::mem::take(&mut self.first);
        if self.width == 0 {
            return;
        }
        let rows = first.len() / self.width;
        let nearly = (rows as u64 / NEARLY).max(1);
        let tried = |columns: Vec<usize>| {
            let mut set = LookupTrace::new(columns);
            first.chunks_exact(self.width).for_each(|row| set.add(row));
            set
        };
        let alone: Vec<LookupTrace> = (0..self.width).map(|column| tried(vec![column])).collect();
        let is_key = |set: &LookupTrace| set.failing().value == 0 && rows > 1;
        // Columns that distinguish nothing, or are mostly blank, improve no key.
        let mut helpful: Vec<usize> = (0..self.width)
            .filter(|&column| {
                let set = &alone[column];
                !is_key(set) && set.distinct.count().value > 1 && set.blanks * 5 < rows as u64
            })
            .collect();
        helpful.sort_by_key(|&column| std::cmp::Reverse(alone[column].distinct.count().value));
        helpful.truncate(COLUMNS);
        let mut pairs = Vec::new();
        for (nth, &one) in helpful.iter().enumerate() {
            for &other in &helpful[nth + 1..] {
                pairs.push(tried(vec![one.min(other), one.max(other)]));
            }
        }
        pairs.sort_by_key(|set| (set.failing().value, set.columns.clone()));
        let mut threes: Vec<LookupTrace> = Vec::new();
        for pair in pairs.iter().filter(|pair| !is_key(pair)).take(PAIRS) {
            for &third in &helpful {
                let mut columns = pair.columns.clone();
                columns.push(third);
                columns.sort_unstable();
                columns.dedup();
                let holds_key = pairs.iter().any(|known| {
                    is_key(known) && known.columns.iter().all(|column| columns.contains(column))
                });
                let is_known = threes.iter().any(|known| known.columns == columns);
                if columns.len() == 3 && !holds_key && !is_known {
                    threes.push(tried(columns));
                }
            }
        }
        let mut followed: Vec<LookupTrace> = alone.into_iter().chain(pairs).chain(threes).collect();
        followed.retain(|set| set.failing().value <= nearly);
        // Fewer columns are followed first, so that wider sets don't crowd them out.
        followed.sort_by_key(|set| (set.columns.len(), set.failing().value));
        let (mut narrow, mut wide): (Vec<LookupTrace>, Vec<LookupTrace>) =
            followed.into_iter().partition(|set| set.columns.len() < WIDE);
        narrow.truncate(FOLLOWED);
        wide.truncate(FOLLOWED);
        narrow.append(&mut wide);
        self.followed = narrow;
    }

    /// The keys of a table of this many rows, whose columns are these.
    pub(super) fn finish(mut self, columns: &[ColumnProfile], rows: u64) -> Vec<CandidateKey> {
        if self.is_choosing {
            self.choose();
        }
        let nearly = (rows / NEARLY).max(1);
        let mut keys: Vec<CandidateKey> = self
            .followed
            .iter()
            .map(|set| CandidateKey { columns: set.columns.clone(), failing: set.failing() })
            .filter(|key| key.failing.value <= nearly && rows > 1)
            .collect();
        // Fewer columns before more, and words before measures and remarks.
        let weight = |key: &CandidateKey| -> u64 {
            key.columns.iter().map(|&column| unlikely(&columns[column])).sum()
        };
        keys.sort_by_key(|key| {
            (key.failing.value > 0, weight(key) + key.columns.len() as u64, key.failing.value)
        });
        let has_likely = keys.iter().any(|key| weight(key) == 0);
        keys.retain(|key| !has_likely || weight(key) < UNLIKELY);
        let mut reported: Vec<CandidateKey> = Vec::new();
        for key in keys {
            // A set with more columns than a key that fails as rarely adds nothing.
            let is_wider = reported.iter().any(|known| {
                known.columns.iter().all(|column| key.columns.contains(column))
                    && known.failing.value <= key.failing.value
            });
            if !is_wider {
                reported.push(key);
            }
        }
        reported.truncate(TOLD);
        reported
    }
}

/// How unlikely a column is part of a key: numbers with a point and long texts are.
fn unlikely(column: &ColumnProfile) -> u64 {
    let look = column.looks.first().map_or(Look::Blank, |(look, _)| *look);
    let long = column.longest.as_ref().map_or(0, |text| text.chars().count());
    let has_point = column
        .commonest
        .iter()
        .any(|(value, _)| look == Look::Number && value.contains(['.', ',']));
    u64::from(has_point || long > 40) * UNLIKELY
        + u64::from(matches!(look, Look::Date | Look::Time))
}
