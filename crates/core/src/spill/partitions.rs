//! Hash partitions: the rows of a reference that does not fit in memory.
//!
//! The hash of its key chooses the partition of a row, so that all rows of a key are in the same one, and each
//! partition is small enough to be processed in memory. A row is stored with the record that it has in memory
//! ([`Record`]); within a partition, rows are in the order of the table.

use std::sync::Arc;

use super::scratch::{Extent, Scratch, damaged, numbers, push_numbers};
use crate::Result;
use crate::table::CellKind;

/// How many partitions there are. As many buffers of [`BUFFER`] bytes wait to be full.
pub(super) const PARTITIONS: usize = 256;
const BUFFER: usize = 32 << 10;

/// How many bytes a row takes in memory in addition to its record: its end, position and hash, its slot in the
/// index and its request count.
pub(crate) const ROW_COST: u64 = 32;

/// The numbers at the front of a stored row: position, hash, state, and the lengths of kinds and text.
const NUMBERS: usize = 5;

/// The rows of a reference, split by the hash of their key.
#[derive(Debug)]
pub(crate) struct Partitions {
    scratch: Arc<dyn Scratch>,
    all: Vec<Partition>,
    rows: u32,
    /// How many bytes the rows would take in memory.
    cost: u64,
}

#[derive(Debug, Default)]
struct Partition {
    extents: Vec<Extent>,
    /// Rows that are not written yet.
    buffer: Vec<u8>,
}

/// A stored row.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Record<'a> {
    /// Its position among all rows of the reference, from 0.
    pub(crate) position: u32,
    /// The hash of its key.
    pub(crate) hash: u32,
    pub(crate) state: RowState,
    kinds: &'a [u8],
    text: &'a [u8],
    /// The stored row as bytes.
    bytes: &'a [u8],
}

/// The state of a row's key: a set of flags.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct RowState(u32);

impl RowState {
    pub(crate) const WITHOUT_KEY: Self = Self(1);
    pub(crate) const KEYLESS: Self = Self(2);
    pub(crate) const MALFORMED: Self = Self(4);

    /// The state with the flags of another one.
    pub(crate) fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// Whether it has a flag of another one.
    pub(crate) fn has(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }
}

/// The partition of a hash. The index uses the upper bits of a hash, so the lower bits choose the partition.
pub(crate) fn partition_of(hash: u32) -> usize {
    hash as usize % PARTITIONS
}

/// A hash with the bits of its partition at the front, so that sorting groups the hashes of a partition.
pub(super) fn rotated(hash: u32) -> u32 {
    hash.rotate_right(PARTITIONS.ilog2())
}

/// The partition of a rotated hash.
pub(super) fn partition_of_rotated(rotated: u32) -> usize {
    partition_of(rotated.rotate_left(PARTITIONS.ilog2()))
}

impl Partitions {
    /// Partitions without rows.
    pub(crate) fn new(scratch: Arc<dyn Scratch>) -> Self {
        let all = (0..PARTITIONS).map(|_| Partition::default()).collect();
        Self { scratch, all, rows: 0, cost: 0 }
    }

    /// The scratch space they are in.
    pub(crate) fn scratch(&self) -> &Arc<dyn Scratch> {
        &self.scratch
    }

    /// How many rows have passed.
    pub(crate) fn rows(&self) -> u32 {
        self.rows
    }

    /// How many bytes a row takes in memory on average.
    pub(super) fn row_cost(&self) -> u64 {
        self.cost / u64::from(self.rows.max(1)) + 1
    }

    /// Adds a row, given by its position since the last [`Partitions::pass`], the hash of its key and its state.
    pub(crate) fn push(
        &mut self,
        (position, hash, RowState(state)): (u32, u32, RowState),
        kinds: &[CellKind],
        text: &str,
    ) -> Result<()> {
        let Partition { extents, buffer } = &mut self.all[partition_of(hash)];
        let size = NUMBERS * 4 + kinds.len() + text.len();
        if buffer.len() + size > BUFFER && !buffer.is_empty() {
            extents.push(Extent::append(&*self.scratch, buffer)?);
            buffer.clear();
        }
        let lengths = [kinds.len() as u32, text.len() as u32];
        let numbers = [self.rows + position, hash, state].into_iter().chain(lengths);
        push_numbers(buffer, numbers);
        buffer.extend(kinds.iter().map(|kind| *kind as u8));
        buffer.extend_from_slice(text.as_bytes());
        Ok(())
    }

