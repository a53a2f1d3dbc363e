//! Cells of stored tables: the type of a value on a server, and the text that it has as a cell.
//!
//! A reader of a table gives every value one canonical text. The expressions here make the same text on the server,
//! so that keys are equal there exactly when they are equal here.

use crate::value::number::push_real;
use crate::value::{Point, Scale};

/// The type of a stored value, by the text that it has as a cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ValueType {
    /// Text. Whether the server holds two texts equal only if their bytes are.
    Text {
        /// Whether it compares bytes.
        bytewise: bool,
    },
    /// A whole number.
    Integer,
    /// A decimal number.
    Decimal,
    /// A number that may have an exponent.
    Real,
    /// `true` or `false`.
    Truth,
    /// A day.
    Day,
    /// A day and a time; with a zone or without.
    Moment {
        /// Whether it has a zone.
        has_zone: bool,
    },
    /// A time of a day.
    Time,
    /// A span of time.
    Span,
    /// Bytes.
    Bytes,
    /// Any other, as the server writes it.
    Other,
}

impl ValueType {
    /// Whether of several values one is the least.
    pub(super) fn has_least(self) -> bool {
        !matches!(self, Self::Truth | Self::Bytes | Self::Other)
    }

    /// Whether values that the server holds equal have one text.
    pub(super) fn groups_like_text(self) -> bool {
        !matches!(self, Self::Text { bytewise: false } | Self::Span | Self::Other)
    }

    /// The canonical text of a value that an expression gives; null, or a blank text, for none. Dates, spans and bytes
    /// are as in a session with ISO dates, UTC, spans in the server's own style and bytes in hexadecimal.
    ///
    /// ```
    /// use gather_keys_core::sql::ValueType;
    ///
    /// assert_eq!(ValueType::Decimal.text("m.kg"), "trim_scale(m.kg)::text");
    /// ```
    pub fn text(self, value: &str) -> String {
        match self {
            Self::Text { bytewise: true } => value.to_owned(),
            Self::Text { bytewise: false } => format!("({value})::text collate \"C\""),
            Self::Integer | Self::Day | Self::Time => format!("({value})::text"),
            Self::Decimal => format!("trim_scale({value})::text"),
            Self::Real => format!(
                "case when ({value}) = 0 then '0' when ({value})::text like '%e%' \
                 then trim_scale(({value})::text::numeric)::text else ({value})::text end"
            ),
            Self::Truth => {
                format!("case ({value}) when true then 'true' when false then 'false' end")
            }
            Self::Moment { has_zone: false } => format!(
                "regexp_replace(({value})::text, '^(\\d{{4}}-\\d\\d-\\d\\d) ([0-9:.]+)$', '\\1T\\2')"
            ),
            Self::Moment { has_zone: true } => format!(
                "regexp_replace(({value})::text, '^(\\d{{4}}-\\d\\d-\\d\\d) ([0-9:.]+)[+]00$', '\\1T\\2Z')"
            ),
            Self::Span => span(value),
            Self::Bytes => format!("encode({value}, 'hex')"),
            Self::Other => format!("concat({value})"),
        }
    }
}

/// Hours, minutes and seconds, of as many days as there are. Months have no length, and a span of days that goes one way
/// and of hours that goes the other stays as the server has it.
fn span(value: &str) -> String {
    let days = format!("extract(day from {value})");
    let hours = format!("extract(hour from {value})");
    let time = format!("(({value}) - date_trunc('day', {value}))");
    let zero = "interval '0'";
    format!(
        "case when ({value})::text ~ '(mon|year)' or ({days} <> 0 and {time} <> {zero} \
         and ({days} < 0) <> ({time} < {zero})) then ({value})::text \
         else case when {days} < 0 or {time} < {zero} then '-' else '' end \
         || to_char(abs({days}) * 24 + abs({hours}), case when abs({days}) * 24 + abs({hours}) < 100 \
         then 'FM00' else 'FM999999999999' end) \
         || substring(case when {time} < {zero} then -{time} else {time} end::text from ':.*$') end"
    )
}

/// A cell of a row, as an expression.
#[derive(Debug, Clone)]
pub(super) struct Cell {
    /// The value.
    pub(super) sql: String,
    pub(super) value: ValueType,
    /// The type that a column of such values is declared with.
    pub(super) declared: String,
}

impl Cell {
    /// A cell of text that is made, of any bytes.
    pub(super) fn of_text(sql: String) -> Self {
        Self { sql, value: ValueType::Text { bytewise: true }, declared: "text".to_owned() }
    }

    /// Its canonical text; blank where there is no value.
    pub(super) fn text(&self) -> String {
        match self.value {
            ValueType::Other => self.value.text(&self.sql),
            _ => format!("coalesce({}, '')", self.value.text(&self.sql)),
        }
    }

    /// Whether values are equal exactly when their texts are, for a cell of either.
    pub(super) fn compares_like(&self, other: &Self) -> bool {
        matches!(
            (self.value, other.value),
            (ValueType::Integer, ValueType::Integer)
                | (ValueType::Text { bytewise: true }, ValueType::Text { bytewise: true })
        )
    }

