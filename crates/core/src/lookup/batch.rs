//! Answering many rows at once.
//!
//! Where a key stands in a large reference is anywhere in memory, and waiting for it takes longer
//! than all else that is done with a row. So each step is done for all rows before the next: the
//! buckets of all keys are asked for one after the other, then the records that they lead to, and the
//! waits run side by side.

use std::hint::black_box;

use super::index::Candidate;
use super::reference::hash;
use super::{Answer, Asking, Holder, Lookup, Miss, Seed};
use crate::key::PackedKeys;
use crate::table::{Block, Row};
use crate::template::PartState;

/// What is known of each row of a batch; kept from batch to batch.
#[derive(Debug, Default)]
pub(super) struct Batch {
    keys: PackedKeys,
    hashes: Vec<u32>,
    found: Vec<Found>,
    /// Where the record of each candidate begins; [`NOWHERE`] where there is none.
    starts: Vec<usize>,
    /// Where the taken cells begin that stand behind the key of each row, where it was found at once;
    /// [`NOWHERE`] where it was not.
    taken: Vec<usize>,
    /// What the keys are of, where another lookup may ask with the same ones.
    made_of: Option<MadeOf>,
    /// The rows of the block that they are of.
    rows: Vec<usize>,
}

/// What the keys of a batch are made of: if another lookup would make them of the same, it finds them
/// packed and hashed.
#[derive(Debug, PartialEq, Eq)]
struct MadeOf {
    /// The places of the parts in the block.
    places: Vec<usize>,
    seed: Seed,
    /// Whether a blank part is one like others.
    blanks: bool,
}

const NOWHERE: usize = usize::MAX;

/// How far the search for a row's key has come.
#[derive(Debug, Clone, Copy)]
enum Found {
    /// There is no key to search for.
    Blank,
    Malformed,
    /// The key is that of the row before.
    Same,
    /// Nothing has the key's hash.
    Nothing,
    /// This has the key's hash; whether the rows of its key disagree.
    Candidate(Holder, bool),
}

impl Batch {
    /// Begins with a block, whose rows several lookups may be asked for.
    pub(super) fn begin_block(&mut self) {
        self.made_of = None;
    }

    /// Begins a batch of so many rows, of which nothing is known.
    fn begin(&mut self, count: usize) {
        self.keys.clear();
        self.hashes.clear();
        self.found.clear();
        self.made_of = None;
        self.begin_search(count);
    }

    /// Begins to search for so many rows, whose keys are there.
    fn begin_search(&mut self, count: usize) {
        for step in &mut self.found {
            if let Found::Candidate(..) = step {
                *step = Found::Nothing;
            }
        }
        self.starts.clear();
        self.starts.resize(count, NOWHERE);
    }

    /// Where the taken cells of the answer to a row begin in the texts of its reference, where the
    /// answer is one row whose place is known.
    #[inline]
    pub(super) fn taken(&self, nth: usize) -> Option<usize> {
        self.taken.get(nth).copied().filter(|at| *at != NOWHERE)
    }
}

