//! A reference table as a lookup keeps it: of each row the key and the taken cells, nothing else.
//!
//! All rows stand in one text arena, each as its packed key with its packed taken cells behind it,
//! so that comparing a key and reading the cells touches one place. Where steps made the key
//! another than what was read, the cells it was made from stand behind those, for the findings. Rows are known by their number
//! from 0 ([`RowId`]); the index leads to the first row of each key, and the few later rows of
//! repeated keys stand in a list of their own.

use std::cmp::Ordering;

use ahash::RandomState;

use super::Rule;
use super::index::{Index, MOST_ROWS};
use super::rank::Rank;
use crate::key::Key;
use crate::table::{Block, Headers, Lines, Source, packed};
use crate::template::{Bound, PartState, Work};
use crate::{Error, Result};

/// A row of a reference, from 0. The number that a person sees is one more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct RowId(u32);

impl RowId {
    /// The row's number as a person counts: data rows from 1.
    pub fn number(self) -> u64 {
        u64::from(self.0) + 1
    }

    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}

/// What seeds the hash of a run, so that keys can't be made to collide beforehand. It changes
/// nothing in what is found.
pub type Seed = [u64; 4];

/// A reference table, loaded.
#[derive(Debug)]
pub struct Reference {
    name: String,
    headers: Headers,
    key: Key,
    taken: Vec<usize>,
    records: Records,
    lines: Lines,
    hasher: RandomState,
    index: Index,
    /// For each row that repeats a key: the first row that holds it, and the row; sorted.
    repeats: Vec<(RowId, RowId)>,
    /// The first rows of keys whose rows disagree, as a set of bits; empty when there are none.
    conflicting: Vec<u64>,
    rule: Rule,
    /// What rows are put in order by, where the rule asks for it; its value stands behind the taken
    /// cells.
    rank: Option<Bound>,
    /// Under the first row of a key whose rows disagree, the one that the rule chose; sorted.
    chosen: Vec<(RowId, RowId)>,
    match_blanks: bool,
    /// Rows with a blank part in their key.
    keyless: Vec<RowId>,
    /// Rows with a value in their key that a step could not read.
    malformed: Vec<RowId>,
    /// For each of the key's columns a part that is its value, where the key was read so.
    verbatim_parts: Option<Vec<usize>>,
    /// Which of the taken columns the rows of some key disagree on.
    disputed: Vec<bool>,
    keys: u64,
}

/// The reference rows that hold one key, when there are several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// The rows, in order.
    pub rows: Vec<RowId>,
    /// Whether they disagree on what is taken.
    pub conflicting: bool,
    /// Whether they spell the key differently, and only the steps made it one.
    pub collapsed: bool,
}

/// Takes in a reference table block by block.
#[derive(Debug)]
pub struct ReferenceBuilder {
    reference: Reference,
    work: Work,
}

/// Packed rows, end to end.
#[derive(Debug, Default)]
struct Records {
    text: String,
    ends: Vec<u64>,
}

impl Records {
    fn get(&self, row: RowId) -> &str {
        let start = if row.0 == 0 { 0 } else { self.ends[row.index() - 1] as usize };
        &self.text[start..self.ends[row.index()] as usize]
    }

    fn len(&self) -> u64 {
        self.ends.len() as u64
    }
}

impl ReferenceBuilder {
    /// Begins a reference called `name` in messages and gates, of which the columns `taken` are
    /// kept beside its `key`.
    pub fn new(name: &str, headers: &Headers, key: Key, taken: Vec<usize>, seed: Seed) -> Self {
        let [a, b, c, d] = seed;
        let disputed = vec![false; taken.len()];
        let verbatim_parts = key.verbatim_parts();
        Self {
            reference: Reference {
                name: name.to_owned(),
                headers: headers.clone(),
                key,
                taken,
                records: Records::default(),
                lines: Lines::default(),
                hasher: RandomState::with_seeds(a, b, c, d),
                index: Index::new(),
                repeats: Vec::new(),
                conflicting: Vec::new(),
                rule: Rule::Report,
                rank: None,
                chosen: Vec::new(),
                match_blanks: false,
                keyless: Vec::new(),
                malformed: Vec::new(),
                verbatim_parts,
                disputed,
                keys: 0,
            },
            work: Work::default(),
        }
    }

