//! Sets of pairs as keys: how many main rows each finds, and in exactly one reference row.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::column::{Column, Form};
use super::cut::Cut;
use super::pairs::{PAIRS, Pair, SAME};
use crate::hashing::PassHash;

/// How many keys are proposed.
const PROPOSED: usize = 2;

/// A key that others would match by chance counts this much: it is proposed where nothing else is there.
const BY_CHANCE: f64 = 0.1;

/// A proposed key has at least this score.
const LEAST: f64 = 0.02;

/// How many parts a proposed key has at most, except for wider ones that are tried separately.
const PARTS: usize = 3;

/// The score of a set of pairs: how many main rows it finds, of how many, and how many of them in exactly
/// one reference row.
struct Outcome {
    rows: usize,
    found: usize,
    unique: usize,
    /// How many rows of the reference they agree with, in all.
    agreeing: usize,
}

fn key_hash(hashes: impl Iterator<Item = u64>) -> Option<u64> {
    let mut all = 0_u64;
    for hash in hashes {
        if hash == 0 {
            return None;
        }
        let mixed = (all ^ hash).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        all = mixed ^ mixed >> 29;
    }
    Some(all)
}

/// The rows of the main table by which keys are compared: as many, evenly spaced, as show what a key is worth.
const ROWS: usize = 4_000;

/// What a set of pairs finds. With `lower`, rows of the reference with another lower bound of their range count as
/// different.
fn outcome(left: &[Column], right: &[Column], set: &[&Pair], lower: Option<usize>) -> Outcome {
    let all = left.first().map_or(0, Column::rows);
    let keys: Vec<u64> = (0..all)
        .step_by(all.div_ceil(ROWS).max(1))
        .filter_map(|row| key_hash(set.iter().map(|pair| left[pair.main].left(row, pair.form))))
        .collect();
    let mut held: HashMap<u64, usize, PassHash> = keys.iter().map(|key| (*key, 0)).collect();
    let any = set.iter().map(|pair| pair.reference.len()).max().unwrap_or(1);
    let mut ranged: HashSet<u64> = HashSet::new();
    for row in 0..right.first().map_or(0, Column::rows) {
        for nth in 0..any {
            let hashes = set.iter().map(|pair| {
                let column = pair.reference[nth.min(pair.reference.len() - 1)];
                right[column].left(row, pair.form)
            });
            let Some(key) = key_hash(hashes) else { continue };
            let Some(count) = held.get_mut(&key) else { continue };
            let bound = lower.map(|lower| right[lower].left(row, Form::Loose));
            let is_another = bound.and_then(|bound| key_hash([key, bound].into_iter()));
            // A second row of the same key and the same range is one too many.
            if is_another.is_none_or(|both| !ranged.insert(both) || *count == 0) {
                *count += 1;
            }
        }
    }
    let counts = || keys.iter().map(|key| held[key]);
    let found = counts().filter(|count| *count > 0).count();
    let unique = counts().filter(|count| *count == 1).count();
    Outcome { rows: keys.len(), found, unique, agreeing: counts().sum() }
}

/// A set of pairs that rows agree on no more than this many times as often as if its columns had nothing to do with each other,
/// in a few rows more.
const AS_OFTEN: f64 = 3.0;
const FEW_ROWS: f64 = 3.0;

/// Where fewer rows than this share are found, it is by chance; where more are, if most of them are found several times.
const FOUND: f64 = 0.5;

/// Whether rows agree on several pairs only as often as they would if they agreed on each by itself, `chances` being how
/// often that is.
fn is_accidental(set: &[&Pair], outcome: &Outcome, chances: &[f64], rows: usize) -> bool {
    let together = chances.iter().product::<f64>() * outcome.rows as f64 * rows as f64;
    let is_rare = (outcome.found as f64) < FOUND * outcome.rows as f64;
    set.len() > 1
        && outcome.agreeing as f64 <= together * AS_OFTEN + FEW_ROWS
        && (is_rare || outcome.unique * 2 < outcome.found)
        && set.iter().any(|pair| pair.named <= SAME)
}

/// A set of pairs, by their numbers, with what it finds.
#[derive(Clone)]
struct Scored {
    score: f64,
    set: Vec<usize>,
    rows: usize,
    found: usize,
    unique: usize,
    is_by_chance: bool,
}

impl Scored {
    /// Whether another set has only some of these pairs, and finds as much as exactly: the others add nothing.
    fn has_needless(&self, other: &Self) -> bool {
        other.set.len() < self.set.len()
            && other.found >= self.found
            && other.unique >= self.unique
            && (self.is_by_chance || !other.is_by_chance)
            && other.set.iter().all(|nth| self.set.contains(nth))
    }
}

