//! Hashes of keys whose spelling does not count.
//!
//! Two keys that differ only in spelling share a hash of at least one [`Trail`]. So do keys that agree in
//! all parts but one, keys whose parts are swapped, and keys that differ in a letter. A shared hash only
//! finds candidates; comparing the two keys decides.

use super::loose::Loose;
use crate::value::any_date::{dates_of, is_iso};
use ahash::RandomState;

/// The kind of candidate that a hash finds.
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

/// Which hashes of a key are made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Wanted {
    /// Keys in other spellings and orders.
    Spellings,
    /// These, and those of all parts but one.
    Parts,
    /// Keys with nearly the same letters: with one left out on either side, or two in keys no longer than
    /// this.
    Letters(usize),
}

/// Values longer than this are not compared with letters left out.
const LONG: usize = 64;

/// Makes the hashes of keys; kept from key to key.
#[derive(Debug)]
pub(super) struct Hashes<'h> {
    hasher: &'h RandomState,
    loose: Loose,
    /// Each part reduced, one after the other, and where each ends.
    left: Vec<u8>,
    ends: Vec<usize>,
    of_parts: Vec<u64>,
    /// For each part what the keys of the other side have in it, so that nothing is made which can't
    /// be met.
    odd: Vec<OddPart>,
}

/// Whether values of a kind occur, and whether some are written in another than the plain form.
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

/// The values of one side's keys in one part. Plain values of both sides are compared directly.
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

    /// The values of two halves of a side together.
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

/// Distinguishes the hashes of one trail from those of another.
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

    /// The hashes of one side's keys, by the values of the other side in each part.
    pub(super) fn meeting(hasher: &'h RandomState, odd: &[OddPart]) -> Self {
        Self { odd: odd.to_vec(), ..Self::new(hasher) }
    }

    /// Makes the hashes of a key that are wanted.
    pub(super) fn of<'v>(
        &mut self,
        parts: impl Iterator<Item = &'v str> + Clone,
        wanted: Wanted,
        mut found: impl FnMut(Trail, u64),
    ) {
        self.left.clear();
        self.ends.clear();
        for part in parts.clone() {
            self.loose.leave(part, &mut self.left);
            self.ends.push(self.left.len());
        }
        if let Wanted::Letters(longest) = wanted {
            self.letters(longest, &mut found);
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
            if self.of_parts.len() > 1 && wanted == Wanted::Parts {
                found(Trail::Without(nth as u32), at(rest ^ WITHOUT, nth));
            }
        }
        if self.of_parts.len() > 1 {
            let sum = self.of_parts.iter().fold(ORDER, |all, hash| all.wrapping_add(at(*hash, 0)));
            found(Trail::Order, sum);
        }
    }

    /// The hashes of all that is left with one or two letters less.
    fn letters(&self, longest: usize, found: &mut impl FnMut(Trail, u64)) {
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
        // The hash of a part without the text around it.
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
            if end <= longest {
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

/// The digits of what is left of a value that has letters before or after them, or of one that has digits alone, so that the
/// two meet; `None` where they tell nothing.
fn digits_of(left: &[u8]) -> Option<&[u8]> {
    let start = left.iter().position(u8::is_ascii_digit)?;
    let digits = &left[start..];
    let length = digits.iter().position(|byte| !byte.is_ascii_digit()).unwrap_or(digits.len());
    let (digits, after) = digits.split_at(length);
    after.iter().all(u8::is_ascii_alphabetic).then_some(digits)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn share(one: &[&str], other: &[&str], wanted: Wanted, trail: Trail) -> bool {
        let hasher = RandomState::with_seeds(1, 2, 3, 4);
        let all = |parts: &[&str]| {
            let mut all = Vec::new();
            let mut hashes = Hashes::new(&hasher);
            hashes.of(parts.iter().copied(), wanted, |which, hash| {
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
            ("12345X", "12345"),
            ("kg 0070 b", "70"),
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
                assert!(share(&one, &other, Wanted::Parts, Trail::Spelling), "{one:?} {other:?}");
            }
        }
        for (one, other) in
            [("H-007", "H-070"), ("A10", "A1"), ("2026-05-19", "2026-05-18"), ("1.5", "15")]
        {
            assert!(!share(&[one], &[other], Wanted::Parts, Trail::Spelling), "{one} {other}");
        }
    }

    #[test]
    fn other_trails_meet() {
        let (key, other) = (["Fellside", "H-7", "x"], ["Fellside", "H-8", "x"]);
        assert!(share(&key, &other, Wanted::Parts, Trail::Without(1)));
        assert!(!share(&key, &other, Wanted::Parts, Trail::Without(0)));
        let swapped = ["H-7", "x", "Fellside"];
        assert!(share(&key, &swapped, Wanted::Parts, Trail::Order));
        assert!(!share(&key, &other, Wanted::Parts, Trail::Order));
    }

    proptest! {
        /// Values that differ by one change share a hash on the trail of letters; values that differ by
        /// two changes share one with two letters left out.
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
            let letters = Wanted::Letters(if changes.len() == 1 { 0 } else { 16 });
            prop_assert!(share(&[&value], &[&other], letters, Trail::Letters));
        }
    }
}