    /// States what to do with keys whose rows disagree; `rank` is what rows are put in order by,
    /// for the rules that choose the highest or lowest.
    #[must_use]
    pub fn resolving(mut self, rule: Rule, rank: Option<Bound>) -> Self {
        self.reference.rule = rule;
        self.reference.rank = rank;
        self
    }

    /// Lets a blank part of a key meet a blank one.
    #[must_use]
    pub fn matching_blanks(mut self, yes: bool) -> Self {
        self.reference.match_blanks = yes;
        self
    }

    /// Takes in the rows of a block.
    ///
    /// # Errors
    /// [`Error::TooManyRows`] past four billion rows.
    pub fn add(&mut self, block: &Block) -> Result<()> {
        (0..block.rows()).try_for_each(|row| self.add_row(block, row))
    }

    fn add_row(&mut self, block: &Block, row: usize) -> Result<()> {
        let reference = &mut self.reference;
        let Reference { key, taken, records, .. } = reference;
        if records.len() >= MOST_ROWS {
            let table = reference.headers.table().to_owned();
            return Err(Error::TooManyRows { table, most: MOST_ROWS });
        }
        let id = RowId(records.len() as u32);
        let start = records.text.len();
        let state = key.pack(block, row, &mut records.text, &mut self.work);
        let key_end = records.text.len();
        for &column in taken.iter() {
            packed::push(&mut records.text, block.cell(row, column));
        }
        if let Some(rank) = &reference.rank {
            let cell = |column| block.cell(row, column);
            rank.value(cell, &[], &mut self.work, |state, value| {
                let value = if state == PartState::Whole { value } else { "" };
                packed::push(&mut reference.records.text, value);
            });
        }
        if !reference.was_read_so(start..key_end, block, row) {
            let Reference { key, records, .. } = reference;
            for cell in key.as_read(block, row) {
                packed::push(&mut records.text, cell);
            }
        }
        let Reference { records, lines, hasher, index, repeats, .. } = reference;
        records.ends.push(records.text.len() as u64);
        lines.push(block.line(row));
        match state {
            PartState::Blank if !reference.match_blanks => reference.keyless.push(id),
            PartState::Malformed => reference.malformed.push(id),
            PartState::Whole | PartState::Blank => {
                let key = &records.text[start..key_end];
                let hash = hash(hasher, key);
                match index.enter(hash, id.0, |other| records.get(RowId(other)).starts_with(key)) {
                    None => reference.keys += 1,
                    Some(first) => repeats.push((RowId(first), id)),
                }
            }
        }
        Ok(())
    }

    /// The reference, once all its rows are in.
    pub fn finish(self) -> Reference {
        let mut reference = self.reference;
        reference.repeats.sort_unstable();
        for at in 0..reference.repeats.len() {
            let (first, row) = reference.repeats[at];
            reference.compare(first, row);
        }
        reference.choose();
        reference
    }
}

impl Reference {
    /// Loads a whole reference table.
    ///
    /// # Errors
    /// Those of the source, and [`Error::TooManyRows`].
    pub fn load<E: From<Error>>(
        mut builder: ReferenceBuilder,
        source: &mut (impl Source<Error = E> + ?Sized),
    ) -> std::result::Result<Self, E> {
        let mut block = Block::default();
        while source.read_block(&mut block)? {
            builder.add(&block)?;
        }
        Ok(builder.finish())
    }

    /// Whether the packed key that was just appended is what stands in the row, cell for cell.
    fn was_read_so(&self, key: std::ops::Range<usize>, block: &Block, row: usize) -> bool {
        if self.key.is_verbatim() {
            return true;
        }
        let Some(parts) = &self.verbatim_parts else { return false };
        let compared = packed::Cells::new(&self.records.text[key]);
        let mut pairs = parts.iter().zip(self.key.as_read(block, row));
        pairs.all(|(&part, read)| compared.clone().nth(part) == Some(read))
    }

