//! The canonical texts of a server's values.
//!
//! A server writes values as texts in its own forms: they become the canonical texts of all formats.

use std::fmt::Write;

use gather_keys_core::sql::ValueType;
use gather_keys_core::table::CellKind;
use postgres::types::{Kind, Type};

use gather_keys_core::value::number::push_real;

/// The form of the texts of a column's type.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Spelling {
    /// Text, as it is.
    Text,
    /// A whole number, as it is.
    Integer,
    /// A number with needless zeros.
    Decimal,
    /// A number that may have an exponent, of single precision or of double.
    Real(bool),
    /// `t` or `f`.
    Truth,
    /// A day.
    Day,
    /// A day and a time, with a zone or without.
    Moment(bool),
    /// A time of a day.
    Time,
    /// A span of time.
    Span,
    /// Bytes.
    Bytes,
}

/// The type of a column's values, as statements make texts of them; `bytewise` says whether its texts are equal only if their
/// bytes are.
pub(super) fn value_type(kind: &Type, bytewise: bool) -> ValueType {
    match (Spelling::of(kind), kind.kind()) {
        (_, Kind::Domain(of)) => value_type(of, bytewise),
        (Spelling::Text, _) if matches!(*kind, Type::TEXT | Type::VARCHAR) => {
            ValueType::Text { bytewise }
        }
        (Spelling::Text, _) => ValueType::Other,
        (Spelling::Integer, _) => ValueType::Integer,
        (Spelling::Decimal, _) => ValueType::Decimal,
        (Spelling::Real(_), _) => ValueType::Real,
        (Spelling::Truth, _) => ValueType::Truth,
        (Spelling::Day, _) => ValueType::Day,
        (Spelling::Moment(has_zone), _) => ValueType::Moment { has_zone },
        (Spelling::Time, _) => ValueType::Time,
        (Spelling::Span, _) => ValueType::Span,
        (Spelling::Bytes, _) => ValueType::Bytes,
    }
}

impl Spelling {
    /// The form of a column's type.
    pub(super) fn of(kind: &Type) -> Self {
        match *kind {
            Type::INT2 | Type::INT4 | Type::INT8 | Type::OID => Self::Integer,
            Type::NUMERIC => Self::Decimal,
            Type::FLOAT4 => Self::Real(true),
            Type::FLOAT8 => Self::Real(false),
            Type::BOOL => Self::Truth,
            Type::DATE => Self::Day,
            Type::TIMESTAMP => Self::Moment(false),
            Type::TIMESTAMPTZ => Self::Moment(true),
            Type::TIME => Self::Time,
            Type::INTERVAL => Self::Span,
            Type::BYTEA => Self::Bytes,
            _ => match kind.kind() {
                Kind::Domain(of) => Self::of(of),
                _ => Self::Text,
            },
        }
    }

    /// The cell of a value: its text as the server writes it, or another in `room`. One that is not as
    /// others of its type are, such as an infinite date, is text.
    pub(super) fn cell<'t>(self, text: &'t str, room: &'t mut String) -> (&'t str, CellKind) {
        if text.is_empty() {
            return (text, CellKind::Untyped);
        }
        room.clear();
        let written = match self {
            Self::Integer => return (text, CellKind::Number),
            Self::Decimal => text.ends_with(|sign: char| sign.is_ascii_digit()).then(|| {
                let has_point = text.contains('.');
                let text = if has_point { text.trim_end_matches('0') } else { text };
                room.push_str(text.strip_suffix('.').unwrap_or(text));
                CellKind::Number
            }),
            // A server writes the shortest decimal, except for very large and very small numbers.
            Self::Real(_) if is_plain(text) => return (text, CellKind::Number),
            Self::Real(is_single) => real(text, is_single, room),
            Self::Truth => {
                room.push_str(if text == "t" { "true" } else { "false" });
                Some(CellKind::Truth)
            }
            Self::Day if is_day(text) => return (text, CellKind::Date),
            Self::Moment(has_zone) => moment(text, has_zone, room),
            Self::Time => return (text, CellKind::Time),
            Self::Span => span(text, room),
            Self::Bytes => {
                room.push_str(text.strip_prefix("\\x").unwrap_or(text));
                Some(CellKind::Text)
            }
            Self::Text | Self::Day => None,
        };
        match written {
            Some(kind) => (room, kind),
            None => (text, CellKind::Text),
        }
    }
}

