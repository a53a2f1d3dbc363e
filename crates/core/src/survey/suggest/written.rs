//! A pair as it is written in a key, with the steps that it needs.

use std::collections::BTreeMap;

use ahash::RandomState;

use super::column::{Column, Form};
use super::pairs::Pair;
use super::{Side, SuggestedPart, UnlikeValues};
use crate::diagnosis::{Differences, Steps, are_unlike};
use crate::plan::quoted_header;
use crate::table::Headers;

/// How many values are compared to find the steps of a pair, and whether there are any.
const COMPARED: usize = 1000;
const TASTED: usize = 40;

/// Writes pairs of two tables.
pub(super) struct Writing<'w> {
    left: Side<'w>,
    right: Side<'w>,
    hasher: &'w RandomState,
    differences: Differences,
}

impl<'w> Writing<'w> {
    pub(super) fn of(left: Side<'w>, right: Side<'w>, hasher: &'w RandomState) -> Self {
        Self { left, right, hasher, differences: Differences::new() }
    }

    /// The spellings of values that both sides have and spell differently, at most so many, and whether others are spelled
    /// the same.
    fn unlike(&self, pair: &Pair, most: usize) -> (Vec<(&'w str, &'w str)>, bool) {
        let (left, right) = (self.left.0, self.right.0);
        let ours = left[pair.main].spellings(pair.form);
        let mut unlike: Vec<(&str, &str)> = Vec::new();
        let mut has_equal = false;
        for &nth in &pair.reference {
            for (hash, theirs) in right[nth].spellings(pair.form) {
                let Some(own) = ours.get(hash) else { continue };
                let as_read = self.hasher.hash_one(&own[..]);
                if pair.reference.iter().any(|&nth| right[nth].has_as_read(as_read)) {
                    has_equal = true;
                } else {
                    unlike.push((own, theirs));
                }
            }
        }
        unlike.sort_unstable();
        let every = unlike.len().div_ceil(most).max(1);
        (unlike.into_iter().step_by(every).collect(), has_equal)
    }

    /// Whether values of the pair are equal as they are, or any steps make them so. Digits may be all
    /// that they have in common.
    pub(super) fn meets(&self, pair: &Pair) -> bool {
        let (unlike, has_equal) = self.unlike(pair, TASTED);
        has_equal
            || unlike.iter().any(|(own, theirs)| self.differences.between(own, theirs).is_some())
    }

    /// The steps that make the spellings of both sides one, where they need any.
    fn steps(&self, pair: &Pair) -> Option<Steps> {
        let mut common: BTreeMap<Steps, usize> = BTreeMap::new();
        for (own, theirs) in self.unlike(pair, COMPARED).0 {
            if let Some((_, steps)) = self.differences.between(own, theirs) {
                *common.entry(steps).or_default() += 1;
            }
        }
        let mut common: Vec<(Steps, usize)> = common.into_iter().collect();
        common.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        let all = common.into_iter().map(|(steps, _)| steps);
        all.reduce(|known, more| known.with(&more).unwrap_or(known))
    }

    /// The values of the pair with the same digits whose letters differ. Where only a part of a value is in the key,
    /// the whole of it is compared.
    fn unlike_letters(&self, pair: &Pair) -> Option<UnlikeValues> {
        let (left, right) = (self.left.0, self.right.0);
        let wholes = |columns: &'w [Column], nth: usize| [&columns[columns[nth].of], &columns[nth]];
        let ours = wholes(left, pair.main);
        let theirs: Vec<&Column> =
            pair.reference.iter().flat_map(|&nth| wholes(right, nth)).collect();
        let mut all_digits: Vec<u64> =
            ours.iter().flat_map(|column| column.spellings(Form::Digits).keys().copied()).collect();
        all_digits.sort_unstable();
        all_digits.dedup();
        let (mut all, mut unlike) = (0, Vec::new());
        for digits in all_digits {
            let theirs = || theirs.iter().flat_map(|column| column.with_digits(digits));
            for own in ours.iter().flat_map(|column| column.with_digits(digits)) {
                all += usize::from(theirs().next().is_some());
                let other = theirs().find(|other| are_unlike(own, other));
                unlike.extend(other.map(|other| (own, other)));
            }
        }
        unlike.sort_unstable();
        unlike.dedup();
        let (main, reference) = unlike.first()?;
        Some(UnlikeValues {
            count: unlike.len(),
            of: all.max(unlike.len()),
            example: [(*main).to_owned(), (*reference).to_owned()],
        })
    }

    /// Whether what a pair leaves of its values is in another pair of the set, or the same in all values: then nothing is lost.
    pub(super) fn has_rest(&self, pair: &Pair, set: &[Pair]) -> bool {
        let (left, right) = (self.left.0, self.right.0);
        let others = || set.iter().filter(|other| *other != pair);
        let ours = others().any(|other| left[other.main].of == left[pair.main].of);
        let is_one = |one: usize, other: usize| right[one].of == right[other].of;
        let theirs = others().flat_map(|other| &other.reference);
        let theirs = theirs.copied().any(|one| pair.reference.iter().any(|two| is_one(one, *two)));
        let ours_alike = || left[left[pair.main].of].has_one_word();
        let theirs_alike = || pair.reference.iter().all(|&nth| right[right[nth].of].has_one_word());
        ours && (theirs || theirs_alike()) || theirs && ours_alike()
    }

    /// A pair as a part of a key, with its steps.
    pub(super) fn part(&self, pair: &Pair) -> SuggestedPart {
        let ((left, ours), (right, theirs)) = (self.left, self.right);
        let main = &left[pair.main];
        let steps = self.steps(pair);
        let with_steps = |side: String, steps: Option<&str>| match steps {
            Some(steps) => format!("{side} | {steps}"),
            None => side,
        };
        let our_side = with_steps(main.template(ours), steps.as_ref().map(|steps| &steps.main[..]));
        let their_steps = steps.as_ref().map(|steps| &steps.reference[..]);
        let their_side = match &pair.reference[..] {
            [one] => with_steps(right[*one].template(theirs), their_steps),
            several => {
                let columns: Vec<usize> = several.iter().map(|&nth| right[nth].of).collect();
                with_steps(format!("any({})", run(&columns, theirs)), their_steps)
            }
        };
        let on =
            if our_side == their_side { our_side } else { format!("{our_side} = {their_side}") };
        let columns =
            [vec![main.of], pair.reference.iter().map(|&nth| right[nth].of).collect::<Vec<_>>()];
        let theirs = pair.reference.iter().map(|&nth| &right[nth]);
        let cuts = theirs.chain([main]).filter(|column| column.cut.is_some()).count();
        let removes = cuts > 0 || steps.as_ref().is_some_and(Steps::remove_letters);
        let unlike = if removes { self.unlike_letters(pair) } else { None };
        let count = |steps: &str| steps.split('|').filter(|step| !step.is_empty()).count();
        let steps = steps.as_ref().map_or(0, |both| count(&both.main) + count(&both.reference));
        let (values, covered) = (pair.values, pair.covered);
        SuggestedPart { on, columns, steps: cuts + steps, values, covered, unlike }
    }
}

/// Columns as they are to be written: as a run where they are side by side.
fn run(columns: &[usize], headers: &Headers) -> String {
    let name = |&column: &usize| quoted_header(&headers.address(column));
    let is_run = columns.windows(2).all(|pair| pair[1] == pair[0] + 1);
    match columns {
        [first, .., last] if is_run && columns.len() > 2 => {
            format!("{} .. {}", name(first), name(last))
        }
        _ => columns.iter().map(name).collect::<Vec<_>>().join(", "),
    }
}