    /// Notes on which taken columns two rows of one key disagree.
    fn compare(&mut self, first: RowId, row: RowId) {
        let pairs = self.taken_cells(first).zip(self.taken_cells(row));
        let unequal: Vec<bool> = pairs.map(|(a, b)| a != b).collect();
        for (disputed, unequal) in self.disputed.iter_mut().zip(&unequal) {
            *disputed |= unequal;
        }
        if unequal.contains(&true) {
            if self.conflicting.is_empty() {
                self.conflicting = vec![0; self.records.ends.len().div_ceil(64)];
            }
            self.conflicting[first.index() / 64] |= 1 << (first.index() % 64);
        }
    }

    /// Chooses a row for each key whose rows disagree, where the rule settles on one.
    fn choose(&mut self) {
        let chosen = self.groups().filter(|group| group.conflicting).filter_map(|group| {
            let rows = &group.rows;
            let row = match self.rule {
                Rule::First => rows.first().copied(),
                Rule::Last => rows.last().copied(),
                Rule::Highest => self.foremost(rows, Ordering::Greater),
                Rule::Lowest => self.foremost(rows, Ordering::Less),
                Rule::Report | Rule::Every | Rule::List => None,
            };
            Some((rows[0], row?))
        });
        self.chosen = chosen.collect();
    }

    /// The row whose rank stands so to all others. `None` when a rank can't be told, or when rows
    /// of the same rank disagree on what is taken.
    fn foremost(&self, rows: &[RowId], order: Ordering) -> Option<RowId> {
        let ranks: Option<Vec<Rank>> = rows.iter().map(|&row| self.rank_of(row)).collect();
        let ranks = ranks?;
        let mut best = 0;
        for at in 1..rows.len() {
            if ranks[at].compare(&ranks[best])? == order {
                best = at;
            }
        }
        let tied = (0..rows.len()).filter(|&at| ranks[at] == ranks[best]);
        let mut tied = tied.map(|at| self.taken_cells(rows[at]));
        tied.all(|cells| cells.eq(self.taken_cells(rows[best]))).then_some(rows[best])
    }

    fn rank_of(&self, row: RowId) -> Option<Rank> {
        let behind = self.key.parts().len() + self.taken.len();
        packed::Cells::new(self.records.get(row)).nth(behind).and_then(Rank::of)
    }

    /// The rule for keys whose rows disagree.
    pub fn rule(&self) -> Rule {
        self.rule
    }

    /// The row that the rule chose for a key whose rows disagree.
    pub(crate) fn chosen(&self, first: RowId) -> Option<RowId> {
        let at = self.chosen.binary_search_by_key(&first, |pair| pair.0).ok()?;
        Some(self.chosen[at].1)
    }

    /// Whether a blank part of a key meets a blank one.
    pub(crate) fn matches_blanks(&self) -> bool {
        self.match_blanks
    }

    /// Whether several rows hold the key whose first row this is.
    pub(crate) fn is_repeated(&self, first: RowId) -> bool {
        self.repeats.binary_search_by_key(&first, |pair| pair.0).is_ok()
    }

    /// What the reference is called in messages and gates.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The headers of its table.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// Its key.
    pub fn key(&self) -> &Key {
        &self.key
    }

    /// The taken columns, from 0.
    pub fn taken(&self) -> &[usize] {
        &self.taken
    }

    /// How many rows it has.
    pub fn rows(&self) -> u64 {
        self.records.len()
    }

    /// How many different keys its rows hold.
    pub fn keys(&self) -> u64 {
        self.keys
    }

    /// The rows with a blank part in their key, which no main row can ask for.
    pub fn keyless(&self) -> &[RowId] {
        &self.keyless
    }

    /// The rows with a value in their key that a step could not read, so that no main row can ask
    /// for them.
    pub fn malformed(&self) -> &[RowId] {
        &self.malformed
    }

    /// The taken columns on which the rows of some key disagree, from 0 in the table.
    pub fn disputed(&self) -> impl Iterator<Item = usize> {
        self.taken.iter().zip(&self.disputed).filter(|(_, disputed)| **disputed).map(|(&c, _)| c)
    }

