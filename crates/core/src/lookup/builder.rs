//! Taking in a reference: its rows are packed as they come, and indexed once all of them are in.

use std::sync::Arc;

use ahash::RandomState;

use super::asked_keys::AskedKeys;
use super::disagreement::note_disagreement;
use super::index::Index;
use super::indexing::index_keys;
use super::labels::labels;
use super::ranges::{Closest, Ends, Ranges};
use super::records::Records;
use super::reference::{Cells, Joint, Ranged};
use super::shares::Shares;
use super::taken_in::TakenIn;
use super::values::{LARGE, Values};
use super::{Holder, Line, Reference, RowId, Rule, Seed};
use crate::key::Key;
use crate::plan::Reach;
use crate::table::in_order::in_order;
use crate::table::packed::RowCell;
use crate::table::{Block, Headers, Lines, Plainly, Scratch, Source};
use crate::template::{Bound, Work};
use crate::{Error, Result};

/// The templates of the bounds of a range, on the reference's side.
#[derive(Debug, Clone)]
pub enum Bounds {
    /// From one to the other.
    Between {
        /// The lower bound.
        lower: Bound,
        /// The upper bound.
        upper: Bound,
        /// Whether the upper end belongs to the range.
        closed: bool,
    },
    /// The latest at or before counts.
    From(Bound),
    /// The earliest at or after counts.
    UpTo(Bound),
}

/// Which columns of a reference are taken.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TakenColumns {
    /// The columns, from 0: first those that every main row takes, then those that a main row may
    /// name.
    pub columns: Vec<usize>,
    /// How many of them every main row takes.
    pub always: usize,
    /// Whether it is taken in which column a value stands.
    pub in_column: bool,
}

impl TakenColumns {
    /// Columns that every main row takes.
    pub fn all(columns: Vec<usize>) -> Self {
        Self { always: columns.len(), columns, in_column: false }
    }
}

/// What is to be done about a reference that takes more memory than it may.
#[derive(Debug)]
pub enum Overflow {
    /// It is kept there in shares, which are worked on one after the other.
    Keep(Arc<dyn Scratch>),
    /// It is an error, for this reason: what needs the whole of it.
    Refuse(String),
}

/// Takes in a reference table.
#[derive(Debug)]
pub struct ReferenceBuilder {
    reference: Reference,
    closest: Closest,
    reach: Option<Reach>,
    taken_in: TakenIn,
    /// How much memory it may take, in bytes, and what is to be done about more.
    room: Option<(u64, Overflow)>,
    /// How many bytes of rows there are before equal values are stored once.
    large: usize,
    /// Whether a source was taken in.
    has_read: bool,
    /// On how many threads.
    threads: usize,
    work: Work,
}

