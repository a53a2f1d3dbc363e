//! What is left of a value when its spelling does not count, as hashes.
//!
//! Two keys that differ only in spelling share a hash of at least one [`Trail`]; so do keys that
//! agree in all parts but one, keys whose parts are swapped, and keys that are a letter apart. A
//! shared hash only finds candidates; what really lies between two keys is settled by comparing
//! them.

use ahash::RandomState;
use jiff::civil::Date;

use crate::template::{StepUse, read_steps, steps};

/// What a hash was made to find.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Trail {
    /// The same parts in another spelling.
    Spelling,
    /// The same parts in another order.
    Order,
    /// The same parts but for this one.
    Without(u32),
    /// Nearly the same letters.
    Letters,
}

/// How hard nearly the same letters are sought.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Letters {
    /// Not at all: only other spellings and orders.
    Spellings,
    /// Not at all: only the other trails.
    Not,
    /// With one letter left out on either side.
    One,
    /// With up to two, of values no longer than this.
    Two(usize),
}

/// Values longer than this are not compared with letters left out.
const LONG: usize = 64;

/// Makes the hashes of keys; kept from key to key.
#[derive(Debug)]
pub(super) struct Hashes<'h> {
    hasher: &'h RandomState,
    loose: Loose,
    /// What is left of each part, one behind the other, and where each ends.
    left: Vec<u8>,
    ends: Vec<usize>,
    of_parts: Vec<u64>,
    /// For each part what the keys of the other side have in it, so that nothing is made which can't
    /// be met.
    odd: Vec<OddPart>,
}

/// Whether values of a kind occur, and whether some are written otherwise than plainly.
#[derive(Debug, Clone, Copy, Default)]
struct Odd {
    any: bool,
    odd: bool,
}

impl Odd {
    fn note(&mut self, is_odd: bool) {
        self.any = true;
        self.odd |= is_odd;
    }
}

/// What the keys of one side have in one part. Plain values meet plain ones of the other side without
/// more ado.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct OddPart {
    digits: Odd,
    dates: Odd,
}

impl OddPart {
    /// Takes the value of a part of a reference key, by a mere look at it.
    pub(super) fn glance(&mut self, value: &str) {
        let (mut some, mut all) = (false, true);
        for byte in value.bytes() {
            let may_be_digit = byte.is_ascii_digit() || byte >= 0x80;
            some |= may_be_digit;
            all &= byte.is_ascii_digit();
        }
        self.digits.any |= some;
        self.digits.odd |= some && !all;
        self.dates.any = true;
        self.dates.odd |= !is_iso(value);
    }

    /// The same for what two pieces of a side have.
    pub(super) fn with(self, other: Self) -> Self {
        let both =
            |one: Odd, other: Odd| Odd { any: one.any || other.any, odd: one.odd || other.odd };
        Self { digits: both(self.digits, other.digits), dates: both(self.dates, other.dates) }
    }

    /// Takes the value of a part of a sought key.
    pub(super) fn note(&mut self, value: &str, loose: &mut Loose) {
        let left = loose.of(value);
        if let Some(digits) = digits_of(left) {
            self.digits.note(digits.len() < left.len());
        }
        if dates_of(value)[0].is_some() {
            self.dates.note(!is_iso(value));
        }
    }
}

/// Whether a value is written as ISO 8601 has a date.
fn is_iso(value: &str) -> bool {
    let bytes = value.as_bytes();
    bytes.len() == 10 && bytes[4] == b'-' && bytes[7] == b'-'
}

/// What is left of values when their spelling does not count.
#[derive(Debug)]
pub(crate) struct Loose {
    plain: Vec<StepUse>,
    value: String,
    next: String,
    left: Vec<u8>,
}

impl Loose {
    pub(crate) fn new() -> Self {
        Self {
            // These are steps as a person could write them.
            plain: read_steps("spelling", "plain | alnum | fold").unwrap_or_default(),
            value: String::new(),
            next: String::new(),
            left: Vec::new(),
        }
    }

    /// What is left of a value.
    pub(crate) fn of(&mut self, value: &str) -> &[u8] {
        let mut left = std::mem::take(&mut self.left);
        left.clear();
        self.leave(value, &mut left);
        self.left = left;
        &self.left
    }

