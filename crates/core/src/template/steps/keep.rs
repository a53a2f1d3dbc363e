//! Keeping some kinds of characters only.

use std::sync::Arc;

use unicode_normalization::char::is_combining_mark;

use super::{Done, Step, StepKind};

pub(super) static ALNUM: StepKind = StepKind {
    name: "alnum",
    form: "alnum",
    does: "keeps letters and digits only",
    examples: &[
        ("alnum", "H-007 (b)", Some("H007b")),
        ("alnum", "E\u{301}tang, 2", Some("E\u{301}tang2")),
    ],
    read: |_| Ok(Arc::new(Keep(char::is_alphanumeric))),
};

pub(super) static DIGITS: StepKind = StepKind {
    name: "digits",
    form: "digits",
    does: "keeps digits only",
    examples: &[("digits", "hive 07", Some("07")), ("digits", "none", Some(""))],
    read: |_| Ok(Arc::new(Keep(char::is_numeric))),
};

pub(super) static LETTERS: StepKind = StepKind {
    name: "letters",
    form: "letters",
    does: "keeps letters only",
    examples: &[("letters", "H-007", Some("H")), ("letters", "Old Quarry", Some("OldQuarry"))],
    read: |_| Ok(Arc::new(Keep(char::is_alphabetic))),
};

#[derive(Debug)]
struct Keep(fn(char) -> bool);

impl Step for Keep {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        if value.chars().all(self.0) {
            return Done::whole(value);
        }
        // A mark belongs to the letter before it.
        let mut kept = false;
        out.extend(value.chars().filter(|&sign| {
            kept = if is_combining_mark(sign) { kept } else { self.0(sign) };
            kept
        }));
        Done::Written
    }
}
