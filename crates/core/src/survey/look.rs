//! The look of a cell.

use crate::table::CellKind;
use crate::value::{date, is_blank, number};

/// The look of a cell: by its kind where its format has kinds, otherwise by its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Look {
    /// Nothing, or white space only.
    Blank,
    /// A number.
    Number,
    /// A date.
    Date,
    /// A date with a time, or a time.
    Time,
    /// True or false.
    Truth,
    /// Any other text.
    Text,
}

impl Look {
    /// Every look, in the order in which they are reported.
    pub const ALL: [Self; 6] =
        [Self::Number, Self::Date, Self::Time, Self::Truth, Self::Text, Self::Blank];

    /// The word for it.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Blank => "blank",
            Self::Number => "number",
            Self::Date => "date",
            Self::Time => "date-time",
            Self::Truth => "true/false",
            Self::Text => "text",
        }
    }

    /// The look of a cell.
    pub fn of(text: &str, kind: CellKind) -> Self {
        if is_blank(text) {
            return Self::Blank;
        }
        let trimmed = text.trim();
        match kind {
            CellKind::Text => Self::Text,
            CellKind::Number => Self::Number,
            CellKind::Date if trimmed.len() > 10 => Self::Time,
            CellKind::Date => Self::Date,
            CellKind::Time => Self::Time,
            CellKind::Truth => Self::Truth,
            CellKind::Untyped => Self::of_text(trimmed),
        }
    }

    fn of_text(text: &str) -> Self {
        let bytes = text.as_bytes();
        let first = bytes[0];
        if first.is_ascii_digit() || matches!(first, b'-' | b'+' | b'.') {
            if is_plain_number(bytes) {
                return Self::Number;
            }
            let may_be_date = bytes.len() >= 10 && bytes[4] == b'-';
            if may_be_date && (date::is_plain(text) || date::canonical(text).is_some()) {
                return if text.len() > 10 { Self::Time } else { Self::Date };
            }
            if form_of_date(text).is_some() {
                return Self::Date;
            }
            if number::canonical(text).is_some() {
                return Self::Number;
            }
        } else if text.eq_ignore_ascii_case("true") || text.eq_ignore_ascii_case("false") {
            return Self::Truth;
        }
        Self::Text
    }
}

/// Digits with at most one point among them, after an optional plus or minus.
fn is_plain_number(bytes: &[u8]) -> bool {
    let bytes = bytes.strip_prefix(b"-").unwrap_or(bytes);
    let (mut digits, mut points) = (0, 0);
    for byte in bytes {
        match byte {
            b'0'..=b'9' => digits += 1,
            b'.' => points += 1,
            _ => return false,
        }
    }
    digits > 0 && points < 2
}

/// The form of a numeric date that is not ISO 8601: the separator, and whether the year comes first.
pub(super) fn form_of_date(text: &str) -> Option<(char, bool)> {
    let day = text.split([' ', 'T']).next().unwrap_or(text);
    let joint = day.chars().find(|sign| !sign.is_ascii_digit())?;
    if !matches!(joint, '.' | '/' | '-') {
        return None;
    }
    let mut numbers = day.split(joint);
    let (one, two, three) = (numbers.next()?, numbers.next()?, numbers.next()?);
    let is_short = |text: &str| (1..=2).contains(&text.len()) && is_number(text);
    let is_year = |text: &str| matches!(text.len(), 2 | 4) && is_number(text);
    let is_low = |text: &str| text.parse::<u8>().is_ok_and(|number| (1..=31).contains(&number));
    if numbers.next().is_some() || !is_low(two) {
        return None;
    }
    let year_first = one.len() == 4 && is_number(one) && is_short(three) && is_low(three);
    let year_last = is_short(one) && is_low(one) && is_short(two) && is_year(three);
    (year_first || year_last && joint != '-' || year_last && three.len() == 4)
        .then_some((joint, year_first))
}

fn is_number(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_digit())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_look_like_what_they_are() {
        for (text, look) in [
            ("", Look::Blank),
            (" \u{a0}\u{200b}", Look::Blank),
            ("7", Look::Number),
            ("-7.50", Look::Number),
            ("1,234.50", Look::Number),
            ("1e3", Look::Number),
            ("2026-05-19", Look::Date),
            ("19.5.2026", Look::Date),
            ("5/19/26", Look::Date),
            ("2026-05-19 14:30", Look::Time),
            ("2026-02-31", Look::Date),
            ("1.2.3", Look::Text),
            ("12-34-56", Look::Text),
            ("H-007", Look::Text),
            ("FALSE", Look::Truth),
            ("n/a", Look::Text),
            ("-", Look::Text),
        ] {
            assert_eq!(Look::of(text, CellKind::Untyped), look, "{text}");
        }
        assert_eq!(Look::of("42", CellKind::Text), Look::Text);
        assert_eq!(Look::of("2026-05-19T14:30:00", CellKind::Date), Look::Time);
    }
}
