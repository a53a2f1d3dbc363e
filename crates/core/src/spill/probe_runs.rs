//! Probe runs: the main table while it waits for spilled references, and the reference rows it asks for.
//!
//! The blocks of the main table go in with the hashes of their keys, and are cut into runs. Then each partition of
//! each reference is read once, and the rows that a run asks for are set aside for it. In the end a window of
//! consecutive runs, as many as fit in memory, is processed with a reference of just the rows they ask for.

use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use super::partitions::{
    PARTITIONS, Partitions, ROW_COST, Record, RecordsByHash, partition_of_rotated, records, rotated,
};
use super::scratch::{Extent, Scratch, numbers, push_numbers};
use super::spool::{Spool, SpoolReader};
use crate::parallel::in_parallel;
use crate::table::{Block, Headers};
use crate::{Error, Result};

/// The most rows of a run. Where memory is small, runs are smaller, so that a window holds several.
const MOST_ROWS: u64 = 1 << 16;
const RUNS_IN_WINDOW: u64 = 16;

/// How often the rows of a window are in memory while the reference is built.
const COPIES: u64 = 2;

/// The main table in runs, and what each run asks for.
pub(crate) struct ProbeRuns {
    spool: Spool,
    runs: Vec<Run>,
    scratch: Arc<dyn Scratch>,
    most_rows: u64,
    /// The run that is being filled: its first block, its rows, and the hashes it asks for of each reference.
    first_block: usize,
    rows: u64,
    hashes: Vec<Vec<u32>>,
}

/// Consecutive blocks of the main table.
#[derive(Debug, Default)]
struct Run {
    blocks: Range<usize>,
    /// The requests to each reference.
    requests: Vec<Requests>,
}

/// The requests of a run to one reference.
#[derive(Debug)]
struct Requests {
    /// The rotated hashes of the keys, each once and sorted.
    hashes: Extent,
    /// The index of the first hash of each partition, and the number of all hashes.
    starts: Vec<u32>,
    /// The rows with these hashes.
    rows: Vec<Extent>,
    /// How many bytes they take in memory.
    cost: u64,
}

impl Requests {
    /// The hashes of the keys in a partition.
    fn of_partition(&self, partition: usize) -> Extent {
        let (start, end) = (self.starts[partition] as usize, self.starts[partition + 1] as usize);
        self.hashes.slice(start * 4..end * 4)
    }
}

impl ProbeRuns {
    /// Begins the runs of a main table that asks these references; `memory` is what a window may take, in bytes.
    pub(crate) fn new(partitions: &[&Partitions], memory: u64) -> Result<Self> {
        let Some(scratch) = partitions.first().map(|first| Arc::clone(first.scratch())) else {
            return Err(Error::Scratch { cause: "there is no scratch space".to_owned() });
        };
        let row: u64 = partitions.iter().map(|partitions| partitions.row_cost()).sum();
        Ok(Self {
            spool: Spool::new(Arc::clone(&scratch)),
            runs: Vec::new(),
            scratch,
            most_rows: (memory / COPIES / RUNS_IN_WINDOW / row).clamp(1, MOST_ROWS),
            first_block: 0,
            rows: 0,
            hashes: vec![Vec::new(); partitions.len()],
        })
    }

    /// Adds the hash of a main row's key. Rows of one key are often next to each other.
    pub(crate) fn add_hash(hashes: &mut Vec<u32>, hash: Option<u32>) {
        let hash = hash.map(rotated);
        hashes.extend(hash.filter(|hash| hashes.last() != Some(hash)));
    }

    /// Adds the next block, stored as `bytes`, with the hashes it asks for of each reference.
    pub(crate) fn push(&mut self, block: &Block, bytes: &[u8], hashes: &[Vec<u32>]) -> Result<()> {
        self.spool.push(block, bytes)?;
        self.hashes.iter_mut().zip(hashes).for_each(|(all, more)| all.extend(more));
        self.rows += block.rows() as u64;
        if self.rows >= self.most_rows { self.end_run() } else { Ok(()) }
    }

    /// Ends the run that is being filled. Call it after the last block.
    pub(crate) fn end_run(&mut self) -> Result<()> {
        let blocks = self.first_block..self.spool.len();
        (self.first_block, self.rows) = (blocks.end, 0);
        let requests = self.hashes.iter_mut().map(|hashes| {
            hashes.sort_unstable();
            hashes.dedup();
            let start = |partition: usize| {
                hashes.partition_point(|hash| partition_of_rotated(*hash) < partition) as u32
            };
            let starts = (0..=PARTITIONS).map(start).collect();
            let mut bytes = Vec::with_capacity(hashes.len() * 4);
            push_numbers(&mut bytes, hashes.drain(..));
            let hashes = Extent::append(&*self.scratch, &bytes)?;
            Ok(Requests { hashes, starts, rows: Vec::new(), cost: 0 })
        });
        let requests = requests.collect::<Result<_>>()?;
        self.runs.push(Run { blocks, requests });
        Ok(())
    }