    /// Appends what is left of a value: letters and digits in lower case and without accents, numbers
    /// without leading zeros.
    fn leave(&mut self, part: &str, left: &mut Vec<u8>) {
        let is_whole_number = part.bytes().all(|byte| byte.is_ascii_digit());
        if !is_whole_number && looks_like_a_number(part) {
            let number = steps::as_number(part).or_else(|| {
                let steps = part.contains(',').then(|| read_steps("spelling", "number \",\""));
                steps.and_then(Result::ok).and_then(|steps| applied(&steps, part))
            });
            if let Some(number) = number {
                left.extend(number.bytes());
                return;
            }
        }
        let mut text = part;
        if !part.is_ascii() {
            self.value.clear();
            self.value.push_str(part);
            for step in &self.plain {
                if let Some(made) = applied(std::slice::from_ref(step), &self.value) {
                    self.next.clone_from(&made);
                    std::mem::swap(&mut self.value, &mut self.next);
                }
            }
            text = &self.value;
        }
        // Zeros count once a digit stands before them.
        let mut zeros = true;
        let mut waiting = false;
        for &byte in text.as_bytes() {
            match byte {
                b'0' if zeros => waiting = true,
                b'0'..=b'9' => {
                    left.push(byte);
                    (zeros, waiting) = (false, false);
                }
                _ => {
                    if std::mem::take(&mut waiting) {
                        left.push(b'0');
                    }
                    zeros = true;
                    if byte.is_ascii_alphanumeric() || byte >= 0x80 {
                        left.push(byte.to_ascii_lowercase());
                    }
                }
            }
        }
        if waiting {
            left.push(b'0');
        }
    }
}

/// What sets hashes of one trail apart from those of another.
const ORDER: u64 = 0x9e37_79b9_7f4a_7c15;
const WITHOUT: u64 = 0xc2b2_ae3d_27d4_eb4f;
const LETTERS: u64 = 0x1656_67b1_9e37_79f9;
const DIGITS: u64 = 0x27d4_eb2f_1656_67c5;
const DATES: u64 = 0x8525_2d49_1cce_5b29;

impl<'h> Hashes<'h> {
    pub(super) fn new(hasher: &'h RandomState) -> Self {
        Self {
            hasher,
            loose: Loose::new(),
            left: Vec::new(),
            ends: Vec::new(),
            of_parts: Vec::new(),
            odd: Vec::new(),
        }
    }

    /// The same for keys of one side, by what those of the other have in each part.
    pub(super) fn meeting(hasher: &'h RandomState, odd: &[OddPart]) -> Self {
        Self { odd: odd.to_vec(), ..Self::new(hasher) }
    }

    /// Makes the hashes of a key: those of nearly the same letters, or all the others, or of these only
    /// other spellings and orders.
    pub(super) fn of<'v>(
        &mut self,
        parts: impl Iterator<Item = &'v str> + Clone,
        letters: Letters,
        mut found: impl FnMut(Trail, u64),
    ) {
        self.left.clear();
        self.ends.clear();
        for part in parts.clone() {
            self.loose.leave(part, &mut self.left);
            self.ends.push(self.left.len());
        }
        if matches!(letters, Letters::One | Letters::Two(_)) {
            self.letters(letters, &mut found);
            return;
        }
        self.of_parts.clear();
        let mut start = 0;
        for &end in &self.ends {
            self.of_parts.push(self.hasher.hash_one(&self.left[start..end]));
            start = end;
        }
        let total =
            self.of_parts.iter().enumerate().fold(0, |all, (nth, &hash)| all ^ at(hash, nth));
        found(Trail::Spelling, total);
        for (nth, part) in parts.enumerate() {
            let rest = total ^ at(self.of_parts[nth], nth);
            let start = nth.checked_sub(1).map_or(0, |before| self.ends[before]);
            let left = &self.left[start..self.ends[nth]];
            let odd = self.odd.get(nth);
            let is_asked = |odd: Option<&Odd>, is_plain: bool| {
                odd.is_none_or(|odd| odd.any && (odd.odd || !is_plain))
            };
            if let Some(digits) = digits_of(left)
                && is_asked(odd.map(|odd| &odd.digits), digits.len() == left.len())
            {
                found(Trail::Spelling, rest ^ at(self.hasher.hash_one(digits) ^ DIGITS, nth));
            }
            let is_sought = is_asked(odd.map(|odd| &odd.dates), is_iso(part));
            let dates = if is_sought { dates_of(part) } else { [None; 2] };
            for date in dates.into_iter().flatten() {
                let hash = self.hasher.hash_one((date.year(), date.month(), date.day()));
                found(Trail::Spelling, rest ^ at(hash ^ DATES, nth));
            }
            if self.of_parts.len() > 1 && letters == Letters::Not {
                found(Trail::Without(nth as u32), at(rest ^ WITHOUT, nth));
            }
        }
        if self.of_parts.len() > 1 {
            let sum = self.of_parts.iter().fold(ORDER, |all, hash| all.wrapping_add(at(*hash, 0)));
            found(Trail::Order, sum);
        }
    }

    /// The hashes of all that is left with one or two letters less.
    fn letters(&self, letters: Letters, found: &mut impl FnMut(Trail, u64)) {
        let text = &self.left[..];
        if text.is_empty() || text.len() > LONG {
            return;
        }
        let mut powers = [1_u64; LONG + 1];
        let mut before = [0_u64; LONG + 1];
        for (nth, &byte) in text.iter().enumerate() {
            powers[nth + 1] = powers[nth].wrapping_mul(ORDER | 1);
            before[nth + 1] = before[nth].wrapping_mul(ORDER | 1).wrapping_add(u64::from(byte) + 1);
        }
        // The hash of a piece, as if nothing stood around it.
        let piece = |from: usize, to: usize| {
            before[to].wrapping_sub(before[from].wrapping_mul(powers[to - from]))
        };
        let end = text.len();
        let mut tell = |hash: u64| found(Trail::Letters, spread(hash ^ LETTERS));
        tell(piece(0, end));
        for out in 0..end {
            let tail = piece(out + 1, end);
            let rest = end - out - 1;
            tell(before[out].wrapping_mul(powers[rest]).wrapping_add(tail));
            if matches!(letters, Letters::Two(longest) if end <= longest) {
                for other in out + 1..end {
                    let middle = piece(out + 1, other);
                    let head =
                        before[out].wrapping_mul(powers[other - out - 1]).wrapping_add(middle);
                    let rest = end - other - 1;
                    let all = head.wrapping_mul(powers[rest]).wrapping_add(piece(other + 1, end));
                    tell(all);
                }
            }
        }
    }
}