/// How good a set of pairs is as a key.
fn score(
    set: &[&Pair],
    outcome: &Outcome,
    is_by_chance: bool,
    (left, right): (&[Column], &[Column]),
) -> f64 {
    let share = |of: usize, all: usize| of as f64 / all.max(1) as f64;
    let named = set.iter().map(|pair| pair.named).sum::<f64>() / set.len() as f64;
    let found = share(outcome.found, outcome.rows);
    let unique = share(outcome.unique, outcome.found);
    // A value that hardly varies is found anywhere by chance.
    let varied: usize = set.iter().map(|pair| pair.values).max().unwrap_or(0);
    let chance = if varied < 3 && outcome.rows > 20 { 0.3 } else { 0.0 };
    // Columns that distinguish the rows of both tables describe what the rows are about.
    let is_one_to_one = matches!(set, [only] if only.reference.len() == 1
        && left[only.main].is_key() && right[only.reference[0]].is_key());
    let unlikely = set.iter().map(|pair| {
        let is_piece = |columns: &[Column], nth: usize| columns[nth].cut.is_some();
        let is_piece =
            is_piece(left, pair.main) || pair.reference.iter().any(|&nth| is_piece(right, nth));
        let piece = if is_piece { 0.1 } else { 0.0 };
        let digits = if pair.form == Form::Digits { 0.1 } else { 0.0 };
        piece + digits
    });
    let exact = set.iter().map(|pair| pair.exact).sum::<f64>() / set.len() as f64;
    let score = found * (0.3 + 0.7 * unique) + 0.05 * (named + exact)
        - 0.02 * (set.len() as f64 - 1.0)
        - chance
        - unlikely.fold(0.0, f64::max);
    if loses_text(set, left, right) {
        0.0
    } else if is_by_chance {
        score * BY_CHANCE
    } else {
        score + if is_one_to_one { 0.25 } else { 0.0 }
    }
}

/// Whether other values would be found as well.
fn is_by_chance(set: &[&Pair]) -> bool {
    set.iter().all(|pair| pair.is_by_chance)
}

/// Whether a part of a value is taken and the rest of it lost, so that values become one that are not.
fn loses_text(set: &[&Pair], left: &[Column], right: &[Column]) -> bool {
    let loses = |columns: &[Column], nth: usize, taken: &[usize]| {
        let column = &columns[nth];
        let has_rest = |&other: &usize| other != nth && columns[other].of == column.of;
        column.cut.is_some_and(|cut| match cut {
            Cut::Piece(..) => false,
            // The last digits are a part of something only together with others.
            Cut::Last(_) => set.len() == 1,
            Cut::First(_) | Cut::From(..) => !taken.iter().any(has_rest),
        })
    };
    let ours: Vec<usize> = set.iter().map(|pair| pair.main).collect();
    let theirs: Vec<usize> = set.iter().flat_map(|pair| &pair.reference).copied().collect();
    // A part of both values: the rest of one must be in the key too.
    let has_rest = |columns: &[Column], nth: usize, taken: &[usize]| {
        taken.iter().any(|&other| other != nth && columns[other].of == columns[nth].of)
    };
    let loses_both = |pair: &&Pair| {
        left[pair.main].cut.is_some()
            && pair.reference.iter().any(|&nth| right[nth].cut.is_some())
            && !has_rest(left, pair.main, &ours)
            && !pair.reference.iter().any(|&nth| has_rest(right, nth, &theirs))
    };
    set.iter().any(loses_both)
        || ours.iter().any(|&nth| loses(left, nth, &ours))
        || theirs.iter().any(|&nth| loses(right, nth, &theirs))
}

