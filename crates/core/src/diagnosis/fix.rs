//! The effect of a change of the key: how many rows would match, and what it would break.
//!
//! Steps after those of a part work on the values that are compared now. So the keys of the reference,
//! how often each was asked for, and the unmatched keys show the whole effect. Nothing is guessed: the
//! steps are carried out.

use std::collections::{BTreeMap, HashMap};

use ahash::RandomState;

use super::difference::{Steps, are_unlike};
use super::explain::Explained;
use crate::findings::{Kind, LookupFindings, UnmatchedKey};
use crate::lookup::{Answer, EntryId, Lookup, Reference};
use crate::parallel::in_parallel;
use crate::plan::{Held, OnPart};
use crate::table::Packer;
use crate::template::{StepUse, Template, apply_all, read_steps};
use crate::value::is_blank;

/// A change of a lookup's key, with its effect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fix {
    /// The parts of the key as they are to be written, `MAIN = REFERENCE` or one side alone.
    pub on: Vec<String>,
    /// The numbers of the parts that are changed.
    pub changed: Vec<usize>,
    /// How many unmatched main rows would match; where a range or a name counts as well, how many
    /// would find their key.
    pub fixed: u64,
    /// How many of them would match by steps that remove letters, although theirs differ: `a9` with `B-009`.
    pub unlike: u64,
    /// The values of the first such row, of the main table and of the reference.
    pub unlike_example: Option<[String; 2]>,
    /// Whether a range or a name counts as well.
    pub only_key: bool,
    /// How many main rows that have an answer now, or none, would become ambiguous.
    pub newly_ambiguous: u64,
    /// How many main rows that have an answer now would be blank or malformed, or find none.
    pub lost: u64,
    /// How many keys of the reference would become one with another.
    pub joined: u64,
}

/// The steps to add after those of each part.
pub(super) type Change = BTreeMap<usize, Steps>;

/// How many changes are worked out at most, and for a reference of many keys.
const MOST: usize = 10;
const MOST_OF_MANY: usize = 4;
const MANY: u64 = 200_000;

/// How many are reported, and what share of the most they have to fix.
const TOLD: usize = 3;
const SHARE: u64 = 4;

/// The changes of the key that would match more of the explained keys, those with least effect first.
pub(super) fn fixes(
    lookup: &Lookup,
    found: &LookupFindings,
    explained: &[Explained],
    threads: usize,
) -> Vec<Fix> {
    let mut changes = changes(lookup, found, explained);
    let most = if lookup.reference().keys() > MANY { MOST_OF_MANY } else { MOST };
    changes.truncate(most);
    let mut all: Vec<(usize, Fix)> = in_parallel(&changes, threads, |change| {
        let steps = change.values().map(|steps| steps.main.split(" | ").count());
        effect(lookup, found, change).map(|fix| (steps.sum(), fix))
    })
    .into_iter()
    .flatten()
    .filter(|(_, fix)| fix.fixed > 0)
    .collect();
    all.sort_by_key(|(steps, fix)| {
        (fix.unlike > 0, *steps, fix.newly_ambiguous + fix.lost, std::cmp::Reverse(fix.fixed))
    });
    let mut reported: Vec<Fix> = Vec::new();
    for (_, fix) in all {
        if reported.iter().all(|other| other.fixed < fix.fixed) {
            reported.push(fix);
        }
    }
    // A small effect is left out next to a large one; the fix with the largest effect is always shown.
    let most = reported.last().map_or(0, |fix| fix.fixed);
    reported.retain(|fix| fix.fixed * SHARE >= most);
    let spare = reported.len().saturating_sub(TOLD);
    reported.split_off(spare)
}