/// The hash of a part at its place among the parts.
fn at(hash: u64, nth: usize) -> u64 {
    spread(hash.wrapping_add((nth as u64 + 1).wrapping_mul(DATES)))
}

/// Spreads a hash over all bits.
fn spread(mut hash: u64) -> u64 {
    hash ^= hash >> 32;
    hash = hash.wrapping_mul(0xd6e8_feb8_6659_fd93);
    hash ^= hash >> 32;
    hash
}

/// What steps make of a value; `None` when one could not read it.
pub(super) fn applied(steps: &[StepUse], value: &str) -> Option<String> {
    crate::template::apply_all(steps, value)
}

fn looks_like_a_number(text: &str) -> bool {
    let mut digits = false;
    text.bytes().all(|byte| {
        digits |= byte.is_ascii_digit();
        matches!(byte, b'0'..=b'9' | b'.' | b',' | b'+' | b'-' | b' ' | b'e' | b'E')
    }) && digits
}

/// The digits of what is left of a value that has letters too, or of one that has digits alone, so
/// that the two meet; `None` where they tell nothing.
fn digits_of(left: &[u8]) -> Option<&[u8]> {
    let start = left.iter().position(u8::is_ascii_digit)?;
    let digits = &left[start..];
    digits.iter().all(u8::is_ascii_digit).then_some(digits)
}

/// The dates that a value may be: as numbers in any usual order, with the month as a word, or as the
/// day number of a workbook.
pub(crate) fn dates_of(value: &str) -> [Option<Date>; 2] {
    let text = value.trim();
    let none = [None, None];
    if !(5..=30).contains(&text.len()) || !text.is_ascii() {
        return none;
    }
    if text.bytes().all(|byte| byte.is_ascii_digit()) {
        let number = text.parse::<i32>().unwrap_or_default();
        return match text.len() {
            // Days of the years from 1954 to 2064.
            5 if (20_000..60_000).contains(&number) => {
                let first = jiff::civil::date(1899, 12, 30);
                [first.checked_add(jiff::Span::new().days(number)).ok(), None]
            }
            8 => [day(number / 10_000, number / 100 % 100, number % 100), None],
            _ => none,
        };
    }
    let mut words = [""; 3];
    let mut count = 0;
    for word in text.split(['-', '/', '.', ' ', ',']).filter(|word| !word.is_empty()) {
        if count == 3 {
            // What stands behind a date is a time, if anything.
            if word.contains(':') {
                break;
            }
            return none;
        }
        words[count] = word.split('T').next().unwrap_or(word);
        count += 1;
    }
    if count != 3 {
        return none;
    }
    let number = |nth: usize| words[nth].parse::<i32>().ok();
    let long = |year: i32| if (0..70).contains(&year) { year + 2000 } else { year };
    match (number(0), number(1), number(2)) {
        (Some(year), Some(month), Some(date)) if words[0].len() == 4 => {
            [day(year, month, date), None]
        }
        (Some(one), Some(other), Some(year)) if words[2].len() == 4 || words[2].len() == 2 => {
            [day(long(year), other, one), day(long(year), one, other)]
        }
        (Some(date), None, Some(year)) => [day(long(year), month_of(words[1]), date), None],
        (None, Some(date), Some(year)) => [day(long(year), month_of(words[0]), date), None],
        _ => none,
    }
}

