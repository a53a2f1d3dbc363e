//! A reference table as a lookup keeps it: of each row the key and the taken cells, nothing else.
//!
//! All rows stand in one text arena, each as its packed key with its packed taken cells behind it,
//! so that comparing a key and reading the cells touches one place. Where steps made the key
//! another than what was read, the cells it was made from stand behind those, for the findings.
//! Rows are known by their number from 0 ([`RowId`]).
//!
//! What holds a key is a [`Holder`]: a row, or in a reverse lookup one cell of a row; the keys of
//! such cells stand in an arena of their own. The index leads to the first holder of each key, and
//! the few later holders of repeated keys stand in a list.

use std::collections::HashSet;
use std::hash::{BuildHasher, Hasher};
use std::hint::black_box;
use std::sync::{Arc, OnceLock};

use ahash::RandomState;

use super::asked_keys::AskedKeys;
use super::index::Index;
use super::ranges::Ranges;
use super::records::Records;
use super::shares::Shares;
use super::values::Values;
use super::{Holder, Line, Position, RowId, Rule};
use crate::key::{Key, Unreadable};
use crate::table::{CellKind, Headers, Lines, Plainly, packed};
use crate::template::Bound;

/// How many bytes memory hands over at a time, on nearly all machines.
const MEMORY_LINE: usize = 64;

/// How many bytes of a record are fetched ahead at most.
pub(super) const TOUCHED: usize = 3 * MEMORY_LINE;

/// What seeds the hash of a run, so that keys can't be made to collide beforehand. It changes
/// nothing in what is found.
pub type Seed = [u64; 4];

/// A reference table, loaded.
#[derive(Debug)]
pub struct Reference {
    pub(super) name: String,
    pub(super) headers: Headers,
    /// The tables that its rows stand in, each with its first row.
    pub(super) tables: Vec<(RowId, String)>,
    pub(super) lines: Vec<Lines>,
    /// Its key: one, or in a reverse lookup one for each column that is looked in.
    pub(super) keys: Vec<Key>,
    /// The columns that are looked in; none unless the lookup is a reverse one.
    pub(super) looked_in: Vec<usize>,
    /// What each of the tables is called beside its rows.
    pub(super) labels: Vec<String>,
    pub(super) by_position: bool,
    /// The keys whose rows are kept, when not all are.
    pub(super) only_asked: Option<AskedKeys>,
    /// All rows, when they do not fit into memory.
    pub(super) shares: Option<Shares>,
    /// Where each row that is kept stands among all, when not all are.
    pub(super) positions: Vec<u32>,
    /// How many rows the table has.
    pub(super) all_rows: u64,
    pub(super) taken: Vec<usize>,
    /// How many of the taken columns every main row takes; the others are named by its values.
    pub(super) always: usize,
    /// Whether it is taken in which column a value stands.
    pub(super) takes_column: bool,
    /// How taken cells are written, where they go out as they stand here.
    pub(super) plainly: Option<Plainly>,
    pub(super) rows: Records,
    /// Values that many rows take, once enough rows are there to tell.
    pub(super) values: Arc<OnceLock<Values>>,
    /// How far from its beginning a record is fetched ahead.
    pub(super) touched: usize,
    /// The kinds of the taken cells, row by row; empty where none was said.
    pub(super) taken_kinds: Vec<CellKind>,
    pub(super) cells: Cells,
    /// What the hash is seeded by.
    pub(super) seed: Seed,
    pub(super) hasher: RandomState,
    pub(super) index: Index,
    /// For each holder that repeats a key: the first one, and it; sorted.
    pub(super) repeats: Vec<(Holder, Holder)>,
    /// The first holders of keys whose rows disagree, as a set of bits; empty when there are none.
    pub(super) conflicting: Vec<u64>,
    pub(super) rule: Rule,
    /// What rows are put in order by, where the rule asks for it; its value stands behind the taken
    /// cells.
    pub(super) rank: Option<Bound>,
    /// Under the first holder of a key whose rows disagree, the one that the rule chose; sorted.
    pub(super) chosen: Vec<(Holder, Holder)>,
    pub(super) match_blanks: bool,
    /// Rows with a blank part in their key, or a blank end of their range.
    pub(super) keyless: Vec<RowId>,
    /// Rows with a value in their key or range that could not be read.
    pub(super) malformed: Vec<RowId>,
    /// For each of the key's columns a part that is its value, where the key was read so.
    pub(super) verbatim_parts: Option<Vec<usize>>,
    /// Which of the taken columns the rows of some key disagree on.
    pub(super) disputed: Vec<bool>,
    pub(super) key_count: u64,
    pub(super) ranged: Option<Ranged>,
}

