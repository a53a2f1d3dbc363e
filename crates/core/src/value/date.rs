//! Dates and date-times: reading them by formats or as a workbook's day number, and writing ISO 8601.

use std::fmt::Write;

use jiff::ToSpan;
use jiff::civil::{Date, DateTime, date};
use jiff::fmt::strtime::{self, BrokenDownTime};

use super::blank::trimmed;
use super::calendar_names::{CalendarNames, has_names, in_english};
use super::number::write_number;

/// The formats of ISO 8601, which are used when no other is given.
pub(crate) const ISO: [&str; 13] = [
    "%Y-%m-%d",
    "%Y-%m-%dT%H:%M:%S%.f",
    "%Y-%m-%d %H:%M:%S%.f",
    "%Y-%m-%dT%H:%M",
    "%Y-%m-%d %H:%M",
    "%Y-%m-%dT%H:%M:%S%.fZ",
    "%Y-%m-%d %H:%M:%S%.fZ",
    "%Y-%m-%dT%H:%M:%S%.f%:z",
    "%Y-%m-%d %H:%M:%S%.f%:z",
    "%Y-%m-%dT%H:%MZ",
    "%Y-%m-%d %H:%MZ",
    "%Y-%m-%dT%H:%M%:z",
    "%Y-%m-%d %H:%M%:z",
];

/// Whether a format can be read and holds year, month and day: a day written with it comes back.
pub(crate) fn has_a_day(format: &str) -> bool {
    let day: DateTime = date(2026, 11, 24).at(13, 45, 30, 0);
    let Ok(instant) = day.to_zoned_datetime(jiff::tz::TimeZone::UTC) else { return false };
    let Ok(text) = strtime::format(format, &instant) else { return false };
    strtime::parse(format, text)
        .is_ok_and(|parsed| parsed.to_date().is_ok_and(|read| read == day.date()))
}

/// Whether a text is a day, or a day with a time to the second, that has every digit of ISO 8601: most are, and are seen
/// sooner than read.
pub(crate) fn is_plain(text: &str) -> bool {
    let number = |range: std::ops::Range<usize>| -> Option<u8> {
        let digits = text.as_bytes().get(range)?.iter();
        digits.copied().try_fold(0, |all: u8, digit| {
            digit.is_ascii_digit().then(|| all.wrapping_mul(10).wrapping_add(digit - b'0'))
        })
    };
    let bytes = text.as_bytes();
    let has = |places: &[usize], byte: u8| places.iter().all(|place| bytes[*place] == byte);
    let is_day = || {
        let year = number(0..2).zip(number(2..4));
        let year = year.map(|(high, low)| i16::from(high) * 100 + i16::from(low));
        let (Some(year), Some(month), Some(day)) = (year, number(5..7), number(8..10)) else {
            return false;
        };
        has(&[4, 7], b'-') && Date::new(year, month.cast_signed(), day.cast_signed()).is_ok()
    };
    let is_time = || {
        let below = |range, most| number(range).is_some_and(|number| number < most);
        matches!(bytes[10], b'T' | b' ')
            && has(&[13, 16], b':')
            && below(11..13, 24)
            && below(14..16, 60)
            && below(17..19, 60)
    };
    match bytes.len() {
        10 => is_day(),
        19 => is_day() && is_time(),
        _ => false,
    }
}

/// The canonical text of a date or date-time in ISO 8601; `None` when the text is neither.
pub(crate) fn canonical(text: &str) -> Option<String> {
    let mut out = String::new();
    write_date(&text[trimmed(text)], &ISO, &[], &mut out).map(|()| out)
}

/// Writes the canonical text of a date, read by the first of the formats that fits, with English names and those given.
/// Returns `None` when no format does.
pub(crate) fn write_date(
    text: &str,
    formats: &[impl AsRef<str>],
    names: &[CalendarNames],
    out: &mut String,
) -> Option<()> {
    formats.iter().find_map(|format| {
        let format = format.as_ref();
        out.clear();
        let named = has_names(format).then(|| in_english(text, format, names));
        let text = named.as_deref().unwrap_or(text);
        let parsed = strtime::parse(format, text).ok()?;
        write_parsed(&parsed, format, out)?;
        (!runs_together(format) || is_written_so(&parsed, format, text)).then_some(())
    })
}

/// Whether a format has two numbers with nothing between them. Only their full widths then show where one
/// ends: `2026115` may be the 11th month or the 15th day.
fn runs_together(format: &str) -> bool {
    const NUMBERS: &str = "YyCmdeHIkljMSsGgUWV";
    let mut pieces = format.split('%').skip(1).peekable();
    let mut runs = false;
    while let Some(piece) = pieces.next() {
        let spec = piece.trim_start_matches(['-', '_', '0', '^', '#', ':', '.']);
        let is_number = spec.chars().next().is_some_and(|spec| NUMBERS.contains(spec));
        let ends_with_it = spec.chars().count() == 1;
        let next = pieces.peek().map(|next| next.trim_start_matches(['-', '_', '0', '^', '#']));
        let is_next = next.and_then(|next| next.chars().next());
        runs |= is_number && ends_with_it && is_next.is_some_and(|next| NUMBERS.contains(next));
    }
    runs
}

/// Whether writing the date with the format gives the text back.
fn is_written_so(parsed: &BrokenDownTime, format: &str, text: &str) -> bool {
    let moment = parsed.to_date().map(|day| day.to_datetime(parsed.to_time().unwrap_or_default()));
    let moment = moment.and_then(|moment| moment.to_zoned_datetime(jiff::tz::TimeZone::UTC));
    let written = moment.and_then(|moment| strtime::format(format, &moment));
    written.is_ok_and(|written| written.eq_ignore_ascii_case(text))
}

