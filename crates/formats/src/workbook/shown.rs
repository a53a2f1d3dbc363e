//! The form of a cell in a workbook.
//!
//! A cell of a kind becomes that. One whose format says no kind, as those of delimited text, is a
//! number or a date only where it is written in the one way that gives the same text again; codes
//! with leading zeros and whatever else looks like a number are text. A whole number of more than 15 digits is text
//! too, since a spreadsheet would round it.

use gather_keys_core::table::CellKind;
use gather_keys_core::value::date::serial_of_day;
use gather_keys_core::value::number::SPREADSHEET_DIGITS;
use jiff::civil::{DateTime, Time};

/// A cell of a workbook.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Shown {
    Blank,
    /// A number, whose text is as a workbook writes it, shown with this many decimals.
    Number(usize),
    Text,
    /// A whole number of more digits than a number of a workbook holds, which is text there.
    LongNumber,
    Truth(bool),
    /// A day, as its day number.
    Date(f64),
    /// A day and a time.
    DateTime(f64),
    /// A time, or a span of time, in days.
    Time(f64),
}

impl Shown {
    /// The form of a cell.
    pub(super) fn of(text: &str, kind: CellKind) -> Self {
        if text.is_empty() {
            return Self::Blank;
        }
        let shown = match kind {
            CellKind::Text => None,
            // Its decimals are those it has, not those it was written with.
            CellKind::Number => decimals(text).map(|_| Self::Number(0)),
            CellKind::Date => moment(text),
            CellKind::Time => time(text).map(Self::Time),
            CellKind::Truth => text.parse().ok().map(Self::Truth),
            CellKind::Untyped => decimals(text).map(Self::Number).or_else(|| moment(text)),
        };
        let other = || {
            let may_be_long = matches!(kind, CellKind::Number | CellKind::Untyped);
            if may_be_long && is_long(text) { Self::LongNumber } else { Self::Text }
        };
        shown.unwrap_or_else(other)
    }
}

/// Whether a text is a number written in the plain way, and no code.
pub(crate) fn is_plain_number(text: &str) -> bool {
    decimals(text).is_some()
}

/// Whether a text is a whole number of more digits than a workbook's number holds.
fn is_long(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let is_whole = digits.bytes().all(|byte| byte.is_ascii_digit()) && !digits.starts_with('0');
    is_whole && digits.len() > SPREADSHEET_DIGITS
}

/// How many decimals a number has, written without needless characters before it: a fraction, which a spreadsheet
/// works with in 15 digits, or a whole number of no more digits than that.
fn decimals(text: &str) -> Option<usize> {
    let unsigned = text.strip_prefix('-').unwrap_or(text).as_bytes();
    let point = unsigned.iter().position(|sign| *sign == b'.');
    let (whole, decimals) = match point {
        Some(point) => (&unsigned[..point], Some(&unsigned[point + 1..])),
        None => (unsigned, None),
    };
    let is_digits = |text: &[u8]| !text.is_empty() && text.iter().all(u8::is_ascii_digit);
    let is_plain = is_digits(whole)
        && decimals.is_none_or(is_digits)
        && (whole == b"0" || !whole.starts_with(b"0"))
        && text != "-0";
    if !is_plain {
        return None;
    }
    match decimals {
        Some(decimals) => Some(decimals.len()),
        None => (whole.len() <= SPREADSHEET_DIGITS).then_some(0),
    }
}

/// A date, or a date with a time, in ISO 8601.
fn moment(text: &str) -> Option<Shown> {
    let day = text.get(..10).filter(|day| is_like(day, "0000-00-00"))?;
    let day = f64::from(serial_of_day(day.parse().ok()?)?);
    let rest = &text[10..];
    if rest.is_empty() {
        return Some(Shown::Date(day));
    }
    let clock = rest.strip_prefix('T')?;
    clock.get(..8).filter(|clock| is_like(clock, "00:00:00"))?;
    // Neither a zone nor anything else follows it.
    let moment: DateTime = text.parse().ok().filter(|_| !clock.contains(['Z', '+', '-']))?;
    let since = moment.time().duration_since(Time::midnight());
    Some(Shown::DateTime(day + since.as_secs_f64() / 86_400.0))
}

/// Whether a text has digits where the pattern has zeros, and is that pattern otherwise.
fn is_like(text: &str, pattern: &str) -> bool {
    let fits = |(byte, wanted): (u8, u8)| match wanted {
        b'0' => byte.is_ascii_digit(),
        wanted => byte == wanted,
    };
    text.len() == pattern.len() && text.bytes().zip(pattern.bytes()).all(fits)
}