/// The cells that hold keys in a reverse lookup.
#[derive(Debug, Default)]
pub(super) struct Cells {
    /// Their packed keys, in the order in which they were read.
    pub(super) keys: Records,
    /// The cells in the order in which they count.
    pub(super) all: Vec<CellAt>,
}

/// Where a cell stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct CellAt {
    /// Its column among those that are looked in.
    pub(super) column: u32,
    pub(super) row: RowId,
    /// Its key among the packed ones.
    pub(super) key: u32,
}

/// How the rows of a reference tell their ranges.
#[derive(Debug)]
pub(super) struct Ranged {
    /// Templates of the bounds, the lower one first where there are two.
    pub(super) bounds: Vec<Bound>,
    /// What joins them in messages.
    pub(super) joint: Joint,
    pub(super) line: Option<Line>,
    pub(super) index: Ranges,
}

/// How a range is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Joint {
    Closed,
    Open,
    From,
    UpTo,
}

impl Reference {
    /// What the reference is called in messages and gates.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The headers of its table.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// Its key; in a reverse lookup the one of the first column that is looked in.
    pub fn key(&self) -> &Key {
        &self.keys[0]
    }

    /// Every column that a key is made from, each once.
    pub fn key_columns(&self) -> Vec<usize> {
        let mut columns = Vec::new();
        for &column in self.keys.iter().flat_map(Key::columns) {
            if !columns.contains(&column) {
                columns.push(column);
            }
        }
        columns
    }

    /// The columns that a reverse lookup looks in, as they were written; none in others.
    pub fn looked_in(&self) -> &[usize] {
        &self.looked_in
    }

    /// Whether rows are matched by their position alone.
    pub fn is_by_position(&self) -> bool {
        self.by_position
    }

    /// Whether every part of its keys is the value of a column as it stands.
    pub fn is_verbatim(&self) -> bool {
        self.keys.iter().all(Key::is_verbatim)
    }

    /// The rule for keys whose rows disagree.
    pub fn rule(&self) -> Rule {
        self.rule
    }

    /// The taken columns, from 0.
    pub fn taken(&self) -> &[usize] {
        &self.taken
    }

    /// How many of them every main row takes.
    pub(crate) fn always(&self) -> usize {
        self.always
    }

    /// How its taken cells are written, where they go out as they stand in its texts.
    pub(crate) fn plainly(&self) -> Option<Plainly> {
        self.plainly
    }

    pub(super) fn takes_column(&self) -> bool {
        self.takes_column
    }

    /// How many rows it has.
    pub fn rows(&self) -> u64 {
        self.all_rows
    }

    /// Whether only rows are kept that a main row asks for. Keys are then told of these only.
    pub fn keeps_asked_only(&self) -> bool {
        self.only_asked.is_some()
    }

    /// How many rows were not kept; none of them was asked for.
    pub(crate) fn skipped(&self) -> u64 {
        self.all_rows - self.rows.len() as u64
    }

    /// How many different keys its rows hold.
    pub fn keys(&self) -> u64 {
        self.key_count
    }

    /// How many ranges its rows have, where these tell which rows count.
    pub fn ranges(&self) -> Option<u64> {
        self.ranged.as_ref().map(|ranged| ranged.index.len() as u64)
    }

    /// The rows with a blank part in their key or range, which no main row can ask for.
    pub fn keyless(&self) -> &[RowId] {
        &self.keyless
    }

