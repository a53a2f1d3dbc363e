//! Spilling: storage for tables that do not fit in memory.
//!
//! This module stores bytes and knows no lookups. The rows of a reference are split by the hash of their key into
//! `Partitions`; the blocks of the main table wait in a `Spool`; `ProbeRuns` collect which keys each run of
//! main rows asks for, and the reference rows with these keys. All of it is written to a [`Scratch`] space, a
//! temporary file that the caller supplies. `enrich::bounded` runs a pass over it.

mod block_bytes;
mod partitions;
mod probe_runs;
mod scratch;
mod spool;

#[cfg(test)]
pub(crate) use partitions::partition_of;
pub(crate) use partitions::{Partitions, ROW_COST, Record, RowState, records};
pub(crate) use probe_runs::{ProbeRuns, SortedRecords};
pub use scratch::Scratch;
