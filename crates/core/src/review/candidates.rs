//! What a question may be answered with, sought when it is asked.

use std::cmp::Reverse;
use std::collections::HashMap;

use super::question::{About, Question};
use super::{DisputedKey, Gatherer};
use crate::diagnosis::{by_cells, nearest_keys, readable_keys};
use crate::enrich::Enrichment;
use crate::findings::{Findings, UnmatchedKey};
use crate::lookup::{EntryId, Lookup};
use crate::table::Packer;

/// How many candidates a question has at most: as many as there are digits to choose them by.
pub const MOST: usize = 9;

/// For how many questions nearest keys are sought at once, which takes hardly longer than for one.
const AT_ONCE: usize = 16;

/// A possible answer to a question.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Candidate {
    /// An entry of the reference with the key or the value, or the one whose row is meant.
    pub entry: EntryId,
    /// How many of the main rows that the question is about it would match.
    pub rows: u64,
}

/// Seeks candidates for the questions of a pass, and keeps those it has found.
#[derive(Debug)]
pub struct Seeker<'p, E> {
    enrichment: &'p Enrichment,
    findings: &'p Findings,
    gathered: &'p Gatherer<E>,
    questions: &'p [Question],
    threads: usize,
    found: HashMap<usize, Vec<Candidate>>,
}

impl<'p, E> Seeker<'p, E> {
    /// Seeks for the questions that a pass left, on this many threads.
    pub fn new(
        enrichment: &'p Enrichment,
        (findings, gathered): (&'p Findings, &'p Gatherer<E>),
        questions: &'p [Question],
        threads: usize,
    ) -> Self {
        Self { enrichment, findings, gathered, questions, threads, found: HashMap::new() }
    }

    /// The candidates of a question by its number, the likeliest first, at most [`MOST`]; of a key that several rows hold, these
    /// rows in order.
    ///
    /// # Panics
    /// When there is no such question.
    pub fn candidates(&mut self, nth: usize) -> Vec<Candidate> {
        if let Some(found) = self.found.get(&nth) {
            return found.clone();
        }
        let question = &self.questions[nth];
        let found = match &question.about {
            About::Key(_) => {
                self.seek_keys(nth);
                return self.found.get(&nth).cloned().unwrap_or_default();
            }
            About::Value { part, keys } => {
                let mut found = self.values(question, (*part, keys), |_| true);
                let asked = self.key(question, keys[0]).parts().nth(*part).unwrap_or_default();
                let reference = self.lookup(question).reference();
                found.sort_by_cached_key(|one| {
                    let value = reference.as_compared(one.entry).nth(*part).unwrap_or_default();
                    let far = strsim::osa_distance(asked, value);
                    // One that is hardly alike is judged by how many rows it would match.
                    let is_near = far * 3 <= asked.chars().count().max(3);
                    (!is_near, if is_near { far } else { 0 }, Reverse(one.rows), far, one.entry)
                });
                found
            }
            About::Disputed(at) => self.rows(question, *at),
            About::Unreadable(at) => {
                let key = &self.gathered.unreadable(question.lookup)[*at];
                let of = (&key.parts[..], &key.cells[..]);
                let found = readable_keys(self.lookup(question), of, MOST);
                found.into_iter().map(|entry| Candidate { entry, rows: key.rows }).collect()
            }
        };
        let found: Vec<Candidate> = found.into_iter().take(MOST).collect();
        self.found.insert(nth, found.clone());
        found
    }

