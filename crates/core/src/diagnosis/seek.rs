//! Which reference keys share a hash with keys that are sought.
//!
//! Only the hashes of sought keys are kept; the reference is gone through once, in pieces that do
//! not depend on the number of threads, and what it shares with them comes out in its order.

use std::collections::HashMap;
use std::ops::Range;

use super::loose::Loose;
use super::spelling::{Hashes, OddPart, Trail, Wanted};
use crate::hashing::PassHash;
use crate::lookup::{EntryId, Reference};
use crate::parallel::in_parallel;

/// How many reference keys are gone through at once.
const PIECE: usize = 1 << 15;

/// How many of them are hashed before any hash is looked up.
const AT_ONCE: usize = 256;

/// How many shared hashes are noted at most, in all: what is found beyond is not looked at.
const MOST: usize = 1 << 23;

/// The hashes of sought keys.
#[derive(Debug)]
pub(super) struct Sought {
    /// The hashes of keys without one of their parts, kept separately: most reference keys may share one,
    /// and being few they stay in the cache.
    without: Slots,
    others: Slots,
    /// How many different hashes there are.
    count: usize,
    /// For each sought key, its trails and their slots.
    trails: Vec<(Trail, u32)>,
    ends: Vec<usize>,
    wanted: Wanted,
    odd: Vec<OddPart>,
}

/// The slots of some hashes.
#[derive(Debug, Default)]
struct Slots {
    slots: HashMap<u64, u32, PassHash>,
    /// Bits of the hashes that may be there, so that most others are reported at once.
    filter: Vec<u64>,
}

impl Slots {
    /// Makes the filter, once all hashes are there.
    fn filter(&mut self) {
        let bits = (self.slots.len() * 16).next_power_of_two().max(64);
        self.filter = vec![0; bits / 64];
        for hash in self.slots.keys() {
            let bit = *hash as usize & (bits - 1);
            self.filter[bit / 64] |= 1 << (bit % 64);
        }
    }

    /// Whether a hash may be there; nearly always it is then.
    fn may_hold(&self, hash: u64) -> bool {
        let bit = hash as usize & (self.filter.len() * 64 - 1);
        self.filter[bit / 64] >> (bit % 64) & 1 == 1
    }
}

/// The entries that share each hash.
#[derive(Debug)]
pub(super) struct Shared {
    entries: Vec<Sharing>,
    starts: Vec<u32>,
    /// Whether there were more than could be noted.
    pub(super) is_bounded: bool,
}

/// A entry that shares a hash.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Sharing {
    /// The beginning of the part that is left out, where one is, so that it need not be looked up
    /// where it is.
    pub(super) begins: Beginning,
    /// The entry.
    pub(super) entry: EntryId,
}

/// The first bytes of a value, blank ones after a short one.
pub(super) type Beginning = [u8; 16];

/// The first bytes of a value.
pub(super) fn beginning(value: &str) -> Beginning {
    let mut bytes = [0; 16];
    let most = value.len().min(bytes.len());
    bytes[..most].copy_from_slice(&value.as_bytes()[..most]);
    bytes
}

fn is_without(trail: Trail) -> bool {
    matches!(trail, Trail::Without(_))
}

