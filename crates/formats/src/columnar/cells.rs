//! The canonical texts of typed columns.
//!
//! A number is its shortest exact decimal, a date ISO 8601, a moment with a time zone the same in
//! UTC with a `Z`, what is true `true`, bytes hexadecimal digits; lists and what else has values
//! within it are JSON. What is not there is blank.

use std::fmt::Write;
use std::ops::Range;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Date64Type, Decimal32Type, Decimal64Type, Decimal128Type, Decimal256Type,
    DurationMicrosecondType, DurationMillisecondType, DurationNanosecondType, DurationSecondType,
    Float16Type, Float32Type, Float64Type, Int8Type, Int16Type, Int32Type, Int64Type,
    Time32MillisecondType, Time32SecondType, Time64MicrosecondType, Time64NanosecondType,
    TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType,
    TimestampSecondType, UInt8Type, UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{Array, GenericStringArray, OffsetSizeTrait};
use arrow_buffer::NullBuffer;
use arrow_schema::{DataType, TimeUnit};
use gather_keys_core::table::{AddedText, CellKind, ColumnCells};
use serde_json::Value;

use super::repeats::{Bits, Repeats};
use gather_keys_core::value::moment::{push_day, push_duration, push_moment};
use gather_keys_core::value::number::{push_integer, push_real};

/// How many bytes all values of a dictionary may have for each row, to be added whole.
const EACH: usize = 32;

/// The cells of a column of a batch.
pub(super) enum Cells<'a> {
    /// All are blank.
    Blank,
    /// Parts of a text; where there is none, the cell is blank.
    Parts(&'a str, Box<dyn Places + 'a>),
    /// The text that is written for each row; without a kind, none is written and the cell is blank.
    Written(Box<dyn Writes + 'a>),
}

/// Tells the part of a text that the cell of a row is.
pub(super) trait Places {
    fn place(&self, row: usize) -> Option<Range<usize>>;

    /// Sets cells of a column, which are parts of a text that was added.
    fn say_all(&self, rows: usize, text: AddedText, column: &mut ColumnCells<'_>);
}

impl<F: Fn(usize) -> Option<Range<usize>>> Places for F {
    fn place(&self, row: usize) -> Option<Range<usize>> {
        self(row)
    }

    fn say_all(&self, rows: usize, text: AddedText, column: &mut ColumnCells<'_>) {
        for row in 0..rows {
            match self(row) {
                Some(part) => column.push_part(text, part, CellKind::Text),
                None => column.push_blank(),
            }
        }
    }
}

/// Writes the cell of a row, and gives its kind.
pub(super) trait Writes {
    fn write(&self, row: usize, text: &mut String) -> CellKind;

    /// Sets cells of a column.
    fn say_all(&self, rows: usize, column: &mut ColumnCells<'_>);
}

impl<F: Fn(usize, &mut String) -> CellKind> Writes for F {
    fn write(&self, row: usize, text: &mut String) -> CellKind {
        self(row, text)
    }