/// The changes worth trying: each that occurs, each part's, and all of them together; the commonest
/// first.
fn changes(lookup: &Lookup, found: &LookupFindings, explained: &[Explained]) -> Vec<Change> {
    let has_matched = found.counts.of(Kind::Matched) > 0;
    let mut rows: BTreeMap<Change, u64> = BTreeMap::new();
    for (explained, key) in explained.iter().zip(found.unmatched.keys()) {
        let mut whole = Change::new();
        for (part, steps) in &explained.steps {
            let mut steps = steps.clone();
            if let (Some(format), "date", true) =
                (steps.main.strip_prefix("date %"), &steps.reference[..], has_matched)
            {
                // Parts that match now are written as those of the reference.
                steps.main = format!("date %F %{format}");
            }
            *rows.entry(Change::from([(*part, steps.clone())])).or_default() += key.rows;
            whole.insert(*part, steps);
        }
        if whole.len() > 1 {
            *rows.entry(whole.clone()).or_default() += key.rows;
        }
    }
    let mut common: Vec<(Change, u64)> = rows.into_iter().collect();
    common.sort_by_key(|(_, rows)| std::cmp::Reverse(*rows));
    // All changes together, part by part, without those that conflict with commoner ones.
    let mut of_parts: BTreeMap<usize, Steps> = BTreeMap::new();
    for (change, _) in common.iter().filter(|(change, _)| change.len() == 1) {
        for (part, steps) in change {
            let both = match of_parts.get(part) {
                None => Some(steps.clone()),
                Some(before) => before.with(steps),
            };
            if let Some(both) = both {
                of_parts.insert(*part, both);
            }
        }
    }
    let all = of_parts.clone();
    let parts = of_parts.into_iter().map(|part| Change::from([part]));
    let common = common.into_iter().map(|(change, _)| change).take(MOST);
    let wanted = [all].into_iter().filter(|all| !all.is_empty()).chain(parts).chain(common);
    let is_writable = |change: &Change| written(lookup, change).is_some();
    let mut distinct: Vec<Change> = Vec::new();
    for change in wanted.filter(is_writable) {
        if !distinct.contains(&change) {
            distinct.push(change);
        }
    }
    distinct
}

/// The parts of the key with a change written into them.
pub(super) fn written(lookup: &Lookup, change: &Change) -> Option<Vec<String>> {
    let parts = lookup.key().parts().len();
    let mut all = Vec::new();
    for (nth, text) in lookup.on().iter().take(parts).enumerate() {
        let Some(steps) = change.get(&nth) else {
            all.push(text.clone());
            continue;
        };
        let part = OnPart::parse(text).ok()?.pop()?;
        let main = behind(&part.main, &steps.main)?;
        let reference = match &part.reference {
            Held::Made(template) => behind(template, &steps.reference)?,
            Held::Any(_) => format!("{} | {}", part.reference, steps.reference),
        };
        let is_one = main == reference;
        all.push(if is_one { main } else { format!("{main} = {reference}") });
    }
    Some(all)
}

/// A template with steps after its own; `None` when it has several placeholders or none.
fn behind(template: &Template, steps: &str) -> Option<String> {
    let text = template.to_string();
    if !template.is_bare() {
        return None;
    }
    Some(match text.strip_suffix('}') {
        Some(inner) if text.starts_with('{') => format!("{} | {steps}}}", inner.trim_end()),
        _ => format!("{text} | {steps}"),
    })
}

/// The outcome of a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Outcome {
    Settled,
    Ambiguous,
    NotFound,
}

/// The reference keys as they would be.
struct Changed<'a> {
    lookup: &'a Lookup,
    groups: HashMap<u128, usize, RandomState>,
    /// The first entries of the keys that become one.
    firsts: Vec<Vec<EntryId>>,
}

/// The steps of each part, ready to be applied.
type Applied = Vec<Option<Vec<StepUse>>>;

fn ready(parts: usize, change: &Change, side: impl Fn(&Steps) -> &str) -> Option<Applied> {
    let read = |nth: usize| match change.get(&nth) {
        None => Some(None),
        Some(steps) => Some(Some(read_steps("on", side(steps)).ok()?)),
    };
    (0..parts).map(read).collect()
}

