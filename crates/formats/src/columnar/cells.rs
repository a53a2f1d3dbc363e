//! The canonical texts of typed columns.
//!
//! A number is its shortest exact decimal, a date ISO 8601, a moment with a time zone the same in
//! UTC with a `Z`, what is true `true`, bytes hexadecimal digits; lists and what else has values
//! within it are JSON. What is not there is blank.

use std::fmt::Write;

use arrow_array::Array;
use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Date64Type, Decimal32Type, Decimal64Type, Decimal128Type, Decimal256Type,
    DurationMicrosecondType, DurationMillisecondType, DurationNanosecondType, DurationSecondType,
    Float16Type, Float32Type, Float64Type, Int8Type, Int16Type, Int32Type, Int64Type,
    Time32MillisecondType, Time32SecondType, Time64MicrosecondType, Time64NanosecondType,
    TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType,
    TimestampSecondType, UInt8Type, UInt16Type, UInt32Type, UInt64Type,
};
use arrow_schema::{DataType, TimeUnit};
use gather_keys_core::table::CellKind;
use serde_json::Value;

use crate::number::{push_integer, push_real};

/// The cells of a column of a batch.
pub(super) enum Cells<'a> {
    /// All are blank.
    Blank,
    /// Texts, as they stand in the column; `None` is blank.
    Texts(Box<dyn Fn(usize) -> Option<&'a str> + 'a>),
    /// What is written for each row; nothing of an unsaid kind is blank.
    Written(Writes<'a>),
}

/// Writes the cell of a row, and gives its kind.
type Writes<'a> = Box<dyn Fn(usize, &mut String) -> CellKind + 'a>;

impl<'a> Cells<'a> {
    /// The cells of a column.
    // An arm for each type.
    #[allow(clippy::too_many_lines)]
    pub(super) fn of(array: &'a dyn Array) -> Self {
        macro_rules! written {
            ($kind:ty, $write:expr) => {{
                let values = array.as_primitive::<$kind>();
                Self::unless_null(array, move |row, text| $write(values.value(row), text))
            }};
        }
        macro_rules! integer {
            ($kind:ty) => {
                written!($kind, |value, text: &mut String| {
                    push_integer(value, text);
                    CellKind::Number
                })
            };
        }
        macro_rules! in_unit {
            ($unit:expr, $s:ty, $ms:ty, $us:ty, $ns:ty, $write:expr) => {
                match $unit {
                    TimeUnit::Second => in_unit!(@ $s, 1, $write),
                    TimeUnit::Millisecond => in_unit!(@ $ms, 1_000, $write),
                    TimeUnit::Microsecond => in_unit!(@ $us, 1_000_000, $write),
                    TimeUnit::Nanosecond => in_unit!(@ $ns, 1_000_000_000, $write),
                }
            };
            (@ $kind:ty, $parts:expr, $write:expr) => {
                written!($kind, |value, text: &mut String| $write(i64::from(value), $parts, text))
            };
        }
        match array.data_type() {
            DataType::Utf8 => Self::texts(array, |row| array.as_string::<i32>().value(row)),
            DataType::LargeUtf8 => Self::texts(array, |row| array.as_string::<i64>().value(row)),
            DataType::Utf8View => Self::texts(array, |row| array.as_string_view().value(row)),
            DataType::Boolean => {
                let values = array.as_boolean();
                Self::unless_null(array, move |row, text| {
                    text.push_str(if values.value(row) { "true" } else { "false" });
                    CellKind::Truth
                })
            }
            DataType::Int8 => integer!(Int8Type),
            DataType::Int16 => integer!(Int16Type),
            DataType::Int32 => integer!(Int32Type),
            DataType::Int64 => integer!(Int64Type),
            DataType::UInt8 => integer!(UInt8Type),
            DataType::UInt16 => integer!(UInt16Type),
            DataType::UInt32 => integer!(UInt32Type),
            DataType::UInt64 => integer!(UInt64Type),
            DataType::Float16 => {
                let values = array.as_primitive::<Float16Type>();
                Self::unless_null(array, move |row, text| real(values.value(row).to_f32(), text))
            }
            DataType::Float32 => written!(Float32Type, real),
            DataType::Float64 => written!(Float64Type, real),
            DataType::Decimal32(_, scale) => {
                let scale = *scale;
                written!(Decimal32Type, |value, text: &mut String| decimal(value, scale, text))
            }
            DataType::Decimal64(_, scale) => {
                let scale = *scale;
                written!(Decimal64Type, |value, text: &mut String| decimal(value, scale, text))
            }
            DataType::Decimal128(_, scale) => {
                let scale = *scale;
                written!(Decimal128Type, |value, text: &mut String| decimal(value, scale, text))
            }
            DataType::Decimal256(_, scale) => {
                let scale = *scale;
                written!(Decimal256Type, |value, text: &mut String| decimal(value, scale, text))
            }
            DataType::Date32 => written!(Date32Type, |days, text: &mut String| {
                day(i64::from(days), text);
                CellKind::Date
            }),
            DataType::Date64 => written!(Date64Type, |value: i64, text: &mut String| {
                day(value.div_euclid(86_400_000), text);
                CellKind::Date
            }),
            DataType::Timestamp(unit, zone) => {
                let has_zone = zone.is_some();
                in_unit!(
                    unit,
                    TimestampSecondType,
                    TimestampMillisecondType,
                    TimestampMicrosecondType,
                    TimestampNanosecondType,
                    |value, parts, text| moment(value, parts, has_zone, text)
                )
            }
            DataType::Time32(unit) => match unit {
                TimeUnit::Second => in_unit!(@ Time32SecondType, 1, span),
                _ => in_unit!(@ Time32MillisecondType, 1_000, span),
            },
            DataType::Time64(unit) => match unit {
                TimeUnit::Microsecond => in_unit!(@ Time64MicrosecondType, 1_000_000, span),
                _ => in_unit!(@ Time64NanosecondType, 1_000_000_000, span),
            },
            DataType::Duration(unit) => in_unit!(
                unit,
                DurationSecondType,
                DurationMillisecondType,
                DurationMicrosecondType,
                DurationNanosecondType,
                span
            ),
            DataType::Binary => {
                let values = array.as_binary::<i32>();
                Self::unless_null(array, move |row, text| bytes(values.value(row), text))
            }
            DataType::LargeBinary => {
                let values = array.as_binary::<i64>();
                Self::unless_null(array, move |row, text| bytes(values.value(row), text))
            }
            DataType::BinaryView => {
                let values = array.as_binary_view();
                Self::unless_null(array, move |row, text| bytes(values.value(row), text))
            }
            DataType::FixedSizeBinary(_) => {
                let values = array.as_fixed_size_binary();
                Self::unless_null(array, move |row, text| bytes(values.value(row), text))
            }
            DataType::Dictionary(..) => {
                let dictionary = array.as_any_dictionary();
                let keys = dictionary.normalized_keys();
                match Self::of(&**dictionary.values()) {
                    Self::Blank => Self::Blank,
                    Self::Texts(value) => Self::Texts(Box::new(move |row| {
                        if array.is_null(row) { None } else { value(keys[row]) }
                    })),
                    Self::Written(write) => {
                        Self::unless_null(array, move |row, text| write(keys[row], text))
                    }
                }
            }
            DataType::List(_)
            | DataType::LargeList(_)
            | DataType::FixedSizeList(..)
            | DataType::Struct(_)
            | DataType::Map(..) => Self::unless_null(array, move |row, text| {
                // Writing to a text can't fail.
                let _ = write!(text, "{}", value(array, row));
                CellKind::Text
            }),
            // Tables with other types are not opened.
            _ => Self::Blank,
        }
    }