/// The best sets of pairs, and the best sets with another key.
pub(super) fn sets(
    left: &[Column],
    right: &[Column],
    pairs: &[Pair],
    lower: Option<usize>,
) -> Vec<Proposed> {
    let mut scored: Vec<Scored> = Vec::new();
    let theirs = right.first().map_or(0, Column::rows);
    // How often two rows agree on each pair.
    let mut chances: Vec<f64> = Vec::new();
    let scored_of = |set: &[usize], chances: &[f64]| {
        let chosen: Vec<&Pair> = set.iter().map(|&nth| &pairs[nth]).collect();
        let is_bound = |lower: &usize| chosen.iter().any(|pair| pair.reference.contains(lower));
        let outcome = outcome(left, right, &chosen, lower.filter(|lower| !is_bound(lower)));
        let of_each: Vec<f64> = set.iter().filter_map(|&nth| chances.get(nth).copied()).collect();
        let is_chance = is_by_chance(&chosen) || is_accidental(&chosen, &outcome, &of_each, theirs);
        let scored = Scored {
            score: score(&chosen, &outcome, is_chance, (left, right)),
            set: set.to_vec(),
            rows: outcome.rows,
            found: outcome.found,
            unique: outcome.unique,
            is_by_chance: is_chance || loses_text(&chosen, left, right),
        };
        (scored, outcome.agreeing)
    };
    // Two parts of one column go together, but not a column with a part of it.
    let differ = |columns: &[Column], one: usize, other: usize| {
        columns[one].of != columns[other].of
            || one != other && columns[one].cut.is_some() && columns[other].cut.is_some()
    };
    let goes_with = |set: &[usize], nth: usize| {
        let one = &pairs[nth];
        set.iter().all(|&other| {
            let other = &pairs[other];
            let mut theirs = one
                .reference
                .iter()
                .flat_map(|one| other.reference.iter().map(move |other| (one, other)));
            differ(left, one.main, other.main)
                && theirs.all(|(one, other)| differ(right, *one, *other))
        }) && (one.reference.len() == 1
            || set.iter().all(|&other| pairs[other].reference.len() == 1))
    };
    let mut now: Vec<Scored> = Vec::new();
    for nth in 0..pairs.len() {
        let (one, agreeing) = scored_of(&[nth], &chances);
        chances.push(agreeing as f64 / (one.rows.max(1) as f64 * theirs.max(1) as f64));
        now.push(one);
    }
    for parts in 1..=PARTS {
        now.sort_by(|a, b| b.score.total_cmp(&a.score));
        scored.extend(now.iter().cloned());
        if parts == PARTS {
            break;
        }
        let mut next: BTreeMap<Vec<usize>, Scored> = BTreeMap::new();
        // Nothing is gained by more parts where each row is found once.
        let may_gain = |one: &&Scored| one.found < one.rows || one.unique < one.found;
        for Scored { set, .. } in now.iter().take(PAIRS / 2).filter(may_gain) {
            for nth in 0..pairs.len() {
                if set.contains(&nth) || !goes_with(set, nth) {
                    continue;
                }
                let mut wider = set.clone();
                wider.push(nth);
                wider.sort_unstable();
                next.entry(wider).or_insert_with_key(|wider| scored_of(wider, &chances).0);
            }
        }
        now = next.into_values().collect();
    }
    proposed(scored, pairs, (left, right))
}

/// The best of some sets, and the best with another key.
fn proposed(
    mut scored: Vec<Scored>,
    pairs: &[Pair],
    (left, right): (&[Column], &[Column]),
) -> Vec<Proposed> {
    scored.sort_by(|a, b| b.score.total_cmp(&a.score).then_with(|| a.set.len().cmp(&b.set.len())));
    let mut reported: Vec<(Vec<usize>, bool)> = Vec::new();
    let is_sure = scored.first().is_some_and(|best| !best.is_by_chance);
    for one in &scored {
        if one.is_by_chance && is_sure || scored.iter().any(|other| one.has_needless(other)) {
            continue;
        }
        let Scored { score, set, .. } = one;
        // Another key has other columns, not the same in another form.
        let columns = |set: &[usize]| -> HashSet<(usize, usize)> {
            let of = |nth: &usize| {
                let pair = &pairs[*nth];
                (left[pair.main].of, right[pair.reference[0]].of)
            };
            set.iter().map(of).collect()
        };
        // A column that the best key has already is found by others by chance.
        let in_best: HashSet<usize> = reported
            .first()
            .into_iter()
            .flat_map(|(best, _)| columns(best))
            .map(|(_, of)| of)
            .collect();
        let is_mere_chance = set.iter().any(|&nth| {
            let pair = &pairs[nth];
            pair.is_by_chance && pair.reference.iter().any(|&nth| in_best.contains(&right[nth].of))
        });
        let is_new = reported.iter().all(|(known, _)| !columns(known).is_subset(&columns(set)));
        if *score > LEAST && is_new && !is_mere_chance && reported.len() < PROPOSED {
            reported.push((set.clone(), one.is_by_chance));
        }
    }
    let by_place = |set: Vec<usize>| {
        let mut set: Vec<Pair> = set.into_iter().map(|nth| pairs[nth].clone()).collect();
        set.sort_by_key(|pair| pair.main);
        set
    };
    let wider_than = |set: &[usize]| -> Vec<Vec<usize>> {
        let is_wider = |other: &&Vec<usize>| {
            other.len() == set.len() + 1 && set.iter().all(|nth| other.contains(nth))
        };
        scored.iter().map(|other| &other.set).filter(is_wider).take(WIDER).cloned().collect()
    };
    let proposed = reported.into_iter().map(|(set, is_by_chance)| Proposed {
        wider: wider_than(&set).into_iter().map(by_place).collect(),
        set: by_place(set),
        is_by_chance,
    });
    proposed.collect()
}

/// A set of pairs that is proposed, and the best of those with one pair more.
pub(super) struct Proposed {
    pub(super) set: Vec<Pair>,
    pub(super) wider: Vec<Vec<Pair>>,
    /// Whether other values would be found as well.
    pub(super) is_by_chance: bool,
}

/// How many of those there are.
const WIDER: usize = 2;
