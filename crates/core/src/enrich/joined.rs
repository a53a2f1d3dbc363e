//! The distinct values that several reference rows give a cell, joined; each text is made once for a key.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::ops::Range;

use crate::lookup::EntryId;
use crate::table::CellKind;

/// The separator between the values of several rows.
pub(super) const JOINT: &str = "; ";

/// How many bytes of texts are kept. A thread keeps its own, for each lookup.
const MOST_KEPT: usize = 4 << 20;

/// How many values are compared with each other; more are looked up.
const FEW: usize = 8;

/// Texts that were joined for keys of a lookup.
#[derive(Debug, Default)]
pub(crate) struct JoinedTexts(RefCell<Kept>);

#[derive(Debug, Default)]
struct Kept {
    text: String,
    /// The text of a key's first entry and a taken column: its range, and its kind.
    places: HashMap<(EntryId, usize), (Range<usize>, CellKind)>,
}

impl JoinedTexts {
    /// Hands the text for the key that `first` holds first, and a taken column, with its kind to `take`; `values` gives both
    /// where they are not known yet.
    pub(super) fn with<'v, V: Iterator<Item = &'v str>>(
        &self,
        (first, column): (EntryId, usize),
        values: impl FnOnce() -> (CellKind, V),
        take: impl FnOnce(&str, CellKind),
    ) {
        let Kept { text, places } = &mut *self.0.borrow_mut();
        if let Some((place, kind)) = places.get(&(first, column)) {
            return take(&text[place.clone()], *kind);
        }
        if text.len() > MOST_KEPT {
            text.clear();
            places.clear();
        }
        let begin = text.len();
        let (kind, values) = values();
        join_distinct(text, values);
        places.insert((first, column), (begin..text.len(), kind));
        take(&text[begin..], kind);
    }
}

/// The distinct values that are not blank, in order.
pub(super) fn joined<'a>(values: impl Iterator<Item = &'a str>) -> String {
    let mut text = String::new();
    join_distinct(&mut text, values);
    text
}

/// Appends the distinct values that are not blank, in order.
pub(super) fn join_distinct<'a>(text: &mut String, values: impl Iterator<Item = &'a str>) {
    let mut few: Vec<&str> = Vec::with_capacity(FEW);
    let mut many = HashSet::new();
    for value in values.filter(|value| !value.is_empty()) {
        if few.contains(&value) || (few.len() == FEW && !many.insert(value)) {
            continue;
        }
        if !few.is_empty() {
            text.push_str(JOINT);
        }
        text.push_str(value);
        if few.len() < FEW {
            few.push(value);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_value_comes_once_in_order() {
        let values: Vec<String> = (0..40).map(|nth| (nth % 15).to_string()).collect();
        let want: Vec<String> = (0..15).map(|nth| nth.to_string()).collect();
        assert_eq!(joined(["", "b", "a", "b", ""].into_iter()), "b; a");
        assert_eq!(joined(values.iter().map(String::as_str)), want.join("; "));
    }
}
