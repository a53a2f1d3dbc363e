//! Lookups: from a main row's key to its reference row.
//!
//! In go a reference table, block by block, and then main rows; out comes an [`Answer`] for each
//! of them. One probe a row, however many columns are taken. Which of the rows that hold a key
//! counts is settled by their [`ranges`](Bounds), where there are any, and by a [`Rule`].

mod aliases;
mod asked_keys;
mod asked_rows;
mod batch;
mod builder;
mod disagreement;
mod gathered;
mod group;
mod ids;
mod index;
mod indexing;
mod labels;
mod naming;
mod position;
mod ranges;
mod records;
mod reference;
mod rule;
mod search;
pub(crate) mod shares;
mod soundness;
mod taken_as_read;
mod taken_cells;
mod taken_in;
mod values;

pub use aliases::{Alias, AliasState};
pub use builder::{Bounds, Overflow, ReferenceBuilder, TakenColumns};
pub(crate) use gathered::KeysTold;
pub use group::Group;
pub use ids::{Holder, RowId};
pub use naming::Naming;
pub use position::{Line, Position};
pub use reference::{Reference, Seed};
pub use rule::Rule;
pub use search::{Hit, Hits, Wanted};
pub use soundness::Unsound;

use naming::NamedColumn;
use rule::{Compared, Decision};

use crate::key::{Key, Unreadable};
use crate::table::{Row, is_blank};
use crate::template::{Bound, PartState, Work};

/// What a lookup found for one main row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    /// Exactly one answer: the taken cells of this holder's row.
    Matched(Holder),
    /// Several reference rows hold the key and disagree; a rule chose this one.
    Chosen {
        /// The first holder of the key.
        first: Holder,
        /// The chosen one.
        holder: Holder,
    },
    /// Several reference rows hold the key, the first of which this is, and a rule takes from all.
    All {
        /// The first holder of the key.
        first: Holder,
        /// Whether they disagree on what is taken.
        disagree: bool,
    },
    /// Several reference rows hold the key and disagree on what is taken; this is the first.
    Ambiguous(Holder),
    /// There is none.
    Unmatched(Miss),
    /// A part of the key is blank.
    BlankKey,
    /// A value that a part of the key is made from could not be read.
    Malformed,
}

impl Answer {
    /// The first holder that it rests on, when there is any.
    pub(crate) fn first(self) -> Option<Holder> {
        match self {
            Self::Matched(first)
            | Self::Chosen { first, .. }
            | Self::All { first, .. }
            | Self::Ambiguous(first) => Some(first),
            Self::Unmatched(_) | Self::BlankKey | Self::Malformed => None,
        }
    }
}

/// Why there is no answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Miss {
    /// No reference row holds the key.
    Key,
    /// No row that holds the key, the first of which this is, has a range that holds the value.
    Range(Holder),
    /// The key is held, but no column has the header that the row names.
    Header,
}

/// A reference ready to be asked by the rows of a main table.
#[derive(Debug)]
pub struct Lookup {
    key: Key,
    within: Option<Bound>,
    naming: Vec<Naming>,
    /// What it is matched on, part by part as it was written.
    on: Vec<String>,
    reference: Reference,
    aliases: Option<aliases::Aliases>,
}

/// Working space for answers. Between them it means nothing but for [`Asking::named`].
#[derive(Debug, Default)]
pub struct Asking {
    key: String,
    work: Work,
    holders: Vec<Holder>,
    named: Vec<usize>,
    batch: batch::Batch,
}

impl Asking {
    /// The places among the taken columns of those that the last row which was answered names.
    pub fn named(&self) -> &[usize] {
        &self.named
    }

    /// Begins with the rows of a block, for which several lookups may be asked.
    pub(crate) fn begin_block(&mut self) {
        self.batch.begin_block();
    }

    /// Where the taken cells of the answer to a row begin, of those that were answered together, where
    /// the answer is one row whose place is known.
    #[inline]
    pub(crate) fn taken(&self, nth: usize) -> Option<usize> {
        self.batch.taken(nth)
    }
}

