//! Which keys of a reference have rows that disagree on what is taken. In go the keys that several rows
//! hold, once they are found; what comes of it stands in the reference.

use super::reference::hash;
use super::rule::{Compared, Decision};
use super::{Holder, Reference};
use crate::in_parallel::in_parallel;
use crate::table::packed;

/// What is known of some keys whose rows disagree.
struct Disagreeing {
    /// The first holder of each, and the one that the rule chooses; none where ranges tell which rows meet.
    keys: Vec<(Holder, Option<Holder>)>,
    /// On which of the taken columns.
    disputed: Vec<bool>,
}

impl Disagreeing {
    /// Those of some groups of holders, each of one key, that do.
    fn among(groups: &[Vec<Holder>], reference: &Reference) -> Self {
        let mut found = Self { keys: Vec::new(), disputed: vec![false; reference.taken.len()] };
        for holders in groups.iter().filter(|holders| reference.disagree(holders)) {
            let rows = reference.rows_among(holders);
            for &row in &rows[1..] {
                let pairs = reference.taken_cells(rows[0]).zip(reference.taken_cells(row));
                for (disputed, (one, other)) in found.disputed.iter_mut().zip(pairs) {
                    *disputed |= one != other;
                }
            }
            if reference.ranged.is_some() {
                // Which rows meet depends on the main row.
                continue;
            }
            let chosen = match reference.decide(holders, Compared::Every) {
                Decision::Chosen(holder) => Some(holder),
                _ => None,
            };
            found.keys.push((holders[0], chosen));
        }
        found
    }
}

/// How many keys that several rows hold are looked at by one thread at a time.
const KEYS_AT_ONCE: usize = 256;

/// Notes which keys have rows that disagree, on what, and which of them the rule chooses.
pub(super) fn note_disagreement(reference: &mut Reference, threads: usize) {
    let groups: Vec<Vec<Holder>> = match &reference.ranged {
        Some(ranged) => ranged.index.overlapping().collect(),
        None => {
            let repeats = reference.repeats.chunk_by(|a, b| a.0 == b.0);
            repeats.map(|repeats| reference.holders_of(repeats[0].0).collect()).collect()
        }
    };
    let some: Vec<&[Vec<Holder>]> = groups.chunks(KEYS_AT_ONCE).collect();
    let found = in_parallel(&some, threads, |some| Disagreeing::among(some, reference));
    reference.disputed.fill(false);
    let mut conflicting = Vec::new();
    let mut chosen = Vec::new();
    for Disagreeing { keys, disputed } in found {
        for (all, more) in reference.disputed.iter_mut().zip(disputed) {
            *all |= more;
        }
        for (first, one) in keys {
            if conflicting.is_empty() {
                conflicting = vec![0; reference.holder_count().div_ceil(64)];
            }
            conflicting[first.index() / 64] |= 1 << (first.index() % 64);
            let key = packed::first_cells(reference.key_text(first), reference.parts());
            let hash = hash(&reference.hasher, key.as_bytes());
            reference.index.mark(hash, first.0);
            chosen.extend(one.map(|one| (first, one)));
        }
    }
    reference.conflicting = conflicting;
    reference.chosen = chosen;
}
