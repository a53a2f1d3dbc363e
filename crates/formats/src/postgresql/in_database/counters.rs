//! The server's own counters of what it is doing, from a connection of their own.
//!
//! In goes which session is watched; out comes how far it is, where the server counts that: statistics, indexes and copies.

use postgres::Client;

use crate::Result;
use crate::postgresql::ServerAddress;

/// How far the server is with a statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Counter {
    /// What is counted: blocks or rows.
    pub unit: &'static str,
    /// How many are done.
    pub done: u64,
    /// How many there are, where that is known.
    pub of: Option<u64>,
}

/// Watches a session.
pub struct Watcher {
    client: Client,
    session: i32,
}

impl std::fmt::Debug for Watcher {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Watcher").field("session", &self.session).finish_non_exhaustive()
    }
}

/// What the server counts of a session: blocks, or rows.
const COUNTERS: &str = "\
    select true, sample_blks_scanned, sample_blks_total from pg_stat_progress_analyze where pid = $1
    union all select true, blocks_done, blocks_total from pg_stat_progress_create_index
        where pid = $1 and tuples_total = 0
    union all select false, tuples_done, tuples_total from pg_stat_progress_create_index
        where pid = $1 and tuples_total > 0
    union all select false, tuples_processed, 0 from pg_stat_progress_copy where pid = $1
    limit 1";

impl Watcher {
    /// Watches a session of the database of an address by its number.
    ///
    /// # Errors
    /// [`Error::Server`](crate::Error::Server) when the server can't be reached.
    pub fn of(address: &ServerAddress, session: i32) -> Result<Self> {
        Ok(Self { client: address.connect()?, session })
    }

    /// How far the server is with the statement that it is carrying out; `None` where it does not count that, or can't say.
    pub fn counter(&mut self) -> Option<Counter> {
        let row = self.client.query_opt(COUNTERS, &[&self.session]).ok()??;
        let number = |nth: usize| u64::try_from(row.get::<_, i64>(nth)).unwrap_or_default();
        let unit = if row.get(0) { "blocks" } else { "rows" };
        Some(Counter { unit, done: number(1), of: Some(number(2)).filter(|of| *of > 0) })
    }
}
