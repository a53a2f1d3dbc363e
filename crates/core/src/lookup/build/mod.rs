//! Building a reference: its rows are packed as they are read, and indexed once all of them are there.

mod conflicts;
mod key_filter;
mod pack;
mod rows;

use std::sync::{Arc, OnceLock};

use ahash::RandomState;

pub(crate) use key_filter::SPARE_ROWS;
pub(super) use rows::BuildRows;

use super::index::{KeyIndex, RangeIndex, Ranges, index_keys};
use super::reference::Residence;
use super::spec::{RangeSpec, Spec};
use super::store::{DICTIONARIES_FROM, Dictionaries, RecordLayout, RowStore, Tables};
use super::{Bounds, EntryId, Reference, RowId, Rule, TakenColumns};
use crate::hashing::Seed;
use crate::key::Key;
use crate::plan::Reach;
use crate::spill::{Partitions, Scratch};
use crate::table::in_order::in_order;
use crate::table::packed::RowCell;
use crate::table::{Block, Headers, Lines, RawForm, Source, TotalRow};
use crate::template::BoundTemplate;
use crate::value::Scale;
use crate::{Error, Result};
use key_filter::KeyFilter;
use pack::RowPacker;

/// What to do with a reference that exceeds its memory limit.
#[derive(Debug)]
pub enum Overflow {
    /// Spill its rows to this scratch space, in partitions.
    Spill(Arc<dyn Scratch>),
    /// Fail with this reason: what needs the whole reference in memory.
    Refuse(String),
}

/// Builds a [`Reference`] of the rows of one or more tables.
///
/// ```
/// use gather_keys_core::key::Key;
/// use gather_keys_core::lookup::{ReferenceBuilder, TakenColumns};
/// use gather_keys_core::table::MemoryTable;
/// use gather_keys_core::template::Template;
///
/// let mut hives = MemoryTable::new("hives", ["Hive", "Keeper"], [["7", "Edda Larkhollow"]]);
/// let key = Key::new(vec![Template::parse("on", "Hive")?.bind(hives.headers())?], Vec::new());
/// let taken = TakenColumns::all(vec![1]);
/// let mut builder =
///     ReferenceBuilder::new("hives", hives.headers(), vec![key], Vec::new(), taken, [1, 2, 3, 4]);
/// builder.read(&mut hives, 1)?;
/// let reference = builder.finish()?;
/// assert_eq!(reference.keys(), 1);
/// # Ok::<(), gather_keys_core::Error>(())
/// ```
#[derive(Debug)]
pub struct ReferenceBuilder {
    spec: Spec,
    tables: Tables,
    rows: BuildRows,
    /// The rows, once they exceed the memory limit.
    partitions: Option<Partitions>,
    /// The memory limit in bytes, and what to do beyond it.
    limit: Option<(u64, Overflow)>,
    filter: Option<KeyFilter>,
    dictionaries: Arc<OnceLock<Dictionaries>>,
    /// How many bytes of rows there must be for dictionaries.
    dictionaries_from: usize,
    has_read: bool,
    threads: usize,
    /// What the rows are, if they are some of a table that is elsewhere.
    some_of: Option<SomeRows>,
}

/// Some rows of a table that is elsewhere, as in a database.
#[derive(Debug, Default)]
pub struct SomeRows {
    /// Their positions among all rows, from 0 and ascending.
    pub positions: Vec<u32>,
    /// Their names, where rows have no numbers, which are empty for rows that nobody names; else none.
    pub names: Vec<Box<str>>,
    /// How many rows the table has.
    pub rows: u64,
    /// How many different keys these have.
    pub keys: u64,
}

impl ReferenceBuilder {
    /// Begins a reference called `name` in messages and gates, which keeps the columns `taken`. A reverse lookup
    /// has a key for each column in `searched`; another lookup has one key and `searched` is empty.
    pub fn new(
        name: &str,
        headers: &Headers,
        keys: Vec<Key>,
        searched: Vec<usize>,
        taken: TakenColumns,
        seed: Seed,
    ) -> Self {
        let [a, b, c, d] = seed;
        debug_assert_eq!(keys.len(), searched.len().max(1));
        let spec = Spec {
            name: name.to_owned(),
            headers: headers.clone(),
            verbatim_parts: keys[0].verbatim_parts(),
            keys,
            searched,
            by_position: false,
            match_blanks: false,
            taken,
            raw_form: None,
            rule: Rule::Report,
            rank: None,
            range: None,
            seed,
            hasher: RandomState::with_seeds(a, b, c, d),
        };
        Self {
            spec,
            tables: Tables::of(headers.table()),
            rows: BuildRows::default(),
            partitions: None,
            limit: None,
            filter: None,
            dictionaries: Arc::default(),
            dictionaries_from: DICTIONARIES_FROM,
            has_read: false,
            threads: 1,
            some_of: None,
        }
    }

