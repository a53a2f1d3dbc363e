//! Ranges of dates in the reference, and the dates of the main table that may lie in them.

use super::Side;
use super::column::Column;
use crate::plan::quoted_header;
use crate::survey::look::Look;
use crate::table::Headers;

/// The columns of the reference that are the ends of ranges, as they are among `right`: two dates
/// side by side, the first hardly ever after the second.
pub(super) fn bounds(right: &[Column]) -> Vec<(usize, usize)> {
    let is_date =
        |column: &Column| column.cut.is_none() && matches!(column.look(), Look::Date | Look::Time);
    let dates: Vec<usize> = (0..right.len()).filter(|&nth| is_date(&right[nth])).collect();
    let is_range = |pair: &[usize]| {
        let days = right[pair[0]].days().zip(right[pair[1]].days());
        let known: Vec<bool> = days.filter_map(|(from, to)| Some(from? <= to?)).collect();
        let fit = known.iter().filter(|fits| **fits).count();
        known.len() > 1 && fit * 10 >= known.len() * 9
    };
    dates.windows(2).filter(|pair| is_range(pair)).map(|pair| (pair[0], pair[1])).collect()
}

/// How many ways are found; each is tried on the whole tables.
const WAYS: usize = 24;

/// Ways in which a date of the main table may lie in ranges of the reference.
pub(super) fn ranges(
    (left, ours): Side<'_>,
    (right, theirs): Side<'_>,
    bounds: &[(usize, usize)],
    in_key: &[usize],
) -> Vec<String> {
    let name = |column: &Column, headers: &Headers| quoted_header(&headers.address(column.of));
    let mut all = Vec::new();
    for value in left {
        if value.cut.is_some() || !matches!(value.look(), Look::Date | Look::Time) {
            continue;
        }
        for (lower, upper) in bounds {
            let (lower, upper) = (&right[*lower], &right[*upper]);
            if in_key.contains(&lower.of) || in_key.contains(&upper.of) {
                continue;
            }
            if all.len() == WAYS {
                return all;
            }
            let (from, to) = (name(lower, theirs), name(upper, theirs));
            all.push(format!("{} in {from} .. {to}", name(value, ours)));
        }
    }
    all
}
