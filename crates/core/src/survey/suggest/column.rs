//! A column of the rows that are looked at: its different values, each by what is left of it when its spelling does not
//! count, and for each row which of them it has.

use std::collections::{HashMap, HashSet};
use std::sync::OnceLock;

use ahash::RandomState;

use super::by_value::ByValue;
use super::cut::Cut;
use crate::diagnosis::Loose;
use crate::hashing::PassHash;
use crate::plan::quoted_header;
use crate::survey::look::Look;
use crate::table::{CellKind, Headers};
use crate::value::any_date::dates_of;
use crate::value::calendar_names::month;
use crate::value::is_blank;

/// How many spellings are kept of a column of the main table, and of one of a reference that share their values with it.
const KEPT: usize = 20_000;
const KEPT_SHARED: usize = 4_000;

/// How many further spellings are kept of values with the same digits.
const OTHERS: usize = 3;

/// Measures, such as weights and prices, have a fraction in one of this many.
const FRACTIONS: usize = 2;

/// The length of the longest name of a month, in bytes.
const LONGEST_MONTH: usize = 9;

/// How many rows each day has where days only date them.
const SEVERAL: u64 = 2;

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
    /// Its digits.
    Digits,
}

impl Form {
    pub(super) const ALL: [Self; 2] = [Self::Loose, Self::Digits];
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
pub(super) struct Value {
    /// For each form the hash of what is left of it; 0 where nothing is.
    pub(super) left: [u64; 2],
    /// The whole number that its digits are, and whether that is all that is left of it.
    number: Option<u64>,
    is_number: bool,
    /// The day that it is, counted from 1970.
    day: Option<i32>,
    /// Whether it is a number with a fraction.
    is_fraction: bool,
    look: Look,
}

/// A cell that is blank.
pub(super) const BLANK: Value = Value {
    left: [0; 2],
    number: None,
    is_number: false,
    day: None,
    is_fraction: false,
    look: Look::Blank,
};

/// What takes the cells of a column, or a part of each.
pub(super) trait TakesCells {
    /// Takes those of a column.
    fn of(column: usize, cut: Option<Cut>) -> Self;

    /// Takes the cells of the next rows.
    fn add<'c>(
        &mut self,
        cells: impl Iterator<Item = (&'c str, CellKind)>,
        loose: &mut Loose,
        hasher: &RandomState,
        spelled: Spelled<'_>,
    );
}

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
    /// Further spellings of values whose digits are the same, with other letters.
    other_letters: HashMap<u64, Vec<String>, PassHash>,
    facts: Facts,
}

/// What is counted of the values of a column, row by row.
#[derive(Debug, Default)]
pub(super) struct Facts {
    /// In each form, how many rows have a value, how many of these are whole numbers, and the greatest of them.
    filled: [usize; 2],
    whole: [(usize, u64); 2],
    looks: [usize; Look::ALL.len()],
    fractions: usize,
    /// How many rows have a day, and the first and last day.
    dated: usize,
    days: Option<(i32, i32)>,
}

impl Facts {
    /// Counts a row with a value.
    pub(super) fn add(&mut self, value: &Value) {
        self.looks[value.look as usize] += 1;
        self.fractions += usize::from(value.is_fraction);
        if let Some(day) = value.day {
            self.dated += 1;
            let (first, last) = self.days.unwrap_or((day, day));
            self.days = Some((first.min(day), last.max(day)));
        }
        for form in (0..value.left.len()).filter(|form| value.left[*form] != 0) {
            self.filled[form] += 1;
            if let Some(number) = value.number.filter(|_| form > 0 || value.is_number) {
                let (whole, greatest) = &mut self.whole[form];
                (*whole, *greatest) = (*whole + 1, number.max(*greatest));
            }
        }
    }