    /// Sets what to do with keys whose rows disagree. The rules for the highest or lowest row order rows by
    /// `rank`. The default is [`Rule::Report`].
    #[must_use]
    pub fn resolving(mut self, rule: Rule, rank: Option<BoundTemplate>) -> Self {
        self.spec.rule = rule;
        self.spec.rank = rank;
        self
    }

    /// Lets a blank part of a key match a blank part. Off by default.
    #[must_use]
    pub fn matching_blanks(mut self, yes: bool) -> Self {
        self.spec.match_blanks = yes;
        self
    }

    /// Keeps only rows whose key is that of some main row, by the main table's `key`; reads the main table to its
    /// end. Useful for a small main table and a large reference. Call it before rows are read; reverse lookups,
    /// ranges and matches by position can't be filtered.
    ///
    /// # Errors
    /// The errors of the main table.
    pub fn filter_by<S: Source>(
        &mut self,
        key: &Key,
        main: &mut S,
    ) -> std::result::Result<(), S::Error> {
        self.filter = Some(KeyFilter::read(key, &self.spec.hasher, main)?);
        Ok(())
    }

    /// Limits the memory of the rows to this many bytes. Call it before rows are read; reverse lookups, ranges,
    /// aliases and matches by position can't be spilled. There is no limit by default.
    #[must_use]
    pub fn memory_limit(mut self, bytes: u64, overflow: Overflow) -> Self {
        self.limit = Some((bytes, overflow));
        self
    }

    /// Sets from how many bytes of rows on equal values of a column are stored once, which saves memory and takes
    /// a little time. The default is 64 MiB.
    #[must_use]
    pub fn dictionaries_from(mut self, bytes: usize) -> Self {
        self.dictionaries_from = bytes;
        self
    }

    /// Stores taken cells in a raw form, so that they can be passed through to the output. Call it before rows
    /// are read. Off by default.
    #[must_use]
    pub fn raw_form(mut self, raw_form: Option<RawForm>) -> Self {
        self.spec.raw_form = raw_form;
        self
    }

    /// Matches rows by their position, whatever their key. Off by default.
    #[must_use]
    pub fn by_position(mut self, yes: bool) -> Self {
        self.spec.by_position = yes;
        self
    }

    /// Chooses among the rows of a key by a range, or the closest row within `reach`.
    #[must_use]
    pub fn ranged(mut self, bounds: Bounds, reach: Option<Reach>) -> Self {
        self.spec.range = Some(RangeSpec::new(bounds, reach));
        self
    }

    /// Adds the rows of a block.
    ///
    /// # Errors
    /// [`Error::TooManyRows`] from four billion rows, or searched cells, on.
    pub fn add(&mut self, block: &Block) -> Result<()> {
        let packer = RowPacker {
            spec: &self.spec,
            dictionaries: &self.dictionaries,
            filter: self.filter.as_ref(),
        };
        packer.pack_block(block, &mut self.rows);
        if let Some(lines) = self.tables.lines.last_mut() {
            block.append_lines_to(lines);
        }
        self.rows.refuse_too_many(&self.spec.headers, 0)
    }

