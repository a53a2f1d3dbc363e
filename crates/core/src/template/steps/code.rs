//! The step `code`: one spelling of a code.

use std::sync::Arc;

use caseless::Caseless;
use unicode_normalization::UnicodeNormalization;

use super::{Done, Step, StepKind};

pub(super) static CODE: StepKind = StepKind {
    name: "code",
    form: "code",
    does: "treats spellings of a code as the same: letters folded, numbers without leading zeros, everything else \
           dropped, but for a `-` between two numbers",
    examples: &[
        ("code", "H-007", Some("h7")),
        ("code", "h 7", Some("h7")),
        ("code", "No. 12/03", Some("no12-3")),
        ("code", "000", Some("0")),
        ("code", "A0B00", Some("a0b0")),
        ("code", "Étang (b)", Some("étangb")),
        ("code", "-", Some("")),
    ],
    read: |_| Ok(Arc::new(Code)),
};

#[derive(Debug)]
struct Code;

impl Step for Code {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let mut chars = value.chars().nfc().default_case_fold().nfc().peekable();
        while let Some(one) = chars.next() {
            if !one.is_ascii_digit() {
                if one.is_alphanumeric() {
                    out.push(one);
                }
                continue;
            }
            // Without anything between them, `1` and `23` would be the same as `12` and `3`.
            if out.ends_with(|last: char| last.is_ascii_digit()) {
                out.push('-');
            }
            let begin = out.len();
            out.push(one);
            while let Some(digit) = chars.next_if(char::is_ascii_digit) {
                if out[begin..] == *"0" {
                    out.truncate(begin);
                }
                out.push(digit);
            }
        }
        Done::Written
    }
}