    /// The rows with a value in their key or range that could not be read, so that no main row can
    /// ask for it.
    pub fn malformed(&self) -> &[RowId] {
        &self.malformed
    }

    /// The taken columns on which the rows of some key disagree, from 0 in the table.
    pub fn disputed(&self) -> impl Iterator<Item = usize> {
        self.taken.iter().zip(&self.disputed).filter(|(_, disputed)| **disputed).map(|(&c, _)| c)
    }

    /// The table that a row stands in, when there are several.
    pub fn table(&self, row: RowId) -> Option<&str> {
        (self.tables.len() > 1).then(|| self.table_of(row))
    }

    /// The table that a row is in, by the end of its path that no other has: it does not depend on the folder that
    /// the program runs in.
    pub fn table_of(&self, row: RowId) -> &str {
        let label = self.labels.get(self.table_at(row));
        label.map_or_else(|| self.headers.table(), String::as_str)
    }

    /// The tables that its rows stand in, in order, each with how many it has.
    pub fn tables(&self) -> impl Iterator<Item = (&str, u64)> {
        let firsts = self.tables.iter().map(|(first, _)| u64::from(first.0));
        let ends = firsts.clone().skip(1).chain([self.rows()]);
        let rows = firsts.zip(ends).map(|(first, end)| end - first);
        self.tables.iter().map(|(_, name)| &name[..]).zip(rows)
    }

    /// Where a row stands among all rows of the tables.
    pub(super) fn position_of(&self, row: RowId) -> RowId {
        self.positions.get(row.index()).map_or(row, |&at| RowId(at))
    }

    fn table_at(&self, row: RowId) -> usize {
        let row = self.position_of(row);
        self.tables.partition_point(|(first, _)| *first <= row).saturating_sub(1)
    }

    /// The row's number in its table as a person counts: data rows from 1.
    pub fn number(&self, row: RowId) -> u64 {
        let first = self.tables.get(self.table_at(row)).map_or(0, |(first, _)| first.0);
        u64::from(self.position_of(row).0 - first) + 1
    }

    /// The line of the file on which a row begins, from 1.
    pub fn line(&self, row: RowId) -> u64 {
        let table = self.table_at(row);
        self.lines.get(table).map_or(0, |lines| lines.of(self.number(row) - 1))
    }

    /// The row of a holder.
    pub fn row(&self, holder: Holder) -> RowId {
        match self.looked_in[..] {
            [] => RowId(holder.0),
            _ => self.cells.all[holder.index()].row,
        }
    }

    /// What holds a row's key, where the row itself does.
    pub fn holder_of(&self, row: RowId) -> Option<Holder> {
        self.looked_in.is_empty().then_some(Holder(row.0))
    }

    /// The column of a holder, from 0 in the table, where it is a cell.
    pub fn column(&self, holder: Holder) -> Option<usize> {
        let cell = self.cells.all.get(holder.index())?;
        Some(self.looked_in[cell.column as usize])
    }

    /// The first of some holders in each of their rows, in order.
    pub(crate) fn first_in_rows(&self, holders: &[Holder]) -> Vec<Holder> {
        if self.looked_in.is_empty() {
            return holders.to_vec();
        }
        // Within one column rows ascend, so that only another column can bring one again.
        let mut seen = HashSet::new();
        let is_first = |holder: &Holder| seen.insert(self.row(*holder).0);
        holders.iter().copied().filter(is_first).collect()
    }

    /// The rows of some holders, each once and in their order.
    pub fn rows_among(&self, holders: &[Holder]) -> Vec<RowId> {
        self.first_in_rows(holders).into_iter().map(|holder| self.row(holder)).collect()
    }

    pub(crate) fn holder_count(&self) -> usize {
        if self.looked_in.is_empty() { self.rows.len() } else { self.cells.all.len() }
    }

    /// The seed of its hashes, made new for every run.
    pub(crate) fn hasher(&self) -> &RandomState {
        &self.hasher
    }

