//! A date in a key that must be equal, where the latest one at or before it may be meant.

use crate::findings::UnmatchedKey;
use crate::lookup::{EntryId, Lookup};
use crate::value::any_date::dates_of;

/// How many values of each side are looked at.
const LOOKED_AT: usize = 20;

/// The part of a lookup's key that is a date on both sides, in every value looked at: prices and rates are kept by the
/// day from which they hold, and no other day is equal to that. `None` where rows are chosen by a range already.
pub fn dated_part(lookup: &Lookup, unmatched: &[UnmatchedKey]) -> Option<usize> {
    let reference = lookup.reference();
    let is_whole = !reference.is_spilled() && !reference.is_filtered();
    let is_sought = lookup.range_value().is_none() && !reference.is_by_position();
    if !is_whole || !is_sought || unmatched.is_empty() {
        return None;
    }
    let is_date = |value: &str| {
        let is_number = value.bytes().all(|byte| byte.is_ascii_digit());
        !is_number && dates_of(value).iter().any(Option::is_some)
    };
    let parts = 0..lookup.key().parts().len();
    parts.into_iter().find(|&part| {
        let mut ours = unmatched.iter().take(LOOKED_AT).filter_map(|key| key.parts().nth(part));
        let entries = EntryId::at(0..reference.entry_count().min(LOOKED_AT));
        let mut theirs = entries.filter_map(|entry| reference.as_compared(entry).nth(part));
        ours.all(&is_date) && theirs.all(&is_date)
    })
}