impl Lookup {
    /// Looks up rows one after the other; gives the answer of each. What a row names is not told.
    ///
    /// Each of `rows` is given by its number, from 0 to `count`. Where they are as they were read, `own`
    /// is the block that they are of, with the place of each in it.
    pub(crate) fn answer_all<'b>(
        &self,
        (count, own): (usize, Option<(&Block, &[usize])>),
        row: impl Fn(usize) -> Row<'b>,
        asking: &mut Asking,
        answers: &mut Vec<Answer>,
    ) {
        answers.clear();
        asking.batch.taken.clear();
        if !self.is_plain() {
            answers.extend((0..count).map(|nth| self.answer(row(nth), asking)));
            return;
        }
        let Asking { work, batch, .. } = asking;
        let places = own.and_then(|(block, of)| Some((block, of, self.key.places(block)?)));
        match places {
            Some((block, of, places)) => self.take_cells(block, of, places, batch),
            None => {
                batch.begin(count);
                for nth in 0..count {
                    let state = batch.keys.pack(&self.key, row(nth), work);
                    batch.found.push(self.begins(state));
                }
                self.hash_keys(batch);
            }
        }
        let Batch { keys, hashes, found, starts, taken, .. } = batch;
        let reference = &self.reference;
        // What is read here is needed soon; until then it is on its way.
        let index = &reference.index;
        black_box(hashes.iter().fold(0, |touched, &hash| touched ^ index.touch(hash)));
        let texts = reference.key_texts();
        for ((step, start), &hash) in found.iter_mut().zip(&mut *starts).zip(&*hashes) {
            if let Found::Nothing = step
                && let Some(Candidate { row, place, is_marked }) = index.candidate(hash)
            {
                *step = Found::Candidate(Holder(row), is_marked);
                *start = reference.key_start_by(Holder(row), place);
            }
        }
        reference.touch(starts);
        let mut alias = None;
        let has_taken_behind = reference.looked_in().is_empty();
        for (nth, step) in found.iter().enumerate() {
            let key = keys.get(nth);
            let miss = |alias: &mut Option<usize>| {
                let found = self.alias(key);
                *alias = found.map(|(_, nth)| nth);
                found.map_or(Answer::Unmatched(Miss::Key), |(first, _)| self.settle(first))
            };
            let mut behind = NOWHERE;
            let answer = match *step {
                Found::Candidate(holder, disagree) if texts[starts[nth]..].starts_with(key) => {
                    alias = None;
                    if has_taken_behind {
                        behind = starts[nth] + key.len();
                    }
                    self.settle_known(holder, disagree)
                }
                Found::Candidate(..) => match reference.find_hashed(key, hashes[nth]) {
                    Some(first) => {
                        alias = None;
                        self.settle(first)
                    }
                    None => miss(&mut alias),
                },
                Found::Nothing => miss(&mut alias),
                Found::Same if alias.is_some() => miss(&mut alias),
                Found::Same => {
                    behind = taken.last().copied().unwrap_or(NOWHERE);
                    answers.last().copied().unwrap_or(Answer::Unmatched(Miss::Key))
                }
                Found::Blank => Answer::BlankKey,
                Found::Malformed => Answer::Malformed,
            };
            answers.push(answer);
            taken.push(if matches!(answer, Answer::Matched(_)) { behind } else { NOWHERE });
        }
    }

    /// Takes the keys of these rows of a block, whose parts are the cells in these places, unless they are
    /// there from another lookup.
    fn take_cells(&self, block: &Block, of: &[usize], places: Vec<usize>, batch: &mut Batch) {
        let (seed, blanks) = (self.reference.seed, self.reference.matches_blanks());
        let is_there = batch.made_of.as_ref().is_some_and(|made| {
            (made.seed, made.blanks) == (seed, blanks) && made.places == places && batch.rows == of
        });
        if is_there {
            batch.begin_search(of.len());
            return;
        }
        batch.begin(of.len());
        for &row in of {
            let state = batch.keys.pack_cells(block, row, &places);
            batch.found.push(self.begins(state));
        }
        self.hash_keys(batch);
        batch.rows.clear();
        batch.rows.extend_from_slice(of);
        batch.made_of = Some(MadeOf { places, seed, blanks });
    }

    /// How far the search for a key in such a state is before it begins.
    #[inline]
    fn begins(&self, state: PartState) -> Found {
        match state {
            PartState::Malformed => Found::Malformed,
            PartState::Blank if !self.reference.matches_blanks() => Found::Blank,
            PartState::Blank | PartState::Whole => Found::Nothing,
        }
    }

    /// Hashes the keys of a batch. All of them are packed by now: reading what was written just before
    /// takes longer.
    fn hash_keys(&self, batch: &mut Batch) {
        let Batch { keys, hashes, found, .. } = batch;
        // Of the row before, if its key is whole.
        let mut before = None;
        hashes.extend(found.iter_mut().enumerate().map(|(nth, step)| {
            let Found::Nothing = step else {
                before = None;
                return 0;
            };
            let key = keys.get(nth);
            let hash = hash(&self.reference.hasher, key);
            if before == Some(hash) && keys.get(nth - 1) == key {
                *step = Found::Same;
            }
            before = Some(hash);
            hash
        }));
    }

    /// Whether a row's key alone settles its answer.
    fn is_plain(&self) -> bool {
        self.within.is_none() && self.naming.is_empty() && !self.reference.is_by_position()
    }
}