    /// Whether the values are whole numbers without large gaps, as when rows are counted, measures, days of which most have
    /// several rows, or only two values, as yes and no: such values are in other columns by chance. `are_few` says whether there are no more than two, `different` how many.
    pub(super) fn are_found_by_chance(
        &self,
        form: Form,
        are_few: impl Fn() -> bool,
        different: impl Fn() -> u64,
    ) -> bool {
        let (whole, greatest) = self.whole[form as usize];
        let filled = self.filled[form as usize];
        let measures = self.fractions > 0 && self.fractions * FRACTIONS >= filled;
        let may_count = whole > 0 && whole == filled && greatest <= filled as u64 * 2 + GAPS;
        // A calendar has a row for each day, and is a reference like any other.
        let are_days = || {
            let (first, last) = self.days.unwrap_or_default();
            let (span, different) = (u64::from(last.abs_diff(first)), different());
            self.dated == filled
                && span <= different * 2 + GAPS
                && filled as u64 >= different * SEVERAL
        };
        measures
            || filled > 4 && are_few()
            || may_count && greatest <= different() * 2 + GAPS
            || self.dated > 0 && are_days()
    }
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
            other_letters: HashMap::default(),
            facts: Facts::default(),
        }
    }

    /// How many rows there are.
    pub(super) fn rows(&self) -> usize {
        self.rows.len()
    }

    /// How many rows have a value in a form.
    pub(super) fn filled(&self, form: Form) -> usize {
        self.facts.filled[form as usize]
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

    /// The spellings that are kept of values with the same digits: one for each of some different letters.
    pub(super) fn with_digits(&self, digits: u64) -> impl Iterator<Item = &str> {
        let first = self.spellings[Form::Digits as usize].get(&digits);
        first
            .into_iter()
            .chain(self.other_letters.get(&digits).into_iter().flatten())
            .map(|text| &text[..])
    }

    /// Whether all spellings that are kept have the same letters, so that these distinguish nothing.
    pub(super) fn has_one_word(&self) -> bool {
        let mut all = self.spellings[Form::Loose as usize].values();
        let first = all.next();
        first.is_none_or(|first| all.all(|other| is_one_word(first, other)))
    }

    /// Keeps a spelling of a value whose digits are those of another one.
    fn keep_other(&mut self, digits: u64, text: &str) {
        if self.with_digits(digits).any(|known| is_one_word(known, text)) {
            return;
        }
        let others = self.other_letters.entry(digits).or_default();
        if others.len() < OTHERS {
            others.push(text.to_owned());
        }
    }

    /// Whether its values are whole numbers without large gaps, as when rows are counted, measures, or only two values,
    /// as yes and no: such values are in other columns by chance.
    pub(super) fn is_found_by_chance(&self, form: Form) -> bool {
        let different = || self.distinct(form).len() as u64;
        self.facts.are_found_by_chance(form, || self.has_two_at_most(form), different)
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
        let common =
            Look::ALL.into_iter().max_by_key(|look| (self.facts.looks[*look as usize], *look));
        common.filter(|look| self.facts.looks[*look as usize] > 0).unwrap_or(Look::Blank)
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

impl Column {
    /// Adds a value that was not there before, as it is read.
    fn add_value(&mut self, value: Value, text: &str, spelled: Spelled<'_>) {
        self.values.push(value);
        for form in Form::ALL.into_iter().filter(|form| value.left[*form as usize] != 0) {
            let left = value.left[form as usize];
            let spellings = &mut self.spellings[form as usize];
            let is_kept = match spelled {
                Spelled::First => spellings.len() < KEPT,
                Spelled::Of(known) => {
                    known.place(left, form).is_some()
                        && self.shared[form as usize].insert(left)
                        && spellings.len() < KEPT_SHARED
                }
            };
            if is_kept {
                spellings.entry(left).or_insert_with(|| text.to_owned());
            }
            if form == Form::Digits && self.spellings[form as usize].contains_key(&left) {
                self.keep_other(left, text);
            }
        }
    }
}

impl TakesCells for Column {
    fn of(column: usize, cut: Option<Cut>) -> Self {
        Self::of(column, cut)
    }

    fn add<'c>(
        &mut self,
        cells: impl Iterator<Item = (&'c str, CellKind)>,
        loose: &mut Loose,
        hasher: &RandomState,
        spelled: Spelled<'_>,
    ) {
        for (text, kind) in cells {
            if is_blank(text) {
                self.rows.push(0);
                continue;
            }
            let next = self.values.len() as u32;
            let place = *self.places.entry(hasher.hash_one(text)).or_insert(next);
            if place == next {
                self.add_value(value_of(text, kind, loose, hasher), text, spelled);
            }
            self.rows.push(place);
            self.facts.add(&self.values[place as usize]);
        }
    }
}

/// The most digits that a whole number has.
const MOST_DIGITS: usize = 19;

/// The digits of a code without leading zeros, as the steps `digits | number` leave them, and how many there are. A number with
/// a point has none.
fn digits_of(text: &str, left: &[u8]) -> ([u8; MOST_DIGITS], usize) {
    let (mut digits, mut count) = ([0; MOST_DIGITS], 0);
    if !left.iter().all(u8::is_ascii_alphanumeric) {
        return (digits, 0);
    }
    // What is left of a text has no zeros at the beginning of its further numbers either.
    let all = if text.is_ascii() { text.as_bytes() } else { left };
    for byte in all.iter().filter(|byte| byte.is_ascii_digit()) {
        // A zero at the beginning counts only if nothing follows it.
        if count == 1 && digits[0] == b'0' {
            count = 0;
        }
        if count == MOST_DIGITS {
            return (digits, 0);
        }
        digits[count] = *byte;
        count += 1;
    }
    (digits, count)
}

/// Whether two values have the same letters.
fn is_one_word(one: &str, other: &str) -> bool {
    let letters = |text: &'_ str| -> Vec<char> {
        text.chars().filter(|c| c.is_alphabetic()).flat_map(char::to_lowercase).collect()
    };
    one == other || letters(one) == letters(other)
}

/// What is left of a value, and what it looks like.
pub(super) fn value_of(
    text: &str,
    kind: CellKind,
    loose: &mut Loose,
    hasher: &RandomState,
) -> Value {
    // A text may be a date or a number that another table has as such.
    let kind = if kind == CellKind::Text { CellKind::Untyped } else { kind };
    let look = Look::of(text, kind);
    let date = match look {
        Look::Date | Look::Time => dates_of(text)[0],
        _ => None,
    };
    let since = date.and_then(|date| date.since(jiff::civil::date(1970, 1, 1)).ok());
    let left = loose.of(text);
    let (digits, count) = digits_of(text, left);
    let digits = &digits[..count];
    let is_fraction = look == Look::Number && left.contains(&b'.');
    let in_number =
        |all: u64, digit: &u8| all.checked_mul(10)?.checked_add(u64::from(digit - b'0'));
    let number = if count == 0 { None } else { digits.iter().try_fold(0, in_number) };
    let is_number = number.is_some() && left.iter().all(u8::is_ascii_digit);
    let digits = if count == 0 { 0 } else { hasher.hash_one(digits) | 1 };
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
        left: [whole, digits],
        number,
        is_number,
        day: since.map(|since| since.get_days()),
        is_fraction,
        look,
    }
}