    /// Whether a text is that of a value of the type that it is declared with, so that nothing of it is lost there.
    pub(super) fn takes(&self, text: &str) -> bool {
        let is_number = |number: Option<String>| number.as_deref() == Some(text);
        let (kind, limits) = match self.declared.split_once('(') {
            Some((kind, limits)) => (kind, Some(limits.trim_end_matches(')'))),
            None => (&self.declared[..], None),
        };
        let mut limits = limits.into_iter().flat_map(|limits| limits.split(','));
        let mut limit = || limits.next().and_then(|limit| limit.trim().parse::<usize>().ok());
        text.is_empty()
            || match (self.value, kind) {
                (ValueType::Integer, "smallint") => {
                    is_number(text.parse().ok().map(|one: i16| one.to_string()))
                }
                (ValueType::Integer, "integer") => {
                    is_number(text.parse().ok().map(|one: i32| one.to_string()))
                }
                (ValueType::Integer, "bigint") => {
                    is_number(text.parse().ok().map(|one: i64| one.to_string()))
                }
                (ValueType::Decimal, "numeric") => {
                    let (precision, scale) = (limit(), limit());
                    is_decimal(text, precision, scale)
                }
                (ValueType::Real, "double precision") => {
                    is_number(text.parse().ok().and_then(real))
                }
                (ValueType::Text { .. }, "text") => true,
                (ValueType::Text { .. }, "character varying") => {
                    limit().is_none_or(|most| text.chars().count() <= most)
                }
                (ValueType::Truth, "boolean") => matches!(text, "true" | "false"),
                (ValueType::Day, "date") => {
                    let is_day = |point: Point| point.scale() == Scale::Civil;
                    text.len() == 10
                        && text.as_bytes()[4] == b'-'
                        && Point::of(text).is_some_and(is_day)
                }
                _ => false,
            }
    }

    /// Whether it is blank, where it is compared by its value.
    pub(super) fn is_blank(&self) -> String {
        match self.value {
            ValueType::Integer => format!("{} is null", self.sql),
            _ => format!("({0} is null or {1})", self.sql, super::words::is_blank(&self.sql)),
        }
    }
}

/// The text of a number that may have an exponent.
fn real(number: f64) -> Option<String> {
    let mut text = String::new();
    push_real(number, &mut text).then_some(text)
}

/// Whether a text is a decimal number as cells have it, of at most this many digits, and this many of them after the point.
fn is_decimal(text: &str, precision: Option<usize>, scale: Option<usize>) -> bool {
    let number = text.strip_prefix('-').unwrap_or(text);
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    let are_digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    let (scale, has_point) = (precision.map(|_| scale.unwrap_or_default()), number.contains('.'));
    let most_whole = precision.zip(scale).map(|(all, after)| all.saturating_sub(after));
    are_digits(whole)
        && are_digits(fraction)
        && !whole.is_empty()
        && (whole == "0" || !whole.starts_with('0'))
        && has_point != (fraction.is_empty() || fraction.ends_with('0'))
        && text != "-0"
        && scale.is_none_or(|most| fraction.len() <= most)
        && most_whole.is_none_or(|most| whole == "0" || whole.len() <= most)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A column keeps its type only where nothing of a text is lost in it.
    #[test]
    fn types_take_the_texts_of_their_values() {
        let text = ValueType::Text { bytewise: true };
        for (value, declared, taken, refused) in [
            (
                ValueType::Integer,
                "smallint",
                &["-4", "32767", ""][..],
                &["32768", "+4", "04", "4.0", "x"][..],
            ),
            (ValueType::Integer, "integer", &["2147483647"], &["2147483648", " 1"]),
            (ValueType::Integer, "bigint", &["-9223372036854775808"], &["9223372036854775808"]),
            (
                ValueType::Decimal,
                "numeric",
                &["12.5", "-0.001", "0"],
                &["12.50", "1e3", "-0", ".5", "5.", "01", "1,5", "NaN"],
            ),
            (
                ValueType::Decimal,
                "numeric(6,2)",
                &["1234.56", "-0.5"],
                &["12345", "1.234", "12345.6"],
            ),
            (ValueType::Decimal, "numeric(3)", &["123"], &["1234", "1.5"]),
            (
                ValueType::Real,
                "double precision",
                &["0.1", "12.5", "-3"],
                &["0.10", "1e3", "0.1234567890123456789", "inf"],
            ),
            (ValueType::Real, "real", &[""], &["0.1"]),
            (text, "text", &["x", " "], &[]),
            (text, "character varying(3)", &["abc", "äöü"], &["abcd"]),
            (text, "character(3)", &[""], &["abc"]),
            (ValueType::Truth, "boolean", &["true", "false"], &["t", "TRUE"]),
            (
                ValueType::Day,
                "date",
                &["2026-02-28", "2024-02-29"],
                &["2026-02-29", "2026-2-3", "28.02.2026", "infinity"],
            ),
            (ValueType::Time, "time", &[""], &["10:20:00"]),
        ] {
            let cell = Cell { sql: "m.c".to_owned(), value, declared: declared.to_owned() };
            for text in taken {
                assert!(cell.takes(text), "{declared} {text:?}");
            }
            for text in refused {
                assert!(!cell.takes(text), "{declared} {text:?}");
            }
        }
    }
}
