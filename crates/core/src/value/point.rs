//! Order: numbers and moments as points on a scale.
//!
//! A number counts in units of 10⁻¹⁸, a moment in nanoseconds. Neither is ever rounded: a value that can't be
//! held exactly has no point.

use std::cmp::Ordering;

use jiff::civil::{Date, DateTime};

use super::{date, number};

/// A point on a scale: where a value is in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Point {
    scale: Scale,
    at: i128,
    /// Whether it is a date without a time, which stands for its whole day as an upper bound.
    whole_day: bool,
}

/// A scale. Points on different scales don't compare.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scale {
    /// Numbers.
    Number,
    /// Dates and times of wherever the table was written.
    Civil,
    /// Dates and times with an offset from UTC.
    Instant,
}

const DECIMALS: usize = 18;
const UNIT: i128 = 10_i128.pow(DECIMALS as u32);
const DAY: i128 = 86_400_000_000_000;

/// Moments are counted from here.
const EPOCH: DateTime = jiff::civil::date(1970, 1, 1).at(0, 0, 0, 0);

impl Point {
    /// The point of a value; `None` when it is neither a number nor a date.
    ///
    /// ```
    /// use gather_keys_core::value::Point;
    ///
    /// let at = |value: &str| Point::of(value).unwrap();
    /// assert!(at("9").compare(at("10.5")).unwrap().is_lt());
    /// assert!(at("2025-12-31").compare(at("2026-01-01 08:00")).unwrap().is_lt());
    /// assert_eq!(at("2026").compare(at("2026-01-01")), None);
    /// ```
    pub fn of(value: &str) -> Option<Self> {
        if let Some(point) = iso_day(value) {
            return Some(point);
        }
        if let Some(at) = Self::number(value) {
            return Some(Self { scale: Scale::Number, at, whole_day: false });
        }
        let written = date::canonical(value)?;
        let (text, scale) = match written.strip_suffix('Z') {
            Some(text) => (text, Scale::Instant),
            None => (&written[..], Scale::Civil),
        };
        Some(Self::moment(text.parse().ok()?, scale, !text.contains('T')))
    }

    /// A number in units of 10⁻¹⁸; `None` when the value is none, or can't be held exactly.
    pub fn number(value: &str) -> Option<i128> {
        let short = value.len() < DECIMALS && value.bytes().all(|byte| byte.is_ascii_digit());
        if short && !value.is_empty() {
            return value.parse::<i128>().ok().map(|number| number * UNIT);
        }
        let written = number::canonical(value)?;
        let (negative, digits) = match written.strip_prefix('-') {
            Some(digits) => (true, digits),
            None => (false, &written[..]),
        };
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
        if fraction.len() > DECIMALS {
            return None;
        }
        let part: i128 = format!("{fraction:0<DECIMALS$}").parse().ok()?;
        let at = whole.parse::<i128>().ok()?.checked_mul(UNIT)?.checked_add(part)?;
        Some(if negative { -at } else { at })
    }

    fn moment(moment: DateTime, scale: Scale, whole_day: bool) -> Self {
        Self { scale, at: moment.duration_since(EPOCH).as_nanos(), whole_day }
    }

    /// Its scale.
    pub fn scale(self) -> Scale {
        self.scale
    }

    /// The order of two points; `None` on different scales.
    pub fn compare(self, other: Self) -> Option<Ordering> {
        (self.scale == other.scale).then(|| self.at.cmp(&other.at))
    }

    /// The value as a number on its scale: a date at its first moment.
    pub(crate) fn at(self) -> i128 {
        self.at
    }

    /// The end of the value as a number on its scale: a date at its last moment.
    pub(crate) fn end(self) -> i128 {
        if self.whole_day { self.at + DAY - 1 } else { self.at }
    }
}

/// The point of a plain ISO date, which most dates are.
fn iso_day(value: &str) -> Option<Point> {
    let bytes: &[u8; 10] = value.as_bytes().try_into().ok()?;
    if bytes[4] != b'-' || bytes[7] != b'-' {
        return None;
    }
    let digits = |from: usize, to: usize| {
        let mut number = 0_i16;
        for byte in &bytes[from..to] {
            number = number * 10 + i16::from(byte.is_ascii_digit().then(|| byte - b'0')?);
        }
        Some(number)
    };
    let (year, month, day) = (digits(0, 4)?, digits(5, 7)?, digits(8, 10)?);
    if year < 1000 {
        return None;
    }
    let date = Date::new(year, month as i8, day as i8).ok()?;
    Some(Point::moment(date.at(0, 0, 0, 0), Scale::Civil, true))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_dates_stand_in_order() {
        let compare = |a: &str, b: &str| Point::of(a)?.compare(Point::of(b)?);
        for (a, b) in [
            ("9", "10"),
            ("-10", "-9"),
            ("-1", "0"),
            ("1.05", "1.5"),
            ("1,234", "1234.5"),
            ("0.000000000000000001", "0.000000000000000002"),
            ("99999999999999999999", "100000000000000000000"),
            ("2025-12-31", "2026-01-01"),
            ("2026-01-01", "2026-01-01 00:30"),
            ("2026-01-01T08:00:00.1", "2026-01-01T08:00:00.2"),
            ("2026-01-01T00:30+02:00", "2026-01-01T00:00Z"),
            ("1799-03-01", "1970-01-01"),
            ("9999-12-30", "9999-12-31"),
            ("9999-12-31", "9999-12-31T23:59:59"),
        ] {
            assert_eq!(compare(a, b), Some(Ordering::Less), "{a} {b}");
            assert_eq!(compare(b, a), Some(Ordering::Greater), "{b} {a}");
            assert_eq!(compare(a, a), Some(Ordering::Equal), "{a}");
        }
        for (a, b) in [
            ("1", "2026-01-01"),
            ("", "1"),
            ("soon", "1"),
            ("2026-01-01T00:00", "2026-01-01T00:00Z"),
            ("2026-02-30", "2026-01-01"),
            ("0026-01-01", "2026-01-01"),
            ("1000000000000000000000", "1"),
            ("1e-19", "1"),
        ] {
            assert_eq!(compare(a, b), None, "{a} {b}");
        }
    }

    #[test]
    fn a_date_ends_with_its_day() {
        let of = |value: &str| Point::of(value).unwrap();
        assert!(of("2026-01-01").end() > of("2026-01-01 23:59:59").at());
        assert!(of("2026-01-01").end() < of("2026-01-02").at());
        assert_eq!(of("2026-01-01 10:00").end(), of("2026-01-01T10:00:00").at());
    }
}