    /// Whether cells can be made of a type's values.
    pub(super) fn are_known(stored: &DataType) -> bool {
        match stored {
            DataType::Interval(_)
            | DataType::Union(..)
            | DataType::ListView(_)
            | DataType::LargeListView(_)
            | DataType::RunEndEncoded(..) => false,
            DataType::Dictionary(_, of) => Self::are_known(of),
            DataType::List(of)
            | DataType::LargeList(of)
            | DataType::FixedSizeList(of, _)
            | DataType::Map(of, _) => Self::are_known(of.data_type()),
            DataType::Struct(fields) => {
                fields.iter().all(|field| Self::are_known(field.data_type()))
            }
            _ => true,
        }
    }

    fn texts(array: &'a dyn Array, value: impl Fn(usize) -> &'a str + 'a) -> Self {
        Self::Texts(Box::new(move |row| (!array.is_null(row)).then(|| value(row))))
    }

    fn unless_null(
        array: &'a dyn Array,
        write: impl Fn(usize, &mut String) -> CellKind + 'a,
    ) -> Self {
        Self::Written(Box::new(move |row, text| {
            if array.is_null(row) { CellKind::Unsaid } else { write(row, text) }
        }))
    }

    /// The same, but for rows where they are blank.
    pub(super) fn blank_where(self, is_blank: impl Fn(usize) -> bool + 'a) -> Self {
        match self {
            Self::Blank => Self::Blank,
            Self::Texts(value) => {
                Self::Texts(Box::new(move |row| if is_blank(row) { None } else { value(row) }))
            }
            Self::Written(write) => Self::Written(Box::new(move |row, text| {
                if is_blank(row) { CellKind::Unsaid } else { write(row, text) }
            })),
        }
    }

