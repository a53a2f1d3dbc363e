//! References that are put together of rows that were kept in shares: those of one share, those that
//! some main rows ask for, or those that are told of.

use std::sync::Arc;

use super::builder::indexed;
use super::index::Index;
use super::records::Records;
use super::reference::{Cells, Reference};
use super::shares::{self, Shares};
use super::taken_in::BuildRows;
use super::{Group, Lookup, RowId};
use crate::Result;
use crate::parallel::in_parallel;

/// What is known of the keys of a whole share.
#[derive(Debug, Default, Clone)]
pub(crate) struct KeyStatistics {
    pub(crate) keys: u64,
    pub(crate) keyless: u64,
    pub(crate) malformed: u64,
    pub(crate) duplicate: u64,
    pub(crate) conflicting: u64,
    pub(crate) collapsed: u64,
    /// Which of the taken columns the rows of some key disagree on.
    disputed: Vec<bool>,
    /// Where the rows of the first keys of each of these three stand, and the first rows that hold no
    /// key, each a group of its own.
    examples: [Vec<Vec<u32>>; 5],
}

/// What the examples are of.
const DUPLICATE: usize = 0;
const CONFLICTING: usize = 1;
const COLLAPSED: usize = 2;
const KEYLESS: usize = 3;
const MALFORMED: usize = 4;

impl KeyStatistics {
    /// Adds what is known of another share, with so many examples kept.
    pub(crate) fn add(&mut self, other: Self, examples: usize) {
        self.keys += other.keys;
        self.keyless += other.keyless;
        self.malformed += other.malformed;
        self.duplicate += other.duplicate;
        self.conflicting += other.conflicting;
        self.collapsed += other.collapsed;
        self.disputed.resize(other.disputed.len().max(self.disputed.len()), false);
        for (all, more) in self.disputed.iter_mut().zip(other.disputed) {
            *all |= more;
        }
        for (all, more) in self.examples.iter_mut().zip(other.examples) {
            all.extend(more);
            all.sort_unstable();
            all.truncate(examples);
        }
    }

    /// Where the rows of all examples stand.
    pub(crate) fn positions(&self) -> impl Iterator<Item = u32> + '_ {
        self.examples.iter().flatten().flatten().copied()
    }
}

impl Reference {
    /// A reference like this one, but without rows.
    fn emptied(&self) -> Self {
        Self {
            name: self.name.clone(),
            headers: self.headers.clone(),
            tables: self.tables.clone(),
            lines: Vec::new(),
            keys: self.keys.clone(),
            labels: self.labels.clone(),
            searched: Vec::new(),
            by_position: false,
            only_asked: None,
            shares: None,
            positions: Vec::new(),
            all_rows: self.all_rows,
            taken: self.taken.clone(),
            always: self.always,
            takes_column: self.takes_column,
            raw_form: self.raw_form,
            rows: Records::default(),
            values: Arc::clone(&self.values),
            touched: 0,
            taken_kinds: Vec::new(),
            cells: Cells::default(),
            seed: self.seed,
            hasher: self.hasher.clone(),
            index: Index::new(),
            repeats: Vec::new(),
            conflicting: Vec::new(),
            rule: self.rule,
            rank: self.rank.clone(),
            chosen: Vec::new(),
            match_blanks: self.match_blanks,
            keyless: Vec::new(),
            malformed: Vec::new(),
            verbatim_parts: self.verbatim_parts.clone(),
            disputed: self.disputed.clone(),
            key_count: 0,
            ranged: None,
        }
    }

