//! The canonical texts of days, moments and spans of time.

use std::fmt::Write;

use gather_keys_core::table::CellKind;

use crate::number::push_integer;

/// The day so many days behind 1970-01-01, in the calendar of today for all times.
pub(super) fn day(days: i64, text: &mut String) {
    // Days of the years 1 to 9999; others are told by their number, for no calendar has them.
    if !(-719_162..=2_932_896).contains(&days) {
        let _ = write!(text, "day {days}");
        return;
    }
    // Years are counted from March, so that the odd day is the last of its year, in cycles of 400.
    let days = (days + 719_468).unsigned_abs();
    let (cycle, of_cycle) = (days / 146_097, days % 146_097);
    let of_cycle_year = (of_cycle - of_cycle / 1460 + of_cycle / 36_524 - of_cycle / 146_096) / 365;
    let of_year = of_cycle - (365 * of_cycle_year + of_cycle_year / 4 - of_cycle_year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let (month, later) = if month < 10 { (month + 3, 0) } else { (month - 9, 1) };
    let year = cycle * 400 + of_cycle_year + later;
    push_pairs(*b"0000-00-00", [(0, year / 100), (2, year % 100), (5, month), (8, day)], text);
}

/// Writes ASCII, with numbers of two digits in these places.
#[inline]
fn push_pairs<const BYTES: usize, const PAIRS: usize>(
    mut bytes: [u8; BYTES],
    pairs: [(usize, u64); PAIRS],
    text: &mut String,
) {
    for (at, number) in pairs {
        bytes[at] = b'0' + (number / 10 % 10) as u8;
        bytes[at + 1] = b'0' + (number % 10) as u8;
    }
    text.push_str(str::from_utf8(&bytes).unwrap_or_default());
}

/// A moment in so many parts of a second behind the first one of 1970, with or without a time zone.
pub(super) fn moment(value: i64, parts: i64, has_zone: bool, text: &mut String) -> CellKind {
    let of_day = 86_400 * parts;
    day(value.div_euclid(of_day), text);
    text.push('T');
    clock(value.rem_euclid(of_day), parts, text);
    if has_zone {
        text.push('Z');
    }
    CellKind::Date
}

/// A span of time in so many parts of a second: hours, of which there may be more than a day has,
/// minutes and seconds.
pub(super) fn span(value: i64, parts: i64, text: &mut String) -> CellKind {
    if value < 0 {
        text.push('-');
    }
    // The one value that has no positive twin is as good as none.
    clock(value.checked_abs().unwrap_or(i64::MAX), parts, text);
    CellKind::Time
}

fn clock(value: i64, parts: i64, text: &mut String) {
    let (seconds, rest) = ((value / parts).unsigned_abs(), value % parts);
    let (hours, minutes, second) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    if hours < 100 {
        push_pairs(*b"00:00:00", [(0, hours), (3, minutes), (6, second)], text);
    } else {
        push_integer(hours, text);
        push_pairs(*b":00:00", [(1, minutes), (4, second)], text);
    }
    if rest > 0 {
        let digits = parts.ilog10() as usize;
        let _ = write!(text, ".{rest:0digits$}");
        text.truncate(text.trim_end_matches('0').len());
    }
}

#[cfg(test)]
mod tests {
    use jiff::civil::Date;
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Days are those that the calendar has.
        #[test]
        fn days_are_those_of_the_calendar(days in -719_162i64..=2_932_896) {
            let span = jiff::Span::new().days(days);
            let want: Date = jiff::civil::date(1970, 1, 1).checked_add(span).unwrap();
            let mut text = String::new();
            day(days, &mut text);
            prop_assert_eq!(text, want.to_string());
        }
    }

    #[test]
    fn the_ends_of_the_calendar_are_days() {
        for (days, want) in [
            (-719_162, "0001-01-01"),
            (2_932_896, "9999-12-31"),
            (2_932_897, "day 2932897"),
            (-719_163, "day -719163"),
            (11_016, "2000-02-29"),
        ] {
            let mut text = String::new();
            day(days, &mut text);
            assert_eq!(text, want);
        }
    }
}