    /// The cell of a row, with room to write it in.
    pub(super) fn cell<'t>(&self, row: usize, room: &'t mut String) -> (&'t str, CellKind)
    where
        'a: 't,
    {
        room.clear();
        match self {
            Self::Blank => ("", CellKind::Unsaid),
            Self::Texts(value) => match value(row) {
                Some(text) => (text, CellKind::Text),
                None => ("", CellKind::Unsaid),
            },
            Self::Written(write) => {
                let kind = write(row, room);
                (room, kind)
            }
        }
    }
}

fn real<F>(value: F, text: &mut String) -> CellKind
where
    F: zmij::Float + std::fmt::Display + PartialEq + Default,
{
    if push_real(value, text) { CellKind::Number } else { CellKind::Text }
}

/// A whole number with its last `scale` digits behind the point, without needless zeros.
fn decimal(value: impl std::fmt::Display, scale: i8, text: &mut String) -> CellKind {
    let at = text.len();
    let _ = write!(text, "{value}");
    let Ok(scale) = usize::try_from(scale) else {
        if &text[at..] != "0" {
            text.extend(std::iter::repeat_n('0', usize::from(scale.unsigned_abs())));
        }
        return CellKind::Number;
    };
    let begin = at + usize::from(text[at..].starts_with('-'));
    while text.len() - begin <= scale {
        text.insert(begin, '0');
    }
    if scale > 0 {
        text.insert(text.len() - scale, '.');
        text.truncate(text.trim_end_matches('0').trim_end_matches('.').len());
    }
    CellKind::Number
}

/// The day so many days behind 1970-01-01, in the calendar of today for all times.
fn day(days: i64, text: &mut String) {
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
    two_digits(year / 100, text);
    two_digits(year % 100, text);
    text.push('-');
    two_digits(month, text);
    text.push('-');
    two_digits(day, text);
}

/// A number below 100.
fn two_digits(number: u64, text: &mut String) {
    text.push(char::from(b'0' + (number / 10 % 10) as u8));
    text.push(char::from(b'0' + (number % 10) as u8));
}

fn moment(value: i64, parts: i64, has_zone: bool, text: &mut String) -> CellKind {
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
fn span(value: i64, parts: i64, text: &mut String) -> CellKind {
    if value < 0 {
        text.push('-');
    }
    // The one value that has no positive twin is as good as none.
    clock(value.checked_abs().unwrap_or(i64::MAX), parts, text);
    CellKind::Time
}

fn clock(value: i64, parts: i64, text: &mut String) {
    let (seconds, rest) = ((value / parts).unsigned_abs(), value % parts);
    match seconds / 3600 {
        hours @ ..100 => two_digits(hours, text),
        hours => push_integer(hours, text),
    }
    text.push(':');
    two_digits(seconds / 60 % 60, text);
    text.push(':');
    two_digits(seconds % 60, text);
    if rest > 0 {
        let digits = parts.ilog10() as usize;
        let _ = write!(text, ".{rest:0digits$}");
        text.truncate(text.trim_end_matches('0').len());
    }
}

fn bytes(bytes: &[u8], text: &mut String) -> CellKind {
    let _ = bytes.iter().try_for_each(|byte| write!(text, "{byte:02x}"));
    CellKind::Text
}

/// A value with values within it, as JSON.
fn value(array: &dyn Array, row: usize) -> Value {
    if array.is_null(row) {
        return Value::Null;
    }
    let all = |array: &dyn Array| (0..array.len()).map(|row| value(array, row)).collect();
    match array.data_type() {
        DataType::List(_) => Value::Array(all(&*array.as_list::<i32>().value(row))),
        DataType::LargeList(_) => Value::Array(all(&*array.as_list::<i64>().value(row))),
        DataType::FixedSizeList(..) => Value::Array(all(&*array.as_fixed_size_list().value(row))),
        DataType::Struct(fields) => {
            let within = array.as_struct();
            let named = fields.iter().zip(within.columns());
            named.map(|(field, array)| (field.name().clone(), value(array, row))).collect()
        }
        DataType::Map(..) => {
            let entries = array.as_map().value(row);
            let (keys, values) = (entries.column(0), entries.column(1));
            let named = (0..entries.len()).map(|row| {
                let mut room = String::new();
                (Cells::of(keys).cell(row, &mut room).0.to_owned(), value(values, row))
            });
            named.collect()
        }
        _ => {
            let mut room = String::new();
            let cells = Cells::of(array);
            let (text, kind) = cells.cell(row, &mut room);
            let bare = matches!(kind, CellKind::Number | CellKind::Truth);
            let bare = bare.then(|| serde_json::from_str(text).ok()).flatten();
            bare.unwrap_or_else(|| Value::from(text))
        }
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
