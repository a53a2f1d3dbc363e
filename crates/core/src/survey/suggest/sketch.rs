//! Sketches of tables, by which it is seen whether two of them may have values in common.
//!
//! A sketch keeps the least hashes of each column's different values. Two columns that share values share their least
//! ones too, so that the share is estimated from what both have below the same bound.

use super::column::{Column, Form};
use super::pairs::letters;
use super::profile::Profile;
use crate::hashing::PassHash;
use std::collections::HashSet;

/// How many hashes of a column are kept.
const KEPT: usize = 1024;

/// Columns may go together when about this share of the values of one is in the other.
const SHARE: f64 = 0.2;

/// Columns of fewer values, or digits at the end of fewer, are in others by chance.
const FEWEST: [usize; 2] = [3, 10];

/// The sketch of a table: some 16 KiB for each column.
#[derive(Debug)]
pub struct Sketch {
    columns: Vec<ColumnSketch>,
}

#[derive(Debug)]
struct ColumnSketch {
    letters: String,
    forms: [FormSketch; 2],
}

/// The least values of a column in a form.
#[derive(Debug)]
struct FormSketch {
    least: HashSet<u64, PassHash>,
    /// The greatest of them, where there are others.
    bound: u64,
    is_by_chance: bool,
}

impl Profile {
    /// The sketch of the table.
    pub fn sketch(&self) -> Sketch {
        let of = |column: &Column| ColumnSketch {
            letters: letters(self.headers.name(column.of)),
            forms: Form::ALL.map(|form| FormSketch::of(column, form)),
        };
        let whole = self.columns.iter().filter(|column| column.cut.is_none());
        Sketch { columns: whole.map(of).collect() }
    }
}

impl FormSketch {
    fn of(column: &Column, form: Form) -> Self {
        let mut all: Vec<u64> = column.all_left(form).collect();
        let mut bound = u64::MAX;
        // A value may be there several times, spelled differently; then fewer are kept.
        if all.len() > KEPT {
            let (_, last, _) = all.select_nth_unstable(KEPT - 1);
            bound = *last;
            all.truncate(KEPT);
        }
        let is_by_chance = column.is_found_by_chance(form);
        Self { least: all.into_iter().collect(), bound, is_by_chance }
    }

    /// Whether about a share of its values is in another.
    fn may_be_in(&self, other: &Self, fewest: usize) -> bool {
        let bound = self.bound.min(other.bound);
        let (mut all, mut shared) = (0_usize, 0);
        for hash in self.least.iter().filter(|hash| **hash <= bound) {
            all += 1;
            shared += usize::from(other.least.contains(hash));
        }
        self.least.len() >= fewest && shared > 0 && shared as f64 >= SHARE * all as f64
    }
}

impl Sketch {
    /// Whether a column of a table may hold keys of another table. Columns in which any values are found by chance count
    /// only where the headers are the same.
    pub fn may_lead_to(&self, other: &Self) -> bool {
        self.columns.iter().any(|ours| {
            other.columns.iter().any(|theirs| {
                let is_same = ours.letters == theirs.letters;
                ours.forms.iter().zip(&theirs.forms).zip(FEWEST).any(|((one, other), fewest)| {
                    (is_same || !other.is_by_chance) && one.may_be_in(other, fewest)
                })
            })
        })
    }
}
