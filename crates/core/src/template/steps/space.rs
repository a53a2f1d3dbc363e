//! White space: Unicode's, with the no-break and thin ones, and the zero-width characters that a copied
//! text brings along.

use std::sync::Arc;

use super::{Done, Step, StepKind};
use crate::value::{is_space, is_zero_width, trimmed};

pub(super) static TRIM: StepKind = StepKind {
    name: "trim",
    form: "trim",
    does: "removes white space at both ends",
    examples: &[
        ("trim", "  Nether Moor\u{a0}", Some("Nether Moor")),
        ("trim", "\u{feff}H-007\u{200b}\r\n", Some("H-007")),
    ],
    read: |_| Ok(Arc::new(Trim)),
};

pub(super) static TIDY: StepKind = StepKind {
    name: "tidy",
    form: "tidy",
    does: "removes white space at both ends, and makes each run of it within one space",
    examples: &[
        ("tidy", " Nether \u{a0} Moor ", Some("Nether Moor")),
        ("tidy", "Fell\u{200b}side", Some("Fellside")),
    ],
    read: |_| Ok(Arc::new(Tidy)),
};

pub(super) static COMPACT: StepKind = StepKind {
    name: "compact",
    form: "compact",
    does: "removes all white space",
    examples: &[
        ("compact", " H - 0\u{2009}07 ", Some("H-007")),
        ("compact", "H-007", Some("H-007")),
    ],
    read: |_| Ok(Arc::new(Compact)),
};

#[derive(Debug)]
struct Trim;

impl Step for Trim {
    fn apply(&self, value: &str, _: &mut String) -> Done {
        Done::Slice(trimmed(value))
    }
}

#[derive(Debug)]
struct Tidy;

impl Step for Tidy {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let inner = trimmed(value);
        if is_tidy(value[inner.clone()].as_bytes()) {
            return Done::Slice(inner);
        }
        let mut space = false;
        for sign in value[inner].chars() {
            if sign.is_whitespace() {
                space = true;
            } else if !is_zero_width(sign) {
                if std::mem::take(&mut space) {
                    out.push(' ');
                }
                out.push(sign);
            }
        }
        Done::Written
    }
}

/// Whether a trimmed value is surely tidy: ASCII with single spaces and no other white space.
fn is_tidy(bytes: &[u8]) -> bool {
    let mut before = b'x';
    bytes.iter().all(|&byte| {
        let fine = byte > b' ' && byte < 0x80 || byte == b' ' && before != b' ';
        before = byte;
        fine
    })
}

#[derive(Debug)]
struct Compact;

impl Step for Compact {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        if !value.contains(is_space) {
            return Done::whole(value);
        }
        out.extend(value.chars().filter(|&sign| !is_space(sign)));
        Done::Written
    }
}
