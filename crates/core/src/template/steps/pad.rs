//! Filling up: to a width, and where there is nothing.

use std::sync::Arc;

use unicode_segmentation::UnicodeSegmentation;

use super::{Done, Step, StepKind, count};
use crate::value::is_blank;

pub(super) static PAD: StepKind = StepKind {
    name: "pad",
    form: "pad N [\"0\"]",
    does: "fills up to N characters from the left, with zeros or the character given; what is \
           longer, or blank, stays as it is",
    examples: &[
        ("pad 3", "7", Some("007")),
        ("pad 3 \"·\"", "é", Some("··é")),
        ("pad 3", "1234", Some("1234")),
        ("pad 3", "", Some("")),
        ("pad 4", "7\r\n", Some("007\r\n")),
    ],
    read: |phrase| {
        let width = count(phrase, "to how many characters")?;
        phrase.skip_space();
        let start = phrase.at();
        let with = phrase.text()?.unwrap_or_else(|| "0".to_owned());
        if with.graphemes(true).count() != 1 {
            phrase.back_to(start);
            return phrase.expected("one character in double quotes");
        }
        Ok(Arc::new(Pad { width, with }))
    },
};

pub(super) static OR: StepKind = StepKind {
    name: "or",
    form: "or \"TEXT\"",
    does: "replaces a blank value with TEXT; `or \"\"` at the end states that blank is a value \
           among others",
    examples: &[
        ("or \"none\"", "", Some("none")),
        ("or \"none\"", " ", Some("none")),
        ("or \"none\"", "a", Some("a")),
    ],
    read: |phrase| match phrase.text()? {
        Some(text) => Ok(Arc::new(Or(text))),
        None => phrase.expected("a text in double quotes"),
    },
};

#[derive(Debug)]
struct Pad {
    width: usize,
    with: String,
}

impl Step for Pad {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        // A line break of two bytes counts as one character, as everywhere.
        let is_plain = value.is_ascii() && !value.contains('\r');
        let has = if is_plain { value.len() } else { value.graphemes(true).count() };
        if has >= self.width || is_blank(value) {
            return Done::whole(value);
        }
        for _ in has..self.width {
            out.push_str(&self.with);
        }
        out.push_str(value);
        Done::Written
    }

    fn width(&self) -> Option<usize> {
        Some(self.width)
    }
}

#[derive(Debug)]
struct Or(String);

impl Step for Or {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        if !is_blank(value) {
            return Done::whole(value);
        }
        out.push_str(&self.0);
        Done::Written
    }

    fn lets_blank_be(&self) -> bool {
        self.0.is_empty()
    }
}
