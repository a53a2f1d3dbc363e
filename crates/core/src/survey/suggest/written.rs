//! A pair as it is written in a key, with the steps that it needs.

use std::collections::BTreeMap;

use ahash::RandomState;

use super::column::Form;
use super::pairs::Pair;
use super::{Side, SuggestedPart};
use crate::diagnosis::{Differences, Steps};
use crate::plan::quoted_header;
use crate::table::Headers;

/// How many values are compared to find the steps of a pair.
const COMPARED: usize = 2000;

/// A pair as a part of a key, with the steps that make the spellings of both sides one; `None` where the digits at the end
/// of values are all that they have in common, so that no steps make them one.
pub(super) fn part(
    pair: &Pair,
    (left, ours): Side<'_>,
    (right, theirs): Side<'_>,
    hasher: &RandomState,
) -> Option<SuggestedPart> {
    let main = &left[pair.main];
    let differences = Differences::new();
    let mut steps: Option<Steps> = None;
    let mut values: Vec<(&u64, &String)> = main.spellings(pair.form).iter().collect();
    values.sort_by_key(|(_, value)| &value[..]);
    let mut common: BTreeMap<Steps, usize> = BTreeMap::new();
    let has_raw = |value: &String| {
        let raw = hasher.hash_one(&value[..]);
        pair.reference.iter().any(|&nth| right[nth].has_as_read(raw))
    };
    let (equal, others): (Vec<_>, Vec<_>) =
        values.into_iter().partition(|(_, value)| has_raw(value));
    for (hash, value) in others.into_iter().take(COMPARED) {
        let held =
            pair.reference.iter().filter_map(|&nth| right[nth].spellings(pair.form).get(hash));
        for other in held {
            if let Some((_, steps)) = differences.between(value, other) {
                *common.entry(steps).or_default() += 1;
            }
        }
    }
    let mut common: Vec<(Steps, usize)> = common.into_iter().collect();
    common.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    for (more, _) in common {
        steps = match steps {
            None => Some(more),
            Some(known) => Some(known.with(&more).unwrap_or(known)),
        };
    }
    if steps.is_none() && equal.is_empty() && pair.form == Form::Tail {
        return None;
    }
    let behind = |side: String, steps: Option<&str>| match steps {
        Some(steps) => format!("{side} | {steps}"),
        None => side,
    };
    let our_side = behind(main.template(ours), steps.as_ref().map(|steps| &steps.main[..]));
    let their_steps = steps.as_ref().map(|steps| &steps.reference[..]);
    let their_side = match &pair.reference[..] {
        [one] => behind(right[*one].template(theirs), their_steps),
        several => {
            let columns: Vec<usize> = several.iter().map(|&nth| right[nth].of).collect();
            behind(format!("any({})", run(&columns, theirs)), their_steps)
        }
    };
    let on = if our_side == their_side { our_side } else { format!("{our_side} = {their_side}") };
    let columns =
        [vec![main.of], pair.reference.iter().map(|&nth| right[nth].of).collect::<Vec<_>>()];
    Some(SuggestedPart { on, columns, values: pair.values, covered: pair.covered })
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