/// Works out what a change does.
fn effect(lookup: &Lookup, found: &LookupFindings, change: &Change) -> Option<Fix> {
    let reference = lookup.reference();
    let parts = lookup.key().parts().len();
    let main = ready(parts, change, |steps| &steps.main)?;
    let theirs = ready(parts, change, |steps| &steps.reference)?;
    let changed = Changed::of(lookup, &theirs);
    let mut packer = Packer::default();
    let group = |key: Option<u128>| key.and_then(|key| changed.groups.get(&key).copied());
    let outcome = |group: Option<usize>| match group {
        None => Outcome::NotFound,
        Some(at) => changed.settle(at),
    };
    let only_key = lookup.range_value().is_some() || !lookup.named_columns().is_empty();
    let is_settled = |first: EntryId| !matches!(lookup.settle(first), Answer::Ambiguous(_));
    let (mut newly_ambiguous, mut lost, mut fixed) = (0, 0, 0);
    for first in reference.firsts() {
        // With a range, the first entry does not show how often a key was asked for, so that any key may
        // have been.
        let asked = if only_key { 1 } else { found.asked(first) };
        if asked == 0 {
            continue;
        }
        match outcome(group(made(reference, reference.key_parts(first), &main, &mut packer))) {
            Outcome::Ambiguous if is_settled(first) => newly_ambiguous += asked,
            Outcome::Settled | Outcome::Ambiguous => {}
            Outcome::NotFound => lost += asked,
        }
    }
    let (mut unlike, mut unlike_example) = (0, None);
    for key in found.unmatched.keys() {
        let at = group(made(reference, key.parts(), &main, &mut packer));
        match outcome(at) {
            Outcome::Settled => {
                fixed += key.rows;
                if let Some(example) = at.and_then(|at| changed.unlike(at, key, change)) {
                    unlike += key.rows;
                    unlike_example.get_or_insert(example);
                }
            }
            Outcome::Ambiguous => newly_ambiguous += key.rows,
            Outcome::NotFound => {}
        }
    }
    let joined = changed.firsts.iter().map(|firsts| firsts.len() as u64 - 1).sum();
    if only_key && (joined > 0 || lost > 0) {
        // Which of the rows that match now this would touch can't be known from their keys.
        return None;
    }
    Some(Fix {
        on: written(lookup, change)?,
        changed: change.keys().copied().collect(),
        fixed,
        unlike,
        unlike_example,
        only_key,
        newly_ambiguous,
        lost,
        joined,
    })
}

/// The hash of a key with steps applied to its parts; `None` when a part becomes blank or can't be read.
/// It is long enough for two keys never to share one.
fn made<'k>(
    reference: &Reference,
    parts: impl Iterator<Item = &'k str>,
    steps: &Applied,
    packer: &mut Packer,
) -> Option<u128> {
    packer.clear();
    for (part, steps) in parts.zip(steps) {
        match steps {
            None => packer.push(part),
            Some(steps) => {
                let value = apply_all(steps, part)?;
                // Steps come last, so that an `or ""` before them states nothing any more.
                let is_blank = is_blank(&value);
                if is_blank && !reference.matches_blanks() {
                    return None;
                }
                packer.push(if is_blank { "" } else { &value });
            }
        }
    }
    let hasher = reference.hasher();
    let (low, high) = (hasher.hash_one(packer.bytes()), hasher.hash_one((packer.bytes(), 1_u8)));
    Some(u128::from(high) << 64 | u128::from(low))
}

impl<'a> Changed<'a> {
    fn of(lookup: &'a Lookup, steps: &Applied) -> Self {
        let reference = lookup.reference();
        let keys = reference.keys() as usize;
        let mut all = Self {
            lookup,
            groups: HashMap::with_capacity_and_hasher(keys, reference.hasher().clone()),
            firsts: Vec::with_capacity(keys),
        };
        let mut packer = Packer::default();
        for first in reference.firsts() {
            let Some(key) = made(reference, reference.key_parts(first), steps, &mut packer) else {
                continue;
            };
            let at = *all.groups.entry(key).or_insert_with(|| {
                all.firsts.push(Vec::new());
                all.firsts.len() - 1
            });
            all.firsts[at].push(first);
        }
        all
    }

    /// The values of a key and of one in a group whose letters differ, although steps that remove them make both one.
    fn unlike(&self, at: usize, key: &UnmatchedKey, change: &Change) -> Option<[String; 2]> {
        let removing = change.iter().filter(|(_, steps)| steps.remove_letters());
        removing.map(|(part, _)| *part).find_map(|part| {
            let ours = key.parts().nth(part)?;
            let reference = self.lookup.reference();
            let theirs =
                self.firsts[at].iter().filter_map(|first| reference.key_parts(*first).nth(part));
            let unlike = theirs.into_iter().find(|theirs| are_unlike(ours, theirs))?;
            Some([ours.to_owned(), unlike.to_owned()])
        })
    }

    /// The outcome of a group of keys that become one.
    fn settle(&self, at: usize) -> Outcome {
        let reference = self.lookup.reference();
        if self.lookup.range_value().is_some() || !self.lookup.named_columns().is_empty() {
            return Outcome::Settled;
        }
        let is_settled = match &self.firsts[at][..] {
            [only] => !matches!(self.lookup.settle(*only), Answer::Ambiguous(_)),
            firsts => {
                let mut entries: Vec<EntryId> =
                    firsts.iter().flat_map(|first| reference.entries_of(*first)).collect();
                entries.sort_unstable();
                self.lookup.would_settle(&entries)
            }
        };
        if is_settled { Outcome::Settled } else { Outcome::Ambiguous }
    }
}