fn write_parsed(parsed: &BrokenDownTime, format: &str, out: &mut String) -> Option<()> {
    let day = parsed.to_date().ok()?;
    // `%Y` reads two digits as a year of the first century, which nobody means.
    if day.year() < 1000 {
        return None;
    }
    if parsed.hour().is_none() && parsed.minute().is_none() {
        return write!(out, "{day}").ok();
    }
    let time = day.to_datetime(parsed.to_time().ok()?);
    match parsed.offset() {
        Some(offset) => write!(out, "{}", offset.to_timestamp(time).ok()?).ok(),
        None if format.ends_with('Z') => write!(out, "{time}Z").ok(),
        None => write!(out, "{time}").ok(),
    }
}

/// The day that the day numbers of a workbook count from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Epoch {
    /// Day 1 is 1 January 1900, and day 60 is a 29 February 1900 that did not exist.
    Of1900,
    /// Day 0 is 1 January 1904.
    Of1904,
}

/// The day number of the 29 February 1900 that did not exist.
const NO_DAY: i64 = 60;

/// The day number of 31 December 9999.
const LAST_DAY: i64 = 2_958_465;

const SECONDS_OF_DAY: u128 = 86_400;

/// The day of a workbook's day number; `None` where the calendar has no such day.
///
/// ```
/// use gather_keys_core::value::date::{Epoch, day_of_serial};
///
/// assert_eq!(day_of_serial(45_943, Epoch::Of1900).unwrap().to_string(), "2025-10-13");
/// assert_eq!(day_of_serial(60, Epoch::Of1900), None);
/// ```
pub fn day_of_serial(days: i64, epoch: Epoch) -> Option<Date> {
    let zero = match (epoch, days) {
        (Epoch::Of1904, _) => date(1904, 1, 1),
        (Epoch::Of1900, NO_DAY) => return None,
        (Epoch::Of1900, ..NO_DAY) => date(1899, 12, 31),
        (Epoch::Of1900, _) => date(1899, 12, 30),
    };
    zero.checked_add(jiff::Span::new().try_days(days).ok()?).ok()
}

/// The day number of a day, counted from 1900; `None` for a day before 1 January 1900.
pub fn serial_of_day(day: Date) -> Option<i32> {
    let days = day.since(date(1899, 12, 30)).ok()?.get_days();
    match days {
        61.. => Some(days),
        // The numbers before the missing 29 February are one less.
        2..=60 => Some(days - 1),
        _ => None,
    }
}

/// Writes the date, or date-time to the nearest second, of a day number with or without a fraction. Returns
/// `None` when the text is not a day number.
pub(crate) fn write_serial(text: &str, out: &mut String) -> Option<()> {
    let mut number = String::new();
    write_number(text, '.', &mut number)?;
    let (days, fraction) = number.split_once('.').unwrap_or((&number, ""));
    let days: i64 = days.parse().ok()?;
    let digits = &fraction[..fraction.len().min(18)];
    let unit = 10_u128.pow(digits.len() as u32);
    let part = if digits.is_empty() { 0 } else { digits.parse::<u128>().ok()? };
    let seconds = (part * SECONDS_OF_DAY * 2 + unit) / (unit * 2);
    let (days, seconds) =
        (days + i64::from(seconds == SECONDS_OF_DAY), (seconds % SECONDS_OF_DAY) as i64);
    if !(1..=LAST_DAY).contains(&days) {
        return None;
    }
    let day = day_of_serial(days, Epoch::Of1900)?;
    if seconds == 0 {
        return write!(out, "{day}").ok();
    }
    let time = day.at(0, 0, 0, 0).checked_add(seconds.seconds()).ok()?;
    write!(out, "{time}").ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_format_must_hold_the_day() {
        for format in ["%H:%M", "%d.%m.", "%Y-%m", "%Q", "day", "%"] {
            assert!(!has_a_day(format), "{format}");
        }
        for format in ["%F", "%D", "%e %B %y", "%Y%j", "%A, %d %B %Y"] {
            assert!(has_a_day(format), "{format}");
        }
    }

    #[test]
    fn plain_dates_are_dates() {
        for text in ["2026-05-19", "2024-02-29", "2026-05-19 00:00:00", "2026-05-19T23:59:59"] {
            assert!(is_plain(text) && canonical(text).is_some(), "{text}");
        }
        for text in [
            "2026-02-29",
            "2026-13-01",
            "2026-05-00",
            "2026-05-19T24:00:00",
            "2026-05-19T23:60:00",
            "2026-05-19T23:59:60",
            "2026-05-19x23:59:59",
            "2026/05/19",
            "2x26-05-19",
            "26-5-19",
            "2026-05-19T14:30",
            "２０２６",
        ] {
            assert!(!is_plain(text), "{text}");
        }
    }

    #[test]
    fn every_day_number_is_that_of_its_day() {
        for days in (1..80).chain([45_943, LAST_DAY]).filter(|days| *days != NO_DAY) {
            let day = day_of_serial(days, Epoch::Of1900).unwrap();
            assert_eq!(serial_of_day(day).map(i64::from), Some(days));
        }
        assert_eq!(day_of_serial(0, Epoch::Of1904), Some(date(1904, 1, 1)));
        assert_eq!(serial_of_day(date(1899, 12, 31)), None);
    }
}
