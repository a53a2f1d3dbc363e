//! A column of the rows that are looked at: its different values, each by what is left of it when its spelling does not
//! count, and for each row which of them it has.

use std::collections::{HashMap, HashSet};
use std::sync::OnceLock;

use ahash::RandomState;

use super::cut::Cut;
use super::pairs::ByValue;
use crate::diagnosis::Loose;
use crate::hashing::PassHash;
use crate::plan::quoted_header;
use crate::survey::look::Look;
use crate::table::{CellKind, Headers};
use crate::value::any_date::dates_of;
use crate::value::calendar_names::month;

/// How many spellings are kept of a column of the main table, and of one of a reference that share their values with it.
const KEPT: usize = 20_000;
const KEPT_SHARED: usize = 4_000;

/// Measures, such as weights and prices, have a fraction in one of this many.
const FRACTIONS: usize = 2;

/// The length of the longest name of a month, in bytes.
const LONGEST_MONTH: usize = 9;

/// This many numbers and half of all may be missing from a column that counts.
const GAPS: u64 = 10;

/// Hashes of what is left of values.
pub(super) type Hashes = HashSet<u64, PassHash>;

/// Spellings of values by the hashes of what is left of them.
pub(super) type Spellings = HashMap<u64, String, PassHash>;

/// Which form of the values of a pair is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Form {
    /// The whole value.
    Loose,
    /// The digits at its end.
    Tail,
}

impl Form {
    pub(super) const ALL: [Self; 2] = [Self::Loose, Self::Tail];
}

/// Which spellings a column keeps.
#[derive(Clone, Copy)]
pub(super) enum Spelled<'p> {
    /// Those met first.
    First,
    /// Some of values that a main table has.
    Of(&'p ByValue),
}

/// A value as it is read.
#[derive(Debug, Clone, Copy)]
struct Value {
    /// For each form the hash of what is left of it; 0 where nothing is.
    left: [u64; 2],
    /// The whole number at its end, and whether that is all that is left of it.
    number: Option<u64>,
    is_number: bool,
    /// The day that it is, counted from 1970.
    day: Option<i32>,
    /// Whether it is a number with a fraction.
    is_fraction: bool,
    look: Look,
}

/// A cell that is blank.
const BLANK: Value = Value {
    left: [0; 2],
    number: None,
    is_number: false,
    day: None,
    is_fraction: false,
    look: Look::Blank,
};

/// A column of the rows that are looked at.
#[derive(Debug)]
pub(super) struct Column {
    /// The column of the table.
    pub(super) of: usize,
    /// The part of its values that it has, if it has not the whole.
    pub(super) cut: Option<Cut>,
    /// The different values as they are read, the blank one first, and where each is by its hash.
    values: Vec<Value>,
    places: HashMap<u64, u32, PassHash>,
    /// For each row, the place of its value.
    rows: Vec<u32>,
    /// In each form, the different values once somebody asked for them, and the spellings that are kept.
    distinct: [OnceLock<Hashes>; 2],
    /// In each form, the values that the main table has too, where it is of a reference.
    shared: [Hashes; 2],
    spellings: [Spellings; 2],
    /// In each form, how many rows have a value, how many of these are whole numbers, and the greatest of them.
    filled: [usize; 2],
    whole: [(usize, u64); 2],
    looks: [usize; Look::ALL.len()],
    fractions: usize,
}

impl Column {
    pub(super) fn of(column: usize, cut: Option<Cut>) -> Self {
        Self {
            of: column,
            cut,
            values: vec![BLANK],
            places: HashMap::default(),
            rows: Vec::new(),
            distinct: Default::default(),
            shared: Default::default(),
            spellings: Default::default(),
            filled: [0; 2],
            whole: Default::default(),
            looks: Default::default(),
            fractions: 0,
        }
    }

    /// Takes the cell of the next row.
    pub(super) fn add(
        &mut self,
        (text, kind): (&str, CellKind),
        loose: &mut Loose,
        hasher: &RandomState,
        spelled: Spelled<'_>,
    ) {
        if text.trim().is_empty() {
            self.rows.push(0);
            return;
        }
        let next = self.values.len() as u32;
        let place = *self.places.entry(hasher.hash_one(text)).or_insert(next);
        if place == next {
            let value = value_of(text, kind, loose, hasher);
            self.values.push(value);
            for form in Form::ALL.into_iter().filter(|form| value.left[*form as usize] != 0) {
                let left = value.left[form as usize];
                let spellings = &mut self.spellings[form as usize];
                let is_kept = match spelled {
                    Spelled::First => spellings.len() < KEPT,
                    Spelled::Of(known) => {
                        known.has(left, form)
                            && self.shared[form as usize].insert(left)
                            && spellings.len() < KEPT_SHARED
                    }
                };
                if is_kept {
                    spellings.entry(left).or_insert_with(|| text.to_owned());
                }
            }
        }
        self.rows.push(place);
        let value = &self.values[place as usize];
        self.looks[value.look as usize] += 1;
        self.fractions += usize::from(value.is_fraction);
        for form in (0..value.left.len()).filter(|form| value.left[*form] != 0) {
            self.filled[form] += 1;
            if let Some(number) = value.number.filter(|_| form > 0 || value.is_number) {
                let (whole, greatest) = &mut self.whole[form];
                (*whole, *greatest) = (*whole + 1, number.max(*greatest));
            }
        }
    }

    /// How many rows there are.
    pub(super) fn rows(&self) -> usize {
        self.rows.len()
    }

