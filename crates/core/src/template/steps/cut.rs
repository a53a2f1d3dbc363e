//! Some of the characters, counted as a person counts them: a letter with its accents, or an
//! emoji made of several characters, is one.

use std::sync::Arc;

use unicode_segmentation::UnicodeSegmentation;

use super::{Done, Step, StepKind, count};

pub(super) static FIRST: StepKind = StepKind {
    name: "first",
    form: "first N",
    does: "keeps the first N characters",
    examples: &[
        ("first 3", "Fellside", Some("Fel")),
        ("first 3", "H", Some("H")),
        ("first 1", "e\u{301}tang", Some("e\u{301}")),
    ],
    read: |phrase| Ok(Arc::new(First(count(phrase, "how many characters")?))),
};

pub(super) static LAST: StepKind = StepKind {
    name: "last",
    form: "last N",
    does: "keeps the last N characters",
    examples: &[
        ("last 2", "H-007", Some("07")),
        ("last 9", "H-007", Some("H-007")),
        ("last 1", "bees 👩🏽‍🌾", Some("👩🏽‍🌾")),
    ],
    read: |phrase| Ok(Arc::new(Last(count(phrase, "how many characters")?))),
};

pub(super) static FROM: StepKind = StepKind {
    name: "from",
    form: "from N [to M]",
    does: "keeps the characters from the N-th on, up to and with the M-th; the first is 1",
    examples: &[
        ("from 3", "H-007", Some("007")),
        ("from 2 to 3", "ABCD", Some("BC")),
        ("from 9", "H-007", Some("")),
    ],
    read: |phrase| {
        let from = count(phrase, "the first character")?;
        if !phrase.word("to") {
            return Ok(Arc::new(From { from, to: None }));
        }
        let start = phrase.at();
        let to = count(phrase, "the last character")?;
        if to < from {
            phrase.back_to(start);
            phrase.skip_space();
            return phrase.expected("a number that is not less than the one before");
        }
        Ok(Arc::new(From { from, to: Some(to) }))
    },
};

/// The offset of the character with this number, from 0; the end when there are fewer characters.
fn place(value: &str, nth: usize) -> usize {
    // A line end of two characters is the one character of ASCII that is not one byte.
    if value.is_ascii() && !value.contains('\r') {
        return nth.min(value.len());
    }
    value.grapheme_indices(true).nth(nth).map_or(value.len(), |(at, _)| at)
}

#[derive(Debug)]
struct First(usize);

impl Step for First {
    fn apply(&self, value: &str, _: &mut String) -> Done {
        Done::Slice(0..place(value, self.0))
    }

    fn width(&self) -> Option<usize> {
        Some(self.0)
    }
}

#[derive(Debug)]
struct Last(usize);

impl Step for Last {
    fn apply(&self, value: &str, _: &mut String) -> Done {
        let start = if value.is_ascii() && !value.contains('\r') {
            value.len().saturating_sub(self.0)
        } else {
            value.grapheme_indices(true).nth_back(self.0 - 1).map_or(0, |(at, _)| at)
        };
        Done::Slice(start..value.len())
    }

    fn width(&self) -> Option<usize> {
        Some(self.0)
    }
}

#[derive(Debug)]
struct From {
    from: usize,
    to: Option<usize>,
}

impl Step for From {
    fn apply(&self, value: &str, _: &mut String) -> Done {
        let end = self.to.map_or(value.len(), |to| place(value, to));
        Done::Slice(place(value, self.from - 1)..end)
    }

    fn width(&self) -> Option<usize> {
        self.to.map(|to| to + 1 - self.from)
    }
}