impl Lookup {
    /// Joins the main table's key to the reference that it asks; `key` has as many parts as the
    /// reference's own key. `on` says part by part what is matched.
    pub fn new(key: Key, on: Vec<String>, reference: Reference) -> Self {
        Self { key, within: None, naming: Vec::new(), on, reference, aliases: None }
    }

    /// States what the main table makes the value by that must lie in a row's range.
    #[must_use]
    pub fn within(mut self, value: Option<Bound>) -> Self {
        self.within = value;
        self
    }

    /// States which columns main rows name.
    #[must_use]
    pub fn naming(mut self, naming: Vec<Naming>) -> Self {
        self.naming = naming;
        self
    }

    /// The main table's key.
    pub fn key(&self) -> &Key {
        &self.key
    }

    /// The template of the value that must lie in a row's range.
    pub fn value(&self) -> Option<&Bound> {
        self.within.as_ref()
    }

    /// The columns that main rows name.
    pub fn namings(&self) -> &[Naming] {
        &self.naming
    }

    /// What it is matched on, part by part as it was written.
    pub fn on(&self) -> &[String] {
        &self.on
    }

    /// The names of the key's parts in messages: the headers of the main table that each is made from.
    pub fn part_names(&self) -> Vec<String> {
        let headers = |part: &Bound| part.template().headers().collect::<Vec<_>>().join(" and ");
        self.key.parts().iter().map(headers).collect()
    }

    /// The reference that is asked.
    pub fn reference(&self) -> &Reference {
        &self.reference
    }

    /// Whether it takes from every row of a key that several hold, one after the other.
    pub(crate) fn takes_every(&self) -> bool {
        self.reference.rule() == Rule::Every
    }

    /// The main table's columns that an answer depends on, each once: those of the key, of the
    /// value in a range, and of names.
    pub fn columns(&self) -> Vec<usize> {
        let mut all = self.key.columns().to_vec();
        let names = self.naming.iter().map(Naming::template);
        for &column in self.within.iter().chain(names).flat_map(Bound::columns) {
            if !all.contains(&column) {
                all.push(column);
            }
        }
        all
    }

    /// The columns that make the key of a row blank, by their places in [`Lookup::columns`].
    pub(crate) fn blank_columns(&self, row: Row<'_>) -> Vec<usize> {
        let names = self.naming.iter().map(Naming::template);
        let parts = self.key.parts().iter().chain(&self.within).chain(names);
        let (columns, blanks) = (self.columns(), self.key.blanks());
        let mut blank = Vec::new();
        for part in parts {
            let cell = |column| row.cell(column);
            let made = part.value(cell, blanks, &mut Work::default(), |made, _| made);
            if made == PartState::Blank {
                let values = part.placeholder_values(cell, blanks);
                let of_part = part.columns().iter().zip(values);
                let is_blank = |value: &Option<String>| value.as_deref().is_none_or(is_blank);
                let of_part =
                    of_part.filter(|(_, value)| is_blank(value)).map(|(column, _)| column);
                let places =
                    of_part.filter_map(|one| columns.iter().position(|other| other == one));
                blank.extend(places);
            }
        }
        blank
    }

    /// Looks one main row up.
    pub fn answer(&self, row: Row<'_>, asking: &mut Asking) -> Answer {
        let Asking { key, work, holders, named, .. } = asking;
        named.clear();
        if self.reference.is_by_position() {
            let Some(holder) = self.reference.at_position(row.number()) else {
                return Answer::Unmatched(Miss::Key);
            };
            return self.name(row, work, named).unwrap_or(Answer::Matched(holder));
        }
        key.clear();
        let mut state = self.key.pack(row, key, work);
        if state == PartState::Blank && self.reference.matches_blanks() {
            state = PartState::Whole;
        }
        let mut position = None;
        if let Some(value) = &self.within {
            let cell = |column| row.cell(column);
            let made = value.value(cell, self.key.blanks(), work, |made, value| match made {
                PartState::Whole => {
                    position = self.reference.position(value);
                    if position.is_some() { made } else { PartState::Malformed }
                }
                other => other,
            });
            state = state.max(made);
        }
        match state {
            PartState::Malformed => return Answer::Malformed,
            PartState::Blank => return Answer::BlankKey,
            PartState::Whole => {}
        }
        let found =
            self.reference.find(key).or_else(|| self.alias(key.as_bytes()).map(|(first, _)| first));
        let Some(first) = found else { return Answer::Unmatched(Miss::Key) };
        if let Some(position) = position {
            self.reference.in_range(first, position, holders);
            if holders.is_empty() {
                return Answer::Unmatched(Miss::Range(first));
            }
            let other = self.name(row, work, named);
            return other.unwrap_or_else(|| self.decide(holders, named));
        }
        if let Some(other) = self.name(row, work, named) {
            return other;
        }
        if !self.naming.is_empty() && self.reference.is_repeated(first) {
            holders.clear();
            holders.extend(self.reference.holders_of(first));
            return self.decide(holders, named);
        }
        self.settle(first)
    }