impl Sought {
    /// The hashes of some keys, given by their parts, as far as the values that the reference holds in
    /// each part can match. Only the first keys are searched for by all but one of their parts.
    pub(super) fn of<'k, P>(
        reference: &Reference,
        held: &[OddPart],
        keys: impl Iterator<Item = P>,
        wanted: Wanted,
        most: usize,
    ) -> Self
    where
        P: Iterator<Item = &'k str> + Clone,
    {
        let mut hashes = Hashes::meeting(reference.hasher(), held);
        let mut all = Self {
            without: Slots::default(),
            others: Slots::default(),
            count: 0,
            trails: Vec::new(),
            ends: Vec::new(),
            wanted,
            odd: Vec::new(),
        };
        let mut loose = Loose::new();
        for (nth, parts) in keys.enumerate() {
            let is_beyond = wanted == Wanted::Parts && nth >= most;
            let wanted = if is_beyond { Wanted::Spellings } else { wanted };
            let Self { without, others, count, trails, ends, odd, .. } = &mut all;
            for (nth, part) in parts.clone().enumerate() {
                if odd.len() <= nth {
                    odd.push(OddPart::default());
                }
                odd[nth].note(part, &mut loose);
            }
            hashes.of(parts, wanted, |trail, hash| {
                let of_trail = if is_without(trail) { &mut *without } else { &mut *others };
                let slot = of_trail.slots.entry(hash).or_insert_with(|| {
                    *count += 1;
                    *count as u32 - 1
                });
                trails.push((trail, *slot));
            });
            ends.push(trails.len());
        }
        all.without.filter();
        all.others.filter();
        all
    }

    /// The trails of a sought key, with their slots.
    pub(super) fn trails(&self, key: usize) -> &[(Trail, u32)] {
        let start = key.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.trails[start..self.ends[key]]
    }

    fn slots(&self, trail: Trail) -> &Slots {
        if is_without(trail) { &self.without } else { &self.others }
    }

    /// The entries of a reference that share each hash. `is_whole` says whether a row has a key.
    pub(super) fn shared(
        &self,
        reference: &Reference,
        is_whole: &(impl Fn(EntryId) -> bool + Sync),
        threads: usize,
    ) -> Shared {
        let count = reference.entry_count();
        let pieces: Vec<Range<usize>> =
            (0..count).step_by(PIECE).map(|start| start..(start + PIECE).min(count)).collect();
        let most = MOST / pieces.len().max(1);
        let look = |piece: &Range<usize>| {
            let mut hashes = Hashes::meeting(reference.hasher(), &self.odd);
            let (mut made, mut found) = (Vec::new(), Vec::new());
            let mut all = 0_usize;
            let starts = piece.clone().step_by(AT_ONCE);
            for batch in starts.map(|start| start..(start + AT_ONCE).min(piece.end)) {
                // First all hashes, then all bits, then all slots: so the waits for memory run side
                // by side.
                made.clear();
                for entry in EntryId::at(batch).filter(|&entry| is_whole(entry)) {
                    hashes.of(reference.key_parts(entry), self.wanted, |trail, hash| {
                        made.push((hash, trail, entry));
                    });
                }
                made.retain(|(hash, trail, _)| self.slots(*trail).may_hold(*hash));
                for &(hash, trail, entry) in &made {
                    let Some(&slot) = self.slots(trail).slots.get(&hash) else { continue };
                    all += 1;
                    if found.len() < most {
                        let begins = match trail {
                            Trail::Without(part) => reference.key_parts(entry).nth(part as usize),
                            _ => None,
                        };
                        let begins = beginning(begins.unwrap_or_default());
                        found.push((slot, Sharing { begins, entry }));
                    }
                }
            }
            (found, all > most)
        };
        let found = in_parallel(&pieces, threads, look);
        let mut starts = vec![0_u32; self.count + 1];
        for (slot, _) in found.iter().flat_map(|(found, _)| found) {
            starts[*slot as usize + 1] += 1;
        }
        for slot in 1..starts.len() {
            starts[slot] += starts[slot - 1];
        }
        let mut next = starts.clone();
        let all = starts.last().copied().unwrap_or_default() as usize;
        let none = Sharing { begins: Beginning::default(), entry: EntryId::FIRST };
        let mut entries = vec![none; all];
        for (slot, sharing) in found.iter().flat_map(|(found, _)| found) {
            let at = &mut next[*slot as usize];
            entries[*at as usize] = *sharing;
            *at += 1;
        }
        let is_bounded = found.iter().any(|(_, bounded)| *bounded);
        Shared { entries, starts, is_bounded }
    }
}

/// The values of a reference's keys in each part.
pub(super) fn held_by(
    reference: &Reference,
    is_whole: &(impl Fn(EntryId) -> bool + Sync),
    threads: usize,
) -> Vec<OddPart> {
    let count = reference.entry_count();
    let starts: Vec<usize> = (0..count).step_by(PIECE).collect();
    let glance = |start: &usize| {
        let mut odd: Vec<OddPart> = Vec::new();
        let entries = EntryId::at(*start..(start + PIECE).min(count));
        for entry in entries.filter(|&entry| is_whole(entry)) {
            for (nth, part) in reference.key_parts(entry).enumerate() {
                if odd.len() == nth {
                    odd.push(OddPart::default());
                }
                odd[nth].glance(part);
            }
        }
        odd
    };
    let mut all: Vec<OddPart> = Vec::new();
    for piece in in_parallel(&starts, threads, glance) {
        all.resize(all.len().max(piece.len()), OddPart::default());
        for (all, more) in all.iter_mut().zip(piece) {
            *all = all.with(more);
        }
    }
    all
}

impl Shared {
    /// The entries that share the hash of a slot, in their order.
    pub(super) fn of(&self, slot: u32) -> &[Sharing] {
        let slot = slot as usize;
        &self.entries[self.starts[slot] as usize..self.starts[slot + 1] as usize]
    }
}