    /// Counts rows that have passed, stored or not, and the memory they would take.
    pub(crate) fn pass(&mut self, rows: u32, cost: u64) {
        self.rows += rows;
        self.cost += cost;
    }

    /// Writes all buffers, once all rows are there.
    pub(crate) fn finish(&mut self) -> Result<()> {
        for Partition { extents, buffer } in &mut self.all {
            if !buffer.is_empty() {
                extents.push(Extent::append(&*self.scratch, &std::mem::take(buffer))?);
            }
        }
        Ok(())
    }

    /// Replaces `bytes` with all rows of a partition.
    pub(super) fn read(&self, partition: usize, bytes: &mut Vec<u8>) -> Result<()> {
        bytes.clear();
        let extents = &self.all[partition].extents;
        bytes.reserve_exact(extents.iter().map(|extent| extent.length()).sum());
        extents.iter().try_for_each(|extent| extent.read_to_end(&*self.scratch, bytes))
    }
}

/// The rows in `bytes`, one after the other; an error for a row that is not whole.
pub(crate) fn records(mut bytes: &[u8]) -> impl Iterator<Item = Result<Record<'_>>> {
    std::iter::from_fn(move || {
        if bytes.is_empty() {
            return None;
        }
        let record = Record::first_of(bytes);
        bytes = record.map_or(&[], |record| &bytes[record.bytes.len()..]);
        Some(record.ok_or_else(damaged))
    })
}

impl<'a> Record<'a> {
    fn first_of(bytes: &'a [u8]) -> Option<Self> {
        let (head, rest) = bytes.split_at_checked(NUMBERS * 4)?;
        let mut head = numbers(head);
        let mut next = || head.next().unwrap_or_default();
        let (position, hash, state) = (next(), next(), RowState(next()));
        let (kinds, text) = (next() as usize, next() as usize);
        let (kinds, rest) = rest.split_at_checked(kinds)?;
        let text = rest.get(..text)?;
        let bytes = &bytes[..NUMBERS * 4 + kinds.len() + text.len()];
        Some(Self { position, hash, state, kinds, text, bytes })
    }

    /// Whether the kinds of its taken cells are stored.
    pub(crate) fn has_kinds(&self) -> bool {
        !self.kinds.is_empty()
    }

    /// The kinds of its taken cells.
    pub(crate) fn kinds(&self) -> impl Iterator<Item = CellKind> + use<'a> {
        self.kinds.iter().map(|&kind| CellKind::of(kind))
    }

    /// The record that the row has in memory.
    pub(crate) fn text(&self) -> Result<&'a str> {
        simdutf8::basic::from_utf8(self.text).map_err(|_| damaged())
    }

    /// How many bytes the record has.
    pub(crate) fn text_length(&self) -> usize {
        self.text.len()
    }

    /// The stored row as bytes.
    pub(super) fn bytes(&self) -> &'a [u8] {
        self.bytes
    }
}

/// The rows of a partition, by the hash of their key.
pub(super) struct RecordsByHash<'b> {
    bytes: &'b [u8],
    /// The rotated hash of each row and its offset, sorted; rows of one hash keep their order.
    offsets: Vec<(u32, usize)>,
}

impl<'b> RecordsByHash<'b> {
    /// Sorts the rows in `bytes`.
    pub(super) fn of(bytes: &'b [u8]) -> Result<Self> {
        let (mut offsets, mut at) = (Vec::new(), 0);
        for record in records(bytes) {
            let record = record?;
            offsets.push((rotated(record.hash), at));
            at += record.bytes.len();
        }
        offsets.sort_unstable();
        Ok(Self { bytes, offsets })
    }

    /// Adds the rows with the given rotated hashes, which are ascending, to `found`, and returns how many there
    /// are.
    pub(super) fn find(
        &self,
        hashes: impl Iterator<Item = u32>,
        found: &mut Vec<u8>,
    ) -> Result<u64> {
        let (mut rest, mut count) = (&self.offsets[..], 0);
        for hash in hashes {
            rest = &rest[rest.partition_point(|(other, _)| *other < hash)..];
            for (_, at) in rest.iter().take_while(|(other, _)| *other == hash) {
                let record = records(&self.bytes[*at..]).next().ok_or_else(damaged)?;
                found.extend_from_slice(record?.bytes);
                count += 1;
            }
        }
        Ok(count)
    }
}
