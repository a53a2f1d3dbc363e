//! Taking in a reference: its rows are packed as they come, and indexed once all of them are in.

use ahash::RandomState;

use super::index::{Index, MOST_ROWS};
use super::ranges::{Closest, Ends, Ranges};
use super::records::Records;
use super::reference::{CellAt, Cells, Joint, Ranged, hash};
use super::rule::{Compared, Decision};
use super::{Holder, Line, Position, Reference, RowId, Rule, Seed};
use crate::key::Key;
use crate::plan::Reach;
use crate::table::{Block, Headers, Lines, Row, Source, packed};
use crate::template::{Bound, PartState, Work};
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

/// Takes in a reference table block by block.
#[derive(Debug)]
pub struct ReferenceBuilder {
    reference: Reference,
    closest: Closest,
    reach: Option<Reach>,
    /// The first value of a bound that is neither a number nor a date, with its row and bound;
    /// and how many values are one.
    no_position: Option<(RowId, usize, String)>,
    positions: u64,
    /// Rows whose key is blank in part or could not be read, unless cells hold the keys.
    without_key: Vec<RowId>,
    /// Whether a source was taken in.
    has_read: bool,
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
                by_position: false,
                disputed: vec![false; taken.columns.len()],
                taken: taken.columns,
                always: taken.always,
                takes_column: taken.in_column,
                rows: Records::default(),
                cells: Cells::default(),
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
                key_count: 0,
                ranged: None,
            },
            closest: Closest::Holding,
            reach: None,
            no_position: None,
            positions: 0,
            without_key: Vec::new(),
            has_read: false,
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
        self.reference.ranged = Some(Ranged { bounds, joint, line: None, ends: Vec::new(), index });
        self.closest = closest;
        self.reach = reach;
        self
    }

    /// Takes in the rows of a block.
    ///
    /// # Errors
    /// [`Error::TooManyRows`] past four billion rows, or cells that are looked in.
    pub fn add(&mut self, block: &Block) -> Result<()> {
        (0..block.rows()).try_for_each(|row| self.add_row(Row::of(block, row)))
    }

    fn add_row(&mut self, row: Row<'_>) -> Result<()> {
        let reference = &mut self.reference;
        let held = reference.rows.len().max(reference.cells.all.len() + reference.looked_in.len());
        if held as u64 >= MOST_ROWS {
            let table = reference.headers.table().to_owned();
            return Err(Error::TooManyRows { table, most: MOST_ROWS });
        }
        let id = RowId(reference.rows.len() as u32);
        let start = reference.rows.text.len();
        let mut state = if reference.looked_in.is_empty() {
            reference.keys[0].pack(row, &mut reference.rows.text, &mut self.work)
        } else {
            add_cells(reference, id, row, &mut self.work)
        };
        let key_end = reference.rows.text.len();
        for &column in &reference.taken {
            packed::push(&mut reference.rows.text, row.cell(column));
        }
        if let Some(rank) = &reference.rank {
            rank.value(
                |column| row.cell(column),
                &[],
                &mut self.work,
                |state, value| {
                    let value = if state == PartState::Whole { value } else { "" };
                    packed::push(&mut reference.rows.text, value);
                },
            );
        }
        let blank_counts = reference.match_blanks && state == PartState::Blank;
        if blank_counts {
            state = PartState::Whole;
        }
        let has_key = state == PartState::Whole;
        if !has_key && reference.looked_in.is_empty() {
            self.without_key.push(id);
        }
        if reference.ranged.is_some() {
            state = state.max(self.add_range(id, row, has_key));
        }
        let reference = &mut self.reference;
        if !was_read_so(reference, start..key_end, row) {
            for column in reference.key_columns() {
                packed::push(&mut reference.rows.text, row.cell(column));
            }
        }
        reference.rows.end_one();
        if let Some(lines) = reference.lines.last_mut() {
            lines.push(row.line());
        }
        match state {
            PartState::Blank => reference.keyless.push(id),
            PartState::Malformed => reference.malformed.push(id),
            PartState::Whole => {}
        }
        Ok(())
    }

    /// Notes the range of a row; it is of no use unless the row has a key.
    fn add_range(&mut self, id: RowId, row: Row<'_>, has_key: bool) -> PartState {
        let Some(ranged) = &mut self.reference.ranged else { return PartState::Whole };
        let (mut state, mut positions) = (PartState::Whole, Vec::with_capacity(2));
        for (nth, bound) in ranged.bounds.iter().enumerate() {
            for &column in bound.columns() {
                packed::push(&mut self.reference.rows.text, row.cell(column));
            }
            let cell = |column| row.cell(column);
            let blanks = self.reference.keys[0].blanks();
            bound.value(cell, blanks, &mut self.work, |made, value| match made {
                PartState::Whole => match Position::of(value) {
                    Some(position)
                        if *ranged.line.get_or_insert(position.line()) == position.line() =>
                    {
                        self.positions += 1;
                        positions.push(position);
                    }
                    _ => {
                        state = PartState::Malformed;
                        let first = || (id, nth, value.to_owned());
                        self.no_position.get_or_insert_with(first);
                    }
                },
                other => state = state.max(other),
            });
        }
        let ends = match (ranged.joint, &positions[..]) {
            (Joint::Closed, [lower, upper]) => Some(Ends { lower: lower.at(), upper: upper.end() }),
            (Joint::Open, [lower, upper]) => {
                Some(Ends { lower: lower.at(), upper: upper.at().saturating_sub(1) })
            }
            (Joint::From | Joint::UpTo, [bound]) => {
                Some(Ends { lower: bound.at(), upper: bound.end() })
            }
            _ => None,
        };
        let is_backwards = ends.is_some_and(|ends| ends.upper < ends.lower);
        ranged.ends.push(ends.filter(|_| has_key && !is_backwards));
        if is_backwards { PartState::Malformed } else { state }
    }

    /// The reference, once all its rows are in.
    ///
    /// # Errors
    /// [`Error::NoPosition`] when no bound of a range is a number or a date, and
    /// [`Error::ReachOff`] when the reach is not of their kind.
    pub fn finish(self) -> Result<Reference> {
        let mut reference = self.reference;
        if let (Some(ranged), 0, Some((row, nth, value))) =
            (&reference.ranged, self.positions, &self.no_position)
        {
            let column = ranged.bounds[*nth].columns().first().copied().unwrap_or_default();
            return Err(Error::NoPosition {
                table: reference.headers.table().to_owned(),
                header: reference.headers.address(column),
                row: reference.number(*row),
                value: value.clone(),
            });
        }
        let line = reference.ranged.as_ref().and_then(|ranged| ranged.line);
        let is_time = line.map(|line| line != Line::Number);
        let asks_time = self.reach.map(|reach| matches!(reach, Reach::Time(_)));
        if let (Some(is_time), Some(asks_time)) = (is_time, asks_time)
            && is_time != asks_time
        {
            let table = reference.headers.table().to_owned();
            return Err(Error::ReachOff { table, is_time });
        }
        reference.cells.all.sort_unstable();
        index_keys(&mut reference, &self.without_key);
        if let Some(ranged) = reference.ranged.take() {
            reference.ranged = Some(index_ranges(&reference, ranged, self.closest));
        }
        note_disagreement(&mut reference);
        Ok(reference)
    }
}

