//! Several reference keys that come near to an unmatched one, for a person to choose from.

use super::explain::{Near, apart, distance, longest_lettered, whole};
use super::loose::Loose;
use super::seek::{Sharing, Sought};
use super::spelling::{Trail, Wanted};
use crate::findings::UnmatchedKey;
use crate::lookup::{EntryId, Lookup, Reference};

/// How many entries that share a hash are looked at for each key.
const LOOKED_AT: usize = 64;

/// For each key the entries of up to `most` reference keys, the nearest first: keys that are only spelled otherwise, keys with
/// the parts in another order, keys with all parts but one, and keys with nearly the same letters. The reference is
/// gone through once for all of them.
pub(crate) fn nearest_keys(
    lookup: &Lookup,
    keys: &[UnmatchedKey],
    most: usize,
    threads: usize,
) -> Vec<Vec<EntryId>> {
    let reference = lookup.reference();
    let near = Near::new(reference, keys, threads);
    let parts = keys.iter().map(UnmatchedKey::parts);
    let lettered =
        Sought::of(reference, &[], parts, Wanted::Letters(longest_lettered(reference)), usize::MAX);
    let by_letters = lettered.shared(reference, &whole(reference), threads);
    let loose = Loose::new();
    let of_key = |(nth, key): (usize, &UnmatchedKey)| {
        let parts: Vec<&str> = key.parts().collect();
        let mut entries: Vec<EntryId> = Vec::new();
        for (trail, slot) in near.trails(nth) {
            match trail {
                Trail::Without(part) => {
                    let values = near.nearest_values(parts[*part as usize], *part as usize, *slot);
                    entries.extend(values.into_iter().take(LOOKED_AT).map(|(entry, _)| entry));
                }
                Trail::Order => {
                    let all = near.sharing(*slot).iter().take(LOOKED_AT);
                    let all = all.map(|one| one.entry);
                    entries.extend(all.filter(|entry| near.is_swapped(&parts, *entry)));
                }
                _ => {
                    entries.extend(near.sharing(*slot).iter().take(LOOKED_AT).map(|one| one.entry));
                }
            }
        }
        for (_, slot) in lettered.trails(nth) {
            let all = by_letters.of(*slot).iter().take(LOOKED_AT);
            entries.extend(all.map(|&Sharing { entry, .. }| entry));
        }
        let left: Vec<String> = parts.iter().map(|part| loose.text(part)).collect();
        let far = |entry: EntryId| {
            let pairs = left.iter().zip(reference.as_compared(entry));
            let loosely = pairs.map(|(part, other)| apart(part, &loose.text(other))).sum();
            let pairs = parts.iter().zip(reference.as_compared(entry));
            let by_looks = pairs.map(|(part, other)| apart(&as_digits(part), &as_digits(other)));
            [loosely, distance(reference, &parts, entry), by_looks.sum()]
        };
        nearest_first(reference, entries.into_iter(), most, far)
    };
    keys.iter().enumerate().map(of_key).collect()
}

/// Reference keys that have the known parts of a key of which a step can't read others: their entries, up to `most`, those
/// with the cells most like its own first. None where too many have these parts.
pub(crate) fn readable_keys(
    lookup: &Lookup,
    (parts, cells): (&[Option<String>], &[String]),
    most: usize,
) -> Vec<EntryId> {
    /// How many are compared.
    const COMPARED: usize = 20_000;
    let reference = lookup.reference();
    let wanted: Vec<Option<&str>> = parts.iter().map(Option::as_deref).collect();
    let is_whole = whole(reference);
    let all = reference.entries_with(&wanted).filter(|entry| is_whole(*entry));
    let all: Vec<EntryId> = all.take(COMPARED + 1).collect();
    if all.len() > COMPARED {
        return Vec::new();
    }
    let cells: Vec<&str> = cells.iter().map(String::as_str).collect();
    by_cells(reference, &cells, all.into_iter(), most)
}

/// The first entries of the keys that some entries hold, each once, up to `most`: those whose cells are most like some cells
/// first.
pub(crate) fn by_cells(
    reference: &Reference,
    cells: &[&str],
    entries: impl Iterator<Item = EntryId>,
    most: usize,
) -> Vec<EntryId> {
    let loose = Loose::new();
    let left: Vec<String> = cells.iter().map(|cell| loose.text(cell)).collect();
    let far = |entry: EntryId| {
        let theirs = reference.as_read(entry);
        let pairs = left.iter().zip(&theirs);
        let loosely = pairs.map(|(one, other)| apart(one, &loose.text(other))).sum();
        let pairs = cells.iter().zip(&theirs);
        let by_looks = pairs.clone().map(|(one, other)| apart(&as_digits(one), &as_digits(other)));
        [loosely, pairs.map(|(one, other)| apart(one, other)).sum(), by_looks.sum()]
    };
    nearest_first(reference, entries, most, far)
}

/// The first entries of the keys that some entries hold, each once, up to `most`: first the nearest when their
/// spelling does not count, then when it does, then when letters that look like digits are these, and as near ones by their
/// text.
fn nearest_first(
    reference: &Reference,
    entries: impl Iterator<Item = EntryId>,
    most: usize,
    far: impl Fn(EntryId) -> [usize; 3],
) -> Vec<EntryId> {
    let firsts = entries.map(|entry| reference.first_of(entry));
    let mut firsts: Vec<([usize; 3], EntryId)> = firsts.map(|one| (far(one), one)).collect();
    firsts.sort_by(|(far, one), (other_far, other)| {
        let text = || reference.as_compared(*one).cmp(reference.as_compared(*other));
        far.cmp(other_far).then_with(text).then(one.cmp(other))
    });
    firsts.dedup();
    firsts.truncate(most);
    firsts.into_iter().map(|(_, entry)| entry).collect()
}

/// A text with the digits that letters are taken for.
fn as_digits(text: &str) -> String {
    let digit = |character| match character {
        'O' | 'o' => '0',
        'I' | 'l' => '1',
        other => other,
    };
    text.chars().map(digit).collect()
}
