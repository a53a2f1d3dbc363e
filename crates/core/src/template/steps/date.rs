//! One spelling of a date or date-time: ISO 8601.

use std::fmt::Write;
use std::sync::Arc;

use jiff::ToSpan;
use jiff::civil::{Date, DateTime, date};
use jiff::fmt::strtime::{self, BrokenDownTime};

use super::number::write_number;
use super::space::trimmed;
use super::{Done, Step, StepKind};

pub(super) static DATE: StepKind = StepKind {
    name: "date",
    form: "date [FORMAT …]",
    does: "writes a date, or a date-time where there is a time, as ISO 8601 does; FORMAT as in \
           POSIX `strptime`, several are tried in order, and one with a space or a comma in it \
           stands in double quotes; with none the value is ISO 8601 already; `date serial` reads a workbook's day number",
    examples: &[
        ("date %d.%m.%Y", "5.7.2026", Some("2026-07-05")),
        ("date %d.%m.%Y \"%d %B %Y\"", "5 July 2026", Some("2026-07-05")),
        ("date %d.%m.%y", "05.07.26", Some("2026-07-05")),
        ("date %d.%m.%Y", "05.07.26", None),
        ("date \"%d.%m.%Y %H:%M\"", "05.07.2026 14:30", Some("2026-07-05T14:30:00")),
        ("date", "2026-07-05 14:30", Some("2026-07-05T14:30:00")),
        ("date", "2026-02-31", None),
        ("date serial", "45943", Some("2025-10-13")),
        ("date serial", "45943.5", Some("2025-10-13T12:00:00")),
        ("date", "", Some("")),
    ],
    read: |phrase| {
        if phrase.bare_word("serial") {
            return Ok(Arc::new(Serial));
        }
        let mut formats = Vec::new();
        loop {
            phrase.skip_space();
            let start = phrase.at();
            let format = match phrase.text()? {
                None => phrase.bare_from('%').map(str::to_owned),
                quoted => quoted,
            };
            match format {
                Some(format) if tells_a_day(&format) => formats.push(format),
                Some(_) => {
                    phrase.back_to(start);
                    return phrase.expected(
                        "a date format that tells year, month and day, such as `%d.%m.%Y`",
                    );
                }
                None if formats.is_empty() => {
                    return Ok(Arc::new(Formats(ISO.map(str::to_owned).to_vec())));
                }
                None => return Ok(Arc::new(Formats(formats))),
            }
        }
    },
};

/// What is read when no format is given.
const ISO: [&str; 13] = [
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

/// Whether a format can be read and settles the day: a day written with it comes back.
fn tells_a_day(format: &str) -> bool {
    let day: DateTime = date(2026, 11, 24).at(13, 45, 30, 0);
    let Ok(instant) = day.to_zoned_datetime(jiff::tz::TimeZone::UTC) else { return false };
    let Ok(text) = strtime::format(format, &instant) else { return false };
    strtime::parse(format, text)
        .is_ok_and(|parsed| parsed.to_date().is_ok_and(|read| read == day.date()))
}

#[derive(Debug)]
struct Formats(Vec<String>);

impl Step for Formats {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let text = &value[trimmed(value)];
        if text.is_empty() {
            return Done::Piece(0..0);
        }
        let written = write_date(text, self.0.iter().map(String::as_str), out);
        written.map_or(Done::Unreadable, |()| Done::Written)
    }
}

/// Appends a date that is written as ISO 8601 does, in its one spelling.
pub(super) fn write_iso(text: &str, out: &mut String) -> Option<()> {
    write_date(text, ISO, out)
}

/// Appends a date that is written in the first of the formats that fits, in its one spelling.
fn write_date<'f>(
    text: &str,
    formats: impl IntoIterator<Item = &'f str>,
    out: &mut String,
) -> Option<()> {
    formats.into_iter().find_map(|format| {
        out.clear();
        let parsed = strtime::parse(format, text).ok()?;
        write_parsed(&parsed, format, out)?;
        (!runs_together(format) || is_written_so(&parsed, format, text)).then_some(())
    })
}

/// Whether a format has two numbers with nothing between them. Then only their full widths tell where one ends:
/// `2026115` may be the 11th month or the 15th day.
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

/// Whether a format writes a date as it stands in a text.
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

#[derive(Debug)]
struct Serial;

/// The day before day 1 as workbooks count them, once their 29 February 1900 has passed.
const DAY_ZERO: Date = date(1899, 12, 30);

/// Workbooks count a 29 February 1900, which did not exist.
const NO_DAY: i64 = 60;

/// 31 December 9999.
const LAST_DAY: i64 = 2_958_465;

const SECONDS: u128 = 86_400;

impl Step for Serial {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let text = &value[trimmed(value)];
        if text.is_empty() {
            return Done::Piece(0..0);
        }
        let mut number = String::new();
        let written = write_number(text, '.', &mut number).and_then(|()| {
            let (days, fraction) = number.split_once('.').unwrap_or((&number, ""));
            write_serial(days.parse().ok()?, fraction, out)
        });
        written.map_or(Done::Unreadable, |()| Done::Written)
    }
}

