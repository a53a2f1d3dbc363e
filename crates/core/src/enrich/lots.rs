//! The main table as it waits for references that are in shares, in lots, and what each lot asks for.
//!
//! In goes the main table, and share by share the references; out come, for a few lots at a time,
//! references of just the rows that these ask for.

use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use crate::in_parallel::in_parallel;
use crate::lookup::shares::{self, ROW_COST, RowsByHash, SHARES, share_of_turned, turned};
use crate::lookup::{Asking, KeysTold, Lookup, Reference};
use crate::table::in_order::in_order;
use crate::table::scratch::{Kept, numbers, push_numbers};
use crate::table::spooled::Spool;
use crate::table::{Block, Row, Scratch, Source};
use crate::{Error, Result};

/// The most rows of a lot; fewer where memory is so small that a span would not hold several lots.
const MOST_ROWS: u64 = 1 << 16;
const LOTS: u64 = 16;

/// While the rows of a span are put together they are in memory twice.
const TWICE: u64 = 2;

/// The main table as it waits, and what it asks for.
pub(super) struct Lots {
    pub(super) spool: Spool,
    all: Vec<Lot>,
    scratch: Arc<dyn Scratch>,
}

/// Blocks of the main table that stand one behind the other.
#[derive(Debug, Default)]
struct Lot {
    blocks: Range<usize>,
    /// What it asks of each reference that is in shares.
    asks: Vec<Asks>,
}

/// What a lot asks of one reference.
#[derive(Debug)]
struct Asks {
    /// The hashes, turned, each once and in order.
    hashes: Kept,
    /// Behind how many of them each share begins, and the last one ends.
    starts: Vec<u32>,
    /// The rows that have them.
    rows: Vec<Kept>,
    /// How much memory these take.
    cost: u64,
}

impl Asks {
    /// The hashes of the keys that are in a share.
    fn of_share(&self, share: usize) -> Kept {
        self.hashes.slice(self.starts[share] as usize * 4..self.starts[share + 1] as usize * 4)
    }
}

impl Lots {
    /// Reads a main table to its end, and notes what it asks of these lookups, whose references are in
    /// shares. So much memory is there for what a few lots ask for.
    pub(super) fn read<S>(
        main: &mut S,
        lookups: &[&Lookup],
        wanted: &[usize],
        threads: usize,
        memory: u64,
    ) -> std::result::Result<Self, S::Error>
    where
        S: Source<Error: From<Error> + Send> + Send,
    {
        let shares = || lookups.iter().filter_map(|lookup| lookup.reference().shares());
        let Some(scratch) = shares().next().map(|shares| Arc::clone(shares.scratch())) else {
            return Err(Error::Scratch { cause: "there is none".to_owned() }.into());
        };
        let row: u64 = shares().map(shares::Shares::row_cost).sum();
        let most = (memory / TWICE / LOTS / row).clamp(1, MOST_ROWS);
        let mut lots = Self { spool: Spool::new(Arc::clone(&scratch)), all: Vec::new(), scratch };
        let mut hashes = vec![Vec::new(); lookups.len()];
        let (mut first, mut rows) = (0, 0);
        let space = || (Vec::new(), vec![Vec::new(); lookups.len()], Asking::default());
        let work = |space: &mut (Vec<u8>, Vec<Vec<u32>>, Asking), block: &Block| {
            let (bytes, hashes, asking) = space;
            block.store(bytes);
            for (lookup, hashes) in lookups.iter().zip(hashes) {
                hashes.clear();
                for row in 0..block.rows() {
                    let hash = lookup.hash_of(Row::of(block, row), asking).map(turned);
                    // Rows of one key stand often together.
                    hashes.extend(hash.filter(|hash| hashes.last() != Some(hash)));
                }
            }
        };
        let hand_on = |space: &mut (Vec<u8>, Vec<Vec<u32>>, Asking), block: &Block| {
            lots.spool.push(block, &space.0)?;
            hashes.iter_mut().zip(&space.1).for_each(|(all, more)| all.extend(more));
            rows += block.rows() as u64;
            if rows >= most {
                let blocks = first..lots.spool.len();
                first = blocks.end;
                rows = 0;
                lots.push(blocks, &mut hashes)?;
            }
            Ok(())
        };
        in_order(main, threads, wanted, space, work, hand_on)?;
        let blocks = first..lots.spool.len();
        lots.push(blocks, &mut hashes)?;
        Ok(lots)
    }

    /// Ends a lot of these blocks, which asks for keys of these hashes.
    fn push(&mut self, blocks: Range<usize>, hashes: &mut [Vec<u32>]) -> Result<()> {
        let asks = hashes.iter_mut().map(|hashes| {
            hashes.sort_unstable();
            hashes.dedup();
            let start =
                |share: usize| hashes.partition_point(|hash| share_of_turned(*hash) < share) as u32;
            let starts = (0..=SHARES).map(start).collect();
            let mut bytes = Vec::with_capacity(hashes.len() * 4);
            push_numbers(&mut bytes, hashes.drain(..));
            let hashes = Kept::keep(&*self.scratch, &bytes)?;
            Ok(Asks { hashes, starts, rows: Vec::new(), cost: 0 })
        });
        let asks = asks.collect::<Result<_>>()?;
        self.all.push(Lot { blocks, asks });
        Ok(())
    }