    /// The first holder of the key that a packed one is an alias of, and which alias that is; it counts
    /// as used.
    #[inline]
    fn alias(&self, key: &[u8]) -> Option<(Holder, usize)> {
        let aliases = self.aliases.as_ref()?;
        // A packed key is text.
        let found = aliases.find(std::str::from_utf8(key).ok()?)?;
        aliases.count(found.1);
        Some(found)
    }

    /// Finds the columns that a row names once more, so that [`Asking::named`] tells them.
    pub(crate) fn name_columns(&self, row: Row<'_>, asking: &mut Asking) {
        asking.named.clear();
        self.name(row, &mut asking.work, &mut asking.named);
    }

    /// Finds the columns that a row names; the answer, when that fails.
    #[inline]
    fn name(&self, row: Row<'_>, work: &mut Work, named: &mut Vec<usize>) -> Option<Answer> {
        let mut other = None;
        for naming in &self.naming {
            let miss = match naming.column(row, self.key.blanks(), work) {
                NamedColumn::Taken(place) => {
                    named.push(place);
                    continue;
                }
                NamedColumn::Malformed => Answer::Malformed,
                NamedColumn::Blank => Answer::BlankKey,
                NamedColumn::Unknown => Answer::Unmatched(Miss::Header),
            };
            // A value that can't be read weighs more than a blank one, and that more than a name.
            let weight = |answer: &Answer| match answer {
                Answer::Malformed => 2,
                Answer::BlankKey => 1,
                _ => 0,
            };
            other =
                Some(other.map_or(miss, |o| if weight(&o) >= weight(&miss) { o } else { miss }));
        }
        other
    }

    /// The answer for a key whose first holder this is, when every row takes the same columns.
    #[inline]
    pub(crate) fn settle(&self, first: Holder) -> Answer {
        self.settle_known(first, self.reference.is_conflicting(first))
    }

    /// The same where it is known whether the rows of the key disagree.
    #[inline]
    fn settle_known(&self, first: Holder, disagree: bool) -> Answer {
        if !disagree && self.reference.rule() != Rule::Every {
            return Answer::Matched(first);
        }
        self.settle_among(first, disagree)
    }

    /// The same where several holders may count.
    fn settle_among(&self, first: Holder, disagree: bool) -> Answer {
        let reference = &self.reference;
        if reference.rule() == Rule::Every && reference.is_repeated(first) {
            return match reference
                .rows_among(&reference.holders_of(first).collect::<Vec<_>>())
                .len()
            {
                1 => Answer::Matched(first),
                _ => Answer::All { first, disagree },
            };
        }
        if !disagree {
            return Answer::Matched(first);
        }
        match (reference.rule(), reference.chosen(first)) {
            (Rule::List, _) => Answer::All { first, disagree },
            (_, Some(holder)) => Answer::Chosen { first, holder },
            (_, None) => Answer::Ambiguous(first),
        }
    }

    /// Whether there is an answer for a key that these holders hold, in order, when every row takes the
    /// same columns.
    pub(crate) fn would_settle(&self, holders: &[Holder]) -> bool {
        !matches!(self.reference.decide(holders, Compared::Every), Decision::Open)
    }

