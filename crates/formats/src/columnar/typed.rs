//! Texts as the values of a type.

use std::sync::Arc;

use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Decimal32Type, Decimal64Type, Decimal128Type, Float32Type,
    Float64Type, Int8Type, Int16Type, Int32Type, Int64Type, Time32MillisecondType,
    Time32SecondType, Time64MicrosecondType, Time64NanosecondType, TimestampMicrosecondType,
    TimestampMillisecondType, TimestampNanosecondType, TimestampSecondType, UInt8Type, UInt16Type,
    UInt32Type, UInt64Type,
};
use arrow_array::{
    ArrayRef, BooleanArray, LargeStringArray, PrimitiveArray, StringArray, StringViewArray,
};
use arrow_schema::{DataType, TimeUnit};
use jiff::civil::{Date, Time, date};

/// Texts as values of a type; `None` when some is none of it, or the type is not one that is kept. Whether
/// a value gives its text again is for others to see.
pub(super) fn typed(texts: &StringArray, to: &DataType) -> Option<ArrayRef> {
    fn all<T: ArrowPrimitiveType>(
        texts: &StringArray,
        to: &DataType,
        value: impl Fn(&str) -> Option<T::Native>,
    ) -> Option<ArrayRef> {
        let values =
            texts.iter().map(|text| text.map(&value).map_or(Some(None), |value| value.map(Some)));
        let values: Vec<Option<T::Native>> = values.collect::<Option<_>>()?;
        let values = PrimitiveArray::<T>::from_iter(values);
        Some(Arc::new(values.with_data_type(to.clone())))
    }
    macro_rules! parsed {
        ($kind:ty) => {
            all::<$kind>(texts, to, |text| text.parse().ok())
        };
    }
    macro_rules! in_unit {
        ($kind:ty, $parts:expr, $value:expr) => {
            all::<$kind>(texts, to, |text| $value(text, $parts)?.try_into().ok())
        };
    }
    let has_zone = matches!(to, DataType::Timestamp(_, Some(_)));
    let at = |text: &str, parts: i64| moment(text, has_zone, parts);
    match to {
        DataType::Utf8 => Some(Arc::new(texts.clone())),
        DataType::LargeUtf8 => Some(Arc::new(texts.iter().collect::<LargeStringArray>())),
        DataType::Utf8View => Some(Arc::new(texts.iter().collect::<StringViewArray>())),
        DataType::Boolean => {
            let truth = |text: Option<&str>| match text {
                None => Some(None),
                Some(text) => text.parse().ok().map(Some),
            };
            let values: Vec<Option<bool>> = texts.iter().map(truth).collect::<Option<_>>()?;
            Some(Arc::new(BooleanArray::from(values)))
        }
        DataType::Int8 => parsed!(Int8Type),
        DataType::Int16 => parsed!(Int16Type),
        DataType::Int32 => parsed!(Int32Type),
        DataType::Int64 => parsed!(Int64Type),
        DataType::UInt8 => parsed!(UInt8Type),
        DataType::UInt16 => parsed!(UInt16Type),
        DataType::UInt32 => parsed!(UInt32Type),
        DataType::UInt64 => parsed!(UInt64Type),
        DataType::Float32 => parsed!(Float32Type),
        DataType::Float64 => parsed!(Float64Type),
        DataType::Decimal32(digits, scale) => {
            all::<Decimal32Type>(texts, to, |text| decimal(text, *digits, *scale)?.try_into().ok())
        }
        DataType::Decimal64(digits, scale) => {
            all::<Decimal64Type>(texts, to, |text| decimal(text, *digits, *scale)?.try_into().ok())
        }
        DataType::Decimal128(digits, scale) => {
            all::<Decimal128Type>(texts, to, |text| decimal(text, *digits, *scale))
        }
        DataType::Date32 => all::<Date32Type>(texts, to, |text| days(text)?.try_into().ok()),
        DataType::Timestamp(TimeUnit::Second, _) => in_unit!(TimestampSecondType, 1, at),
        DataType::Timestamp(TimeUnit::Millisecond, _) => {
            in_unit!(TimestampMillisecondType, 1_000, at)
        }
        DataType::Timestamp(TimeUnit::Microsecond, _) => {
            in_unit!(TimestampMicrosecondType, 1_000_000, at)
        }
        DataType::Timestamp(TimeUnit::Nanosecond, _) => {
            in_unit!(TimestampNanosecondType, 1_000_000_000, at)
        }
        DataType::Time32(TimeUnit::Second) => in_unit!(Time32SecondType, 1, clock),
        DataType::Time32(_) => in_unit!(Time32MillisecondType, 1_000, clock),
        DataType::Time64(TimeUnit::Microsecond) => {
            in_unit!(Time64MicrosecondType, 1_000_000, clock)
        }
        DataType::Time64(_) => in_unit!(Time64NanosecondType, 1_000_000_000, clock),
        _ => None,
    }
}

/// A decimal of `digits` digits, of which the last `scale` are after the point.
fn decimal(text: &str, digits: u8, scale: i8) -> Option<i128> {
    let (whole, behind) = text.split_once('.').unwrap_or((text, ""));
    let scale = usize::try_from(scale).ok()?;
    let zeros = scale.checked_sub(behind.len())?;
    let number: i128 = format!("{whole}{behind}{}", "0".repeat(zeros)).parse().ok()?;
    let most = 10i128.checked_pow(u32::from(digits)).unwrap_or(i128::MAX);
    (number.abs() < most).then_some(number)
}

/// How many days a day is after 1970-01-01.
fn days(text: &str) -> Option<i64> {
    const EPOCH: Date = date(1970, 1, 1);
    let day: Date = text.parse().ok().filter(|_| text.len() == 10)?;
    Some(i64::from(EPOCH.until(day).ok()?.get_days()))
}

/// How many parts of a second a moment is after the first one of 1970; a day alone is its midnight.
fn moment(text: &str, has_zone: bool, parts: i64) -> Option<i64> {
    let text = if has_zone { text.strip_suffix('Z')? } else { text };
    let (day, time) = text.split_once('T').unwrap_or((text, "00:00:00"));
    days(day)?.checked_mul(86_400)?.checked_mul(parts)?.checked_add(clock(time, parts)?)
}

/// How many units of a second a time is after midnight.
fn clock(text: &str, parts: i64) -> Option<i64> {
    let time: Time = text.parse().ok().filter(|_| text.len() >= 8)?;
    let nanoseconds = i64::from(time.subsec_nanosecond());
    let seconds =
        i64::from(time.hour()) * 3600 + i64::from(time.minute()) * 60 + i64::from(time.second());
    let part = 1_000_000_000 / parts;
    (nanoseconds % part == 0).then(|| seconds * parts + nanoseconds / part)
}