    /// Reads each partition of reference `nth` once, on up to `threads` threads, and sets the rows aside that each
    /// run asks for. Returns what `examine` makes of the bytes of each partition.
    pub(crate) fn match_partitions<T: Send>(
        &mut self,
        nth: usize,
        partitions: &Partitions,
        threads: usize,
        examine: impl Fn(&[u8]) -> Result<T> + Sync,
    ) -> Result<Vec<T>> {
        let (scratch, runs) = (Arc::clone(&self.scratch), Mutex::new(&mut self.runs));
        let process = |&partition: &usize| -> Result<T> {
            let mut bytes = Vec::new();
            partitions.read(partition, &mut bytes)?;
            let examined = examine(&bytes)?;
            let rows = RecordsByHash::of(&bytes)?;
            let count = locked(&runs).len();
            let (mut wanted, mut found) = (Vec::new(), Vec::new());
            for run in 0..count {
                let hashes = locked(&runs)[run].requests[nth].of_partition(partition);
                if hashes.length() == 0 {
                    continue;
                }
                hashes.read(&*scratch, &mut wanted)?;
                found.clear();
                let count = rows.find(numbers(&wanted), &mut found)?;
                if count > 0 {
                    let extent = Extent::append(&*scratch, &found)?;
                    let requests = &mut locked(&runs)[run].requests[nth];
                    requests.rows.push(extent);
                    requests.cost += found.len() as u64 + count * ROW_COST;
                }
            }
            Ok(examined)
        };
        let all: Vec<usize> = (0..PARTITIONS).collect();
        in_parallel(&all, threads, process).into_iter().collect()
    }

    /// How many runs there are.
    pub(crate) fn len(&self) -> usize {
        self.runs.len()
    }

    /// How many rows the main table has.
    pub(crate) fn rows(&self) -> u64 {
        self.spool.rows()
    }

    /// The window that begins with a run: as many runs as ask for rows that fit in `memory` bytes, at least one.
    pub(crate) fn window(&self, first: usize, memory: u64) -> Range<usize> {
        let mut cost = 0;
        let runs = self.runs[first..].iter().take_while(|run| {
            cost += run.requests.iter().map(|requests| requests.cost).sum::<u64>();
            cost * COPIES <= memory
        });
        first..first + runs.count().max(1)
    }

    /// The main rows of a window, as a table with these headers.
    pub(crate) fn main_rows<E>(
        &self,
        window: &Range<usize>,
        headers: Headers,
    ) -> SpoolReader<'_, E> {
        let blocks = self.runs[window.start].blocks.start..self.runs[window.end - 1].blocks.end;
        self.spool.read(blocks, headers)
    }

    /// The rows that a window asks for of reference `nth`.
    pub(crate) fn records(
        &self,
        nth: usize,
        window: Range<usize>,
        threads: usize,
    ) -> Result<SortedRecords> {
        let read = |run: &Run| {
            let extents = &run.requests[nth].rows;
            let mut bytes = Vec::with_capacity(extents.iter().map(|extent| extent.length()).sum());
            extents.iter().try_for_each(|extent| extent.read_to_end(&*self.scratch, &mut bytes))?;
            Ok(bytes)
        };
        let bytes = in_parallel(&self.runs[window], threads, read);
        SortedRecords::of(bytes.into_iter().collect::<Result<_>>()?, threads)
    }
}

/// How many records are processed at once.
const RECORDS_AT_ONCE: usize = 1 << 13;

/// Stored rows in the order of their table, each once.
pub(crate) struct SortedRecords {
    bytes: Vec<Vec<u8>>,
    /// The position of each row, the number of its bytes, and its offset in these.
    places: Vec<Place>,
}

type Place = (u32, u32, usize);

impl SortedRecords {
    /// Sorts the rows in `bytes`, some of which may be there several times.
    fn of(bytes: Vec<Vec<u8>>, threads: usize) -> Result<Self> {
        let place = |nth: &usize| {
            let (mut places, mut at) = (Vec::new(), 0);
            for record in records(&bytes[*nth]) {
                let record = record?;
                places.push((record.position, *nth as u32, at));
                at += record.bytes().len();
            }
            places.sort_unstable();
            Ok(places)
        };
        let all: Vec<usize> = (0..bytes.len()).collect();
        let placed: Result<Vec<Vec<Place>>> =
            in_parallel(&all, threads, place).into_iter().collect();
        let mut places = placed?.concat();
        // The sort makes use of the runs that are in order.
        places.sort_by_key(|(position, ..)| *position);
        places.dedup_by_key(|(position, ..)| *position);
        Ok(Self { bytes, places })
    }

    /// The rows at the given positions of a spilled reference.
    pub(crate) fn at(
        mut positions: Vec<u32>,
        partitions: &Partitions,
        threads: usize,
    ) -> Result<Self> {
        positions.sort_unstable();
        let pick = |&nth: &usize| {
            let (mut picked, mut bytes) = (Vec::new(), Vec::new());
            partitions.read(nth, &mut bytes)?;
            for record in records(&bytes) {
                let record = record?;
                if positions.last().is_none_or(|last| *last < record.position) {
                    break;
                }
                if positions.binary_search(&record.position).is_ok() {
                    picked.extend_from_slice(record.bytes());
                }
            }
            Ok(picked)
        };
        let all: Vec<usize> = (0..PARTITIONS).collect();
        let bytes = in_parallel(&all, threads, pick).into_iter().collect::<Result<_>>()?;
        Self::of(bytes, threads)
    }

    /// The rows in batches for several threads, in order.
    pub(crate) fn batches(&self) -> impl Iterator<Item = &[Place]> {
        self.places.chunks(RECORDS_AT_ONCE)
    }

    /// The rows of a batch.
    pub(crate) fn records<'r>(
        &'r self,
        batch: &'r [Place],
    ) -> impl Iterator<Item = Result<Record<'r>>> {
        let record = |(_, nth, at): &Place| records(&self.bytes[*nth as usize][*at..]).next();
        batch.iter().filter_map(record)
    }
}

/// A panic on another thread ends the run, so that its lock may be taken.
fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
