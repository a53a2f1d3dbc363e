//! Answering a batch of main rows.
//!
//! A key may be anywhere in a large reference, and waiting for memory takes longer than all other work on a row.
//! So each step is done for all rows before the next one: first the buckets of all keys are loaded, then the
//! records they lead to, and the waits overlap.

use std::hint::black_box;

use super::{Answer, EntryId, Lookup, Miss, ProbeBuffers};
use crate::hashing::{Seed, hash};
use crate::key::PackedKeys;
use crate::lookup::index::Candidate;
use crate::table::{Block, Row};
use crate::template::{PartState, StepBuffers};
use crate::value::Point;

/// The rows of a batch on their way to an answer; kept from batch to batch.
#[derive(Debug, Default)]
pub(super) struct Batch {
    keys: PackedKeys,
    hashes: Vec<u32>,
    steps: Vec<Step>,
    /// The point of each row's value, where it must be in a range.
    points: Vec<Option<Point>>,
    /// Where the record of each candidate begins; [`NOWHERE`] where there is none.
    starts: Vec<usize>,
    /// Where the taken cells of each row's answer begin; [`NOWHERE`] where the probe did not come across them.
    taken: Vec<usize>,
    /// The source of the keys, where another lookup may ask with the same ones.
    source: Option<KeySource>,
    /// The rows of the block that the keys are of.
    rows: Vec<usize>,
}

/// The source of a batch's keys. A lookup that would make equal keys finds them packed and hashed.
#[derive(Debug, PartialEq, Eq)]
struct KeySource {
    /// The places of the parts in the block.
    places: Vec<usize>,
    seed: Seed,
    match_blanks: bool,
}

const NOWHERE: usize = usize::MAX;

/// How far the search for a row's key has come.
#[derive(Debug, Clone, Copy)]
enum Step {
    /// The key is blank: nothing to search for.
    Blank,
    /// The key is malformed.
    Malformed,
    /// The key is that of the row before.
    Same,
    /// No entry has the key's hash, or the search has yet to begin.
    Nothing,
    /// This entry has the tag of the key's hash; the flag says whether the rows of its key disagree.
    Candidate(EntryId, bool),
}

/// The result of searching for a key.
#[derive(Debug, Clone, Default)]
struct Match {
    /// The first entry of the key, and whether the rows of the key disagree.
    first: Option<(EntryId, bool)>,
    /// The numbers of the aliases that led to it.
    aliases: Vec<usize>,
}

impl Batch {
    /// Begins a block, for whose rows several lookups may be asked.
    pub(super) fn begin_block(&mut self) {
        self.source = None;
    }

    /// Begins a batch of `count` rows.
    fn begin(&mut self, count: usize) {
        self.keys.clear();
        self.hashes.clear();
        self.steps.clear();
        self.points.clear();
        self.source = None;
        self.begin_search(count);
    }

    /// Begins to search for `count` keys that are packed and hashed.
    fn begin_search(&mut self, count: usize) {
        for step in &mut self.steps {
            if let Step::Candidate(..) = step {
                *step = Step::Nothing;
            }
        }
        self.starts.clear();
        self.starts.resize(count, NOWHERE);
    }

    /// Where the taken cells of a row's answer begin, where the probe came across them.
    #[inline]
    pub(super) fn taken_start(&self, nth: usize) -> Option<usize> {
        self.taken.get(nth).copied().filter(|at| *at != NOWHERE)
    }
}