    /// Adds all rows of a source, on up to `threads` threads, after the rows of earlier sources. Every source has
    /// the same columns.
    ///
    /// # Errors
    /// The errors of the source, and [`Error::TooManyRows`]; [`Error::OverMemory`] and [`Error::Scratch`]
    /// past the memory limit.
    pub fn read<S: Source<Error: From<Error> + Send> + Send>(
        &mut self,
        source: &mut S,
        threads: usize,
    ) -> std::result::Result<(), S::Error> {
        self.threads = threads;
        self.begin_table(source.headers().table().to_owned());
        let Self {
            spec,
            rows: all,
            partitions,
            limit,
            filter,
            dictionaries,
            dictionaries_from,
            ..
        } = self;
        let (spec, filter, dictionaries) = (&*spec, filter.as_ref(), &**dictionaries);
        let packer = RowPacker { spec, dictionaries, filter };
        let width = spec.taken.columns.len();
        let (mut lines, mut total_row) = (Lines::default(), None);
        let pack = |rows: &mut BuildRows, block: &Block| packer.pack_block(block, rows);
        let append = |rows: &mut BuildRows, block: &Block| {
            match partitions {
                Some(partitions) => rows.spill(partitions, width, filter)?,
                None => all.append(rows),
            }
            if dictionaries.get().is_none() && all.arena.text.len() >= *dictionaries_from {
                let _ = dictionaries.set(dictionaries_of(spec, all));
            }
            block.append_lines_to(&mut lines);
            if block.rows() > 0 {
                total_row = TotalRow::last_of(block);
            }
            if let (Some((most, overflow)), None) = (&*limit, &*partitions)
                && all.cost() > *most
            {
                match overflow {
                    Overflow::Spill(scratch) => {
                        let new = partitions.insert(Partitions::new(Arc::clone(scratch)));
                        all.spill(new, width, filter)?;
                    }
                    Overflow::Refuse(why) => {
                        let (reference, why) = (spec.name.clone(), why.clone());
                        return Err(Error::OverMemory { reference, most: *most, why }.into());
                    }
                }
            }
            let spilled = partitions.as_ref().map_or(0, Partitions::rows);
            Ok(all.refuse_too_many(&spec.headers, spilled)?)
        };
        let columns = spec.read_columns();
        in_order(source, threads, &columns, BuildRows::default, pack, append)?;
        if let Some(last) = self.tables.lines.last_mut() {
            *last = lines;
        }
        let name = source.headers().table().to_owned();
        self.tables.total_rows.extend(total_row.map(|row| (name, row)));
        Ok(())
    }

    /// Notes that the next rows are of another table.
    fn begin_table(&mut self, address: String) {
        let first = RowId(self.partitions.as_ref().map_or(self.rows.seen, Partitions::rows));
        if std::mem::replace(&mut self.has_read, true) {
            self.tables.push(first, address);
        } else {
            self.tables.rename_first(address);
        }
    }

    /// Says that the rows are some of a table that is elsewhere.
    #[must_use]
    pub fn some_of(mut self, some: SomeRows) -> Self {
        self.some_of = Some(some);
        self
    }

    /// Builds the reference, once all rows are there.
    ///
    /// # Errors
    /// [`Error::NoPosition`] when no bound of a range is a number or a date, [`Error::ReachOff`] when the reach is
    /// of another kind than the bounds, and [`Error::Scratch`] when the scratch space can't be written to.
    pub fn finish(self) -> Result<Reference> {
        let Self {
            spec,
            mut tables,
            mut rows,
            partitions,
            filter,
            dictionaries,
            threads,
            some_of,
            ..
        } = self;
        tables.finish();
        let (spec, is_filtered) = (Arc::new(spec), filter.is_some());
        if let Some(mut partitions) = partitions {
            partitions.finish()?;
            tables.rows = u64::from(partitions.rows());
            return Ok(Reference {
                store: RowStore::empty(&spec, dictionaries),
                index: KeyIndex::default(),
                residence: Residence::Partitioned(partitions),
                spec,
                tables,
                is_filtered,
            });
        }
        tables.rows = u64::from(rows.seen);
        let Some(SomeRows { positions, names, rows: all, keys }) = some_of else {
            return Reference::of_rows(spec, tables, (rows, dictionaries), is_filtered, threads);
        };
        (rows.positions, tables.names, tables.rows) = (positions, names, all);
        let mut reference =
            Reference::of_rows(spec, tables, (rows, dictionaries), is_filtered, threads)?;
        reference.index.keys = keys;
        Ok(reference)
    }
}