    /// The first holder of each key, in order.
    pub(crate) fn firsts(&self) -> impl Iterator<Item = Holder> + '_ {
        let mut is_first = vec![true; self.holder_count()];
        self.repeats.iter().for_each(|(_, later)| is_first[later.index()] = false);
        if self.looked_in.is_empty() {
            for row in self.keyless.iter().chain(&self.malformed) {
                is_first[row.index()] = false;
            }
        }
        let all = is_first.into_iter().enumerate();
        all.filter(|(_, is_first)| *is_first).map(|(at, _)| Holder(at as u32))
    }

    /// The packed key that a holder holds, with or without more behind it.
    pub(super) fn key_text(&self, holder: Holder) -> &str {
        match self.looked_in[..] {
            [] => self.rows.get(holder.index()),
            _ => self.cells.keys.get(self.cells.all[holder.index()].key as usize),
        }
    }

    /// Where the packed key of a holder begins among those of all.
    #[inline]
    pub(super) fn key_start(&self, holder: Holder) -> usize {
        match self.looked_in[..] {
            [] => self.rows.start(holder.index()),
            _ => self.cells.keys.start(self.cells.all[holder.index()].key as usize),
        }
    }

    /// What the packed keys stand in, each with more behind it or not.
    #[inline]
    fn key_records(&self) -> &Records {
        if self.looked_in.is_empty() { &self.rows } else { &self.cells.keys }
    }

    /// The texts in which the packed keys stand.
    #[inline]
    pub(super) fn key_texts(&self) -> &[u8] {
        self.key_records().text.as_bytes()
    }

    /// The same as [`Reference::key_start`], with the place at hand that the index has.
    #[inline]
    pub(super) fn key_start_by(&self, holder: Holder, place: u32) -> usize {
        if self.key_records().has_whole_places() { place as usize } else { self.key_start(holder) }
    }

    /// Reads from the first lines of memory that some records take, so that they are at hand.
    pub(super) fn touch(&self, starts: &[usize]) {
        let texts = self.key_texts();
        let byte = |at: usize| texts.get(at).copied().unwrap_or_default();
        let last = self.touched;
        let touch = |start: &usize| {
            let Some(first) = texts.get(*start) else { return 0 };
            let mut touched = first ^ byte(start + last);
            if last > MEMORY_LINE {
                touched ^= byte(start + MEMORY_LINE);
            }
            if last > 2 * MEMORY_LINE {
                touched ^= byte(start + 2 * MEMORY_LINE);
            }
            touched
        };
        black_box(starts.iter().fold(0, |touched, start| touched ^ touch(start)));
    }

    pub(super) fn parts(&self) -> usize {
        self.key().parts().len()
    }

    /// The parts of a holder's key as they are compared.
    pub fn as_compared(&self, holder: Holder) -> impl Iterator<Item = &str> + use<'_> {
        packed::Cells::new(self.key_text(holder)).take(self.parts())
    }

    /// The same, to be gone through several times.
    pub(crate) fn key_parts(&self, holder: Holder) -> impl Iterator<Item = &str> + Clone + use<'_> {
        packed::Cells::new(packed::first_cells(self.key_text(holder), self.parts()))
    }

    /// The cells that a holder's key is made from, as they were read, in the order of the key's
    /// columns.
    pub fn as_read(&self, holder: Holder) -> Vec<&str> {
        let columns = match self.cells.all.get(holder.index()) {
            Some(cell) => self.keys[cell.column as usize].columns(),
            None => return self.row_as_read(self.row(holder)),
        };
        let (all, read) = (self.key_columns(), self.row_as_read(self.row(holder)));
        let place = |column: &usize| all.iter().position(|other| other == column);
        columns.iter().filter_map(place).map(|place| read[place]).collect()
    }

    /// The cells that a row's keys are made from, as they were read, in the order of
    /// [`Reference::key_columns`].
    pub fn row_as_read(&self, row: RowId) -> Vec<&str> {
        let kept: Vec<&str> = self.behind_taken(row).skip(self.extras()).collect();
        match &self.verbatim_parts {
            Some(parts) if kept.is_empty() && self.looked_in.is_empty() => {
                let compared: Vec<&str> = self.as_compared(Holder(row.0)).collect();
                parts.iter().map(|&part| compared[part]).collect()
            }
            _ => kept,
        }
    }

    /// How many cells stand between those that are taken and those that a row's key was read from.
    fn extras(&self) -> usize {
        usize::from(self.rank.is_some()) + self.bound_columns().len()
    }

    /// The columns that the bounds of a range are made from, each as often as it is used.
    pub(super) fn bound_columns(&self) -> Vec<usize> {
        let bounds = self.ranged.iter().flat_map(|ranged| &ranged.bounds);
        bounds.flat_map(Bound::columns).copied().collect()
    }

    /// The cells that the bounds of a row's range are made from, as they were read.
    fn bounds_as_read(&self, row: RowId) -> Vec<&str> {
        let cells = self.behind_taken(row).skip(usize::from(self.rank.is_some()));
        cells.take(self.bound_columns().len()).collect()
    }

    /// A row's range as it was read: `2026-03-01 .. 2026-05-31`.
    pub fn range_as_read(&self, row: RowId) -> Option<String> {
        let ranged = self.ranged.as_ref()?;
        let mut read = self.bounds_as_read(row);
        for blank in read.iter_mut().filter(|bound| bound.is_empty()) {
            *blank = "(blank)";
        }
        Some(match (ranged.joint, &read[..]) {
            (Joint::Closed, [lower, upper]) => format!("{lower} .. {upper}"),
            (Joint::Open, [lower, upper]) => format!("{lower} ..< {upper}"),
            (Joint::From, _) => format!("{} ..", read.join(" ")),
            (Joint::UpTo, _) => format!(".. {}", read.join(" ")),
            (Joint::Closed | Joint::Open, _) => read.join(" .. "),
        })
    }

    pub(super) fn rank_of(&self, holder: Holder) -> Option<&str> {
        self.rank.as_ref()?;
        self.behind_taken(self.row(holder)).next()
    }

    /// The first value of a malformed row that could not be read.
    pub fn unreadable(&self, row: RowId) -> Option<Unreadable> {
        let (columns, read) = (self.key_columns(), self.row_as_read(row));
        for key in &self.keys {
            let place = |column: &usize| columns.iter().position(|other| other == column);
            let read: Vec<&str> =
                key.columns().iter().filter_map(place).map(|place| read[place]).collect();
            if let Some(bad) = key.unreadable(&read) {
                return Some(bad);
            }
        }
        let ranged = self.ranged.as_ref()?;
        let read = self.bounds_as_read(row);
        let mut from = 0;
        for bound in &ranged.bounds {
            let cells = &read[from..from + bound.columns().len()];
            from += cells.len();
            let value = bound.of_cells(cells);
            if value.as_deref() == Some("") {
                continue;
            }
            let position = value.as_deref().and_then(Position::of);
            if position.is_none_or(|position| Some(position.line()) != ranged.line) {
                let value = value.unwrap_or_else(|| cells.join(" "));
                return Some(Unreadable::within(bound, value));
            }
        }
        let (bound, range) = (ranged.bounds.first()?, self.range_as_read(row)?);
        Some(Unreadable::within(bound, range))
    }

    /// The first holder of a packed key.
    pub(super) fn find(&self, key: &str) -> Option<Holder> {
        self.find_hashed(key.as_bytes(), hash(&self.hasher, key.as_bytes()))
    }

    /// The first holder of a packed key that has this hash.
    pub(super) fn find_hashed(&self, key: &[u8], hash: u32) -> Option<Holder> {
        let is_equal = |holder| self.key_text(Holder(holder)).as_bytes().starts_with(key);
        self.index.find(hash, is_equal).map(Holder)
    }

    /// The row at a position, as a person counts.
    pub(super) fn at_position(&self, number: u64) -> Option<Holder> {
        let at = number.checked_sub(1).filter(|&at| at < self.rows())?;
        Some(Holder(at as u32))
    }

    /// The first holder of the key that a holder has.
    pub(crate) fn first_of(&self, holder: Holder) -> Holder {
        let key = packed::first_cells(self.key_text(holder), self.parts());
        self.find(key).unwrap_or(holder)
    }

    /// Where a value stands, if it is on the line of the ranges.
    pub(super) fn position(&self, value: &str) -> Option<Position> {
        let line = self.ranged.as_ref()?.line;
        Position::of(value).filter(|position| line.is_none_or(|line| line == position.line()))
    }

    /// Finds the holders of a key, whose first one is given, that count for a position.
    pub(super) fn in_range(&self, first: Holder, position: Position, found: &mut Vec<Holder>) {
        found.clear();
        if let Some(ranged) = &self.ranged {
            ranged.index.find(first, position.at(), found);
        }
    }

    /// The row of a key, whose first holder is given, that comes nearest to a position.
    pub(super) fn nearest_range(&self, first: Holder, position: Position) -> Option<RowId> {
        let nearest = self.ranged.as_ref()?.index.nearest(first, position.at())?;
        Some(self.row(nearest))
    }

    /// The holder that the rule chose for a key whose rows disagree.
    pub(super) fn chosen(&self, first: Holder) -> Option<Holder> {
        let at = self.chosen.binary_search_by_key(&first, |pair| pair.0).ok()?;
        Some(self.chosen[at].1)
    }

    /// Whether a blank part of a key meets a blank one.
    pub(crate) fn matches_blanks(&self) -> bool {
        self.match_blanks
    }

    /// Whether several holders hold the key whose first one this is.
    pub(super) fn is_repeated(&self, first: Holder) -> bool {
        let at = self.repeats.partition_point(|repeat| repeat.0 < first);
        self.repeats.get(at).is_some_and(|repeat| repeat.0 == first)
    }

    /// Whether the rows of the key whose first holder this is disagree.
    #[inline]
    pub(super) fn is_conflicting(&self, first: Holder) -> bool {
        let word = self.conflicting.get(first.index() / 64);
        word.is_some_and(|word| word >> (first.index() % 64) & 1 == 1)
    }

    /// All holders of the key whose first one this is, in order.
    pub fn holders_of(&self, first: Holder) -> impl Iterator<Item = Holder> + use<'_> {
        let start = self.repeats.partition_point(|repeat| repeat.0 < first);
        let others = self.repeats[start..].iter().take_while(move |repeat| repeat.0 == first);
        std::iter::once(first).chain(others.map(|repeat| repeat.1))
    }

    /// The holders whose key has these parts, but for those that are `None`.
    pub fn holders_with<'a>(
        &'a self,
        parts: &'a [Option<&'a str>],
    ) -> impl Iterator<Item = Holder> + 'a {
        let fits = move |holder: &Holder| {
            let held = self.as_compared(*holder);
            held.zip(parts).all(|(held, wanted)| wanted.is_none_or(|wanted| wanted == held))
        };
        (0..self.holder_count() as u32).map(Holder).filter(fits)
    }

    /// Every row that nothing asked for, in order: it is told whether something did of the first
    /// holder of each key, or where there are ranges of each holder.
    pub(crate) fn unused<F: Fn(Holder) -> bool>(
        &self,
        is_asked: F,
    ) -> impl Iterator<Item = RowId> + use<'_, F> {
        let mut used = vec![false; self.rows.len()];
        for holder in Holder::at(0..self.holder_count()).filter(|holder| is_asked(*holder)) {
            used[self.row(holder).index()] = true;
        }
        if self.ranged.is_none() {
            for (first, holder) in &self.repeats {
                if is_asked(*first) {
                    used[self.row(*holder).index()] = true;
                }
            }
        }
        used.into_iter().enumerate().filter(|(_, used)| !used).map(|(row, _)| RowId(row as u32))
    }
}

/// The half of the hash that the index keeps.
#[inline]
pub(crate) fn hash(hasher: &RandomState, key: &[u8]) -> u32 {
    // A packed key tells where it ends, so that nothing need be added.
    let mut hasher = hasher.build_hasher();
    hasher.write(key);
    (hasher.finish() >> 32) as u32
}
