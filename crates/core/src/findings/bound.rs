//! Bounds on counts: `<= 1%`, `= 0`.

use std::cmp::Ordering;

use crate::template::meant::{Elsewhere, meant};
use crate::{Error, Result};

/// A share is counted in millionths of a percent, so that it is compared exactly.
const PER_PERCENT: u64 = 1_000_000;

/// A bound on a count, or on the share of it in a total.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Bound {
    relation: Relation,
    limit: Limit,
}

/// The relation of a count to its limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Relation {
    AtMost,
    AtLeast,
    Below,
    Above,
    Equal,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Limit {
    Count(u64),
    /// In millionths of a percent.
    Share(u64),
}

/// A condition that is no bound: `at` is the first byte that is wrong.
pub(super) fn malformed(text: &str, at: usize, expected: String) -> Error {
    Error::Malformed { option: "require", text: text.to_owned(), at, expected }
}

/// A subject that is none of some labels; it begins at a byte of the text.
pub(super) fn no_subject(text: &str, at: usize, labels: &[&str]) -> Error {
    let word = text[at..].split(['<', '>', '=']).next().unwrap_or_default().trim();
    let ticked: Vec<String> = labels.iter().map(|label| format!("`{label}`")).collect();
    let expected = match meant(word, labels, FINDINGS) {
        Some(meant) => format!("a kind of finding; {meant}"),
        None => format!("one of {}", ticked.join(", ")),
    };
    malformed(text, at, expected)
}

/// What findings are called elsewhere.
const FINDINGS: &[Elsewhere] = &[
    ("missing", "unmatched"),
    ("not found", "unmatched"),
    ("notfound", "unmatched"),
    ("found", "matched"),
    ("duplicates", "duplicate"),
    ("dups", "duplicate"),
    ("blanks", "blank key"),
    ("blank", "blank key"),
    ("errors", "malformed"),
];

impl Bound {
    /// Reads a condition, `SUBJECT RELATION NUMBER[%]`: what `read` makes of its subject, and the bound. `read` gives
    /// the place of what is wrong with the subject.
    pub(super) fn read<T>(text: &str, read: impl FnOnce(&str) -> Result<T>) -> Result<(T, Self)> {
        let signs = [
            ("<=", Relation::AtMost),
            (">=", Relation::AtLeast),
            ("<", Relation::Below),
            (">", Relation::Above),
            ("=", Relation::Equal),
        ];
        let relations =
            || "one of `<=`, `>=`, `<`, `>` or `=` after the kind of finding".to_owned();
        let Some(at) = text.find(['<', '>', '=']) else {
            return Err(malformed(text, text.len(), relations()));
        };
        let Some(&(sign, relation)) = signs.iter().find(|(sign, _)| text[at..].starts_with(sign))
        else {
            return Err(malformed(text, at, relations()));
        };
        let subject = read(text[..at].trim())?;
        let start = at + sign.len();
        let number = text[start..].trim_start();
        let number_at = text.len() - number.len();
        let Some(limit) = limit_of(number.trim_end()) else {
            let expected = if number.starts_with('=') {
                "a number: one `=` is enough".to_owned()
            } else {
                "a whole number, or a share such as `0.5 %`".to_owned()
            };
            return Err(malformed(text, number_at, expected));
        };
        Ok((subject, Self { relation, limit }))
    }

    /// The bound of a count that must be 0.
    pub(super) const NONE: Self = Self { relation: Relation::Equal, limit: Limit::Count(0) };

    /// Whether a count of a total keeps to it.
    pub(super) fn holds(self, count: u64, total: u64) -> bool {
        let order = match self.limit {
            Limit::Count(limit) => count.cmp(&limit),
            Limit::Share(share) => {
                let have = u128::from(count) * 100 * u128::from(PER_PERCENT);
                have.cmp(&(u128::from(share) * u128::from(total)))
            }
        };
        match self.relation {
            Relation::AtMost => order != Ordering::Greater,
            Relation::AtLeast => order != Ordering::Less,
            Relation::Below => order == Ordering::Less,
            Relation::Above => order == Ordering::Greater,
            Relation::Equal => order == Ordering::Equal,
        }
    }
}

fn limit_of(number: &str) -> Option<Limit> {
    let Some(share) = number.strip_suffix('%') else {
        return digits(number).map(Limit::Count);
    };
    let (whole, part) = share.trim_end().split_once('.').unwrap_or((share.trim_end(), "0"));
    let places = u32::try_from(part.len()).ok().filter(|&places| places <= 6)?;
    let part = digits(part)? * 10_u64.pow(6 - places);
    digits(whole)?.checked_mul(PER_PERCENT)?.checked_add(part).map(Limit::Share)
}

fn digits(text: &str) -> Option<u64> {
    text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok())?
}