/// Writes a day number with the digits of its fraction, to the nearest second.
fn write_serial(days: i64, fraction: &str, out: &mut String) -> Option<()> {
    let digits = &fraction[..fraction.len().min(18)];
    let unit = 10_u128.pow(digits.len() as u32);
    let part = if digits.is_empty() { 0 } else { digits.parse::<u128>().ok()? };
    let seconds = (part * SECONDS * 2 + unit) / (unit * 2);
    let (days, seconds) = (days + i64::from(seconds == SECONDS), (seconds % SECONDS) as i64);
    if !(1..=LAST_DAY).contains(&days) || days == NO_DAY {
        return None;
    }
    let shift = i64::from(days < NO_DAY);
    let day = DAY_ZERO.checked_add((days + shift).days()).ok()?;
    if seconds == 0 {
        return write!(out, "{day}").ok();
    }
    let time = day.at(0, 0, 0, 0).checked_add(seconds.seconds()).ok()?;
    write!(out, "{time}").ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::template::Template;

    fn dated(step: &str, value: &str) -> Option<String> {
        let template = Template::parse("template", &format!("x | {step}")).unwrap();
        let bound = template.bind_with(|_| Ok(0)).unwrap();
        bound.placeholder_values(|_| value, &[]).remove(0)
    }

    #[test]
    fn dates_are_read_or_refused_but_never_moved() {
        for (step, value, want) in [
            ("date", "2026-7-5", Some("2026-07-05")),
            ("date", " 2026-07-05\u{a0}", Some("2026-07-05")),
            ("date", "2024-02-29", Some("2024-02-29")),
            ("date", "2025-02-29", None),
            ("date", "2026-07-05x", None),
            ("date", "26-07-05", None),
            ("date", "2026-07-05T14:30:00.250", Some("2026-07-05T14:30:00.25")),
            ("date", "2026-07-05 00:00:00", Some("2026-07-05T00:00:00")),
            ("date", "2026-07-05T14:30:00Z", Some("2026-07-05T14:30:00Z")),
            ("date", "2026-07-05T14:30:00+02:00", Some("2026-07-05T12:30:00Z")),
            ("date", "2026-07-05 14:30+02:00", Some("2026-07-05T12:30:00Z")),
            ("date", "2026-07-05 24:30", None),
            ("date \"%d/%m/%Y\" \"%m/%d/%Y\"", "07/20/2026", Some("2026-07-20")),
            ("date \"%d/%m/%Y\" \"%m/%d/%Y\"", "05/07/2026", Some("2026-07-05")),
            ("date \"%I:%M %p, %d %b %Y\"", "2:05 pm, 5 Jul 2026", Some("2026-07-05T14:05:00")),
            ("date \"%y%m%d\"", "690101", Some("1969-01-01")),
            ("date %Y%m%d", "20261105", Some("2026-11-05")),
            ("date %Y%m%d", "2026115", None),
            ("date %d%m%Y", "1112026", None),
            ("date \"%Y%m%d %H%M\"", "20261105 0930", Some("2026-11-05T09:30:00")),
            ("date \"%Y%m%d %H%M\"", "20261105 930", None),
            ("date \"%d%b%Y\"", "5nov2026", Some("2026-11-05")),
            ("date serial", "1", Some("1900-01-01")),
            ("date serial", "59", Some("1900-02-28")),
            ("date serial", "60", None),
            ("date serial", "61", Some("1900-03-01")),
            ("date serial", "0", None),
            ("date serial", "-5", None),
            ("date serial", "2958465", Some("9999-12-31")),
            ("date serial", "2958466", None),
            ("date serial", "45943.999999", Some("2025-10-14")),
            ("date serial", "45943.0000115741", Some("2025-10-13T00:00:01")),
            ("date serial", "2025-10-13", None),
        ] {
            assert_eq!(dated(step, value).as_deref(), want, "{step} on {value}");
        }
    }

    #[test]
    fn serial_ends_where_its_word_does() {
        for text in
            ["{x | date serial}", "{x|date serial}-{x | date serial | last 2}", "x | date serial"]
        {
            assert!(Template::parse("template", text).is_ok(), "{text}");
        }
        assert!(Template::parse("template", "x | date serials").is_err());
        let on = crate::plan::On::parse(&["Day | date serial, Hive"]).unwrap();
        assert!(matches!(on, crate::plan::On::Key(parts) if parts.len() == 2));
    }

    #[test]
    fn a_format_must_tell_the_day() {
        for format in ["%H:%M", "%d.%m.", "%Y-%m", "%Q", "day", "%"] {
            assert!(!tells_a_day(format), "{format}");
        }
        for format in ["%F", "%D", "%e %B %y", "%Y%j", "%A, %d %B %Y"] {
            assert!(tells_a_day(format), "{format}");
        }
    }
}
