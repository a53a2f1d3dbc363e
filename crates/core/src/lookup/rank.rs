//! Numbers and dates in order, to tell which of several rows comes first or last.

use std::cmp::Ordering;

use crate::template::steps;

/// A value that has a place in an order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Rank {
    /// A number, in its one spelling.
    Number(String),
    /// A date or date-time, in its one spelling.
    Date(String),
}

impl Rank {
    /// The rank of a value; `None` when it is neither a number nor a date.
    pub(super) fn of(value: &str) -> Option<Self> {
        steps::as_number(value).map(Self::Number).or_else(|| steps::as_date(value).map(Self::Date))
    }

    /// How two ranks stand to each other; `None` for a number beside a date.
    pub(super) fn compare(&self, other: &Self) -> Option<Ordering> {
        match (self, other) {
            (Self::Number(a), Self::Number(b)) => Some(numbers(a, b)),
            (Self::Date(a), Self::Date(b)) => Some(a.cmp(b)),
            _ => None,
        }
    }
}

/// Compares two numbers digit by digit, so that none is too long.
fn numbers(a: &str, b: &str) -> Ordering {
    match (a.strip_prefix('-'), b.strip_prefix('-')) {
        (Some(a), Some(b)) => magnitudes(b, a),
        (Some(_), None) => Ordering::Less,
        (None, Some(_)) => Ordering::Greater,
        (None, None) => magnitudes(a, b),
    }
}

fn magnitudes(a: &str, b: &str) -> Ordering {
    let parts = |text| str::split_once(text, '.').unwrap_or((text, ""));
    let ((a, a_fraction), (b, b_fraction)) = (parts(a), parts(b));
    a.len().cmp(&b.len()).then_with(|| a.cmp(b)).then_with(|| a_fraction.cmp(b_fraction))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_dates_stand_in_order() {
        let compare = |a: &str, b: &str| Rank::of(a)?.compare(&Rank::of(b)?);
        for (a, b) in [
            ("9", "10"),
            ("-10", "-9"),
            ("-1", "0"),
            ("1.05", "1.5"),
            ("1,234", "1234.5"),
            ("99999999999999999999", "100000000000000000000"),
            ("2025-12-31", "2026-01-01"),
            ("2026-01-01", "2026-01-01 00:30"),
        ] {
            assert_eq!(compare(a, b), Some(Ordering::Less), "{a} {b}");
            assert_eq!(compare(b, a), Some(Ordering::Greater), "{b} {a}");
            assert_eq!(compare(a, a), Some(Ordering::Equal));
        }
        for (a, b) in [("1", "2026-01-01"), ("", "1"), ("soon", "1")] {
            assert_eq!(compare(a, b), None, "{a} {b}");
        }
    }
}
