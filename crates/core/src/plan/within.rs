//! `within`: the range that a main row's value must lie in, `Picked on in Valid from .. Valid to`;
//! and `reach`: how far off the closest may be, `2 hours`.

use std::fmt;

use crate::Result;
use crate::template::Template;
use crate::template::phrase::Phrase;

/// Among equal keys, which row counts: the one whose range holds the main row's value, or the one
/// that is closest to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Within {
    text: String,
    /// The template of the main table's value.
    pub main: Template,
    /// The range.
    pub range: Range,
}

/// The range of a reference row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Range {
    /// From one bound to the other; the lower end belongs to it.
    Between {
        /// The lower bound.
        lower: Template,
        /// The upper bound.
        upper: Template,
        /// Whether the upper end belongs to it.
        closed: bool,
    },
    /// From this bound on, up to the next row's: the latest at or before the value counts.
    From(Template),
    /// Up to this bound, from the one before it: the earliest at or after the value counts.
    UpTo(Template),
}

/// The most that the value may be away from the one bound.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reach {
    /// Between numbers, in the unit of [`crate::value::Point`].
    Number(i128),
    /// Between dates and times, in nanoseconds.
    Time(i128),
}

/// The units of time and their length in seconds.
const UNITS: [(&str, i128); 5] =
    [("week", 604_800), ("day", 86_400), ("hour", 3_600), ("minute", 60), ("second", 1)];

impl Within {
    /// Reads a range: `MAIN in LOWER .. UPPER`, `MAIN in LOWER ..< UPPER`, `MAIN in LOWER ..` or
    /// `MAIN in .. UPPER`. Each is a template.
    ///
    /// ```
    /// use gather_keys_core::plan::{Range, Within};
    ///
    /// let prices = Within::parse("Picked on | date %d.%m.%Y in Valid from ..")?;
    /// assert!(matches!(prices.range, Range::From(_)));
    /// assert!(Within::parse("Picked on in Valid from").is_err());
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Self> {
        let mut phrase = Phrase::new("within", text);
        let main = Template::read(&mut phrase, &[], &["in"])?;
        if !phrase.word("in") {
            return phrase.expected("`in` and the reference's range: `in LOWER .. UPPER`, or `in LOWER ..` for the latest");
        }
        let range = if phrase.word("..") {
            Range::UpTo(Template::read(&mut phrase, &[], &[])?)
        } else {
            let lower = Template::read(&mut phrase, &[], &["..<", ".."])?;
            let closed = !phrase.word("..<");
            if closed && !phrase.word("..") {
                return phrase.expected("`..` or `..<` after the lower bound");
            }
            if closed && phrase.is_at_end() {
                Range::From(lower)
            } else {
                let upper = Template::read(&mut phrase, &[], &[])?;
                Range::Between { lower, upper, closed }
            }
        };
        if phrase.is_at_end() {
            Ok(Self { text: text.trim().to_owned(), main, range })
        } else {
            phrase.expected("`|` before a step, or the end")
        }
    }
}

/// As it was written.
impl fmt::Display for Within {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Reach {
    /// Reads a reach: a number, or a number of weeks, days, hours, minutes or seconds.
    ///
    /// ```
    /// use gather_keys_core::plan::Reach;
    ///
    /// assert_eq!(Reach::parse("2 hours")?, Reach::Time(7_200_000_000_000));
    /// assert!(Reach::parse("2 months").is_err());
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Self> {
        let mut phrase = Phrase::new("reach", text);
        phrase.skip_space();
        let number = phrase.run_of(|sign| sign.is_ascii_digit() || sign == '.').unwrap_or_default();
        let Some(number) = crate::value::Point::number(number) else {
            phrase.back_to(0);
            phrase.skip_space();
            return phrase.expected("a number, such as `2 hours` or `0.5`");
        };
        if phrase.is_at_end() {
            return Ok(Self::Number(number));
        }
        let start = phrase.at();
        let word = phrase.letters().unwrap_or_default();
        let unit = UNITS.iter().find(|(unit, _)| word.strip_suffix('s').unwrap_or(word) == *unit);
        match unit.and_then(|(_, seconds)| number.checked_mul(*seconds)) {
            Some(time) if phrase.is_at_end() => Ok(Self::Time(time / NANOSECONDS)),
            _ => {
                phrase.back_to(start);
                phrase.expected("weeks, days, hours, minutes, seconds, or nothing for numbers")
            }
        }
    }
}

/// A number counts in units of 10⁻¹⁸, a time in units of 10⁻⁹ of a second.
const NANOSECONDS: i128 = 1_000_000_000;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Error;

    #[test]
    fn ranges_are_read() {
        for (text, want) in [
            ("A in B .. C", "A|B .. C"),
            ("A in B ..< C", "A|B ..< C"),
            ("A in B ..", "A|B .."),
            (" A  in  .. C ", "A|.. C"),
            ("\"A in\" in \"B ..\" .. C", "\"A in\"|\"B ..\" .. C"),
            (
                "A | date %d.%m.%Y in B | date ..< C | or \"9999-12-31\"",
                "A | date %d.%m.%Y|B | date ..< C | or \"9999-12-31\"",
            ),
            ("{A}T{B} in {C} .. {D}", "{A}T{B}|{C} .. {D}"),
        ] {
            let within = Within::parse(text).unwrap();
            let range = match &within.range {
                Range::Between { lower, upper, closed: true } => format!("{lower} .. {upper}"),
                Range::Between { lower, upper, closed: false } => format!("{lower} ..< {upper}"),
                Range::From(lower) => format!("{lower} .."),
                Range::UpTo(upper) => format!(".. {upper}"),
            };
            assert_eq!(format!("{}|{range}", within.main), want, "{text}");
        }
        for (text, want) in [
            ("2 hours", Reach::Time(7_200_000_000_000)),
            (" 1 day", Reach::Time(86_400_000_000_000)),
            ("0.5 second ", Reach::Time(500_000_000)),
            ("1.5", Reach::Number(1_500_000_000_000_000_000)),
        ] {
            assert_eq!(Reach::parse(text).unwrap(), want, "{text}");
        }
    }

    #[test]
    fn errors_mark_the_place() {
        let place = |error: Error| match error {
            Error::Malformed { at, .. } => at,
            other => panic!("{other}"),
        };
        for (text, at) in [
            ("", 0),
            ("A", 1),
            ("A in", 4),
            ("A in B", 6),
            ("A in ..", 7),
            ("A in B ..<", 10),
            ("A in B .. \"C\" D", 14),
            ("A | soon in B ..", 4),
        ] {
            assert_eq!(place(Within::parse(text).unwrap_err()), at, "{text}");
        }
        for (text, at) in [("", 0), ("soon", 0), ("2 months", 2), ("2 hours ago", 2), ("1.2.3", 0)]
        {
            assert_eq!(place(Reach::parse(text).unwrap_err()), at, "{text}");
        }
    }
}
