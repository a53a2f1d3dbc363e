//! Answering many rows at once.
//!
//! Where a key stands in a large reference is anywhere in memory, and waiting for it takes longer
//! than all else that is done with a row. So each step is done for all rows before the next: the
//! slots of all keys are asked for one after the other, then the records that they lead to, and the
//! waits run side by side.

use super::reference::hash;
use super::{Answer, Asking, Holder, Lookup, Miss};
use crate::table::Row;
use crate::template::PartState;

/// What is known of each row of a batch; kept from batch to batch.
#[derive(Debug, Default)]
pub(super) struct Batch {
    /// The packed keys, end to end.
    keys: String,
    ends: Vec<usize>,
    hashes: Vec<u32>,
    found: Vec<Found>,
    /// Where the taken cells begin that stand behind the key of each row, where it was found at once.
    taken: Vec<Option<usize>>,
}

/// How far the search for a row's key has come.
#[derive(Debug, Clone, Copy)]
enum Found {
    /// There is no key to search for.
    Settled(Answer),
    /// The key is that of the row before.
    Same,
    /// Nothing has the key's hash.
    Nothing,
    /// This has the key's hash, and its record begins there.
    Candidate(Holder, usize),
}

impl Batch {
    /// Where the taken cells of the answer to a row begin in the texts of its reference, where the
    /// answer is one row whose place is known.
    #[inline]
    pub(super) fn taken(&self, nth: usize) -> Option<usize> {
        self.taken.get(nth).copied().flatten()
    }
}

impl Lookup {
    /// Looks up rows one after the other; gives the answer of each. What a row names is not told.
    ///
    /// Each of `rows` is given by its number, from 0 to `count`.
    pub(crate) fn answer_all<'b>(
        &self,
        count: usize,
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
        let Batch { keys, ends, hashes, found, taken } = batch;
        keys.clear();
        ends.clear();
        hashes.clear();
        found.clear();
        let (mut previous, mut hash_before) = (0..0, 0);
        for nth in 0..count {
            let start = keys.len();
            let mut state = self.key.pack(row(nth), keys, work);
            if state == PartState::Blank && self.reference.matches_blanks() {
                state = PartState::Whole;
            }
            let key = start..keys.len();
            ends.push(key.end);
            let (hash, step) = match state {
                PartState::Malformed => (0, Found::Settled(Answer::Malformed)),
                PartState::Blank => (0, Found::Settled(Answer::BlankKey)),
                PartState::Whole => {
                    let hash = hash(&self.reference.hasher, &keys[key.clone()]);
                    let is_same =
                        hash == hash_before && keys[previous.clone()] == keys[key.clone()];
                    (hash, if is_same && nth > 0 { Found::Same } else { Found::Nothing })
                }
            };
            hash_before = hash;
            hashes.push(hash);
            found.push(step);
            // Behind a key that is not whole none is taken for the same.
            previous = if state == PartState::Whole { key } else { 0..0 };
        }
        // What is read here is needed soon; until then it is on its way.
        let index = &self.reference.index;
        std::hint::black_box(hashes.iter().fold(0, |touched, &hash| touched ^ index.touch(hash)));
        for (step, &hash) in found.iter_mut().zip(&*hashes) {
            if let Found::Nothing = step
                && let Some(holder) = index.candidate(hash)
            {
                *step = Found::Candidate(Holder(holder), 0);
            }
        }
        for step in found.iter_mut() {
            if let Found::Candidate(holder, start) = step {
                *start = self.reference.key_start(*holder);
            }
        }
        let touched = found.iter().fold(0, |touched, step| match step {
            Found::Candidate(_, start) => touched ^ self.reference.touch(*start),
            _ => touched,
        });
        std::hint::black_box(touched);
        let mut start = 0;
        let mut alias = None;
        let has_taken_behind = self.reference.looked_in().is_empty();
        for (nth, step) in found.iter().enumerate() {
            let end = ends[nth];
            let key = &keys[start..end];
            start = end;
            let miss = |alias: &mut Option<usize>| {
                let found = self.alias(key);
                *alias = found.map(|(_, nth)| nth);
                found.map_or(Answer::Unmatched(Miss::Key), |(first, _)| self.settle(first))
            };
            let mut behind = None;
            let answer = match *step {
                Found::Settled(answer) => answer,
                Found::Nothing => miss(&mut alias),
                Found::Same if alias.is_some() => miss(&mut alias),
                Found::Same => {
                    behind = taken.last().copied().flatten();
                    answers.last().copied().unwrap_or(Answer::Unmatched(Miss::Key))
                }
                Found::Candidate(holder, start) => {
                    let is_it = self.reference.key_from(start).starts_with(key);
                    let first = if is_it {
                        behind = has_taken_behind.then_some(start + key.len());
                        Some(holder)
                    } else {
                        self.reference.find_hashed(key, hashes[nth])
                    };
                    match first {
                        Some(first) => {
                            alias = None;
                            self.settle(first)
                        }
                        None => miss(&mut alias),
                    }
                }
            };
            answers.push(answer);
            taken.push(behind.filter(|_| matches!(answer, Answer::Matched(_))));
        }
    }

    /// Whether a row's key alone settles its answer.
    fn is_plain(&self) -> bool {
        self.within.is_none() && self.naming.is_empty() && !self.reference.is_by_position()
    }
}