impl Lookup {
    /// Answers `count` rows; `row` returns the row with a number from 0. Where the rows are as they were read,
    /// `own` is their block, with the index of each row in it.
    ///
    /// The columns that rows name have to be found again, row by row, with [`Lookup::name_columns`].
    pub(crate) fn answer_batch<'b>(
        &self,
        (count, own): (usize, Option<(&Block, &[usize])>),
        row: impl Fn(usize) -> Row<'b>,
        buffers: &mut ProbeBuffers,
        answers: &mut Vec<Answer>,
    ) {
        answers.clear();
        let ProbeBuffers { steps, entries, named, batch, .. } = buffers;
        batch.taken.clear();
        if self.reference.is_by_position() {
            answers.extend((0..count).map(|nth| self.answer_at_position(row(nth), steps, named)));
            return;
        }
        self.take_keys((count, own), &row, steps, batch);
        self.find_candidates(batch);
        let is_plain = self.range_value.is_none() && self.header_templates.is_empty();
        let has_taken_after = !self.reference.spec.is_reverse();
        let Batch { keys, hashes, steps: all, points, starts, taken, .. } = batch;
        let texts = self.reference.key_texts();
        let mut found = Match::default();
        for (nth, step) in all.iter().enumerate() {
            let key = keys.get(nth);
            let mut start = NOWHERE;
            match *step {
                Step::Blank => {
                    answers.push(Answer::BlankKey);
                    taken.push(NOWHERE);
                    continue;
                }
                Step::Malformed => {
                    // A value without a place on the scale of the ranges has no answer, whatever the key.
                    let has_point = self.range_value.is_none() || points[nth].is_some();
                    found = if has_point {
                        self.find_unreadable_key(row(nth))
                    } else {
                        Match::default()
                    };
                    if found.first.is_none() {
                        answers.push(Answer::Malformed);
                        taken.push(NOWHERE);
                        continue;
                    }
                }
                Step::Same => {
                    start = taken.last().copied().unwrap_or(NOWHERE);
                }
                Step::Candidate(entry, disagree) if texts[starts[nth]..].starts_with(key) => {
                    found = Match { first: Some((entry, disagree)), aliases: Vec::new() };
                    if has_taken_after {
                        start = starts[nth] + key.len();
                    }
                }
                Step::Candidate(..) => found = self.find_or_alias(key, Some(hashes[nth])),
                Step::Nothing => found = self.find_or_alias(key, None),
            }
            self.count_aliases(&found.aliases, nth, &row);
            let answer = match found.first {
                None => Answer::Unmatched(Miss::Key),
                // The answer depends on nothing but the key.
                Some(_) if is_plain && matches!(step, Step::Same) => answers[nth - 1],
                Some((first, disagree)) if is_plain => self.settle_known(first, disagree),
                Some((first, _)) => {
                    let point = points.get(nth).copied().flatten();
                    self.settle_row(row(nth), first, point, (steps, entries, named))
                }
            };
            answers.push(answer);
            let is_known = is_plain && matches!(answer, Answer::Matched(_));
            taken.push(if is_known { start } else { NOWHERE });
        }
    }

    /// Answers a row by its position.
    fn answer_at_position(
        &self,
        row: Row<'_>,
        steps: &mut StepBuffers,
        named: &mut Vec<usize>,
    ) -> Answer {
        named.clear();
        match self.reference.at_position(row.number()) {
            Some(entry) => self.find_named(row, steps, named).unwrap_or(Answer::Matched(entry)),
            None => Answer::Unmatched(Miss::Key),
        }
    }

    /// Packs and hashes the keys of the rows, unless another lookup has left them.
    fn take_keys<'b>(
        &self,
        (count, own): (usize, Option<(&Block, &[usize])>),
        row: &impl Fn(usize) -> Row<'b>,
        steps: &mut StepBuffers,
        batch: &mut Batch,
    ) {
        let places = || own.and_then(|(block, of)| Some((block, of, self.key.places(block)?)));
        let Some((block, of, places)) = self.range_value.is_none().then(places).flatten() else {
            batch.begin(count);
            for nth in 0..count {
                let state = batch.keys.pack(&self.key, row(nth), steps);
                let step = self.begin_row(state, row(nth), steps, &mut batch.points);
                batch.steps.push(step);
            }
            self.hash_keys(batch);
            return;
        };
        let source = KeySource {
            places,
            seed: self.reference.spec.seed,
            match_blanks: self.reference.matches_blanks(),
        };
        if batch.source.as_ref() == Some(&source) && batch.rows == of {
            batch.begin_search(of.len());
            return;
        }
        batch.begin(of.len());
        for &row in of {
            let state = batch.keys.pack_cells(block, row, &source.places);
            batch.steps.push(self.first_step(state));
        }
        self.hash_keys(batch);
        batch.rows.clear();
        batch.rows.extend_from_slice(of);
        batch.source = Some(source);
    }

    /// The first step for a row, from the state of its key and its value in a range, whose point is added to
    /// `points`.
    #[inline]
    fn begin_row(
        &self,
        state: PartState,
        row: Row<'_>,
        steps: &mut StepBuffers,
        points: &mut Vec<Option<Point>>,
    ) -> Step {
        let step = self.first_step(state);
        let Some(value) = &self.range_value else { return step };
        let cell = |column| row.cell(column);
        let mut point = None;
        let made = value.value(cell, self.key.blanks(), steps, |made, value| match made {
            PartState::Whole => {
                point = self.reference.point(value);
                if point.is_some() { made } else { PartState::Malformed }
            }
            other => other,
        });
        points.push(point);
        match (step, made) {
            (Step::Malformed, _) | (_, PartState::Malformed) => Step::Malformed,
            // A blank value has no range, also where blank keys match.
            (_, PartState::Blank) => Step::Blank,
            (step, PartState::Whole) => step,
        }
    }

    /// The first step of the search for a key in this state.
    #[inline]
    fn first_step(&self, state: PartState) -> Step {
        match state {
            PartState::Malformed => Step::Malformed,
            PartState::Blank if !self.reference.matches_blanks() => Step::Blank,
            PartState::Blank | PartState::Whole => Step::Nothing,
        }
    }

    /// Hashes the keys of a batch, once all are packed: reading bytes that were just written stalls.
    fn hash_keys(&self, batch: &mut Batch) {
        let Batch { keys, hashes, steps, .. } = batch;
        // The hash of the row before, if its key is whole.
        let mut before = None;
        hashes.extend(steps.iter_mut().enumerate().map(|(nth, step)| {
            let Step::Nothing = step else {
                before = None;
                return 0;
            };
            let key = keys.get(nth);
            let hash = hash(self.reference.hasher(), key);
            if before == Some(hash) && keys.get(nth - 1) == key {
                *step = Step::Same;
            }
            before = Some(hash);
            hash
        }));
    }

    /// Finds a candidate for each key: loads all buckets, then all records.
    fn find_candidates(&self, batch: &mut Batch) {
        let Batch { hashes, steps, starts, .. } = batch;
        let (reference, index) = (&self.reference, &self.reference.index.hashes);
        black_box(hashes.iter().fold(0, |loaded, &hash| loaded ^ index.prefetch(hash)));
        for ((step, start), &hash) in steps.iter_mut().zip(&mut *starts).zip(&*hashes) {
            if let Step::Nothing = step
                && let Some(Candidate { entry, key_offset, disagree }) = index.candidate(hash)
            {
                *step = Step::Candidate(EntryId(entry), disagree);
                *start = reference.key_start_by(EntryId(entry), key_offset);
            }
        }
        reference.prefetch(starts);
    }

    /// Searches the whole index for a key with this hash, and then the aliases. Without a hash, only the aliases.
    fn find_or_alias(&self, key: &[u8], hash: Option<u32>) -> Match {
        let with_conflict = |first| (first, self.reference.index.is_conflicting(first));
        let found = hash.and_then(|hash| self.reference.find_hashed(key, hash));
        if let Some(first) = found {
            return Match { first: Some(with_conflict(first)), aliases: Vec::new() };
        }
        let found = self.aliases.as_ref().and_then(|all| all.find(&self.reference, key));
        let Some((first, aliases)) = found else { return Match::default() };
        Match { first: Some(with_conflict(first)), aliases }
    }

    /// Searches the aliases for a row with a part that a step can't read.
    #[cold]
    fn find_unreadable_key(&self, row: Row<'_>) -> Match {
        let Some((first, aliases)) = self.find_unreadable(row) else { return Match::default() };
        Match { first: Some((first, self.reference.index.is_conflicting(first))), aliases }
    }

    /// Counts the row with a number that aliases answered. Copies that an earlier lookup made of it come after it.
    #[inline]
    fn count_aliases<'b>(&self, used: &[usize], nth: usize, row: &impl Fn(usize) -> Row<'b>) {
        let Some(aliases) = self.aliases.as_ref().filter(|_| !used.is_empty()) else { return };
        let is_copy = || nth > 0 && row(nth - 1).number() == row(nth).number();
        if aliases.counts_copies() || !is_copy() {
            for &alias in used {
                aliases.count(alias);
            }
        }
    }
}
