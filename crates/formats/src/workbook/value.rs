//! The canonical text of a workbook's cell.
//!
//! A number is its shortest exact decimal, a date ISO 8601, a span of time hours, minutes and
//! seconds, and what is true is `true`. A cell that holds an error is blank.

use std::fmt::Write;

use calamine::{DataRef, ExcelDateTime};
use gather_keys_core::table::CellKind;
use jiff::civil::Date;

use gather_keys_core::value::date::{Epoch, day_of_serial};
use gather_keys_core::value::number::{push_integer, push_spreadsheet_number};

/// Milliseconds of a day.
const DAY: i64 = 86_400_000;

/// Writes the text of a cell; whether it is no error.
pub(super) fn write_text(cell: &DataRef<'_>, text: &mut String) -> bool {
    match cell {
        DataRef::Empty => {}
        DataRef::Error(_) => return false,
        DataRef::String(own) => text.push_str(own),
        DataRef::SharedString(shared) => text.push_str(shared),
        DataRef::Int(number) => push_integer(*number, text),
        DataRef::Float(number) => {
            push_spreadsheet_number(*number, text);
        }
        DataRef::Bool(is) => text.push_str(if *is { "true" } else { "false" }),
        DataRef::DateTime(moment) => {
            push_moment(moment.as_f64(), moment.is_duration(), epoch(moment), text);
        }
        DataRef::DateTimeIso(moment) => text.push_str(iso(moment)),
        DataRef::DurationIso(written) => match span(written) {
            Some(span) => text.push_str(&span),
            None => text.push_str(written),
        },
    }
    true
}

/// The kind of a cell.
pub(super) fn kind(cell: &DataRef<'_>) -> CellKind {
    match cell {
        DataRef::Empty | DataRef::Error(_) => CellKind::Untyped,
        DataRef::String(_) | DataRef::SharedString(_) => CellKind::Text,
        DataRef::Int(_) | DataRef::Float(_) => CellKind::Number,
        DataRef::Bool(_) => CellKind::Truth,
        DataRef::DateTime(moment) => {
            push_moment(moment.as_f64(), moment.is_duration(), epoch(moment), &mut String::new())
        }
        DataRef::DateTimeIso(_) => CellKind::Date,
        DataRef::DurationIso(_) => CellKind::Time,
    }
}

/// Writes a date, a date with a time, or a time, from its day number, and returns its kind. A day that there is not
/// is a number.
pub(super) fn push_moment(days: f64, is_span: bool, epoch: Epoch, text: &mut String) -> CellKind {
    let milliseconds = (days * DAY as f64).round() as i64;
    if is_span || (0..DAY).contains(&milliseconds) {
        push_time(milliseconds, text);
        return CellKind::Time;
    }
    let (day, rest) = (milliseconds.div_euclid(DAY), milliseconds.rem_euclid(DAY));
    let Some(date) = day_of_serial(day, epoch) else {
        push_spreadsheet_number(days, text);
        return CellKind::Number;
    };
    // Writing to a text can't fail.
    let _ = write!(text, "{:04}-{:02}-{:02}", date.year(), date.month(), date.day());
    if rest > 0 {
        text.push('T');
        push_time(rest, text);
    }
    CellKind::Date
}

/// The epoch of a workbook, derived from the date that the reader makes of a day number.
fn epoch(moment: &ExcelDateTime) -> Epoch {
    let (year, month, day, ..) = moment.to_ymd_hms_milli();
    let days = moment.as_f64().floor() as i64;
    let is_it = |date: Date| {
        (i64::from(date.year()), i64::from(date.month()), i64::from(date.day()))
            == (i64::from(year), i64::from(month), i64::from(day))
    };
    let is_1904 = day_of_serial(days, Epoch::Of1904).is_some_and(is_it);
    if is_1904 { Epoch::Of1904 } else { Epoch::Of1900 }
}