    /// How many rows have a value in a form.
    pub(super) fn filled(&self, form: Form) -> usize {
        self.filled[form as usize]
    }

    /// The hash of what is left of a row's value in a form; 0 where nothing is.
    #[inline]
    pub(super) fn left(&self, row: usize, form: Form) -> u64 {
        self.values[self.rows[row] as usize].left[form as usize]
    }

    /// The days that the rows are, counted from 1970.
    pub(super) fn days(&self) -> impl Iterator<Item = Option<i32>> {
        self.rows.iter().map(|place| self.values[*place as usize].day)
    }

    /// The hashes of the different values as they are read.
    pub(super) fn as_read(&self) -> impl Iterator<Item = u64> {
        self.places.keys().copied()
    }

    /// Whether it has a value of this hash as it is read.
    pub(super) fn has_as_read(&self, hash: u64) -> bool {
        self.places.contains_key(&hash)
    }

    /// The different values in a form.
    pub(super) fn distinct(&self, form: Form) -> &Hashes {
        self.distinct[form as usize].get_or_init(|| self.all_left(form).collect())
    }

    /// What is left of the different values as they are read, in a form.
    pub(super) fn all_left(&self, form: Form) -> impl Iterator<Item = u64> {
        self.values.iter().map(move |value| value.left[form as usize]).filter(|left| *left != 0)
    }

    /// The different values in a form that the main table has too.
    pub(super) fn shared(&self, form: Form) -> &Hashes {
        &self.shared[form as usize]
    }

    /// The spellings that are kept, by the hashes of what is left of them in a form.
    pub(super) fn spellings(&self, form: Form) -> &Spellings {
        &self.spellings[form as usize]
    }

    /// Whether its values are whole numbers without large gaps, as when rows are counted, measures, or only two values,
    /// as yes and no: such values are in other columns by chance.
    pub(super) fn is_found_by_chance(&self, form: Form) -> bool {
        let (whole, greatest) = self.whole[form as usize];
        let filled = self.filled(form);
        let measures = self.fractions > 0 && self.fractions * FRACTIONS >= filled;
        let is_low = |different: u64| greatest <= different * 2 + GAPS;
        // There are no more different values than different spellings.
        let spellings = self.values.len() as u64 - 1;
        let may_count = whole > 0 && whole == filled && is_low(spellings);
        let different = || self.distinct(form).len() as u64;
        measures || filled > 4 && self.has_two_at_most(form) || may_count && is_low(different())
    }

    /// Whether it has no more than two different values in a form.
    fn has_two_at_most(&self, form: Form) -> bool {
        let mut all = self.all_left(form);
        let Some(first) = all.next() else { return true };
        let Some(second) = all.find(|left| *left != first) else { return true };
        all.all(|left| left == first || left == second)
    }

    /// Whether it has another value in every row that has one.
    pub(super) fn is_key(&self) -> bool {
        let filled = self.filled(Form::Loose);
        // There are no more different values than different spellings.
        filled > 1 && self.values.len() > filled && self.distinct(Form::Loose).len() == filled
    }

    pub(super) fn look(&self) -> Look {
        let common = Look::ALL.into_iter().max_by_key(|look| (self.looks[*look as usize], *look));
        common.filter(|look| self.looks[*look as usize] > 0).unwrap_or(Look::Blank)
    }

    /// Its template in a part.
    pub(super) fn template(&self, headers: &Headers) -> String {
        let header = quoted_header(&headers.address(self.of));
        match self.cut {
            Some(cut) => format!("{header} | {}", cut.step()),
            None => header,
        }
    }
}

/// What is left of a value, and what it looks like.
fn value_of(text: &str, kind: CellKind, loose: &mut Loose, hasher: &RandomState) -> Value {
    // A text may be a date or a number that another table has as such.
    let kind = if kind == CellKind::Text { CellKind::Untyped } else { kind };
    let look = Look::of(text, kind);
    let date = match look {
        Look::Date | Look::Time => dates_of(text)[0],
        _ => None,
    };
    let since = date.and_then(|date| date.since(jiff::civil::date(1970, 1, 1)).ok());
    let left = loose.of(text);
    // The digits at the end of a code; a number with a point has none.
    let is_code = left.iter().all(u8::is_ascii_alphanumeric);
    let digits = left.iter().rev().take_while(|byte| is_code && byte.is_ascii_digit()).count();
    let tail = &left[left.len() - digits..];
    let zeros = tail.iter().take_while(|byte| **byte == b'0').count();
    let is_fraction = look == Look::Number && left.contains(&b'.');
    let number = str::from_utf8(tail).ok().and_then(|digits| digits.parse::<u64>().ok());
    let is_number = digits > 0 && digits == left.len();
    let tail = if digits == 0 { 0 } else { hasher.hash_one(&tail[zeros.min(digits - 1)..]) | 1 };
    // Most texts are no word, and need not be compared with names.
    let word = text.trim();
    let may_be_month = look == Look::Text
        && word.len() <= LONGEST_MONTH
        && word.bytes().all(|byte| byte.is_ascii_alphabetic() || byte == b'.');
    let month = if may_be_month { month(word, &[]) } else { None };
    let whole = match (date, month) {
        (Some(date), _) => hasher.hash_one((date.year(), date.month(), date.day())) | 1,
        (None, Some(month)) => hasher.hash_one(month.to_string().as_bytes()) | 1,
        (None, None) => hasher.hash_one(left) | 1,
    };
    Value {
        left: [whole, tail],
        number,
        is_number,
        day: since.map(|since| since.get_days()),
        is_fraction,
        look,
    }
}