    /// The line of the file on which a row begins, from 1.
    pub fn line(&self, row: RowId) -> u64 {
        self.lines.of(u64::from(row.0))
    }

    /// The parts of a row's key as they are compared.
    pub fn as_compared(&self, row: RowId) -> impl Iterator<Item = &str> + use<'_> {
        packed::Cells::new(self.records.get(row)).take(self.key.parts().len())
    }

    /// The cells that a row's key is made from, as they were read, in the order of the key's
    /// columns.
    pub fn as_read(&self, row: RowId) -> Vec<&str> {
        let ranks = usize::from(self.rank.is_some());
        let behind = self.key.parts().len() + self.taken.len() + ranks;
        let kept: Vec<&str> = packed::Cells::new(self.records.get(row)).skip(behind).collect();
        match &self.verbatim_parts {
            Some(parts) if kept.is_empty() => {
                let compared: Vec<&str> = self.as_compared(row).collect();
                parts.iter().map(|&part| compared[part]).collect()
            }
            _ => kept,
        }
    }

    /// The taken cells of a row, in the order of the taken columns.
    pub fn taken_cells(&self, row: RowId) -> impl Iterator<Item = &str> + use<'_> {
        let mut cells = packed::Cells::new(self.records.get(row));
        for _ in self.key.parts() {
            cells.next();
        }
        cells.take(self.taken.len())
    }

    /// The first row that holds a packed key.
    pub(crate) fn find(&self, key: &str) -> Option<RowId> {
        let hash = hash(&self.hasher, key);
        self.index.find(hash, |row| self.records.get(RowId(row)).starts_with(key)).map(RowId)
    }

    /// Whether the rows of the key whose first row this is disagree.
    pub(crate) fn is_conflicting(&self, first: RowId) -> bool {
        let word = self.conflicting.get(first.index() / 64);
        word.is_some_and(|word| word >> (first.index() % 64) & 1 == 1)
    }

    /// All rows of the key whose first row this is, in order.
    pub fn rows_of(&self, first: RowId) -> impl Iterator<Item = RowId> {
        let start = self.repeats.partition_point(|repeat| repeat.0 < first);
        let others = self.repeats[start..].iter().take_while(move |repeat| repeat.0 == first);
        std::iter::once(first).chain(others.map(|repeat| repeat.1))
    }

    /// The keys that several rows hold, in the order of their first rows.
    pub fn groups(&self) -> impl Iterator<Item = Group> {
        self.repeats.chunk_by(|a, b| a.0 == b.0).map(|repeats| {
            let first = repeats[0].0;
            let spelling = self.as_read(first);
            Group {
                rows: self.rows_of(first).collect(),
                conflicting: self.is_conflicting(first),
                collapsed: repeats.iter().any(|&(_, row)| self.as_read(row) != spelling),
            }
        })
    }

    /// The rows whose key has these parts, but for those that are `None`.
    pub fn rows_with<'a>(
        &'a self,
        parts: &'a [Option<&'a str>],
    ) -> impl Iterator<Item = RowId> + 'a {
        let fits = move |row: &RowId| {
            let held = self.as_compared(*row);
            held.zip(parts).all(|(held, wanted)| wanted.is_none_or(|wanted| wanted == held))
        };
        (0..self.rows() as u32).map(RowId).filter(fits)
    }

    /// Every row whose key is asked for no time: `asked` counts, under the first row of each key,
    /// how often it was.
    pub(crate) fn unused<'a>(&'a self, asked: &'a [u32]) -> impl Iterator<Item = RowId> + 'a {
        // A later row of a key is asked for when the first one is.
        let mut later: Vec<(RowId, RowId)> =
            self.repeats.iter().map(|&(first, row)| (row, first)).collect();
        later.sort_unstable();
        (0..self.rows() as u32).map(RowId).filter(move |&row| {
            let first = match later.binary_search_by_key(&row, |pair| pair.0) {
                Ok(at) => later[at].1,
                Err(_) => row,
            };
            asked[first.index()] == 0
        })
    }
}

/// The half of the hash that the index keeps.
fn hash(hasher: &RandomState, key: &str) -> u32 {
    (hasher.hash_one(key) >> 32) as u32
}
