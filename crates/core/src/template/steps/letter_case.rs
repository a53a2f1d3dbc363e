//! Upper and lower case.

use std::sync::Arc;

use caseless::Caseless;
use unicode_normalization::UnicodeNormalization;

use super::{Done, Step, StepKind, map_signs};

pub(super) static FOLD: StepKind = StepKind {
    name: "fold",
    form: "fold",
    does: "treats spellings that differ only in case as the same, by Unicode's case folding, in \
           composed form",
    examples: &[
        ("fold", "FELLSIDE", Some("fellside")),
        ("fold", "Weiße E\u{301}tang", Some("weisse étang")),
        ("fold", "ΣΊΣΥΦΟΣ", Some("σίσυφοσ")),
    ],
    read: |_| Ok(Arc::new(Fold)),
};

pub(super) static LOWER: StepKind = StepKind {
    name: "lower",
    form: "lower",
    does: "makes all letters lower case",
    examples: &[("lower", "H-007", Some("h-007")), ("lower", "ÉTANG", Some("étang"))],
    read: |_| Ok(Arc::new(Lower)),
};

pub(super) static UPPER: StepKind = StepKind {
    name: "upper",
    form: "upper",
    does: "makes all letters upper case",
    examples: &[("upper", "h-007", Some("H-007")), ("upper", "straße", Some("STRASSE"))],
    read: |_| Ok(Arc::new(Upper)),
};

#[derive(Debug)]
struct Fold;

impl Step for Fold {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        if value.is_ascii() {
            return lower_ascii(value, out);
        }
        out.extend(value.chars().nfc().default_case_fold().nfc());
        Done::Written
    }
}

#[derive(Debug)]
struct Lower;

impl Step for Lower {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        if value.is_ascii() {
            return lower_ascii(value, out);
        }
        // Applied to the whole text, since a final sigma depends on the characters around it.
        out.push_str(&value.to_lowercase());
        Done::Written
    }
}

fn lower_ascii(value: &str, out: &mut String) -> Done {
    if !value.bytes().any(|byte| byte.is_ascii_uppercase()) {
        return Done::whole(value);
    }
    out.push_str(value);
    out.make_ascii_lowercase();
    Done::Written
}

#[derive(Debug)]
struct Upper;

impl Step for Upper {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        map_signs(value, out, char::to_uppercase)
    }
}
