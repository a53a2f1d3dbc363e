//! The questions of a pass, those of most main rows first.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};

use super::Gatherer;
use crate::enrich::Enrichment;
use crate::findings::{Findings, UnmatchedKey};
use crate::lookup::{EntryId, Lookup};
use crate::parallel::in_parallel;

/// How many entries of a reference are gone through at once.
const PIECE: usize = 1 << 15;

/// A question about main rows that have the same key, or the same value in a part of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// The number of the lookup, from 0.
    pub lookup: usize,
    /// How many main rows it is about.
    pub rows: u64,
    /// The subject.
    pub about: About,
}

/// The subject of a question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum About {
    /// A key that no reference row holds, by its place among the unmatched keys of the findings.
    Key(usize),
    /// A value that no reference row holds in a part, and that several unmatched keys have.
    Value {
        /// The part.
        part: usize,
        /// The keys, by their places among the unmatched keys of the findings.
        keys: Vec<usize>,
    },
    /// A key that several reference rows hold, by its place among the gathered ones.
    Disputed(usize),
    /// A key with a value that can't be read, by its place among the gathered ones.
    Unreadable(usize),
}

/// The questions that a pass leaves. A key is asked about by itself only if no value of it is asked about; `is_settled` says of a
/// question that it needs no answer.
pub fn questions<E>(
    enrichment: &Enrichment,
    findings: &Findings,
    gathered: &Gatherer<E>,
    threads: usize,
    is_settled: impl Fn(&Question) -> bool,
) -> Vec<Question> {
    let mut all = Vec::new();
    for (nth, (lookup, found)) in enrichment.lookups().zip(&findings.lookups).enumerate() {
        if lookup.reference().is_by_position() {
            continue;
        }
        let keys = found.unmatched.keys();
        let mut is_of_value = vec![false; keys.len()];
        for (part, places) in unknown_values(lookup, keys, threads) {
            let rows = places.iter().map(|&place| keys[place].rows).sum();
            let about = About::Value { part, keys: places.clone() };
            let question = Question { lookup: nth, rows, about };
            if !is_settled(&question) {
                for &place in &places {
                    is_of_value[place] = true;
                }
                all.push(question);
            }
        }
        let alone = (0..keys.len()).filter(|&key| !is_of_value[key]);
        let alone = alone.map(|key| (keys[key].rows, About::Key(key)));
        let disputed = gathered.disputed(nth).iter().enumerate();
        let disputed = disputed.map(|(at, key)| (key.rows, About::Disputed(at)));
        let unreadable = gathered.unreadable(nth).iter().enumerate();
        let unreadable = unreadable.map(|(at, key)| (key.rows, About::Unreadable(at)));
        let others = alone.chain(disputed).chain(unreadable);
        let others = others.map(|(rows, about)| Question { lookup: nth, rows, about });
        all.extend(others.filter(|question| !is_settled(question)));
    }
    // Of as many rows the order of the references and of the rows stays.
    all.sort_by_key(|question| Reverse(question.rows));
    all
}

/// The values that no reference row has in a part while all other parts of their keys are known, if several keys have
/// them: the part, and the places of the keys.
fn unknown_values(
    lookup: &Lookup,
    keys: &[UnmatchedKey],
    threads: usize,
) -> Vec<(usize, Vec<usize>)> {
    let reference = lookup.reference();
    if lookup.key().parts().len() < 2 {
        return Vec::new();
    }
    let mut places: HashMap<(usize, &str), usize> = HashMap::new();
    let mut values: Vec<(usize, Vec<usize>)> = Vec::new();
    for (at, key) in keys.iter().enumerate() {
        for of_part in key.parts().enumerate() {
            let place = *places.entry(of_part).or_insert_with(|| {
                values.push((of_part.0, Vec::new()));
                values.len() - 1
            });
            values[place].1.push(at);
        }
    }
    let is_known: Vec<AtomicBool> = values.iter().map(|_| AtomicBool::new(false)).collect();
    let count = reference.entry_count();
    let pieces: Vec<usize> = (0..count).step_by(PIECE).collect();
    in_parallel(&pieces, threads, |&start| {
        for entry in EntryId::at(start..(start + PIECE).min(count)) {
            for of_part in reference.as_compared(entry).enumerate() {
                if let Some(&place) = places.get(&of_part) {
                    is_known[place].store(true, Ordering::Relaxed);
                }
            }
        }
    });
    let is_known: Vec<bool> = is_known.into_iter().map(AtomicBool::into_inner).collect();
    // A key with several unknown values is not matched by another value for one of them.
    let is_only = |&at: &usize| {
        let unknown = keys[at].parts().enumerate().filter(|of_part| !is_known[places[of_part]]);
        unknown.count() == 1
    };
    let unknown = values.iter().zip(&is_known).filter(|(_, is_known)| !**is_known);
    let unknown = unknown.map(|((part, keys), _)| {
        (*part, keys.iter().copied().filter(is_only).collect::<Vec<usize>>())
    });
    unknown.filter(|(_, keys)| keys.len() > 1).collect()
}
