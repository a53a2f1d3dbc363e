//! Candidate keys: the columns, alone or together, that distinguish all rows.
//!
//! Of a single column, the number of different values decides. Sets of columns are tried on the first
//! rows; sets that distinguish these, or nearly, are followed through the rest of the table.

use std::cmp::Reverse;
use std::ops::Range;

use super::column::ColumnProfile;
use super::distinct::{Count, Distinct};
use super::hashes::{is_filled, mixed};
use super::look::Look;
use super::memory::Worth;
use crate::parallel::{alongside, in_parallel};

/// Columns that are a key, or nearly.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CandidateKey {
    /// The columns, by their places in the survey, from 0.
    pub columns: Vec<usize>,
    /// How many rows have the same as a row before them, or a blank in one of the columns: a key has
    /// none.
    pub failing: Count,
}

/// How many rows sets of columns are tried on.
const TRIED: usize = 10_000;

/// How many cells these rows have at most.
const TRIED_CELLS: usize = 1 << 20;

/// How many columns are tried with each other.
const COLUMNS: usize = 24;

/// How many pairs are tried with a third column.
const PAIRS: usize = 8;

/// How many sets of two columns are followed, and as many of three.
const FOLLOWED: usize = 8;

/// A set of columns is nearly a key when at most one row in this many fails.
const NEARLY: u64 = 10;

/// How unlikely a measure or a remark is part of a key.
const UNLIKELY: u64 = 3;

/// How many keys are reported.
const TOLD: usize = 6;

/// Finds the sets.
#[derive(Debug)]
pub(super) struct Candidates {
    /// The columns that may be part of a key.
    columns: Vec<usize>,
    /// How many rows sets are tried on.
    tried: usize,
    /// For each column the hashes of its cells in the first rows, until the sets are chosen.
    first: Vec<Vec<u64>>,
    followed: Option<Vec<FollowedSet>>,
}

/// A set of columns, with what it distinguishes.
#[derive(Debug)]
struct FollowedSet {
    columns: Vec<usize>,
    distinct: Distinct,
    rows: u64,
}

impl FollowedSet {
    fn new(columns: Vec<usize>) -> Self {
        Self { columns, distinct: Distinct::default(), rows: 0 }
    }

    /// Takes rows by the hashes of their cells, which are column by column.
    fn add(&mut self, hashes: &[impl AsRef<[u64]>], rows: Range<usize>) {
        self.rows += rows.len() as u64;
        let of_row =
            |row: usize| self.columns.iter().map(move |&column| hashes[column].as_ref()[row]);
        let keys: Vec<u64> = rows.filter_map(|row| together(of_row(row))).collect();
        self.distinct.add_all(&keys);
    }

    fn failing(&self) -> Count {
        let Count { value, is_exact } = self.distinct.count();
        Count { value: self.rows.saturating_sub(value), is_exact }
    }
}

/// The hash of several cells; `None` where one is blank.
fn together(mut hashes: impl Iterator<Item = u64>) -> Option<u64> {
    hashes.try_fold(0, |all, hash| is_filled(hash).then(|| mixed(all, hash)))
}

impl Candidates {
    /// Finds sets among some columns of a table, which has `width` in all.
    pub(super) fn among(columns: &[usize], width: usize) -> Self {
        Self {
            columns: columns.to_vec(),
            tried: TRIED.min(TRIED_CELLS / width.max(1)).max(2),
            first: vec![Vec::new(); width],
            followed: None,
        }
    }

    /// Takes rows by the hashes of their cells, which are column by column.
    pub(super) fn look(&mut self, hashes: &[Vec<u64>], threads: usize) {
        let rows = hashes.first().map_or(0, Vec::len);
        let Some(followed) = &mut self.followed else {
            for (first, hashes) in self.first.iter_mut().zip(hashes) {
                first.extend(hashes);
            }
            if self.first.first().is_some_and(|first| first.len() >= self.tried) {
                self.choose(threads);
            }
            return;
        };
        alongside(followed.iter_mut(), threads, |set| set.add(hashes, 0..rows), || ());
    }