impl ReferenceBuilder {
    /// Begins a reference called `name` in messages and gates, of which the columns `taken` are
    /// kept beside its key. In a reverse lookup there is a key for each column that it looks in;
    /// otherwise there is one.
    pub fn new(
        name: &str,
        headers: &Headers,
        keys: Vec<Key>,
        looked_in: Vec<usize>,
        taken: TakenColumns,
        seed: Seed,
    ) -> Self {
        let [a, b, c, d] = seed;
        debug_assert_eq!(keys.len(), looked_in.len().max(1));
        Self {
            reference: Reference {
                name: name.to_owned(),
                headers: headers.clone(),
                tables: vec![(RowId(0), headers.table().to_owned())],
                lines: vec![Lines::default()],
                verbatim_parts: keys[0].verbatim_parts(),
                keys,
                looked_in,
                labels: Vec::new(),
                by_position: false,
                only_asked: None,
                shares: None,
                positions: Vec::new(),
                all_rows: 0,
                disputed: vec![false; taken.columns.len()],
                taken: taken.columns,
                always: taken.always,
                takes_column: taken.in_column,
                plainly: None,
                rows: Records::default(),
                values: Arc::default(),
                touched: 0,
                cells: Cells::default(),
                seed,
                hasher: RandomState::with_seeds(a, b, c, d),
                index: Index::new(),
                repeats: Vec::new(),
                conflicting: Vec::new(),
                rule: Rule::Report,
                rank: None,
                chosen: Vec::new(),
                match_blanks: false,
                taken_kinds: Vec::new(),
                keyless: Vec::new(),
                malformed: Vec::new(),
                key_count: 0,
                ranged: None,
            },
            closest: Closest::Holding,
            reach: None,
            taken_in: TakenIn::default(),
            room: None,
            large: LARGE,
            has_read: false,
            threads: 1,
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

    /// Keeps only rows that a main table asks for, by the key that it makes; the main table is read
    /// to its end. It is of use where that is small and the reference is large. No row may have been
    /// taken in yet, and it does not go with reverse lookups, ranges, or a match by position.
    ///
    /// # Errors
    /// Those of the main table.
    pub fn only_asked<S: Source>(
        &mut self,
        key: &Key,
        main: &mut S,
    ) -> std::result::Result<(), S::Error> {
        let asked = AskedKeys::read(key, &self.reference.hasher, main)?;
        self.reference.only_asked = Some(asked);
        Ok(())
    }

    /// Lets it take so many bytes of memory. No row may have been taken in yet, and a reference that is
    /// kept in shares does not go with reverse lookups, ranges, aliases, or a match by position.
    #[must_use]
    pub fn within(mut self, bytes: u64, overflow: Overflow) -> Self {
        self.room = Some((bytes, overflow));
        self
    }

    /// Says from how many bytes of rows on values of columns that have few are stored once, which saves
    /// memory and takes a little time: 64 MiB unless it is said.
    #[must_use]
    pub fn large_from(mut self, bytes: usize) -> Self {
        self.large = bytes;
        self
    }

    /// Says how taken cells are written, where they are to go out as they stand in the reference. No row
    /// may have been taken in yet.
    #[must_use]
    pub fn written(mut self, plainly: Option<Plainly>) -> Self {
        self.reference.plainly = plainly;
        self
    }

    /// Matches rows by their position, whatever their key.
    #[must_use]
    pub fn by_position(mut self, yes: bool) -> Self {
        self.reference.by_position = yes;
        self
    }

    /// Lets the rows of a key count by their range, or the one closest, no further off than
    /// `reach`.
    #[must_use]
    pub fn ranged(mut self, bounds: Bounds, reach: Option<Reach>) -> Self {
        let far = reach.map(|(Reach::Number(far) | Reach::Time(far))| far);
        let (bounds, joint, closest) = match bounds {
            Bounds::Between { lower, upper, closed } => {
                let joint = if closed { Joint::Closed } else { Joint::Open };
                (vec![lower, upper], joint, Closest::Holding)
            }
            Bounds::From(bound) => (vec![bound], Joint::From, Closest::Before(far)),
            Bounds::UpTo(bound) => (vec![bound], Joint::UpTo, Closest::After(far)),
        };
        let index = Ranges::new(closest, Vec::new());
        self.reference.ranged = Some(Ranged { bounds, joint, line: None, index });
        self.closest = closest;
        self.reach = reach;
        self
    }

    /// Takes in the rows of a block.
    ///
    /// # Errors
    /// [`Error::TooManyRows`] past four billion rows, or cells that are looked in.
    pub fn add(&mut self, block: &Block) -> Result<()> {
        self.reference.take_in(block, &mut self.taken_in, &mut self.work);
        if let Some(lines) = self.reference.lines.last_mut() {
            block.tell_lines(lines);
        }
        self.taken_in.refuse_too_many(&self.reference.headers, 0)
    }

    /// Takes in all rows of a source on so many threads, behind those of the sources before it. Each
    /// has the same columns.
    ///
    /// # Errors
    /// Those of the source, and [`Error::TooManyRows`].
    pub fn read<S: Source<Error: From<Error> + Send> + Send>(
        &mut self,
        source: &mut S,
        threads: usize,
    ) -> std::result::Result<(), S::Error> {
        self.threads = threads;
        let kept = self.reference.shares.take();
        let first = RowId(kept.as_ref().map_or(self.taken_in.seen, |shares| shares.seen));
        let name = source.headers().table().to_owned();
        if std::mem::replace(&mut self.has_read, true) {
            self.reference.tables.push((first, name));
            self.reference.lines.push(Lines::default());
        } else {
            self.reference.tables = vec![(first, name)];
        }
        let Self { reference, taken_in: all, room, large, .. } = self;
        let reference = &*reference;
        let mut shares = kept;
        let mut lines = Lines::default();
        let space = || (TakenIn::default(), Work::default());
        let work = |(taken_in, work): &mut (TakenIn, Work), block: &Block| {
            reference.take_in(block, taken_in, work);
        };
        let hand_on = |(taken_in, _): &mut (TakenIn, Work), block: &Block| {
            let kinds = reference.taken.len();
            match &mut shares {
                Some(shares) => shares.take(taken_in, kinds, reference.only_asked.as_ref())?,
                None => all.append(taken_in),
            }
            if reference.values.get().is_none() && all.rows.text.len() >= *large {
                let cells = |row| {
                    let cells = reference.packed_in(all.rows.get(row));
                    // None is a value yet.
                    cells.map(|cell| if let RowCell::Text(text) = cell { text } else { "" })
                };
                let values = Values::of(kinds, &reference.hasher, all.rows.len(), cells);
                let _ = reference.values.set(values);
            }
            block.tell_lines(&mut lines);
            match (&mut *room, &mut shares) {
                (Some((most, overflow)), None) if all.cost() > *most => match overflow {
                    Overflow::Keep(scratch) => {
                        let kept = shares.insert(Shares::new(Arc::clone(scratch)));
                        kept.take(all, kinds, reference.only_asked.as_ref())?;
                    }
                    Overflow::Refuse(why) => {
                        let (name, why) = (reference.name.clone(), why.clone());
                        return Err(Error::OverMemory { reference: name, most: *most, why }.into());
                    }
                },
                _ => {}
            }
            let seen = shares.as_ref().map_or(0, |shares| shares.seen);
            Ok(all.refuse_too_many(&reference.headers, seen)?)
        };
        let wanted = reference.wanted();
        in_order(source, threads, &wanted, space, work, hand_on)?;
        self.reference.shares = shares;
        if let Some(last) = self.reference.lines.last_mut() {
            *last = lines;
        }
        Ok(())
    }

    /// The reference, once all its rows are in.
    ///
    /// # Errors
    /// [`Error::NoPosition`] when no bound of a range is a number or a date, and
    /// [`Error::ReachOff`] when the reach is not of their kind; [`Error::Scratch`] when what does not fit
    /// into memory can't be kept elsewhere.
    pub fn finish(self) -> Result<Reference> {
        let mut reference = self.reference;
        let addresses: Vec<&str> = reference.tables.iter().map(|(_, name)| &name[..]).collect();
        reference.labels = labels(&addresses);
        if let Some(shares) = &mut reference.shares {
            shares.end()?;
            reference.all_rows = u64::from(shares.seen);
            return Ok(reference);
        }
        let TakenIn { rows, cells, hashes, keyless, malformed, without_key, ends, kinds, .. } =
            self.taken_in;
        reference.positions = self.taken_in.positions;
        reference.all_rows = u64::from(self.taken_in.seen);
        reference.taken_kinds = kinds;
        reference.rows = rows;
        reference.cells = cells;
        reference.keyless = keyless;
        reference.malformed = malformed;
        if let (Some(ranged), false, Some((row, nth, value))) =
            (&reference.ranged, self.taken_in.has_position, &self.taken_in.no_position)
        {
            let column = ranged.bounds[*nth].columns().first().copied().unwrap_or_default();
            return Err(Error::NoPosition {
                table: reference.headers.table().to_owned(),
                header: reference.headers.address(column),
                row: reference.number(*row),
                value: value.clone(),
            });
        }
        let line = most_usual(&ends);
        let is_time = line.map(|line| line != Line::Number);
        let asks_time = self.reach.map(|reach| matches!(reach, Reach::Time(_)));
        if let (Some(is_time), Some(asks_time)) = (is_time, asks_time)
            && is_time != asks_time
        {
            let table = reference.headers.table().to_owned();
            return Err(Error::ReachOff { table, is_time });
        }
        index_keys(&mut reference, (&hashes, &without_key), self.threads);
        if reference.ranged.is_some() {
            index_ranges(&mut reference, line, &ends, self.closest);
        }
        note_disagreement(&mut reference, self.threads);
        Ok(reference)
    }
}

/// A reference whose keys are found on so many threads, of rows with these hashes; none but some rows has a
/// key.
pub(super) fn indexed(
    mut reference: Reference,
    hashes: &[u32],
    without_key: &[RowId],
    threads: usize,
) -> Reference {
    index_keys(&mut reference, (hashes, without_key), threads);
    note_disagreement(&mut reference, threads);
    reference
}

/// The line that most ranges are on, and of several the one that comes first: a stray number among dates must not
/// make these of no use.
fn most_usual(ends: &[Option<(Line, Ends)>]) -> Option<Line> {
    let mut counts: Vec<(Line, usize)> = Vec::new();
    for (line, _) in ends.iter().flatten() {
        match counts.iter_mut().find(|(other, _)| other == line) {
            Some((_, count)) => *count += 1,
            None => counts.push((*line, 1)),
        }
    }
    // Of equals the last one is found, which is the first here.
    counts.into_iter().rev().max_by_key(|(_, count)| *count).map(|(line, _)| line)
}

/// Sorts the ranges of each key. Those on another line than the first are of no use.
fn index_ranges(
    reference: &mut Reference,
    line: Option<Line>,
    ends: &[Option<(Line, Ends)>],
    closest: Closest,
) {
    let mut firsts: Vec<Holder> = (0..reference.holder_count() as u32).map(Holder).collect();
    for (first, holder) in &reference.repeats {
        firsts[holder.index()] = *first;
    }
    let with_ends = (0..).map(Holder).zip(firsts).filter_map(|(holder, first)| {
        let (on, ends) = ends[reference.row(holder).index()]?;
        (Some(on) == line).then_some((first, ends, holder))
    });
    let index = Ranges::new(closest, with_ends.collect());
    let astray = (0..).map(RowId).zip(ends);
    let astray = astray.filter(|(_, ends)| ends.is_some_and(|(on, _)| Some(on) != line));
    reference.malformed.extend(astray.map(|(row, _)| row));
    reference.malformed.sort_unstable();
    if let Some(ranged) = &mut reference.ranged {
        ranged.index = index;
        ranged.line = line;
    }
}

impl Reference {
    /// Loads a whole reference table.
    ///
    /// # Errors
    /// Those of the source, [`Error::TooManyRows`] and those of [`ReferenceBuilder::finish`].
    pub fn load<S: Source<Error: From<Error> + Send> + Send>(
        mut builder: ReferenceBuilder,
        source: &mut S,
    ) -> std::result::Result<Self, S::Error> {
        builder.read(source, 1)?;
        Ok(builder.finish()?)
    }
}