/// Notes every cell of a row that holds a key.
fn add_cells(reference: &mut Reference, id: RowId, row: Row<'_>, work: &mut Work) -> PartState {
    let mut all = PartState::Blank;
    let mut unread = false;
    for (column, key) in (0..).zip(&reference.keys) {
        let keys = &mut reference.cells.keys;
        let start = keys.text.len();
        let state = key.pack(row, &mut keys.text, work);
        let holds =
            state == PartState::Whole || state == PartState::Blank && reference.match_blanks;
        if holds {
            let key = keys.len() as u32;
            keys.end_one();
            reference.cells.all.push(CellAt { column, row: id, key });
            all = PartState::Whole;
        } else {
            keys.text.truncate(start);
        }
        unread |= state == PartState::Malformed;
    }
    if unread { PartState::Malformed } else { all }
}

/// Whether the packed key that was just appended is what stands in the row, cell for cell.
fn was_read_so(reference: &Reference, key: std::ops::Range<usize>, row: Row<'_>) -> bool {
    if !reference.looked_in.is_empty() {
        return false;
    }
    let only = &reference.keys[0];
    if only.is_verbatim() {
        return true;
    }
    let Some(parts) = &reference.verbatim_parts else { return false };
    let compared = packed::Cells::new(&reference.rows.text[key]);
    let mut pairs = parts.iter().zip(only.as_read(row));
    pairs.all(|(&part, read)| compared.clone().nth(part) == Some(read))
}