fn day(year: i32, month: i32, day: i32) -> Option<Date> {
    Date::new(
        i16::try_from(year).ok().filter(|year| *year >= 1000)?,
        i8::try_from(month).ok()?,
        i8::try_from(day).ok()?,
    )
    .ok()
}

/// The month that a word names, or 0.
fn month_of(word: &str) -> i32 {
    const MONTHS: [&str; 12] =
        ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
    let start = word.get(..3).unwrap_or_default().to_ascii_lowercase();
    (1..).zip(MONTHS).find(|(_, month)| *month == start).map_or(0, |(at, _)| at)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn share(one: &[&str], other: &[&str], letters: Letters, trail: Trail) -> bool {
        let hasher = RandomState::with_seeds(1, 2, 3, 4);
        let all = |parts: &[&str]| {
            let mut all = Vec::new();
            let mut hashes = Hashes::new(&hasher);
            hashes.of(parts.iter().copied(), letters, |which, hash| {
                if which == trail {
                    all.push(hash);
                }
            });
            all
        };
        let (one, other) = (all(one), all(other));
        one.iter().any(|hash| other.contains(hash))
    }

    #[test]
    fn spellings_of_one_value_meet() {
        for (one, other) in [
            ("Nether Moor", " nether\u{a0}moor "),
            ("Łódź", "LODZ"),
            ("H-007", "h7"),
            ("H-007", "007"),
            ("7.0", "007"),
            ("1,234.50", "1.234,5"),
            ("0", "000"),
            ("a0", "A00"),
            ("2026-05-19", "19.5.2026"),
            ("2026-05-19", "05/19/2026"),
            ("2026-05-19", "19 May 2026"),
            ("2026-05-19", "May 19, 26"),
            ("2025-10-13", "45943"),
            ("2025-10-13 14:30", "13.10.2025"),
        ] {
            for [one, other] in [[one, other], [other, one]] {
                let (one, other) = (["Fellside", one], ["fellside", other]);
                assert!(share(&one, &other, Letters::Not, Trail::Spelling), "{one:?} {other:?}");
            }
        }
        for (one, other) in
            [("H-007", "H-070"), ("A10", "A1"), ("2026-05-19", "2026-05-18"), ("1.5", "15")]
        {
            assert!(!share(&[one], &[other], Letters::Not, Trail::Spelling), "{one} {other}");
        }
    }

    #[test]
    fn other_trails_meet() {
        let (key, other) = (["Fellside", "H-7", "x"], ["Fellside", "H-8", "x"]);
        assert!(share(&key, &other, Letters::Not, Trail::Without(1)));
        assert!(!share(&key, &other, Letters::Not, Trail::Without(0)));
        let swapped = ["H-7", "x", "Fellside"];
        assert!(share(&key, &swapped, Letters::Not, Trail::Order));
        assert!(!share(&key, &other, Letters::Not, Trail::Order));
    }

    proptest! {
        /// Values that are one change apart meet on the trail of letters, and with two letters left
        /// out those that are two apart.
        #[test]
        fn near_values_meet(
            value in "[a-z]{3,12}",
            changes in prop::collection::vec((0_usize..12, 0_u8..4, "[a-z]"), 1..=2),
        ) {
            let mut other: Vec<u8> = value.bytes().collect();
            for (at, what, letter) in &changes {
                let (at, letter) = (at % other.len(), letter.as_bytes()[0]);
                match what {
                    0 => other[at] = letter,
                    1 => other.insert(at, letter),
                    2 if other.len() > 1 => drop(other.remove(at)),
                    _ if at + 1 < other.len() => other.swap(at, at + 1),
                    _ => {}
                }
            }
            let other = String::from_utf8(other).unwrap();
            let letters = if changes.len() == 1 { Letters::One } else { Letters::Two(16) };
            prop_assert!(share(&[&value], &[&other], letters, Trail::Letters));
        }
    }
}
