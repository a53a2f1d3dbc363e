//! Conflicts: the keys whose rows disagree on what is taken, and which row the rule chooses.
//!
//! The keys of several rows go in, once the index has them; the result is stored in the index.

use crate::hashing::hash;
use crate::lookup::rule::{Compared, Decision};
use crate::lookup::{EntryId, Reference};
use crate::parallel::in_parallel;

/// The conflicts among some keys.
struct Conflicts {
    /// The first entry of each key, and the entry that the rule chooses; empty where the main row decides which
    /// ranges meet.
    keys: Vec<(EntryId, Option<EntryId>)>,
    /// For each taken column, whether rows disagree on it.
    disputed: Vec<bool>,
}

impl Conflicts {
    /// The conflicts among groups of entries, each of one key.
    fn among(groups: &[Vec<EntryId>], reference: &Reference) -> Self {
        let mut found = Self { keys: Vec::new(), disputed: vec![false; reference.taken().len()] };
        for entries in groups.iter().filter(|entries| reference.disagree(entries)) {
            let rows = reference.rows_among(entries);
            for &row in &rows[1..] {
                let pairs = reference.taken_cells(rows[0]).zip(reference.taken_cells(row));
                for (disputed, (one, other)) in found.disputed.iter_mut().zip(pairs) {
                    *disputed |= one != other;
                }
            }
            if reference.spec.range.is_some() {
                continue;
            }
            let chosen = match reference.decide(entries, Compared::Every) {
                Decision::Chosen(entry) => Some(entry),
                _ => None,
            };
            found.keys.push((entries[0], chosen));
        }
        found
    }
}

/// How many keys a thread compares at a time.
const KEYS_AT_ONCE: usize = 256;

/// Stores in the index which keys have rows that disagree, on which columns, and the chosen rows.
pub(super) fn note_conflicts(reference: &mut Reference, threads: usize) {
    let groups: Vec<Vec<EntryId>> = match &reference.index.ranges {
        Some(index) => index.ranges.overlapping().collect(),
        None => {
            let repeats = reference.index.repeats.chunk_by(|a, b| a.0 == b.0);
            repeats.map(|repeats| reference.entries_of(repeats[0].0).collect()).collect()
        }
    };
    let batches: Vec<&[Vec<EntryId>]> = groups.chunks(KEYS_AT_ONCE).collect();
    let found = in_parallel(&batches, threads, |groups| Conflicts::among(groups, reference));
    let mut all = vec![false; reference.taken().len()];
    let (mut conflicting, mut chosen) = (Vec::new(), Vec::new());
    for Conflicts { keys, disputed } in found {
        for (all, more) in all.iter_mut().zip(disputed) {
            *all |= more;
        }
        for (first, one) in keys {
            if conflicting.is_empty() {
                conflicting = vec![0; reference.entry_count().div_ceil(64)];
            }
            conflicting[first.index() / 64] |= 1 << (first.index() % 64);
            let hash = hash(reference.hasher(), reference.packed_key(first).as_bytes());
            reference.index.hashes.mark(hash, first.0);
            chosen.extend(one.map(|one| (first, one)));
        }
    }
    reference.index.disputed = all;
    reference.index.conflicting = conflicting;
    reference.index.chosen = chosen;
}