/// Enters every key into the index, and notes which holders repeat one.
fn index_keys(reference: &mut Reference, without_key: &[RowId]) {
    if reference.by_position {
        return;
    }
    let parts = reference.key().parts().len();
    let mut index = Index::for_keys(reference.holder_count());
    let mut repeats = Vec::new();
    let mut without_key = without_key.iter().peekable();
    for holder in (0..reference.holder_count() as u32).map(Holder) {
        if without_key.next_if(|row| row.0 == holder.0).is_some() {
            continue;
        }
        let key = packed::first_cells(reference.key_text(holder), parts);
        let hash = hash(&reference.hasher, key);
        let is_equal = |other| reference.key_text(Holder(other)).starts_with(key);
        match index.enter(hash, holder.0, is_equal) {
            None => reference.key_count += 1,
            Some(first) => repeats.push((Holder(first), holder)),
        }
    }
    repeats.sort_unstable();
    reference.index = index;
    reference.repeats = repeats;
}

/// Sorts the ranges of each key.
fn index_ranges(reference: &Reference, mut ranged: Ranged, closest: Closest) -> Ranged {
    let mut firsts: Vec<Holder> = (0..reference.holder_count() as u32).map(Holder).collect();
    for (first, holder) in &reference.repeats {
        firsts[holder.index()] = *first;
    }
    let with_ends = (0..).map(Holder).zip(firsts).filter_map(|(holder, first)| {
        let ends = ranged.ends[reference.row(holder).index()]?;
        Some((first, ends, holder))
    });
    ranged.index = Ranges::new(closest, with_ends.collect());
    ranged
}

/// Notes which keys have rows that disagree, on what, and which of them the rule chooses.
fn note_disagreement(reference: &mut Reference) {
    let mut conflicting = vec![0_u64; 0];
    let mut chosen = Vec::new();
    let mut disputed = vec![false; reference.taken.len()];
    let groups: Vec<Vec<Holder>> = match &reference.ranged {
        Some(ranged) => ranged.index.overlapping().collect(),
        None => {
            let repeats = reference.repeats.chunk_by(|a, b| a.0 == b.0);
            repeats.map(|repeats| reference.holders_of(repeats[0].0).collect()).collect()
        }
    };
    for holders in groups {
        if !reference.disagree(&holders) {
            continue;
        }
        let rows = reference.rows_among(&holders);
        for &row in &rows[1..] {
            let pairs = reference.taken_cells(rows[0]).zip(reference.taken_cells(row));
            for (disputed, (one, other)) in disputed.iter_mut().zip(pairs) {
                *disputed |= one != other;
            }
        }
        if reference.ranged.is_some() {
            // Which rows meet depends on the main row.
            continue;
        }
        let first = holders[0];
        if conflicting.is_empty() {
            conflicting = vec![0; reference.holder_count().div_ceil(64)];
        }
        conflicting[first.index() / 64] |= 1 << (first.index() % 64);
        if let Decision::Chosen(holder) = reference.decide(&holders, Compared::Every) {
            chosen.push((first, holder));
        }
    }
    reference.conflicting = conflicting;
    reference.chosen = chosen;
    reference.disputed = disputed;
}

impl Reference {
    /// Loads a whole reference table.
    ///
    /// # Errors
    /// Those of the source, [`Error::TooManyRows`] and those of [`ReferenceBuilder::finish`].
    pub fn load<E: From<Error>>(
        mut builder: ReferenceBuilder,
        source: &mut (impl Source<Error = E> + ?Sized),
    ) -> std::result::Result<Self, E> {
        builder.read(source)?;
        Ok(builder.finish()?)
    }
}

impl ReferenceBuilder {
    /// Takes in all rows of a source, behind those of the sources before it. Each has the same
    /// columns.
    ///
    /// # Errors
    /// Those of the source, and [`Error::TooManyRows`].
    pub fn read<E: From<Error>>(
        &mut self,
        source: &mut (impl Source<Error = E> + ?Sized),
    ) -> std::result::Result<(), E> {
        let first = RowId(self.reference.rows.len() as u32);
        let name = source.headers().table().to_owned();
        if std::mem::replace(&mut self.has_read, true) {
            self.reference.tables.push((first, name));
            self.reference.lines.push(Lines::default());
        } else {
            self.reference.tables = vec![(first, name)];
        }
        let mut block = Block::default();
        while source.read_block(&mut block)? {
            self.add(&block)?;
        }
        Ok(())
    }
}