    /// The answer when the holders that count depend on the row.
    fn decide(&self, holders: &[Holder], named: &[usize]) -> Answer {
        let first = holders[0];
        match self.reference.decide(holders, Compared::Named(named)) {
            Decision::Agreed => Answer::Matched(first),
            Decision::Chosen(holder) => Answer::Chosen { first, holder },
            Decision::All { disagree } => Answer::All { first, disagree },
            Decision::Open => Answer::Ambiguous(first),
        }
    }

    /// The holders that an answer to a main row rests on, in order.
    pub fn holders(&self, row: Row<'_>, answer: Answer) -> Vec<Holder> {
        let Some(first) = answer.first() else { return Vec::new() };
        match self.position(row) {
            Some(position) => {
                let key_first = self.reference.first_of(first);
                let mut found = Vec::new();
                self.reference.in_range(key_first, position, &mut found);
                found
            }
            None => self.reference.holders_of(self.reference.first_of(first)).collect(),
        }
    }

    /// The holders of a main row's key, whatever else the row asks for; none when its key is held by none or is
    /// not whole.
    pub(crate) fn holders_of_key(&self, row: Row<'_>) -> Vec<Holder> {
        if self.reference.is_by_position() {
            return self.reference.at_position(row.number()).into_iter().collect();
        }
        let mut key = String::new();
        let state = self.key.pack(row, &mut key, &mut Work::default());
        let is_whole = match state {
            PartState::Whole => true,
            PartState::Blank => self.reference.matches_blanks(),
            PartState::Malformed => false,
        };
        let found = || {
            let alias = || self.aliases.as_ref().and_then(|all| all.find(&key));
            self.reference.find(&key).or_else(|| alias().map(|(first, _)| first))
        };
        match is_whole.then(found).flatten() {
            Some(first) => self.holders(row, Answer::Matched(first)),
            None => Vec::new(),
        }
    }

    /// Whether nothing but one row holds the key of an answer, as far as that is known at once.
    pub(crate) fn is_held_once(&self, answer: Answer) -> bool {
        let once = |first| !self.reference.is_repeated(first);
        self.within.is_none() && answer.first().is_some_and(once)
    }

    /// Where a main row's value stands, when it must lie in a range.
    fn position(&self, row: Row<'_>) -> Option<Position> {
        let value = self.within.as_ref()?;
        let cell = |column| row.cell(column);
        value.value(cell, self.key.blanks(), &mut Work::default(), |_, value| {
            self.reference.position(value)
        })
    }

    /// The row whose range comes nearest to the value of a main row that none holds.
    pub fn nearest_range(&self, row: Row<'_>, first: Holder) -> Option<RowId> {
        let position = self.position(row)?;
        self.reference.nearest_range(first, position)
    }

    /// The first header that a main row names and no column has, and those that come near.
    pub fn unknown_header(&self, row: Row<'_>) -> Option<(String, Vec<String>)> {
        self.naming.iter().find_map(|naming| naming.unknown(row, self.key.blanks()))
    }

    /// The cells of a row that its answer depends on, as they were read, in the order of
    /// [`Lookup::columns`].
    pub fn as_read<'b>(&self, row: Row<'b>) -> Vec<&'b str> {
        self.columns().into_iter().map(|column| row.cell(column)).collect()
    }

    /// The first value of a main row that could not be read.
    pub fn unreadable(&self, row: Row<'_>) -> Option<Unreadable> {
        let key: Vec<&str> = self.key.as_read(row).collect();
        if let Some(bad) = self.key.unreadable(&key) {
            return Some(bad);
        }
        let names = self.naming.iter().map(Naming::template);
        for bound in self.within.iter().chain(names) {
            let traces = bound.trace(|column| row.cell(column), self.key.blanks());
            for trace in traces {
                if let Some((step, value)) = trace.unreadable() {
                    let (step, value) = (step.to_owned(), value.to_owned());
                    return Some(Unreadable { column: trace.column, step, value });
                }
            }
        }
        let bound = self.within.as_ref()?;
        let cells: Vec<&str> = bound.columns().iter().map(|&column| row.cell(column)).collect();
        Some(Unreadable::within(bound, bound.of_cells(&cells).unwrap_or_default()))
    }
}