    /// The candidates of a question with all the words of a text in their keys or taken cells, in whatever case; at most
    /// [`MOST`], those whose key is the text first, and then those most like what was asked about.
    ///
    /// # Panics
    /// When there is no such question.
    pub fn search(&self, nth: usize, text: &str) -> Vec<Candidate> {
        let question = &self.questions[nth];
        let reference = self.lookup(question).reference();
        let text = text.to_lowercase();
        let words: Vec<&str> = text.split_whitespace().collect();
        let is_meant = |cells: &mut dyn Iterator<Item = &str>| {
            let cells = cells.map(str::to_lowercase).collect::<Vec<String>>().join(" ");
            words.iter().all(|word| cells.contains(word)).then_some(cells == text)
        };
        let mut found: Vec<(bool, Candidate)> = match &question.about {
            About::Value { part, keys } => {
                let value =
                    |one: EntryId| reference.as_compared(one).nth(*part).unwrap_or_default();
                let found = self.values(question, (*part, keys), |value| {
                    is_meant(&mut std::iter::once(value)).is_some()
                });
                let is_exact = |one: &Candidate| value(one.entry).to_lowercase() == text;
                found.into_iter().map(|one| (!is_exact(&one), one)).collect()
            }
            About::Disputed(at) => {
                let all = self.rows(question, *at).into_iter();
                let all = all.filter(|one| {
                    let row = reference.row(one.entry);
                    let key = reference.row_as_read(row).into_iter();
                    is_meant(&mut key.chain(reference.taken_cells(row))).is_some()
                });
                all.map(|one| (false, one)).collect()
            }
            About::Key(_) | About::Unreadable(_) => {
                let is_whole = |row| {
                    reference.keyless().binary_search(&row).is_err()
                        && reference.malformed().binary_search(&row).is_err()
                };
                let (mut exact, mut others) = (Vec::new(), Vec::new());
                for entry in EntryId::at(0..reference.entry_count()) {
                    let row = reference.row(entry);
                    let key = reference.as_read(entry);
                    let is_exact = is_meant(&mut key.iter().copied());
                    let is_there =
                        || is_meant(&mut key.iter().copied().chain(reference.taken_cells(row)));
                    match is_exact.or_else(is_there).filter(|_| is_whole(row)) {
                        Some(true) => exact.push(entry),
                        Some(false) => others.push(entry),
                        None => {}
                    }
                }
                let cells: Vec<&str> = match &question.about {
                    About::Unreadable(at) => {
                        let key = &self.gathered.unreadable(question.lookup)[*at];
                        key.cells.iter().map(String::as_str).collect()
                    }
                    About::Key(at) => self.key(question, *at).read().collect(),
                    About::Value { .. } | About::Disputed(_) => Vec::new(),
                };
                let ordered =
                    |all: Vec<EntryId>| by_cells(reference, &cells, all.into_iter(), MOST);
                let mut all = ordered(exact);
                all.extend(ordered(others));
                let all = all.into_iter().take(MOST);
                return all.map(|entry| Candidate { entry, rows: question.rows }).collect();
            }
        };
        found.sort_by_key(|(is_other, one)| (*is_other, Reverse(one.rows), one.entry));
        found.into_iter().map(|(_, one)| one).take(MOST).collect()
    }

    fn lookup(&self, question: &Question) -> &'p Lookup {
        // The questions are those of the pass.
        #[allow(clippy::expect_used)]
        self.enrichment.lookups().nth(question.lookup).expect("a question is of one of the lookups")
    }

    fn key(&self, question: &Question, at: usize) -> &'p UnmatchedKey {
        &self.findings.lookups[question.lookup].unmatched.keys()[at]
    }

    /// Seeks the nearest keys for a question, and for those after it that are about keys of the same lookup.
    fn seek_keys(&mut self, nth: usize) {
        let lookup = self.lookup(&self.questions[nth]);
        let asked = self.questions.iter().enumerate().skip(nth).filter_map(|(at, question)| {
            let About::Key(key) = question.about else { return None };
            let is_same = question.lookup == self.questions[nth].lookup;
            (is_same && !self.found.contains_key(&at))
                .then_some((at, self.key(question, key).clone()))
        });
        let (places, keys): (Vec<usize>, Vec<UnmatchedKey>) = asked.take(AT_ONCE).unzip();
        let nearest = nearest_keys(lookup, &keys, MOST, self.threads);
        for ((place, key), nearest) in places.into_iter().zip(&keys).zip(nearest) {
            let found = nearest.into_iter().map(|entry| Candidate { entry, rows: key.rows });
            self.found.insert(place, found.collect());
        }
    }

    /// The values of a part with which some of the keys would match, as far as they are `wanted`.
    fn values(
        &self,
        question: &Question,
        (part, keys): (usize, &[usize]),
        wanted: impl Fn(&str) -> bool,
    ) -> Vec<Candidate> {
        let reference = self.lookup(question).reference();
        let mut packer = Packer::default();
        let mut others: HashMap<String, u64> = HashMap::new();
        for key in keys.iter().map(|&at| self.key(question, at)) {
            pack_others(&mut packer, key.parts(), part);
            *others.entry(packer.text().to_owned()).or_default() += key.rows;
        }
        let mut found: HashMap<&str, Candidate> = HashMap::new();
        for entry in EntryId::at(0..reference.entry_count()) {
            pack_others(&mut packer, reference.as_compared(entry), part);
            let Some(rows) = others.get(packer.text()) else { continue };
            let value = reference.as_compared(entry).nth(part).unwrap_or_default();
            // Every key counts once, however many rows hold it.
            if !value.is_empty() && wanted(value) && reference.first_of(entry) == entry {
                found.entry(value).or_insert(Candidate { entry, rows: 0 }).rows += rows;
            }
        }
        found.into_values().collect()
    }

    /// The rows that hold a key.
    fn rows(&self, question: &Question, at: usize) -> Vec<Candidate> {
        let DisputedKey { entries, rows, .. } = &self.gathered.disputed(question.lookup)[at];
        let reference = self.lookup(question).reference();
        let firsts = reference.first_in_rows(entries);
        firsts.into_iter().map(|entry| Candidate { entry, rows: *rows }).collect()
    }
}

/// Packs all parts of a key but one.
fn pack_others<'k>(packer: &mut Packer, parts: impl Iterator<Item = &'k str>, but: usize) {
    packer.clear();
    parts.enumerate().filter(|(nth, _)| *nth != but).for_each(|(_, part)| packer.push(part));
}
