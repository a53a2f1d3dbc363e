//! The reason of every unmatched key, with the reference key that comes nearest.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};

use super::bag::Bags;
use super::difference::{Differences, Steps};
use super::fix::{Change, Fix, fixes, written};
use super::reason::{Form, Reason};
use super::seek::{Shared, Sharing, Sought, held_by};
use super::spelling::{Trail, Wanted};
use crate::findings::{LookupFindings, UnmatchedKey};
use crate::lookup::{EntryId, Lookup, Reference};
use crate::parallel::in_parallel;
use crate::table::{Packer, Row};
use crate::template::StepBuffers;

/// The diagnosis of a lookup's unmatched keys.
#[derive(Debug)]
pub struct Diagnosis {
    /// For each of the findings' unmatched keys, in order, its reason.
    pub explained: Vec<Explained>,
    /// How many keys were not compared for their nearest one, because there were too many.
    pub not_sought: u64,
    /// The fixes that would match more of them; each matches more than the ones before it.
    pub fixes: Vec<Fix>,
    /// Whether more came near than could be looked at, so that the nearest may not be.
    pub is_bounded: bool,
}

/// Why a key is unmatched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Explained {
    /// The reason.
    pub reason: Reason,
    /// The entry of the nearest reference key, if there is one.
    pub nearest: Option<EntryId>,
    /// How many changes of one character lie between the two.
    pub distance: Option<usize>,
    /// For a key that is spelled otherwise, the steps that fix each such part.
    pub(super) steps: Vec<(usize, Steps)>,
}

/// How many of the entries that share a spelling are compared.
const SPELLED: usize = 4;

/// Of more entries than this the characters are compared first, and the order of letters only where few differ.
const FEW: usize = 48;

/// With how many bags of characters all keys together are compared.
const COMPARED: usize = 100_000_000;

/// How many entries are measured of those that are equally far off by their characters.
const MEASURED: usize = 200;

/// For how many keys the nearest one is sought, where spelling does not explain them.
pub const NEAREST: usize = 5_000;

/// So many that nearly share the letters are measured.
const LETTERED: usize = 24;

/// How long a value may be of which every pair of letters is left out, which takes long in a large
/// reference; of a longer one a single letter is.
const SHORT: usize = 14;
const LONGER: usize = 40;
const MANY: usize = 100_000;

impl Explained {
    /// Why a lookup does not find the key of one main row.
    pub fn of(lookup: &Lookup, row: Row<'_>) -> Self {
        let mut packed = Packer::default();
        lookup.key().pack(row, &mut packed, &mut StepBuffers::default());
        let keys = [UnmatchedKey::of(lookup, row, packed.text())];
        let mut explained = Near::new(lookup.reference(), &keys, 1).explain(1);
        if explained[0].reason == Reason::Nothing {
            lettered(lookup.reference(), &keys, &[0], &mut explained, 1);
        }
        explained.swap_remove(0)
    }

    /// The parts of the key as they are to be written for this key to match, where its spelling alone
    /// is in the way.
    pub fn fix(&self, lookup: &Lookup) -> Option<Vec<String>> {
        let change: Change = self.steps.iter().cloned().collect();
        if change.is_empty() { None } else { written(lookup, &change) }
    }

    pub(super) fn nothing() -> Self {
        Self { reason: Reason::Nothing, nearest: None, distance: None, steps: Vec::new() }
    }
}

impl Diagnosis {
    /// Seeks the reasons of a lookup's unmatched keys on this many threads, and works out what would
    /// fix them. `None` when there are none, or when the reference was not kept as a whole.
    pub fn of(lookup: &Lookup, found: &LookupFindings, threads: usize) -> Option<Self> {
        let keys = found.unmatched.keys();
        let reference = lookup.reference();
        let is_whole = !reference.is_filtered() && !reference.is_spilled();
        if keys.is_empty() || !is_whole || reference.is_by_position() {
            return None;
        }
        let near = Near::new(reference, keys, threads);
        let mut explained = near.explain(threads);
        let mut is_bounded = near.is_bounded.load(Ordering::Relaxed);
        let left: Vec<usize> =
            (0..keys.len()).filter(|&nth| explained[nth].reason == Reason::Nothing).collect();
        let beyond = explained.iter_mut().skip(NEAREST);
        let beyond = beyond.filter(|one| one.reason == Reason::Nothing);
        let not_sought = beyond.map(|one| one.reason = Reason::NotSought).count() as u64;
        let left = &left[..left.partition_point(|nth| *nth < NEAREST)];
        is_bounded |= lettered(reference, keys, left, &mut explained, threads);
        let fixes = fixes(lookup, found, &explained, threads);
        Some(Self { explained, not_sought, fixes, is_bounded })
    }

