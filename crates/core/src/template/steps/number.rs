//! The step `number`: one spelling of a number; see [`crate::value::number`].

use std::sync::Arc;

use super::{Done, Step, StepKind};
use crate::value::number::write_number;
use crate::value::trimmed;

pub(super) static NUMBER: StepKind = StepKind {
    name: "number",
    form: "number [\",\"]",
    does: "writes a number in one way: no leading zeros, no group separators, no exponent, no \
           zeros at the end; `number \",\"` reads a decimal comma",
    examples: &[
        ("number", "007", Some("7")),
        ("number", "7.0", Some("7")),
        ("number", "1,234.50", Some("1234.5")),
        ("number \",\"", "1.234,50", Some("1234.5")),
        ("number", "12345678901234567890", Some("12345678901234567890")),
        ("number", "1e3", Some("1000")),
        ("number", "-0", Some("0")),
        ("number", "+7", Some("7")),
        ("number", "1,23", None),
        ("number", "€ 7", None),
        ("number", "7 %", None),
        ("number", "n/a", None),
        ("number", "", Some("")),
    ],
    read: |phrase| {
        phrase.skip_space();
        let start = phrase.at();
        match phrase.text()?.as_deref() {
            None | Some(".") => Ok(Arc::new(Number { comma: false })),
            Some(",") => Ok(Arc::new(Number { comma: true })),
            Some(_) => {
                phrase.back_to(start);
                phrase.expected("\",\" for a decimal comma, or nothing")
            }
        }
    },
};

#[derive(Debug)]
struct Number {
    comma: bool,
}

impl Step for Number {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let text = &value[trimmed(value)];
        if text.is_empty() {
            return Done::Slice(0..0);
        }
        match write_number(text, if self.comma { ',' } else { '.' }, out) {
            Some(()) => Done::Written,
            None => Done::Unreadable,
        }
    }
}
