//! Profiles of a table's columns, which of them are a key, and which go together with another
//! table's ([`suggest()`]).
//!
//! A table goes in, once and block by block; a [`Survey`] comes out: for each column what it holds, how
//! varied it is and what is wrong with it ([`ColumnProfile`]), and the columns or small sets of columns
//! that are keys, or nearly ([`CandidateKey`]). Memory is bounded: beyond a limit values are counted by a
//! sample, and a [`Count`] says so.

mod candidates;
mod column;
mod distinct;
mod hashes;
pub mod key_column;
mod look;
mod memory;
mod spread;
mod suggest;
mod trouble;
mod values;

pub use candidates::CandidateKey;
pub use column::{ColumnProfile, Picture};
pub use distinct::Count;
pub use look::Look;
pub use suggest::{
    LOOKED_AT, Profile, Reached, Sketch, SuggestedKey, SuggestedPart, Suggestions, Trust,
    UnlikeValues, Wanted, fewest, suggest, with_those_between,
};
pub use trouble::{Trouble, TroubleKind};

use std::collections::HashSet;

use ahash::RandomState;

use crate::lookup::Seed;
use crate::parallel::alongside;
use crate::table::{Block, Headers, Source};
use candidates::Candidates;
use column::Profiling;
use distinct::Distinct;
use hashes::{hash_cells, mixed};
use memory::{Worth, bound};

/// The survey of a table.
#[derive(Debug, Clone, PartialEq)]
pub struct Survey {
    /// How many rows it has.
    pub rows: u64,
    /// Its columns, or those picked, in order.
    pub columns: Vec<ColumnProfile>,
    /// The columns, or sets of columns, that are keys or nearly; the best first.
    pub keys: Vec<CandidateKey>,
    /// How many rows are the same as one before them, cell for cell.
    pub repeated_rows: Count,
    /// Headers that are above several columns.
    pub repeated_headers: Vec<String>,
}

/// Surveys a table on up to `threads` threads: all of its columns, or those `picked`, by their places. Keys are sought among
/// these; whole rows are compared whatever is picked. `seed` seeds the hashes and has no effect on the results while everything
/// can be counted.
///
/// # Errors
/// The errors of the source.
///
/// # Panics
/// When the table has not as many columns as are picked.
///
/// ```
/// use gather_keys_core::survey::survey;
/// use gather_keys_core::table::MemoryTable;
///
/// let mut hives =
///     MemoryTable::new("hives", ["Tag", "Keeper"], [["H-001", "Edda"], ["H-002", "Edda"]]);
/// let survey = survey(&mut hives, None, [1, 2, 3, 4], 2).unwrap();
/// assert_eq!(survey.columns[1].distinct.value, 1);
/// assert_eq!(survey.keys[0].columns, [0]);
/// ```
pub fn survey<S: Source>(
    source: &mut S,
    picked: Option<&[usize]>,
    seed: Seed,
    threads: usize,
) -> Result<Survey, S::Error> {
    let headers = source.headers().clone();
    let hasher = RandomState::with_seeds(seed[0], seed[1], seed[2], seed[3]);
    let width = headers.len();
    let all: Vec<usize> = (0..width).collect();
    let picked = picked.unwrap_or(&all);
    let mut columns: Vec<Profiling> =
        picked.iter().map(|&column| Profiling::of(column, picked.len(), &hasher)).collect();
    let mut candidates = Candidates::among(picked, width);
    let mut whole = Distinct::default();
    let mut hashes: Vec<Vec<u64>> = vec![Vec::new(); width];
    let mut rows = 0;
    let (mut block, mut next) = (Block::default(), Block::default());
    let mut is_more = source.read_block(&mut block)?;
    while is_more {
        rows += block.rows() as u64;
        let cells = hashes.iter_mut().enumerate();
        let hash = |(column, hashes): (usize, &mut _)| hash_cells(&block, column, &hasher, hashes);
        // The next block is read meanwhile.
        let mut read = Ok(false);
        alongside(cells, threads, hash, || read = source.read_block(&mut next));
        let profile = |column: &mut Profiling| column.look(&block, &hashes[column.column()]);
        alongside(columns.iter_mut(), threads, profile, || count_rows(&mut whole, &hashes));
        candidates.look(&hashes, threads);
        let counts = columns.iter_mut().flat_map(Profiling::counts).chain(candidates.counts());
        bound(counts.chain([(Worth::Rows, &mut whole)]));
        columns.iter_mut().for_each(Profiling::settle);
        is_more = read?;
        std::mem::swap(&mut block, &mut next);
    }
    let columns: Vec<ColumnProfile> =
        columns.into_iter().map(|column| column.finish(&headers)).collect();
    let keys = candidates.finish(&columns, rows);
    let is_key = |key: &CandidateKey| key.failing == Count { value: 0, is_exact: true };
    let distinct = whole.count();
    let repeated_rows = if keys.iter().any(is_key) {
        // Rows that a key distinguishes are not repeated.
        Count { value: 0, is_exact: true }
    } else {
        Count { value: rows.saturating_sub(distinct.value), is_exact: distinct.is_exact }
    };
    Ok(Survey { rows, keys, columns, repeated_rows, repeated_headers: repeated(&headers) })
}

/// Counts the different rows of a block by the hashes of its cells.
fn count_rows(whole: &mut Distinct, hashes: &[Vec<u64>]) {
    let mut rows = vec![0; hashes.first().map_or(0, Vec::len)];
    for column in hashes {
        rows.iter_mut().zip(column).for_each(|(row, hash)| *row = mixed(*row, *hash));
    }
    whole.add_all(&rows);
}

/// The headers that are above several columns, each once.
fn repeated(headers: &Headers) -> Vec<String> {
    let (mut seen, mut reported) = (HashSet::new(), HashSet::new());
    let repeated =
        headers.iter().filter(|header| !seen.insert(*header) && reported.insert(*header));
    repeated.map(str::to_owned).collect()
}
