//! Profiles of a table's columns, which of them are a key, and which go together with another
//! table's ([`suggest()`]).
//!
//! In goes a table, once and block by block; out comes a [`Survey`]: of each column what it holds,
//! how varied it is and what is wrong with it ([`ColumnProfile`]), and the columns or small sets of
//! columns that tell every row apart, or nearly ([`CandidateKey`]). Memory is bounded: what would not
//! fit is counted by a sketch, and a [`Count`] says so.

mod candidates;
mod column;
mod distinct;
mod frequent;
mod look;
mod suggest;
mod trouble;

pub use candidates::CandidateKey;
pub use column::{ColumnProfile, Picture};
pub use distinct::Count;
pub use look::Look;
pub use suggest::{LOOKED_AT, SuggestedKey, SuggestedPart, Suggestions, suggest};
pub use trouble::{Trouble, TroubleKind};

use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};

use ahash::RandomState;

use crate::lookup::Seed;
use crate::table::{Block, Headers, Source};
use candidates::Candidates;
use column::Profiling;
use distinct::Distinct;

/// What a table holds.
#[derive(Debug, Clone, PartialEq)]
pub struct Survey {
    /// How many rows it has.
    pub rows: u64,
    /// Its columns, in order.
    pub columns: Vec<ColumnProfile>,
    /// The columns, or sets of columns, that are keys or nearly; the best first.
    pub keys: Vec<CandidateKey>,
    /// How many rows are the same as one before them, cell for cell.
    pub repeated_rows: Count,
    /// Headers that stand above several columns.
    pub repeated_headers: Vec<String>,
}

/// How many blocks may wait for a thread.
const WAITING: usize = 4;

/// Goes through a table on so many threads and tells what it holds. `seed` seeds the hashes and
/// changes nothing in what is found while everything can be counted.
///
/// # Errors
/// Those of the source.
pub fn survey<S: Source>(source: &mut S, seed: Seed, threads: usize) -> Result<Survey, S::Error> {
    let headers = source.headers().clone();
    let hasher = RandomState::with_seeds(seed[0], seed[1], seed[2], seed[3]);
    let width = headers.len();
    let threads = threads.clamp(1, width.max(1));
    let mut groups: Vec<Vec<Profiling>> = (0..threads).map(|_| Vec::new()).collect();
    for column in 0..width {
        groups[column % threads].push(Profiling::of(column, &hasher));
    }
    let mut candidates = Candidates::of(width, &hasher);
    let mut whole = Distinct::new();
    let mut rows = 0;
    let mut read = |tell: &mut dyn FnMut(&Arc<Block>)| -> Result<(), S::Error> {
        loop {
            let mut block = Block::default();
            if !source.read_block(&mut block)? {
                return Ok(());
            }
            rows += block.rows() as u64;
            tell(&Arc::new(block));
        }
    };
    let read = std::thread::scope(|scope| {
        let mut senders: Vec<SyncSender<Arc<Block>>> = Vec::new();
        for group in &mut groups {
            let (sender, receiver) = sync_channel::<Arc<Block>>(WAITING);
            senders.push(sender);
            scope.spawn(move || {
                for block in receiver {
                    for column in &mut *group {
                        column.look(&block);
                    }
                }
            });
        }
        let (sender, receiver) = sync_channel::<Arc<Block>>(WAITING);
        senders.push(sender);
        let (candidates, whole) = (&mut candidates, &mut whole);
        scope.spawn(move || {
            for block in receiver {
                candidates.look(&block, whole);
            }
        });
        read(&mut |block| {
            // A thread that is gone has panicked, which its end tells.
            for sender in &senders {
                drop(sender.send(Arc::clone(block)));
            }
        })
    });
    read?;
    let mut columns: Vec<(usize, ColumnProfile)> = groups
        .into_iter()
        .flatten()
        .map(|column| (column.column(), column.finish(&headers)))
        .collect();
    columns.sort_by_key(|(column, _)| *column);
    let columns: Vec<ColumnProfile> = columns.into_iter().map(|(_, profile)| profile).collect();
    let keys = candidates.finish(&columns, rows);
    let distinct = whole.count();
    let repeated_rows =
        Count { value: rows.saturating_sub(distinct.value), is_exact: distinct.is_exact };
    Ok(Survey { rows, keys, columns, repeated_rows, repeated_headers: repeated(&headers) })
}

/// The headers that stand above several columns, each once.
fn repeated(headers: &Headers) -> Vec<String> {
    let all: Vec<&str> = headers.iter().collect();
    let mut repeated: Vec<String> = Vec::new();
    for (nth, header) in all.iter().enumerate() {
        if all[..nth].contains(header) && !repeated.iter().any(|known| known == header) {
            repeated.push((*header).to_owned());
        }
    }
    repeated
}
