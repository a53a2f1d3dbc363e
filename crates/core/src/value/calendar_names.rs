//! The names of months and weekdays: English ones, and those that a person gives.
//!
//! In goes a text with names, out comes the text with the English names that a date format reads, or the number of a
//! month. A name may be cut to three letters or more, a given one
//! of a weekday to two, where that is still the beginning of one name only.

use std::borrow::Cow;

const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

const WEEKDAYS: [&str; 7] =
    ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/// How many letters a name is cut to at most.
const SHORTEST: usize = 3;

/// Names of months or weekdays, in order, in lower case.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct CalendarNames(Vec<String>);

impl CalendarNames {
    /// Reads names that are separated by commas: twelve of months, or seven of weekdays from Monday on.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        let names: Vec<String> = text.split(',').map(|name| name.trim().to_lowercase()).collect();
        let is_whole = matches!(names.len(), 12 | 7) && names.iter().all(|name| !name.is_empty());
        is_whole.then_some(Self(names))
    }

    /// Whether they are of months.
    pub(crate) fn are_months(&self) -> bool {
        self.0.len() == MONTHS.len()
    }

    /// The number of the name, from 0, that a word in lower case is, or is the beginning of.
    fn number(&self, word: &str) -> Option<usize> {
        let exact = self.0.iter().position(|name| name == word);
        let is_long = word.chars().count() >= if self.are_months() { SHORTEST } else { 2 };
        let begun = || {
            let mut all = self.0.iter().enumerate().filter(|(_, name)| name.starts_with(word));
            all.next().filter(|_| is_long && all.next().is_none()).map(|(nth, _)| nth)
        };
        exact.or_else(begun)
    }
}

fn english(names: &[&str], word: &str) -> Option<usize> {
    let is_long = word.len() >= SHORTEST;
    let of = |name: &&str| is_long && name.to_ascii_lowercase().starts_with(word);
    let mut all = names.iter().enumerate().filter(|(_, name)| of(name));
    all.next().filter(|_| all.next().is_none()).map(|(nth, _)| nth)
}

/// The number of a month, from 1, that a word names, in English or in one of the names given.
pub(crate) fn month(word: &str, given: &[CalendarNames]) -> Option<usize> {
    let word = word.to_lowercase();
    let word = word.trim_end_matches('.');
    let months = given.iter().filter(|names| names.are_months());
    let own = months.into_iter().find_map(|names| names.number(word));
    own.or_else(|| english(&MONTHS, word)).map(|nth| nth + 1)
}

fn weekday(word: &str, given: &[CalendarNames]) -> Option<usize> {
    let word = word.to_lowercase();
    let days = given.iter().filter(|names| !names.are_months());
    let own = days.into_iter().find_map(|names| names.number(&word));
    own.or_else(|| english(&WEEKDAYS, &word))
}

/// Whether a date format reads a name.
pub(crate) fn has_names(format: &str) -> bool {
    ["%B", "%b", "%h", "%A", "%a"].iter().any(|name| format.contains(name))
}

/// A text with its names as a date format reads them.
pub(crate) fn in_english<'t>(text: &'t str, format: &str, given: &[CalendarNames]) -> Cow<'t, str> {
    let form = |long: &str, short: [&str; 2]| {
        let is_short = short.iter().any(|short| format.contains(short));
        (format.contains(long) || is_short).then_some(!is_short)
    };
    let (months, days) = (form("%B", ["%b", "%h"]), form("%A", ["%a", "%a"]));
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find(char::is_alphabetic) {
        let length = rest[at..].find(|one: char| !one.is_alphabetic()).unwrap_or(rest.len() - at);
        let (before, word) = (&rest[..at], &rest[at..at + length]);
        rest = &rest[at + length..];
        let name = months.and_then(|long| Some((MONTHS[month(word, given)? - 1], long)));
        let name =
            name.or_else(|| days.and_then(|long| Some((WEEKDAYS[weekday(word, given)?], long))));
        out.push_str(before);
        match name {
            Some((name, true)) => out.push_str(name),
            Some((name, false)) => out.push_str(&name[..SHORTEST]),
            None => out.push_str(word),
        }
        // A point after a name that is cut is none of the format's.
        let is_cut = name.is_some_and(|(name, _)| name.len() != word.len());
        if let Some(after) = rest.strip_prefix('.').filter(|_| is_cut && !format.contains('.')) {
            rest = after;
        }
    }
    if out.is_empty() {
        return Cow::Borrowed(text);
    }
    out.push_str(rest);
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_those_that_a_format_reads() {
        let german = "Januar, Februar, März, April, Mai, Juni, Juli, August, September, Oktober, \
                      November, Dezember";
        let days = "Montag, Dienstag, Mittwoch, Donnerstag, Freitag, Samstag, Sonntag";
        let given = [german, days].map(|names| CalendarNames::parse(names).unwrap());
        for (text, format, want) in [
            ("5. März 2026", "%d. %B %Y", "5. March 2026"),
            ("5. mär 2026", "%d. %b %Y", "5. Mar 2026"),
            ("Do, 5. Mrz. 2026", "%a, %d. %b %Y", "Thu, 5. Mrz. 2026"),
            ("Sonntag 5 Okt. 2026", "%A %d %B %Y", "Sunday 5 October 2026"),
            ("5 sept 2026", "%d %b %Y", "5 Sep 2026"),
            ("5 Ju 2026", "%d %B %Y", "5 Ju 2026"),
            ("2026-03-05", "%Y-%m-%d", "2026-03-05"),
        ] {
            assert_eq!(in_english(text, format, &given), want, "{text}");
        }
        assert_eq!(month("Dez.", &given), Some(12));
        assert_eq!((month("Dez", &[]), month("december", &[])), (None, Some(12)));
        assert!(CalendarNames::parse("Januar, Februar").is_none());
    }
}