    /// How many rows have each reason, the commonest first, with the first key that has it. Keys are
    /// those of the findings that this is of.
    pub fn reasons<'d>(&'d self, keys: &[UnmatchedKey]) -> Vec<(&'d Reason, u64, usize)> {
        let mut all: Vec<(&Reason, u64, usize)> = Vec::new();
        let mut places: HashMap<Reason, usize> = HashMap::new();
        for (nth, (explained, key)) in self.explained.iter().zip(keys).enumerate() {
            let alike = explained.reason.alike();
            let at = *places.entry(alike).or_insert_with(|| {
                all.push((&explained.reason, 0, nth));
                all.len() - 1
            });
            all[at].1 += key.rows;
        }
        all.sort_by_key(|(_, rows, first)| (std::cmp::Reverse(*rows), *first));
        all
    }
}

/// The entries that share a hash with each unmatched key.
pub(super) struct Near<'a> {
    reference: &'a Reference,
    keys: &'a [UnmatchedKey],
    sought: Sought,
    shared: Shared,
    /// For hashes that many entries share, these entries by the characters of the part that is left out.
    bags: HashMap<u32, Bags>,
    /// With how many bags each key is compared.
    most: usize,
    /// Whether there were more.
    is_bounded: AtomicBool,
    differences: Differences,
}

impl<'a> Near<'a> {
    pub(super) fn new(reference: &'a Reference, keys: &'a [UnmatchedKey], threads: usize) -> Self {
        let parts = keys.iter().map(UnmatchedKey::parts);
        let held = held_by(reference, &whole(reference), threads);
        let sought = Sought::of(reference, &held, parts, Wanted::Parts, NEAREST);
        let shared = sought.shared(reference, &whole(reference), threads);
        let mut large: Vec<(u32, u32)> = (0..keys.len())
            .flat_map(|key| sought.trails(key))
            .filter_map(|(trail, slot)| match trail {
                Trail::Without(part) if shared.of(*slot).len() > FEW => Some((*slot, *part)),
                _ => None,
            })
            .collect();
        let most = COMPARED / large.len().max(1);
        large.sort_unstable();
        large.dedup();
        let bags = in_parallel(&large, threads, |&(slot, part)| {
            let is_filled = |other: &&Sharing| other.begins[0] != 0;
            let all: Vec<Sharing> = shared.of(slot).iter().filter(is_filled).copied().collect();
            (slot, Bags::of(&all, |entry| compared(reference, entry, part as usize)))
        });
        let bags = bags.into_iter().collect();
        let is_bounded = AtomicBool::new(shared.is_bounded);
        let differences = Differences::new();
        Self { reference, keys, sought, shared, bags, most, is_bounded, differences }
    }

    /// The trails of a key, with their slots.
    pub(super) fn trails(&self, key: usize) -> &[(Trail, u32)] {
        self.sought.trails(key)
    }

    /// The entries of a slot.
    pub(super) fn sharing(&self, slot: u32) -> &[Sharing] {
        self.shared.of(slot)
    }

    fn explain(&self, threads: usize) -> Vec<Explained> {
        let pieces: Vec<_> = (0..self.keys.len()).step_by(1024).collect();
        let explained = in_parallel(&pieces, threads, |&start| {
            let piece = start..(start + 1024).min(self.keys.len());
            piece.map(|nth| self.explain_one(nth)).collect::<Vec<_>>()
        });
        explained.into_iter().flatten().collect()
    }

    fn explain_one(&self, nth: usize) -> Explained {
        let parts: Vec<&str> = self.keys[nth].parts().collect();
        let trails = self.sought.trails(nth);
        let on = |wanted: Trail| trails.iter().filter(move |(trail, _)| *trail == wanted);
        let mut best: Option<(usize, Explained)> = None;
        for (_, slot) in on(Trail::Spelling) {
            for &Sharing { entry, .. } in self.shared.of(*slot).iter().take(SPELLED) {
                let Some(spelled) = self.spelled(&parts, entry, None) else { continue };
                let weight = spelled.iter().map(|(_, forms, _)| forms.len()).sum();
                if best.as_ref().is_some_and(|(least, _)| *least <= weight) {
                    continue;
                }
                let forms = spelled.iter().map(|(part, forms, _)| (*part, forms.clone()));
                best = Some((
                    weight,
                    Explained {
                        reason: Reason::Spelled(forms.collect()),
                        nearest: Some(entry),
                        distance: Some(self.distance(&parts, entry)),
                        steps: spelled.into_iter().map(|(part, _, steps)| (part, steps)).collect(),
                    },
                ));
            }
        }
        if let Some((_, best)) = best {
            return best;
        }
        for (_, slot) in on(Trail::Order) {
            for &Sharing { entry, .. } in self.shared.of(*slot).iter().take(SPELLED) {
                if self.is_swapped(&parts, entry) {
                    let distance = Some(self.distance(&parts, entry));
                    let (reason, nearest) = (Reason::Swapped, Some(entry));
                    return Explained { reason, nearest, distance, steps: Vec::new() };
                }
            }
        }
        self.one_part(&parts, trails).unwrap_or_else(Explained::nothing)
    }