/// Whether a text is a day of a year of four digits.
fn is_day(text: &str) -> bool {
    text.len() == 10 && text.split('-').count() == 3
}

/// Whether a number is written without an exponent, and is not the other zero.
fn is_plain(text: &str) -> bool {
    text != "-0" && text.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'.' | b'-'))
}

fn real(text: &str, is_single: bool, room: &mut String) -> Option<CellKind> {
    let is_number = if is_single {
        push_real(text.parse::<f32>().ok()?, room)
    } else {
        push_real(text.parse::<f64>().ok()?, room)
    };
    is_number.then_some(CellKind::Number)
}

fn moment(text: &str, has_zone: bool, room: &mut String) -> Option<CellKind> {
    let (day, time) = text.split_once(' ').filter(|(day, _)| is_day(day))?;
    let time = if has_zone { time.strip_suffix("+00")? } else { time };
    let zone = if has_zone { "Z" } else { "" };
    let is_time = time.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b':' | b'.'));
    is_time.then(|| {
        let _ = write!(room, "{day}T{time}{zone}");
        CellKind::Date
    })
}

/// Hours, minutes and seconds, of as many days as there are; months have no length.
fn span(text: &str, room: &mut String) -> Option<CellKind> {
    let (days, time) = match text.split_once(" day") {
        Some((days, rest)) => (days.parse::<i64>().ok()?, rest.trim_start_matches('s').trim()),
        None => (0, text),
    };
    let (sign, time) = match time.strip_prefix('-') {
        Some(time) => ("-", time),
        None => ("", time),
    };
    // A span of days that goes one way and of hours that goes the other stays as the server has it.
    if days != 0 && (days < 0) != (sign == "-") && !time.is_empty() {
        return None;
    }
    let time = if time.is_empty() { "00:00:00" } else { time };
    let sign = if days < 0 { "-" } else { sign };
    let (hours, rest) = time.split_once(':')?;
    let hours = hours.parse::<i64>().ok()? + days.abs() * 24;
    let _ = write!(room, "{sign}{hours:02}:{rest}");
    Some(CellKind::Time)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_have_one_text() {
        use CellKind::{Date, Number, Text, Time, Truth};
        let mut room = String::new();
        for (spelling, text, want, kind) in [
            (Spelling::Decimal, "12.50", "12.5", Number),
            (Spelling::Decimal, "100", "100", Number),
            (Spelling::Decimal, "100.00", "100", Number),
            (Spelling::Decimal, "NaN", "NaN", Text),
            (Spelling::Real(false), "1e-07", "0.0000001", Number),
            (Spelling::Real(false), "-0", "0", Number),
            (Spelling::Real(true), "0.1", "0.1", Number),
            (Spelling::Real(false), "Infinity", "Infinity", Text),
            (Spelling::Truth, "f", "false", Truth),
            (Spelling::Day, "1900-02-28", "1900-02-28", Date),
            (Spelling::Day, "infinity", "infinity", Text),
            (Spelling::Day, "0044-03-15 BC", "0044-03-15 BC", Text),
            (Spelling::Moment(false), "2026-05-19 10:20:00.5", "2026-05-19T10:20:00.5", Date),
            (Spelling::Moment(true), "2026-05-19 10:20:00+00", "2026-05-19T10:20:00Z", Date),
            (Spelling::Moment(false), "0044-03-15 10:20:00 BC", "0044-03-15 10:20:00 BC", Text),
            (Spelling::Time, "10:20:00", "10:20:00", Time),
            (Spelling::Span, "26:30:00", "26:30:00", Time),
            (Spelling::Span, "1 day 02:30:00", "26:30:00", Time),
            (Spelling::Span, "-2 days -00:00:00.5", "-48:00:00.5", Time),
            (Spelling::Span, "2 days", "48:00:00", Time),
            (Spelling::Span, "2 days -01:00:00", "2 days -01:00:00", Text),
            (Spelling::Span, "1 mon", "1 mon", Text),
            (Spelling::Bytes, "\\x00ff", "00ff", Text),
            (Spelling::Text, "007", "007", Text),
            (Spelling::Text, "", "", CellKind::Untyped),
        ] {
            assert_eq!(spelling.cell(text, &mut room), (want, kind), "{text}");
        }
    }
}
