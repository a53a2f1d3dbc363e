//! A reference that does not fit into memory: its rows by shares, in a scratch.
//!
//! Which share a row is in is told by the hash of its key, so that all rows of a key are in the same
//! one, and each share is small enough to be worked on by itself. A row is kept as it would stand in
//! memory ([`Row`]); within a share, rows stand in the order of the table.

use std::sync::Arc;

use super::RowId;
use super::asked_keys::AskedKeys;
use super::taken_in::TakenIn;
use crate::table::scratch::{Kept, numbers, push_numbers};
use crate::table::{CellKind, Scratch};
use crate::{Error, Result};

/// How many shares there are. So many pieces of [`CHUNK`] bytes wait to be full.
pub(crate) const SHARES: usize = 256;
const CHUNK: usize = 32 << 10;

/// What a row takes in memory beside its text: where it ends, its place in the table, its hash, its
/// entry in the index and its count.
pub(crate) const ROW_COST: u64 = 32;

/// The numbers before a row's kinds and text: its position, its hash, its state, and how long these are.
const NUMBERS: usize = 5;

/// Rows of a reference that are kept in shares.
#[derive(Debug)]
pub(crate) struct Shares {
    scratch: Arc<dyn Scratch>,
    all: Vec<Share>,
    /// How many rows there are.
    pub(super) seen: u32,
    /// How much memory they would take.
    cost: u64,
}

#[derive(Debug, Default)]
struct Share {
    kept: Vec<Kept>,
    /// What is not kept yet.
    filling: Vec<u8>,
}

/// A row as it is kept.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Row<'a> {
    /// Where it stands in the table, from 0.
    pub(crate) position: u32,
    /// The hash of its key.
    pub(crate) hash: u32,
    state: u32,
    kinds: &'a [u8],
    text: &'a [u8],
    /// All of it.
    pub(crate) bytes: &'a [u8],
}

/// The bits of a row's state.
const WITHOUT_KEY: u32 = 1;
const KEYLESS: u32 = 2;
const MALFORMED: u32 = 4;

/// The share that a key of some hash is in. The index goes by the upper bits of the hash, so these are
/// the lower ones.
pub(crate) fn share_of(hash: u32) -> usize {
    hash as usize % SHARES
}

/// A hash with the bits that tell its share at the front, so that those of a share stand together when
/// they are in order.
pub(crate) fn turned(hash: u32) -> u32 {
    hash.rotate_right(SHARES.ilog2())
}

pub(crate) fn share_of_turned(turned: u32) -> usize {
    share_of(turned.rotate_left(SHARES.ilog2()))
}

impl Shares {
    pub(super) fn new(scratch: Arc<dyn Scratch>) -> Self {
        let all = (0..SHARES).map(|_| Share::default()).collect();
        Self { scratch, all, seen: 0, cost: 0 }
    }

    /// Where they are kept.
    pub(crate) fn scratch(&self) -> &Arc<dyn Scratch> {
        &self.scratch
    }

    /// How much memory a row takes on average, in bytes.
    pub(crate) fn row_cost(&self) -> u64 {
        self.cost / u64::from(self.seen.max(1)) + 1
    }

    /// Takes over all rows, with so many kinds said of each where there are any, and leaves none. Where
    /// only rows count that are `asked` for, others are not kept.
    pub(super) fn take(
        &mut self,
        rows: &mut TakenIn,
        kinds: usize,
        asked: Option<&AskedKeys>,
    ) -> Result<()> {
        self.cost += rows.cost();
        let states = [
            (&rows.without_key, WITHOUT_KEY),
            (&rows.keyless, KEYLESS),
            (&rows.malformed, MALFORMED),
        ];
        let mut states = states.map(|(ids, bit)| (ids.iter().peekable(), bit));
        for nth in 0..rows.rows.len() {
            let mut state = 0;
            for (ids, bit) in &mut states {
                if ids.next_if_eq(&&RowId(nth as u32)).is_some() {
                    state |= *bit;
                }
            }
            let hash = rows.hashes[nth];
            if state == 0 && asked.is_some_and(|asked| !asked.hold(hash)) {
                continue;
            }
            let text = rows.rows.get(nth);
            let kinds = rows.kinds.get(nth * kinds..(nth + 1) * kinds).unwrap_or_default();
            let Share { kept, filling } = &mut self.all[share_of(hash)];
            let size = NUMBERS * 4 + kinds.len() + text.len();
            if filling.len() + size > CHUNK && !filling.is_empty() {
                kept.push(Kept::keep(&*self.scratch, filling)?);
                filling.clear();
            }
            let position = self.seen + rows.positions.get(nth).copied().unwrap_or(nth as u32);
            let lengths = [kinds.len() as u32, text.len() as u32];
            push_numbers(filling, [position, hash, state].into_iter().chain(lengths));
            filling.extend(kinds.iter().map(|kind| *kind as u8));
            filling.extend_from_slice(text.as_bytes());
        }
        self.seen += rows.seen;
        *rows = TakenIn::default();
        Ok(())
    }

