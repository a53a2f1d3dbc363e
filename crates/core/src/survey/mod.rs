//! Profiles of a table's columns, which of them are a key, and which go together with another
//! table's ([`suggest()`]).
//!
//! A table goes in, once and block by block; a [`Survey`] comes out: for each column what it holds, how
//! varied it is and what is wrong with it ([`ColumnProfile`]), and the columns or small sets of columns
//! that are keys, or nearly ([`CandidateKey`]). Memory is bounded: beyond a limit values are counted by a
//! sketch, and a [`Count`] says so.

mod candidates;
mod column;
mod distinct;
mod frequent;
pub mod key_column;
mod look;
mod suggest;
mod trouble;

pub use candidates::CandidateKey;
pub use column::{ColumnProfile, Picture};
pub use distinct::Count;
pub use look::Look;
pub use suggest::{
    LOOKED_AT, Profile, Reached, Sketch, SuggestedKey, SuggestedPart, Suggestions, Trust, Wanted,
    fewest, suggest, with_those_between,
};
pub use trouble::{Trouble, TroubleKind};

use std::collections::HashSet;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};

use ahash::RandomState;

use crate::lookup::Seed;
use crate::table::{Block, Headers, Source};
use candidates::Candidates;
use column::Profiling;
use distinct::Distinct;

/// The survey of a table.
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
    /// Headers that are above several columns.
    pub repeated_headers: Vec<String>,
}

/// The parts of a survey that see every block.
type Looking<'a> = Box<dyn FnMut(&Block) + Send + 'a>;

/// How many blocks may wait for a thread.
const WAITING: usize = 4;

/// Surveys a table on up to `threads` threads. `seed` seeds the hashes and has no effect on the results
/// while everything can be counted.
///
/// # Errors
/// The errors of the source.
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
        // Where the system allows fewer threads, this thread does their work.
        let mut own: Vec<Arc<Mutex<Looking<'_>>>> = Vec::new();
        let columns = groups.iter_mut().map(|group| -> Looking<'_> {
            Box::new(|block| group.iter_mut().for_each(|column| column.look(block)))
        });
        let (candidates, whole) = (&mut candidates, &mut whole);
        let keys: Looking<'_> = Box::new(|block| candidates.look(block, whole));
        for look in columns.chain([keys]) {
            let look = Arc::new(Mutex::new(look));
            let (sender, receiver) = sync_channel::<Arc<Block>>(WAITING);
            let there = Arc::clone(&look);
            let begun = std::thread::Builder::new().spawn_scoped(scope, move || {
                let mut look = there.lock().unwrap_or_else(PoisonError::into_inner);
                for block in receiver {
                    look(&block);
                }
            });
            match begun {
                Ok(_) => senders.push(sender),
                Err(_) => own.push(look),
            }
        }
        read(&mut |block| {
            // A thread that has ended early has panicked, which joining it shows.
            for sender in &senders {
                drop(sender.send(Arc::clone(block)));
            }
            for look in &own {
                look.lock().unwrap_or_else(PoisonError::into_inner)(block);
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

/// The headers that are above several columns, each once.
fn repeated(headers: &Headers) -> Vec<String> {
    let (mut seen, mut reported) = (HashSet::new(), HashSet::new());
    let repeated =
        headers.iter().filter(|header| !seen.insert(*header) && reported.insert(*header));
    repeated.map(str::to_owned).collect()
}