/// Hours, minutes and seconds, in days.
fn time(text: &str) -> Option<f64> {
    let (sign, text) = match text.strip_prefix('-') {
        Some(text) => (-1.0, text),
        None => (1.0, text),
    };
    let mut parts = text.split(':');
    let (hours, minutes, seconds) = (parts.next()?, parts.next()?, parts.next()?);
    if parts.next().is_some() {
        return None;
    }
    let hours: u32 = hours.parse().ok()?;
    let minutes: u32 = minutes.parse().ok().filter(|minutes| *minutes < 60)?;
    let seconds: f64 = seconds.parse().ok().filter(|seconds| (0.0..60.0).contains(seconds))?;
    let whole = f64::from(hours) * 3600.0 + f64::from(minutes) * 60.0;
    Some(sign * (whole + seconds) / 86_400.0)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// A plain number is one whose text comes back from a decimal, but for zeros at its end, where its digits
        /// are few; with more of them it is one if it is a fraction.
        #[test]
        fn plain_numbers_come_back(text in "-?[0-9]{0,9}(\\.[0-9]{0,9})?|-?0?\\.?0{0,3}[0-9]{13,17}") {
            let is_plain = is_plain_number(&text);
            let digits = text.trim_start_matches(['-', '0', '.']).bytes();
            let significant = digits.filter(u8::is_ascii_digit).count();
            let back = text.parse::<f64>().map(|number| {
                let decimals = text.split_once('.').map_or(0, |(_, decimals)| decimals.len());
                format!("{number:.decimals$}")
            });
            let ends = text.ends_with('.') || text == "-0";
            let comes_back = back.is_ok_and(|back| back == text) && !ends;
            if significant <= SPREADSHEET_DIGITS {
                prop_assert_eq!(is_plain, comes_back, "{}", text);
            } else if !text.contains('.') {
                prop_assert!(!is_plain, "{}", text);
            }
        }
    }

    #[test]
    fn cells_become_what_they_are() {
        for (cell, kind, want) in [
            ("", CellKind::Text, Shown::Blank),
            ("42", CellKind::Untyped, Shown::Number(0)),
            ("42", CellKind::Text, Shown::Text),
            ("3.40", CellKind::Untyped, Shown::Number(2)),
            ("-0.5", CellKind::Untyped, Shown::Number(1)),
            ("0.0000001", CellKind::Number, Shown::Number(0)),
            ("12.50", CellKind::Untyped, Shown::Number(2)),
            ("042", CellKind::Untyped, Shown::Text),
            ("+44", CellKind::Untyped, Shown::Text),
            ("1e5", CellKind::Untyped, Shown::Text),
            ("1,5", CellKind::Untyped, Shown::Text),
            (".5", CellKind::Untyped, Shown::Text),
            ("-0", CellKind::Untyped, Shown::Text),
            ("12345678901234567", CellKind::Number, Shown::LongNumber),
            ("12345678901234567", CellKind::Untyped, Shown::LongNumber),
            ("12345678901234567", CellKind::Text, Shown::Text),
            ("0.30000000000000004", CellKind::Number, Shown::Number(0)),
            ("23.799999999999997", CellKind::Untyped, Shown::Number(15)),
            ("123456789012345", CellKind::Untyped, Shown::Number(0)),
            ("2025-10-13", CellKind::Untyped, Shown::Date(45_943.0)),
            ("2025-10-13T18:00:00", CellKind::Untyped, Shown::DateTime(45_943.75)),
            ("2025-10-13T18:00:00Z", CellKind::Untyped, Shown::Text),
            ("2025-02-30", CellKind::Date, Shown::Text),
            ("1900-02-28", CellKind::Date, Shown::Date(59.0)),
            ("1900-03-01", CellKind::Date, Shown::Date(61.0)),
            ("1899-12-31", CellKind::Date, Shown::Text),
            ("26:30:00", CellKind::Time, Shown::Time(26.5 / 24.0)),
            ("26:30:00", CellKind::Untyped, Shown::Text),
            ("true", CellKind::Truth, Shown::Truth(true)),
            ("true", CellKind::Untyped, Shown::Text),
        ] {
            assert_eq!(Shown::of(cell, kind), want, "{cell} {kind:?}");
        }
    }
}
