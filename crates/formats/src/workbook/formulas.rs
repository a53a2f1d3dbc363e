//! Which columns of a worksheet have formulas, and which columns these use.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::{Mutex, PoisonError};

use super::size::{self, MOST_COLUMNS};

/// The columns of a table that are calculated, each with the columns that its formulas use.
#[derive(Debug, Default)]
pub struct Formulas(Mutex<BTreeMap<usize, BTreeSet<usize>>>);

impl Formulas {
    /// Notes a formula of a column of a table that has these columns of the worksheet, `own` by their numbers in the
    /// table.
    pub(super) fn add(
        &self,
        column: usize,
        formula: &[u8],
        columns: &Range<usize>,
        own: &[Option<usize>],
    ) {
        let used = used_columns(formula).into_iter().filter(|one| columns.contains(one));
        let used = used.filter_map(|one| own.get(one - columns.start).copied().flatten());
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.entry(column).or_default().extend(used);
    }

    /// The calculated columns that use a column, so far.
    pub fn using(&self, column: usize) -> Vec<usize> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().filter(|(_, used)| used.contains(&column)).map(|(one, _)| *one).collect()
    }
}

/// The columns of the same worksheet that a formula uses, from 0: `B` of `SUM(B2:B9)`.
fn used_columns(formula: &[u8]) -> Vec<usize> {
    let is_part = |byte: &u8| {
        byte.is_ascii_alphanumeric() || matches!(byte, b'$' | b'_' | b'.' | b'!' | b'\'')
    };
    let (mut used, mut rest, mut in_text) = (Vec::new(), formula, false);
    while let Some(first) = rest.first() {
        let length = rest.iter().take_while(|byte| is_part(byte)).count();
        let (word, after) = rest.split_at(length.max(1));
        rest = after;
        if length == 0 {
            in_text ^= *first == b'"';
        } else if !in_text && after.first() != Some(&b'(') {
            used.extend(column_of(word));
        }
    }
    used
}

/// The column of a cell, `$B$2`, from 0; `None` for any other word.
fn column_of(word: &[u8]) -> Option<usize> {
    let word: Vec<u8> = word.iter().copied().filter(|byte| *byte != b'$').collect();
    let letters = word.iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
    let (column, row) = word.split_at(letters);
    let is_row = !row.is_empty() && row.iter().all(u8::is_ascii_digit);
    size::column(column).filter(|column| is_row && *column < MOST_COLUMNS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_columns_that_formulas_use_are_found() {
        for (formula, want) in [
            ("B2*$C$2", &[1, 2][..]),
            ("SUM(B2:D9)+AA1", &[1, 3, 26]),
            ("Prices!B2*1.5", &[]),
            ("IF(A1=\"B2\",C1,0)", &[0, 2]),
            ("LOG10(2)+Total", &[]),
        ] {
            let used = used_columns(formula.as_bytes());
            assert_eq!(used, want, "{formula}");
        }
        let formulas = Formulas::default();
        formulas.add(2, b"C5*2", &(1..5), &[Some(0), Some(1), None, Some(2)]);
        assert_eq!((formulas.using(1), formulas.using(0)), (vec![2], vec![]));
    }
}