    /// How the spelling of the parts differs from another key's, except for a part that does not count.
    /// `None` when more than spelling differs.
    fn spelled(
        &self,
        parts: &[&str],
        entry: EntryId,
        but: Option<usize>,
    ) -> Option<Vec<(usize, Vec<Form>, Steps)>> {
        let mut all = Vec::new();
        for (nth, (part, other)) in parts.iter().zip(self.reference.as_compared(entry)).enumerate()
        {
            if *part != other && Some(nth) != but {
                let (forms, steps) = self.differences.between(part, other)?;
                all.push((nth, forms, steps));
            }
        }
        Some(all)
    }

    /// Whether a reference key has the parts in another order, spelled as they may be.
    pub(super) fn is_swapped(&self, parts: &[&str], entry: EntryId) -> bool {
        let mut others: Vec<&str> = self.reference.as_compared(entry).collect();
        parts.iter().all(|part| {
            let same = others.iter().position(|other| other == part).or_else(|| {
                others.iter().position(|o| self.differences.between(part, o).is_some())
            });
            same.map(|at| others.swap_remove(at)).is_some()
        })
    }

    /// The nearest key that has the same parts but for one.
    fn one_part(&self, parts: &[&str], trails: &[(Trail, u32)]) -> Option<Explained> {
        let mut best: Option<(f64, usize, usize, EntryId)> = None;
        for (trail, slot) in trails {
            let Trail::Without(nth) = trail else { continue };
            let nth = *nth as usize;
            for (entry, distance) in self.nearest_values(parts[nth], nth, *slot) {
                if self.spelled(parts, entry, Some(nth)).is_none() {
                    continue;
                }
                let other = compared(self.reference, entry, nth);
                let long = parts[nth].chars().count().max(other.chars().count()).max(1);
                let share = distance as f64 / long as f64;
                if best.is_none_or(|(least, ..)| share < least) {
                    best = Some((share, distance, nth, entry));
                }
                break;
            }
        }
        let (_, distance, part, entry) = best?;
        let other = compared(self.reference, entry, part);
        let reason = if is_typo(parts[part], other, distance) {
            Reason::Typo { part: Some(part), distance }
        } else {
            Reason::OnePart(part)
        };
        let distance = Some(self.distance(parts, entry));
        Some(Explained { reason, nearest: Some(entry), distance, steps: Vec::new() })
    }

    /// The entries of a slot whose part comes nearest to a value, the nearest first, with how far off
    /// they are.
    pub(super) fn nearest_values(
        &self,
        value: &str,
        part: usize,
        slot: u32,
    ) -> Vec<(EntryId, usize)> {
        let of = |entry: EntryId| compared(self.reference, entry, part);
        let mut measured: Vec<(usize, EntryId)> = Vec::new();
        let mut measure = |entry: EntryId| {
            let distance = apart(value, of(entry));
            measured.push((distance, entry));
            distance
        };
        let Some(bags) = self.bags.get(&slot) else {
            for other in self.shared.of(slot).iter().filter(|other| other.begins[0] != 0) {
                measure(other.entry);
            }
            measured.sort_unstable();
            return measured.into_iter().map(|(distance, entry)| (entry, distance)).collect();
        };
        let mut is_bounded = bags.len() > self.most;
        let mut least = usize::MAX;
        for (far, alike) in bags.by_distance(value, self.most).iter().enumerate() {
            // All that follow have at least as many changes.
            if least <= far {
                break;
            }
            for &entry in alike.iter().copied().flatten().take(MEASURED) {
                least = least.min(measure(entry));
            }
            let all: usize = alike.iter().map(|entries| entries.len()).sum();
            is_bounded |= all > MEASURED && least > far;
        }
        self.is_bounded.fetch_or(is_bounded, Ordering::Relaxed);
        measured.sort_unstable();
        measured.into_iter().map(|(distance, entry)| (entry, distance)).collect()
    }

    fn distance(&self, parts: &[&str], entry: EntryId) -> usize {
        distance(self.reference, parts, entry)
    }
}

/// Up to which length two letters are left out of values that a reference is searched for.
pub(super) fn longest_lettered(reference: &Reference) -> usize {
    if reference.entry_count() <= MANY { LONGER } else { SHORT }
}