    /// Keeps what is not kept yet, once all rows are there.
    pub(super) fn end(&mut self) -> Result<()> {
        for Share { kept, filling } in &mut self.all {
            if !filling.is_empty() {
                kept.push(Kept::keep(&*self.scratch, &std::mem::take(filling))?);
            }
        }
        Ok(())
    }

    /// Fetches a whole share.
    pub(crate) fn fetch(&self, share: usize, bytes: &mut Vec<u8>) -> Result<()> {
        bytes.clear();
        let kept = &self.all[share].kept;
        bytes.reserve_exact(kept.iter().map(|kept| kept.length()).sum());
        kept.iter().try_for_each(|kept| kept.fetch_behind(&*self.scratch, bytes))
    }
}

/// The rows that `bytes` hold, one behind the other; an error in place of one that is not whole.
pub(crate) fn rows(mut bytes: &[u8]) -> impl Iterator<Item = Result<Row<'_>>> {
    std::iter::from_fn(move || {
        if bytes.is_empty() {
            return None;
        }
        let row = Row::first_of(bytes);
        bytes = row.map_or(&[], |row| &bytes[row.bytes.len()..]);
        Some(row.ok_or_else(damaged))
    })
}

/// The rows of a share, to be found by the hash of their key.
pub(crate) struct RowsByHash<'b> {
    bytes: &'b [u8],
    /// The turned hash of each row and where it begins, in order; rows of one hash stay in theirs.
    places: Vec<(u32, usize)>,
}

impl<'b> RowsByHash<'b> {
    /// The rows that `bytes` hold.
    pub(crate) fn of(bytes: &'b [u8]) -> Result<Self> {
        let (mut places, mut at) = (Vec::new(), 0);
        for row in rows(bytes) {
            let row = row?;
            places.push((turned(row.hash), at));
            at += row.bytes.len();
        }
        places.sort_unstable();
        Ok(Self { bytes, places })
    }

    /// Adds the rows of some turned hashes, which ascend, to `found`, and tells how many they are.
    pub(crate) fn find(
        &self,
        hashes: impl Iterator<Item = u32>,
        found: &mut Vec<u8>,
    ) -> Result<u64> {
        let (mut rest, mut count) = (&self.places[..], 0);
        for hash in hashes {
            rest = &rest[rest.partition_point(|(other, _)| *other < hash)..];
            for (_, at) in rest.iter().take_while(|(other, _)| *other == hash) {
                let row = rows(&self.bytes[*at..]).next().ok_or_else(damaged)?;
                found.extend_from_slice(row?.bytes);
                count += 1;
            }
        }
        Ok(count)
    }
}

fn damaged() -> Error {
    Error::Scratch { cause: "what was kept there is not what comes back".to_owned() }
}

impl<'a> Row<'a> {
    fn first_of(bytes: &'a [u8]) -> Option<Self> {
        let (head, rest) = bytes.split_at_checked(NUMBERS * 4)?;
        let mut head = numbers(head);
        let mut next = || head.next().unwrap_or_default();
        let (position, hash, state) = (next(), next(), next());
        let (kinds, text) = (next() as usize, next() as usize);
        let (said, rest) = rest.split_at_checked(kinds)?;
        let text = rest.get(..text)?;
        let bytes = &bytes[..NUMBERS * 4 + kinds + text.len()];
        Some(Self { position, hash, state, kinds: said, text, bytes })
    }
}

impl TakenIn {
    /// How much memory the rows take, with what finding them will take.
    pub(super) fn cost(&self) -> u64 {
        (self.rows.text.len() + self.kinds.len()) as u64 + self.rows.len() as u64 * ROW_COST
    }

    /// With no more room than these rows take.
    pub(super) fn with_room_for(rows: &[Row<'_>]) -> Self {
        let mut taken_in = Self::default();
        taken_in.rows.reserve(rows.len(), rows.iter().map(|row| row.text.len()).sum());
        taken_in.hashes.reserve_exact(rows.len());
        taken_in.positions.reserve_exact(rows.len());
        taken_in
    }

    /// Adds a row that was kept, of so many taken cells, at its place in the table.
    pub(super) fn push(&mut self, row: Row<'_>, taken: usize) -> Result<()> {
        let id = RowId(self.rows.len() as u32);
        if !row.kinds.is_empty() || !self.kinds.is_empty() {
            self.say_width(taken);
            self.kinds.extend(row.kinds.iter().map(|&kind| CellKind::of(kind)));
        }
        let text = std::str::from_utf8(row.text).map_err(|_| damaged())?;
        self.rows.text.push_str(text);
        self.rows.end_one();
        self.hashes.push(row.hash);
        self.positions.push(row.position);
        for (ids, bit) in [
            (&mut self.without_key, WITHOUT_KEY),
            (&mut self.keyless, KEYLESS),
            (&mut self.malformed, MALFORMED),
        ] {
            if row.state & bit != 0 {
                ids.push(id);
            }
        }
        Ok(())
    }
}