    fn say_all(&self, rows: usize, column: &mut ColumnCells<'_>) {
        for row in 0..rows {
            column.push_by(|text| self(row, text));
        }
    }
}

impl<'a> Cells<'a> {
    /// The cells of a column.
    // An arm for each type.
    #[allow(clippy::too_many_lines)]
    pub(super) fn of(array: &'a dyn Array) -> Self {
        macro_rules! written {
            ($kind:ty, $write:expr) => {{
                let values = array.as_primitive::<$kind>();
                let (of, nulls) = (&values.values()[..], values.nulls());
                Self::Written(Box::new(Values { of, nulls, write: $write }))
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
        macro_rules! decimal {
            ($kind:ty, $scale:expr) => {{
                let scale = *$scale;
                written!($kind, move |value, text: &mut String| decimal(value, scale, text))
            }};
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
            (@ $kind:ty, $units:expr, $write:expr) => {
                written!($kind, move |value, text: &mut String| {
                    $write(i64::from(value), $units, text)
                })
            };
        }
        match array.data_type() {
            DataType::Utf8 => Self::texts(array.as_string::<i32>()),
            DataType::LargeUtf8 => Self::texts(array.as_string::<i64>()),
            DataType::Utf8View => {
                let values = array.as_string_view();
                Self::unless_null(array, |row, text| {
                    text.push_str(values.value(row));
                    CellKind::Text
                })
            }
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
            DataType::Decimal32(_, scale) => decimal!(Decimal32Type, scale),
            DataType::Decimal64(_, scale) => decimal!(Decimal64Type, scale),
            DataType::Decimal128(_, scale) => decimal!(Decimal128Type, scale),
            DataType::Decimal256(_, scale) => decimal!(Decimal256Type, scale),
            DataType::Date32 => written!(Date32Type, |days, text: &mut String| {
                push_day(i64::from(days), text);
                CellKind::Date
            }),
            DataType::Date64 => written!(Date64Type, |value: i64, text: &mut String| {
                push_day(value.div_euclid(86_400_000), text);
                CellKind::Date
            }),
            DataType::Timestamp(unit, zone) => {
                let is_utc = zone.is_some();
                in_unit!(
                    unit,
                    TimestampSecondType,
                    TimestampMillisecondType,
                    TimestampMicrosecondType,
                    TimestampNanosecondType,
                    |value, units, text: &mut String| {
                        push_moment(value, units, is_utc, text);
                        CellKind::Date
                    }
                )
            }
            DataType::Time32(unit) => match unit {
                TimeUnit::Second => in_unit!(@ Time32SecondType, 1, duration),
                _ => in_unit!(@ Time32MillisecondType, 1_000, duration),
            },
            DataType::Time64(unit) => match unit {
                TimeUnit::Microsecond => in_unit!(@ Time64MicrosecondType, 1_000_000, duration),
                _ => in_unit!(@ Time64NanosecondType, 1_000_000_000, duration),
            },
            DataType::Duration(unit) => in_unit!(
                unit,
                DurationSecondType,
                DurationMillisecondType,
                DurationMicrosecondType,
                DurationNanosecondType,
                duration
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
                let nulls = array.nulls();
                match Self::of(&**dictionary.values()) {
                    Self::Blank => Self::Blank,
                    // Short ones are worth adding whole, whatever of them comes.
                    Self::Parts(text, places) if text.len() <= EACH * array.len() => {
                        Self::Parts(
                            text,
                            Box::new(move |row| {
                                if is_null(nulls, row) { None } else { places.place(keys[row]) }
                            }),
                        )
                    }
                    values => {
                        Self::unless_null(array, move |row, text| values.write(keys[row], text))
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

    fn texts<O: OffsetSizeTrait>(array: &'a GenericStringArray<O>) -> Self {
        let (offsets, nulls) = (array.value_offsets(), array.nulls());
        let at = move |nth: usize| offsets[nth].as_usize();
        let (first, last) = (at(0), at(array.len()));
        match array.value_data().get(first..last).map(str::from_utf8) {
            Some(Ok(text)) => {
                let place = move |row| {
                    if is_null(nulls, row) {
                        None
                    } else {
                        Some(at(row) - first..at(row + 1) - first)
                    }
                };
                Self::Parts(text, Box::new(place))
            }
            // The library has seen to it that each is text.
            _ => Self::unless_null(array, |row, text| {
                text.push_str(array.value(row));
                CellKind::Text
            }),
        }
    }

    fn unless_null(
        array: &'a dyn Array,
        write: impl Fn(usize, &mut String) -> CellKind + 'a,
    ) -> Self {
        let nulls = array.nulls();
        Self::Written(Box::new(move |row, text: &mut String| {
            if is_null(nulls, row) { CellKind::Untyped } else { write(row, text) }
        }))
    }

    /// The cells, except for rows where they are blank.
    pub(super) fn blank_where(self, is_blank: impl Fn(usize) -> bool + 'a) -> Self {
        match self {
            Self::Blank => Self::Blank,
            Self::Parts(text, places) => Self::Parts(
                text,
                Box::new(move |row| if is_blank(row) { None } else { places.place(row) }),
            ),
            Self::Written(cells) => Self::Written(Box::new(move |row, text: &mut String| {
                if is_blank(row) { CellKind::Untyped } else { cells.write(row, text) }
            })),
        }
    }

    /// Writes the cell of a row, and gives its kind.
    pub(super) fn write(&self, row: usize, text: &mut String) -> CellKind {
        match self {
            Self::Blank => CellKind::Untyped,
            Self::Parts(all, places) => match places.place(row) {
                Some(part) => {
                    text.push_str(&all[part]);
                    CellKind::Text
                }
                None => CellKind::Untyped,
            },
            Self::Written(cells) => cells.write(row, text),
        }
    }

    /// Sets cells of a column.
    pub(super) fn say_all(&self, rows: usize, column: &mut ColumnCells<'_>) {
        match self {
            Self::Blank => {}
            Self::Parts(text, places) => {
                if let Some(text) = column.add_text(text) {
                    places.say_all(rows, text, column);
                }
            }
            Self::Written(cells) => cells.say_all(rows, column),
        }
    }
}

/// Values of which cells are written, each for itself.
struct Values<'a, T, W> {
    of: &'a [T],
    nulls: Option<&'a NullBuffer>,
    write: W,
}

impl<T: Bits, W: Fn(T, &mut String) -> CellKind> Writes for Values<'_, T, W> {
    fn write(&self, row: usize, text: &mut String) -> CellKind {
        if is_null(self.nulls, row) {
            return CellKind::Untyped;
        }
        (self.write)(self.of[row], text)
    }

    fn say_all(&self, rows: usize, column: &mut ColumnCells<'_>) {
        let mut repeats = Repeats::new();
        for (row, &value) in self.of.iter().enumerate().take(rows) {
            if is_null(self.nulls, row) {
                column.push_blank();
            } else {
                repeats.say(value, column, |text| (self.write)(value, text));
            }
        }
    }
}

/// Whether a row has no value.
#[inline]
fn is_null(nulls: Option<&NullBuffer>, row: usize) -> bool {
    nulls.is_some_and(|nulls| nulls.is_null(row))
}

fn real<F>(value: F, text: &mut String) -> CellKind
where
    F: zmij::Float + std::fmt::Display + PartialEq + Default,
{
    if push_real(value, text) { CellKind::Number } else { CellKind::Text }
}

/// Writes a duration of `value` units, of which a second has `units`.
fn duration(value: i64, units: i64, text: &mut String) -> CellKind {
    push_duration(value, units, text);
    CellKind::Time
}

/// A whole number with its last `scale` digits after the point, without needless zeros.
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
                let mut key = String::new();
                Cells::of(keys).write(row, &mut key);
                (key, value(values, row))
            });
            named.collect()
        }
        _ => {
            let mut text = String::new();
            let kind = Cells::of(array).write(row, &mut text);
            let bare = matches!(kind, CellKind::Number | CellKind::Truth);
            let bare = bare.then(|| serde_json::from_str(&text).ok()).flatten();
            bare.unwrap_or_else(|| Value::from(text))
        }
    }
}