impl Reference {
    /// A reference whose rows are in memory: stores and indexes them.
    pub(super) fn of_rows(
        spec: Arc<Spec>,
        mut tables: Tables,
        (rows, dictionaries): (BuildRows, Arc<OnceLock<Dictionaries>>),
        is_filtered: bool,
        threads: usize,
    ) -> Result<Self> {
        let BuildRows { arena, cells, hashes, keyless, malformed, without_key, kinds, .. } = rows;
        let (ranges, layout) = (rows.ranges, RecordLayout::of(&spec));
        tables.positions = rows.positions;
        let store = RowStore { arena, dictionaries, kinds, layout, keyless, malformed };
        let index = KeyIndex { cells, ..KeyIndex::default() };
        let residence = Residence::Memory;
        let mut reference = Self { spec, tables, store, index, residence, is_filtered };
        if let (Some(range), false, Some((row, nth, value))) =
            (&reference.spec.range, ranges.has_point, ranges.no_point)
        {
            let column = range.bounds[nth].columns().first().copied().unwrap_or_default();
            let headers = reference.headers();
            return Err(Error::NoPosition {
                table: headers.table().to_owned(),
                header: headers.address(column),
                row: reference.number(row),
                value,
            });
        }
        let scale = commonest_scale(&ranges.intervals);
        if let (Some(scale), Some(reach)) =
            (scale, reference.spec.range.as_ref().and_then(|range| range.reach))
            && (scale != Scale::Number) != matches!(reach, Reach::Time(_))
        {
            let table = reference.headers().table().to_owned();
            return Err(Error::ReachOff { table, is_time: scale != Scale::Number });
        }
        index_keys(&mut reference, (&hashes, &without_key), threads);
        if let Some(range) = &reference.spec.range {
            let matching = range.matching;
            let ranges = sorted_ranges(&mut reference, scale, &ranges.intervals, matching);
            reference.index.ranges = Some(RangeIndex::new(scale, ranges));
        }
        conflicts::note_conflicts(&mut reference, threads);
        Ok(reference)
    }

    /// Loads a whole reference table.
    ///
    /// # Errors
    /// The errors of the source, [`Error::TooManyRows`] and the errors of [`ReferenceBuilder::finish`].
    pub fn load<S: Source<Error: From<Error> + Send> + Send>(
        mut builder: ReferenceBuilder,
        source: &mut S,
    ) -> std::result::Result<Self, S::Error> {
        builder.read(source, 1)?;
        Ok(builder.finish()?)
    }
}

/// Chooses the dictionaries for the rows read so far.
fn dictionaries_of(spec: &Spec, rows: &BuildRows) -> Dictionaries {
    let layout = RecordLayout::of(spec);
    let cells = |row| {
        // No cell has a number before there are dictionaries.
        let text = |cell| if let RowCell::Text(text) = cell { text } else { "" };
        layout.taken_row(rows.arena.get(row)).map(text)
    };
    Dictionaries::of(spec.taken.columns.len(), &spec.hasher, rows.len(), cells)
}

/// The scale of most ranges, and of several such scales the first: a stray number among dates must not make all
/// dates useless.
fn commonest_scale(intervals: &[Option<(Scale, super::index::Interval)>]) -> Option<Scale> {
    let mut counts: Vec<(Scale, usize)> = Vec::new();
    for (scale, _) in intervals.iter().flatten() {
        match counts.iter_mut().find(|(other, _)| other == scale) {
            Some((_, count)) => *count += 1,
            None => counts.push((*scale, 1)),
        }
    }
    // `max_by_key` returns the last maximum, here the first scale.
    counts.into_iter().rev().max_by_key(|(_, count)| *count).map(|(scale, _)| scale)
}

/// Sorts the ranges of each key. Rows whose range is on another scale become malformed.
fn sorted_ranges(
    reference: &mut Reference,
    scale: Option<Scale>,
    intervals: &[Option<(Scale, super::index::Interval)>],
    matching: super::index::RangeMatch,
) -> Ranges {
    let mut firsts: Vec<EntryId> = EntryId::at(0..reference.entry_count()).collect();
    for (first, entry) in &reference.index.repeats {
        firsts[entry.index()] = *first;
    }
    let ranges = (0..).map(EntryId).zip(firsts).filter_map(|(entry, first)| {
        let (on, interval) = intervals[reference.row(entry).index()]?;
        (Some(on) == scale).then_some((first, interval, entry))
    });
    let ranges = Ranges::new(matching, ranges.collect());
    let is_off = |interval: &Option<(Scale, _)>| interval.is_some_and(|(on, _)| Some(on) != scale);
    let off_scale = (0..).map(RowId).zip(intervals).filter(|(_, interval)| is_off(interval));
    reference.store.malformed.extend(off_scale.map(|(row, _)| row));
    reference.store.malformed.sort_unstable();
    ranges
}