    /// Works off the shares of a reference on so many threads: gathers the rows that each lot asks for,
    /// and what is known of all keys, with so many examples. `nth` is its number among the references
    /// that are in shares.
    pub(super) fn gather(
        &mut self,
        nth: usize,
        like: &Reference,
        examples: usize,
        threads: usize,
    ) -> Result<KeysTold> {
        let Some(shares) = like.shares() else { return Ok(KeysTold::default()) };
        let (scratch, lots) = (Arc::clone(&self.scratch), Mutex::new(&mut self.all));
        let gather = |&share: &usize| -> Result<KeysTold> {
            let mut bytes = Vec::new();
            shares.fetch(share, &mut bytes)?;
            let told = like.of_all(&bytes)?.keys_told(examples);
            let rows = RowsByHash::of(&bytes)?;
            let count = locked(&lots).len();
            let (mut asked, mut found) = (Vec::new(), Vec::new());
            for lot in 0..count {
                let hashes = locked(&lots)[lot].asks[nth].of_share(share);
                if hashes.length() == 0 {
                    continue;
                }
                hashes.fetch(&*scratch, &mut asked)?;
                found.clear();
                let count = rows.find(numbers(&asked), &mut found)?;
                if count > 0 {
                    let kept = Kept::keep(&*scratch, &found)?;
                    let asks = &mut locked(&lots)[lot].asks[nth];
                    asks.rows.push(kept);
                    asks.cost += found.len() as u64 + count * ROW_COST;
                }
            }
            Ok(told)
        };
        let all: Vec<usize> = (0..SHARES).collect();
        let mut told = KeysTold::default();
        for one in in_parallel(&all, threads, gather) {
            told.add(one?, examples);
        }
        Ok(told)
    }

    /// The lots from one on that are worked on at once, since what they ask for fits into so much
    /// memory; at least one.
    pub(super) fn span(&self, first: usize, memory: u64) -> Range<usize> {
        let mut cost = 0;
        let lots = self.all[first..].iter().take_while(|lot| {
            cost += lot.asks.iter().map(|asks| asks.cost).sum::<u64>();
            cost * TWICE <= memory
        });
        first..first + lots.count().max(1)
    }

    pub(super) fn len(&self) -> usize {
        self.all.len()
    }

    /// The blocks of some lots.
    pub(super) fn blocks(&self, lots: &Range<usize>) -> Range<usize> {
        self.all[lots.start].blocks.start..self.all[lots.end - 1].blocks.end
    }

    /// A reference of the rows that some lots ask for, put together on so many threads.
    pub(super) fn reference(
        &self,
        nth: usize,
        lots: Range<usize>,
        like: &Reference,
        threads: usize,
    ) -> Result<Reference> {
        let fetch = |lot: &Lot| {
            let kept = &lot.asks[nth].rows;
            let mut bytes = Vec::with_capacity(kept.iter().map(|kept| kept.length()).sum());
            kept.iter().try_for_each(|kept| kept.fetch_behind(&*self.scratch, &mut bytes))?;
            Ok(bytes)
        };
        let fetched = in_parallel(&self.all[lots], threads, fetch);
        of_rows(like, &fetched.into_iter().collect::<Result<Vec<_>>>()?, threads)
    }
}

/// A reference of the rows at these places in the table, which tells of all of it.
pub(super) fn told_of(
    like: Reference,
    told: &KeysTold,
    mut positions: Vec<u32>,
    threads: usize,
) -> Result<Reference> {
    positions.sort_unstable();
    let Some(shares) = like.shares() else { return Ok(like) };
    let pick = |&nth: &usize| {
        let (mut bytes, mut share) = (Vec::new(), Vec::new());
        shares.fetch(nth, &mut share)?;
        for row in shares::rows(&share) {
            let row = row?;
            if positions.last().is_none_or(|last| *last < row.position) {
                break;
            }
            if positions.binary_search(&row.position).is_ok() {
                bytes.extend_from_slice(row.bytes);
            }
        }
        Ok(bytes)
    };
    let all: Vec<usize> = (0..SHARES).collect();
    let picked = in_parallel(&all, threads, pick).into_iter().collect::<Result<Vec<_>>>()?;
    let mut reference = of_rows(&like, &picked, threads)?;
    reference.tell_of_all(told, like);
    Ok(reference)
}

/// How many rows are put together at once.
const ROWS_AT_ONCE: usize = 1 << 13;

/// A reference of the rows that some bytes hold, in whatever order, some of them several times.
fn of_rows(like: &Reference, all: &[Vec<u8>], threads: usize) -> Result<Reference> {
    // Of each row its position, which bytes it is in, and where.
    let place = |nth: &usize| {
        let (mut places, mut at) = (Vec::new(), 0);
        for row in shares::rows(&all[*nth]) {
            let row = row?;
            places.push((row.position, *nth as u32, at));
            at += row.bytes.len();
        }
        places.sort_unstable();
        Ok(places)
    };
    let nths: Vec<usize> = (0..all.len()).collect();
    let placed = in_parallel(&nths, threads, place).into_iter().collect::<Result<Vec<_>>>()?;
    let mut places = placed.concat();
    drop(placed);
    // Those of each are in order by now, which this sort makes use of.
    places.sort_by_key(|(position, ..)| *position);
    places.dedup_by_key(|(position, ..)| *position);
    let pieces: Vec<&[(u32, u32, usize)]> = places.chunks(ROWS_AT_ONCE).collect();
    like.of_kept(&pieces, threads, |piece| {
        let row =
            |(_, nth, at): &(u32, u32, usize)| shares::rows(&all[*nth as usize][*at..]).next();
        piece.iter().filter_map(row)
    })
}

/// A panic elsewhere ends the run by itself.
fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