    /// A reference like this one of rows that were kept, on so many threads. They come in pieces, which
    /// `rows` makes rows of: each given once and in the order of the table.
    pub(crate) fn of_kept<'r, P: Sync, R>(
        &self,
        pieces: &[P],
        threads: usize,
        rows: impl Fn(&P) -> R + Sync,
    ) -> Result<Self>
    where
        R: Iterator<Item = Result<shares::Row<'r>>>,
    {
        let pack_block = |piece: &P| {
            let rows = rows(piece).collect::<Result<Vec<_>>>()?;
            let mut taken_in = BuildRows::with_room_for(&rows);
            rows.into_iter().try_for_each(|row| taken_in.push(row, self.taken.len()))?;
            Ok(taken_in)
        };
        let mut taken_in = in_parallel(pieces, threads, pack_block).into_iter();
        let mut all = taken_in.next().transpose()?.unwrap_or_default();
        for more in taken_in {
            all.append(&mut more?);
        }
        let mut reference = self.emptied();
        reference.rows = all.rows;
        reference.taken_kinds = all.kinds;
        reference.positions = all.positions;
        reference.keyless = all.keyless;
        reference.malformed = all.malformed;
        Ok(indexed(reference, &all.hashes, &all.without_key, threads))
    }

    /// How much memory its rows take, in bytes, roughly.
    pub fn cost(&self) -> u64 {
        (self.rows.text.len() + self.cells.keys.text.len() + self.taken_kinds.len()) as u64
            + self.entry_count().max(self.rows.len()) as u64 * shares::ROW_COST
    }

    /// A reference like this one of all rows of a share.
    pub(crate) fn of_all(&self, bytes: &[u8]) -> Result<Self> {
        self.of_kept(&[bytes], 1, |bytes| shares::rows(bytes))
    }

    /// The shares that its rows are kept in, when they do not fit into memory.
    pub(crate) fn shares(&self) -> Option<&Shares> {
        self.shares.as_ref()
    }

    /// Whether its rows are kept in shares, since they do not fit into memory. Only those are at hand
    /// that are told of.
    pub fn is_spilled(&self) -> bool {
        self.shares.is_some()
    }

    /// Where a row stands in the table, from 0.
    pub(crate) fn position_in_table(&self, row: RowId) -> u32 {
        self.position_of(row).0
    }

    /// The row at a place in the table, where it is at hand.
    pub(crate) fn row_at(&self, position: u32) -> Option<RowId> {
        self.positions.binary_search(&position).ok().map(|at| RowId(at as u32))
    }

    /// What is known of its keys, when these rows are all of a share, with so many examples.
    pub(crate) fn key_statistics(&self, examples: usize) -> KeyStatistics {
        let mut told = KeyStatistics {
            keys: self.key_count,
            keyless: self.keyless.len() as u64,
            malformed: self.malformed.len() as u64,
            disputed: self.disputed.clone(),
            ..KeyStatistics::default()
        };
        let places = |rows: &[RowId]| rows.iter().map(|&row| self.position_of(row).0).collect();
        let mut keep = |of: usize, rows: &[RowId]| {
            if told.examples[of].len() < examples {
                told.examples[of].push(places(rows));
            }
        };
        for Group { rows, conflicting, collapsed, .. } in self.groups() {
            if conflicting {
                told.conflicting += 1;
                keep(CONFLICTING, &rows);
            } else {
                told.duplicate += 1;
                keep(DUPLICATE, &rows);
            }
            if collapsed {
                told.collapsed += 1;
                keep(COLLAPSED, &rows);
            }
        }
        self.keyless.iter().take(examples).for_each(|row| keep(KEYLESS, &[*row]));
        self.malformed.iter().take(examples).for_each(|row| keep(MALFORMED, &[*row]));
        told
    }

    /// Makes it tell of the whole table, which `like` is of, what is known of its shares.
    pub(crate) fn tell_of_all(&mut self, told: &KeyStatistics, like: Self) {
        self.key_count = told.keys;
        self.disputed.clone_from(&told.disputed);
        self.lines = like.lines;
        self.only_asked = like.only_asked;
        self.shares = like.shares;
    }
}

impl Lookup {
    /// Puts another reference in the place of the one that is asked, which it gives back.
    pub(crate) fn ask_in(&mut self, reference: Reference) -> Reference {
        std::mem::replace(&mut self.reference, reference)
    }

    /// What it is to answer a row by: the hash of its key; `None` for a key that no row can hold.
    pub(crate) fn hash_of(
        &self,
        row: crate::table::Row<'_>,
        asking: &mut super::ProbeBuffers,
    ) -> Option<u32> {
        asking.key.clear();
        let state = self.key.pack(row, &mut asking.key, &mut asking.work);
        let is_whole = state == crate::template::PartState::Whole
            || state == crate::template::PartState::Blank && self.reference.match_blanks;
        is_whole.then(|| super::reference::hash(&self.reference.hasher, asking.key.as_bytes()))
    }
}