/// Writes hours, minutes and seconds; there may be more hours than a day has.
fn push_time(milliseconds: i64, text: &mut String) {
    let sign = if milliseconds < 0 { "-" } else { "" };
    let (seconds, rest) = (milliseconds.unsigned_abs() / 1000, milliseconds.unsigned_abs() % 1000);
    let (hours, minutes) = (seconds / 3600, seconds / 60 % 60);
    // Writing to a text can't fail.
    let _ = write!(text, "{sign}{hours:02}:{minutes:02}:{:02}", seconds % 60);
    if rest > 0 {
        let _ = write!(text, ".{rest:03}");
        text.truncate(text.trim_end_matches('0').len());
    }
}

/// A date or date-time in ISO 8601; one at midnight is a date.
pub(super) fn iso(text: &str) -> &str {
    let (date, time) = text.split_once('T').unwrap_or((text, ""));
    let is_midnight = time.trim_end_matches(['0', '.', 'Z']).trim_end_matches("00:00:").is_empty();
    if is_midnight { date } else { text }
}

/// A span of time in ISO 8601, `PT26H30M00S`, as hours, minutes and seconds.
pub(super) fn span(text: &str) -> Option<String> {
    let (sign, text) = match text.strip_prefix('-') {
        Some(text) => (-1, text),
        None => (1, text),
    };
    let mut rest = text.strip_prefix("PT")?;
    let mut milliseconds = 0.0;
    for (unit, length) in [('H', 3_600_000.0), ('M', 60_000.0), ('S', 1000.0)] {
        if let Some((number, behind)) = rest.split_once(unit) {
            milliseconds += number.replace(',', ".").parse::<f64>().ok()? * length;
            rest = behind;
        }
    }
    rest.is_empty().then(|| {
        let mut text = String::new();
        push_time(sign * milliseconds.round() as i64, &mut text);
        text
    })
}

#[cfg(test)]
mod tests {
    use calamine::ExcelDateTimeType::{DateTime, TimeDelta};

    use super::*;

    #[test]
    fn cells_have_one_text() {
        let moment =
            |value, kind, is_1904| DataRef::DateTime(ExcelDateTime::new(value, kind, is_1904));
        for (cell, want) in [
            (DataRef::Float(42.0), "42"),
            (DataRef::Float(-0.0), "0"),
            (DataRef::Float(0.1), "0.1"),
            (DataRef::Float(1e-7), "0.0000001"),
            (DataRef::Float(1e15), "1000000000000000"),
            (DataRef::Int(12_345_678_901_234_567), "12345678901234567"),
            (DataRef::SharedString("042"), "042"),
            (DataRef::Bool(true), "true"),
            (DataRef::Empty, ""),
            (moment(1.0, DateTime, false), "1900-01-01"),
            (moment(59.0, DateTime, false), "1900-02-28"),
            (moment(61.0, DateTime, false), "1900-03-01"),
            (moment(45_943.0, DateTime, false), "2025-10-13"),
            (moment(45_943.75, DateTime, false), "2025-10-13T18:00:00"),
            (moment(45_943.000_011_574_07, DateTime, false), "2025-10-13T00:00:01"),
            (moment(44_481.0, DateTime, true), "2025-10-13"),
            (moment(366.0, DateTime, true), "1905-01-01"),
            (moment(0.5, DateTime, false), "12:00:00"),
            (moment(1.104_166_666_666_666_7, TimeDelta, false), "26:30:00"),
            (moment(0.000_001, TimeDelta, false), "00:00:00.086"),
            (DataRef::DateTimeIso("2026-05-19T00:00:00".to_owned()), "2026-05-19"),
            (DataRef::DateTimeIso("2026-05-19T10:20:00".to_owned()), "2026-05-19T10:20:00"),
            (DataRef::DurationIso("PT26H30M00S".to_owned()), "26:30:00"),
        ] {
            let mut text = String::new();
            assert!(write_text(&cell, &mut text));
            assert_eq!(text, want, "{cell:?}");
        }
        let mut none = String::new();
        assert!(!write_text(&DataRef::Error(calamine::CellErrorType::NA), &mut none));
        assert!(none.is_empty());
    }
}
