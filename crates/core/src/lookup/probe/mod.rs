//! Probing: main rows ask a reference for their answers, a batch at a time.
//!
//! One probe a row, however many columns are taken. An answer for one row is a batch of one.

mod alias_keys;
mod aliases;
mod batch;
mod explain;
mod named_column;

pub use alias_keys::{Alias, AliasKeys, AliasState};
pub(crate) use alias_keys::{OfParts, WholeAlias};
pub use aliases::AliasFacts;
pub use named_column::HeaderTemplate;
pub(crate) use named_column::NamedColumn;

use super::rule::{Compared, Decision};
use super::{Answer, EntryId, Miss, Reference, Rule};
use crate::key::Key;
use crate::table::{Packer, Row};
use crate::template::{BoundTemplate, StepBuffers};
use crate::value::Point;

/// A reference that the rows of a main table can ask.
#[derive(Debug)]
pub struct Lookup {
    pub(super) key: Key,
    range_value: Option<BoundTemplate>,
    header_templates: Vec<HeaderTemplate>,
    /// The parts of the key as they were written.
    on: Vec<String>,
    pub(super) reference: Reference,
    aliases: Option<aliases::Aliases>,
}

/// Buffers for answers, kept from batch to batch. A row's answer leaves the columns it names in
/// [`ProbeBuffers::named`].
#[derive(Debug, Default)]
pub struct ProbeBuffers {
    pub(super) key: Packer,
    pub(super) steps: StepBuffers,
    entries: Vec<EntryId>,
    named: Vec<usize>,
    one: Vec<Answer>,
    batch: batch::Batch,
}

impl ProbeBuffers {
    /// The places, among the taken columns, of the columns that the last row named.
    pub fn named(&self) -> &[usize] {
        &self.named
    }

    /// Begins a block, for whose rows several lookups may be asked.
    pub(crate) fn begin_block(&mut self) {
        self.batch.begin_block();
    }

    /// Where the taken cells of a row of the batch begin in the arena of the reference, when its answer is one
    /// row and the probe came across them.
    #[inline]
    pub(crate) fn taken_start(&self, nth: usize) -> Option<usize> {
        self.batch.taken_start(nth)
    }
}

impl Lookup {
    /// Joins the main table's key to a reference whose key has as many parts. `on` has the parts as they were
    /// written.
    pub fn new(key: Key, on: Vec<String>, reference: Reference) -> Self {
        let header_templates = Vec::new();
        Self { key, range_value: None, header_templates, on, reference, aliases: None }
    }

    /// Sets the template of the main row's value that must be in a reference row's range.
    #[must_use]
    pub fn with_range_value(mut self, value: Option<BoundTemplate>) -> Self {
        self.range_value = value;
        self
    }

    /// Sets the templates of the columns that main rows name.
    #[must_use]
    pub fn with_named_columns(mut self, templates: Vec<HeaderTemplate>) -> Self {
        self.header_templates = templates;
        self
    }

    /// The main table's key.
    pub fn key(&self) -> &Key {
        &self.key
    }

    /// The template of the value that must be in a row's range.
    pub fn range_value(&self) -> Option<&BoundTemplate> {
        self.range_value.as_ref()
    }

    /// The templates of the columns that main rows name.
    pub fn named_columns(&self) -> &[HeaderTemplate] {
        &self.header_templates
    }

    /// The parts of the key as they were written.
    pub fn on(&self) -> &[String] {
        &self.on
    }

    /// The names of the key's parts in messages: the main table's headers that each part is made from.
    pub fn part_names(&self) -> Vec<String> {
        let headers =
            |part: &BoundTemplate| part.template().headers().collect::<Vec<_>>().join(" and ");
        self.key.parts().iter().map(headers).collect()
    }

    /// The reference.
    pub fn reference(&self) -> &Reference {
        &self.reference
    }

    /// Whether a main row is repeated for each reference row that holds its key.
    pub(crate) fn takes_every(&self) -> bool {
        self.reference.rule() == Rule::Every
    }

    /// The main table's columns that an answer depends on, each once: those of the key, of the value in a range,
    /// and of named columns.
    pub fn columns(&self) -> Vec<usize> {
        let mut all = self.key.columns().to_vec();
        let names = self.header_templates.iter().map(HeaderTemplate::template);
        for &column in self.range_value.iter().chain(names).flat_map(BoundTemplate::columns) {
            if !all.contains(&column) {
                all.push(column);
            }
        }
        all
    }

