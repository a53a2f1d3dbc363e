//! Steps that keep the text around, or between, the occurrences of another.

use std::sync::Arc;

use super::{Done, Step, StepKind, count, text};

pub(super) static BEFORE: StepKind = StepKind {
    name: "before",
    form: "before \"X\"",
    does: "keeps the text before the first X; all of it when there is no X",
    examples: &[
        ("before \"/\"", "Fellside/07/a", Some("Fellside")),
        ("before \"/\"", "Fellside", Some("Fellside")),
    ],
    read: |phrase| Ok(Arc::new(Segment { nth: 0, separator: text(phrase, "a text")? })),
};

pub(super) static AFTER: StepKind = StepKind {
    name: "after",
    form: "after \"X\"",
    does: "keeps the text after the first X; nothing when there is no X",
    examples: &[
        ("after \"/\"", "Fellside/07/a", Some("07/a")),
        ("after \"/\"", "Fellside", Some("")),
    ],
    read: |phrase| Ok(Arc::new(After(text(phrase, "a text")?))),
};

pub(super) static PIECE: StepKind = StepKind {
    name: "piece",
    form: "piece N \"X\"",
    does: "keeps the N-th of the pieces between the X; nothing when there are fewer",
    examples: &[
        ("piece 2 \"/\"", "Fellside/07/a", Some("07")),
        ("piece 1 \", \"", "Larkfield", Some("Larkfield")),
        ("piece 2 \"/\"", "Larkfield", Some("")),
    ],
    read: |phrase| {
        let nth = count(phrase, "which piece")? - 1;
        Ok(Arc::new(Segment { nth, separator: text(phrase, "the text between the pieces")? }))
    },
};

#[derive(Debug)]
struct Segment {
    nth: usize,
    separator: String,
}

impl Step for Segment {
    fn apply(&self, value: &str, _: &mut String) -> Done {
        let mut start = 0;
        for (nth, (at, _)) in value.match_indices(&self.separator).enumerate() {
            if nth == self.nth {
                return Done::Slice(start..at);
            }
            start = at + self.separator.len();
        }
        let segments = value.matches(&self.separator).count() + 1;
        Done::Slice(if self.nth + 1 == segments { start } else { value.len() }..value.len())
    }
}

#[derive(Debug)]
struct After(String);

impl Step for After {
    fn apply(&self, value: &str, _: &mut String) -> Done {
        let start = value.find(&self.0).map_or(value.len(), |at| at + self.0.len());
        Done::Slice(start..value.len())
    }
}