    /// Chooses the sets to follow by the first rows, and takes all that were seen into them.
    fn choose(&mut self, threads: usize) {
        let first = std::mem::take(&mut self.first);
        let all = first.first().map_or(0, Vec::len);
        let rows = all.min(self.tried);
        let nearly = (rows as u64 / NEARLY).max(1);
        let tried = |columns: &Vec<usize>| {
            let mut set = FollowedSet::new(columns.clone());
            set.add(&first, 0..rows);
            set
        };
        let alone: Vec<Vec<usize>> = self.columns.iter().map(|&column| vec![column]).collect();
        let alone = in_parallel(&alone, threads, tried);
        let is_key = |set: &FollowedSet| set.failing().value == 0 && rows > 1;
        // Columns that distinguish nothing, or are mostly blank, improve no key.
        let is_helpful = |set: &&FollowedSet| {
            !is_key(set)
                && set.distinct.count().value > 1
                && set.distinct.added() * 5 > rows as u64 * 4
        };
        let mut helpful: Vec<&FollowedSet> = alone.iter().filter(is_helpful).collect();
        helpful.sort_by_key(|set| Reverse(set.distinct.count().value));
        helpful.truncate(COLUMNS);
        let helpful: Vec<usize> = helpful.into_iter().map(|set| set.columns[0]).collect();
        let both = |(nth, one): (usize, &usize)| -> Vec<Vec<usize>> {
            let others = helpful[nth + 1..].iter();
            others.map(|other| vec![*one.min(other), *one.max(other)]).collect()
        };
        let pairs: Vec<Vec<usize>> = helpful.iter().enumerate().flat_map(both).collect();
        let mut pairs = in_parallel(&pairs, threads, tried);
        pairs.sort_by_key(|set| (set.failing().value, set.columns.clone()));
        let mut threes: Vec<Vec<usize>> = Vec::new();
        for pair in pairs.iter().filter(|pair| !is_key(pair)).take(PAIRS) {
            for &third in &helpful {
                let mut columns = pair.columns.clone();
                columns.push(third);
                columns.sort_unstable();
                columns.dedup();
                let holds_key = pairs.iter().any(|known| {
                    is_key(known) && known.columns.iter().all(|column| columns.contains(column))
                });
                if columns.len() == 3 && !holds_key && !threes.contains(&columns) {
                    threes.push(columns);
                }
            }
        }
        let mut threes = in_parallel(&threes, threads, tried);
        for sets in [&mut pairs, &mut threes] {
            sets.retain(|set| set.failing().value <= nearly);
            sets.sort_by_key(|set| set.failing().value);
            sets.truncate(FOLLOWED);
        }
        let mut followed = pairs;
        followed.append(&mut threes);
        alongside(followed.iter_mut(), threads, |set| set.add(&first, rows..all), || ());
        self.followed = Some(followed);
    }

    /// The counts of the sets, which may become samples.
    pub(super) fn counts(&mut self) -> impl Iterator<Item = (Worth, &mut Distinct)> {
        self.followed.iter_mut().flatten().map(|set| (Worth::Set, &mut set.distinct))
    }

    /// The keys of a table of this many rows. Of each column that may be part of one, `profiles` has the profile; keys have
    /// their places there.
    pub(super) fn finish(mut self, profiles: &[ColumnProfile], rows: u64) -> Vec<CandidateKey> {
        if self.followed.is_none() {
            self.choose(1);
        }
        let nearly = (rows / NEARLY).max(1);
        let place = |column: &usize| self.columns.iter().position(|other| other == column);
        let followed = self.followed.iter().flatten().map(|set| CandidateKey {
            columns: set.columns.iter().filter_map(place).collect(),
            failing: set.failing(),
        });
        let alone = profiles.iter().enumerate().map(|(nth, profile)| {
            let Count { value, is_exact } = profile.distinct;
            let failing = Count { value: rows.saturating_sub(value), is_exact };
            CandidateKey { columns: vec![nth], failing }
        });
        let is_nearly = |key: &CandidateKey| key.failing.value <= nearly && rows > 1;
        let mut keys: Vec<CandidateKey> = alone.chain(followed).filter(is_nearly).collect();
        // Fewer columns before more, and words before measures and remarks.
        let weight = |key: &CandidateKey| -> u64 {
            key.columns.iter().map(|&column| unlikely(&profiles[column])).sum()
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