    /// Answers one main row: a batch of one.
    pub fn answer(&self, row: Row<'_>, buffers: &mut ProbeBuffers) -> Answer {
        let mut answers = std::mem::take(&mut buffers.one);
        buffers.begin_block();
        self.answer_batch((1, None), |_| row, buffers, &mut answers);
        let answer = answers.first().copied().unwrap_or(Answer::Unmatched(Miss::Key));
        buffers.one = answers;
        self.name_columns(row, buffers);
        answer
    }

    /// Finds the columns that a row names, and leaves them in [`ProbeBuffers::named`].
    pub(crate) fn name_columns(&self, row: Row<'_>, buffers: &mut ProbeBuffers) {
        buffers.named.clear();
        self.find_named(row, &mut buffers.steps, &mut buffers.named);
    }

    /// Finds the columns that a row names; returns the answer when there are none.
    #[inline]
    fn find_named(
        &self,
        row: Row<'_>,
        steps: &mut StepBuffers,
        named: &mut Vec<usize>,
    ) -> Option<Answer> {
        // A malformed value takes precedence over a blank one, and a blank one over an unknown header.
        let precedence = |answer: &Answer| match answer {
            Answer::Malformed => 2,
            Answer::BlankKey => 1,
            _ => 0,
        };
        let mut failed: Option<Answer> = None;
        for template in &self.header_templates {
            let answer = match template.column(row, self.key.blanks(), steps) {
                NamedColumn::Taken(place) => {
                    named.push(place);
                    continue;
                }
                NamedColumn::Malformed => Answer::Malformed,
                NamedColumn::Blank => Answer::BlankKey,
                NamedColumn::Unknown => Answer::Unmatched(Miss::Header),
            };
            if failed.is_none_or(|failed| precedence(&failed) < precedence(&answer)) {
                failed = Some(answer);
            }
        }
        failed
    }

    /// The answer for a row, whose key has this first entry, when more than the key decides: a range, or the
    /// columns that the row names.
    fn settle_row(
        &self,
        row: Row<'_>,
        first: EntryId,
        point: Option<Point>,
        (steps, entries, named): (&mut StepBuffers, &mut Vec<EntryId>, &mut Vec<usize>),
    ) -> Answer {
        named.clear();
        if let Some(point) = point {
            self.reference.in_range(first, point, entries);
            if entries.is_empty() {
                return Answer::Unmatched(Miss::Range(first));
            }
            let failed = self.find_named(row, steps, named);
            return failed.unwrap_or_else(|| self.decide(entries, named));
        }
        if let Some(failed) = self.find_named(row, steps, named) {
            return failed;
        }
        if !self.header_templates.is_empty() && self.reference.index.is_repeated(first) {
            entries.clear();
            entries.extend(self.reference.entries_of(first));
            return self.decide(entries, named);
        }
        self.settle(first)
    }

    /// The answer for the key of this first entry, when every row takes the same columns.
    #[inline]
    pub(crate) fn settle(&self, first: EntryId) -> Answer {
        self.settle_known(first, self.reference.index.is_conflicting(first))
    }

    /// [`Lookup::settle`] when it is known whether the rows of the key disagree.
    #[inline]
    fn settle_known(&self, first: EntryId, disagree: bool) -> Answer {
        if !disagree && self.reference.rule() != Rule::Every {
            return Answer::Matched(first);
        }
        self.settle_among(first, disagree)
    }

    /// [`Lookup::settle_known`] when several entries may count.
    fn settle_among(&self, first: EntryId, disagree: bool) -> Answer {
        let reference = &self.reference;
        if reference.rule() == Rule::Every && reference.index.is_repeated(first) {
            let entries: Vec<EntryId> = reference.entries_of(first).collect();
            return match reference.rows_among(&entries).len() {
                1 => Answer::Matched(first),
                _ => Answer::All { first, disagree },
            };
        }
        if !disagree {
            return Answer::Matched(first);
        }
        match (reference.rule(), reference.index.chosen(first)) {
            (Rule::List, _) => Answer::All { first, disagree },
            (_, Some(entry)) => Answer::Chosen { first, entry },
            (_, None) => Answer::Ambiguous(first),
        }
    }

    /// Whether the rule has an answer for a key of these entries, in order, when every row takes the same columns.
    pub(crate) fn would_settle(&self, entries: &[EntryId]) -> bool {
        !matches!(self.reference.decide(entries, Compared::Every), Decision::Open)
    }

    /// The answer among entries that depend on the row.
    fn decide(&self, entries: &[EntryId], named: &[usize]) -> Answer {
        let first = entries[0];
        match self.reference.decide(entries, Compared::Named(named)) {
            Decision::Agreed => Answer::Matched(first),
            Decision::Chosen(entry) => Answer::Chosen { first, entry },
            Decision::All { disagree } => Answer::All { first, disagree },
            Decision::Open => Answer::Ambiguous(first),
        }
    }
}
