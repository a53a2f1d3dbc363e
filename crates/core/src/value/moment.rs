//! Moments and durations that are counted in units since 1970: writing their canonical texts.

use std::fmt::Write;

use super::number::push_integer;

/// Appends the day that is `days` after 1970-01-01, in the Gregorian calendar for all times.
///
/// ```
/// let mut text = String::new();
/// gather_keys_core::value::moment::push_day(11_016, &mut text);
/// assert_eq!(text, "2000-02-29");
/// ```
pub fn push_day(days: i64, text: &mut String) {
    // The days of the years 1 to 9999; ISO 8601 has no form for others, which are written by number.
    if !(-719_162..=2_932_896).contains(&days) {
        let _ = write!(text, "day {days}");
        return;
    }
    // Years are counted from March, so that the leap day is the last of its year, in cycles of 400.
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

/// Appends `bytes`, which are ASCII, with two-digit numbers at the given indices.
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

/// Appends the moment `value` units after the start of 1970, with a `Z` where it is in UTC. A second has
/// `units` units.
pub fn push_moment(value: i64, units: i64, is_utc: bool, text: &mut String) {
    let of_day = 86_400 * units;
    push_day(value.div_euclid(of_day), text);
    text.push('T');
    push_clock(value.rem_euclid(of_day), units, text);
    if is_utc {
        text.push('Z');
    }
}

/// Appends a duration of `value` units as hours, minutes and seconds; hours may exceed 23. A second has `units`
/// units.
pub fn push_duration(value: i64, units: i64, text: &mut String) {
    if value < 0 {
        text.push('-');
    }
    // `i64::MIN` has no positive counterpart; one unit less makes no difference there.
    push_clock(value.checked_abs().unwrap_or(i64::MAX), units, text);
}

/// Appends hours, minutes and seconds, and the fraction of a second without zeros at its end.
fn push_clock(value: i64, units: i64, text: &mut String) {
    let (seconds, rest) = ((value / units).unsigned_abs(), value % units);
    let (hours, minutes, second) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    if hours < 100 {
        push_pairs(*b"00:00:00", [(0, hours), (3, minutes), (6, second)], text);
    } else {
        push_integer(hours, text);
        push_pairs(*b":00:00", [(1, minutes), (4, second)], text);
    }
    if rest > 0 {
        let digits = units.ilog10() as usize;
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
        /// Days are those of the calendar.
        #[test]
        fn days_are_those_of_the_calendar(days in -719_162i64..=2_932_896) {
            let span = jiff::Span::new().days(days);
            let want: Date = jiff::civil::date(1970, 1, 1).checked_add(span).unwrap();
            let mut text = String::new();
            push_day(days, &mut text);
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
            push_day(days, &mut text);
            assert_eq!(text, want);
        }
    }
}