/// Finds keys that share most letters with the keys that nothing else explains.
fn lettered(
    reference: &Reference,
    keys: &[UnmatchedKey],
    left: &[usize],
    explained: &mut [Explained],
    threads: usize,
) -> bool {
    if left.is_empty() {
        return false;
    }
    let letters = Wanted::Letters(longest_lettered(reference));
    let parts = left.iter().map(|&nth| keys[nth].parts());
    let sought = Sought::of(reference, &[], parts, letters, usize::MAX);
    let shared = sought.shared(reference, &whole(reference), threads);
    let places: Vec<usize> = (0..left.len()).collect();
    let near = in_parallel(&places, threads, |&place| {
        let parts: Vec<&str> = keys[left[place]].parts().collect();
        // Each part by itself, so that a long one which is shared does not outweigh the others.
        let is_near = |entry: EntryId| {
            let pairs = parts.iter().zip(reference.as_compared(entry));
            let mut unlike = pairs.filter(|(part, other)| *part != other);
            unlike.all(|(part, other)| apart(part, other) <= most_apart(part.chars().count()))
        };
        let mut entries: Vec<EntryId> = Vec::new();
        for (_, slot) in sought.trails(place) {
            let more = shared.of(*slot).iter().take(LETTERED);
            for &Sharing { entry, .. } in more {
                if !entries.contains(&entry) && entries.len() < LETTERED {
                    entries.push(entry);
                }
            }
        }
        let near = entries.into_iter().filter(|entry| is_near(*entry));
        near.map(|one| (distance(reference, &parts, one), one)).min()
    });
    for (&nth, near) in left.iter().zip(near) {
        let Some((distance, entry)) = near else { continue };
        let parts: Vec<&str> = keys[nth].parts().collect();
        let part = (parts.len() == 1).then_some(0);
        let other = reference.as_compared(entry).next().unwrap_or_default();
        let reason = if parts.len() == 1 && !is_typo(parts[0], other, distance) {
            Reason::OtherDigits
        } else {
            Reason::Typo { part, distance }
        };
        explained[nth] =
            Explained { reason, nearest: Some(entry), distance: Some(distance), steps: Vec::new() };
    }
    shared.is_bounded
}

/// Whether a entry has a whole key.
pub(super) fn whole(reference: &Reference) -> impl Fn(EntryId) -> bool + Sync + '_ {
    let all = reference.keyless().is_empty() && reference.malformed().is_empty();
    move |entry| {
        all || !reference.searched().is_empty() || {
            let row = reference.row(entry);
            reference.keyless().binary_search(&row).is_err()
                && reference.malformed().binary_search(&row).is_err()
        }
    }
}

/// How many changes of one character lie between a key and that of a entry.
pub(super) fn distance(reference: &Reference, parts: &[&str], entry: EntryId) -> usize {
    let pairs = parts.iter().zip(reference.as_compared(entry));
    pairs.filter(|(part, other)| *part != other).map(|(part, other)| apart(part, other)).sum()
}

/// A part of the key of an entry, as it is compared.
fn compared(reference: &Reference, entry: EntryId, part: usize) -> &str {
    reference.as_compared(entry).nth(part).unwrap_or_default()
}

pub(super) fn apart(one: &str, other: &str) -> usize {
    const LONGEST: usize = 200;
    if one.len().max(other.len()) > LONGEST {
        // The distance of long texts is at most the length of their middle parts that differ.
        return one.len().max(other.len()) - ends_alike(one, other);
    }
    strsim::osa_distance(one, other)
}

/// How many bytes two values have in common at their beginning and end.
fn ends_alike(one: &str, other: &str) -> usize {
    let (one, other) = (one.as_bytes(), other.as_bytes());
    let start = one.iter().zip(other).take_while(|(a, b)| a.eq_ignore_ascii_case(b)).count();
    let (one, other) = (&one[start..], &other[start..]);
    let end = one.iter().rev().zip(other.iter().rev());
    start + end.take_while(|(a, b)| a.eq_ignore_ascii_case(b)).count()
}

/// How many letters a value may differ from the one that was meant.
fn most_apart(characters: usize) -> usize {
    match characters {
        0..3 => 0,
        3..6 => 1,
        6..12 => 2,
        _ => 3,
    }
}

/// Whether a value is likely another one with a typing slip: a few letters differ, the digits are the
/// same.
fn is_typo(value: &str, other: &str, distance: usize) -> bool {
    let plain = |sign: char| sign.is_ascii_digit().then_some(sign);
    // Letters in place of digits are typing slips.
    let taken_for = |sign: char| match sign {
        'O' | 'o' => Some('0'),
        'I' | 'l' => Some('1'),
        _ => plain(sign),
    };
    let long = value.chars().count().max(other.chars().count());
    distance <= most_apart(long)
        && (value.chars().filter_map(plain).eq(other.chars().filter_map(plain))
            || value.chars().filter_map(taken_for).eq(other.chars().filter_map(taken_for)))
}
