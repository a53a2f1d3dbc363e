//! The value of the mark `@status`.

use super::Kind;
use crate::lookup::Answer;

/// The state of a row in the output, for one reference.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Status {
    /// The outcome of a lookup that updates nothing.
    Found(Kind),
    /// There is an answer, and an updated cell changed.
    Updated,
    /// There is an answer, and no updated cell changed.
    Unchanged,
    /// The row was added from the reference.
    Appended,
    /// A cell that the reference gave was corrected.
    Corrected,
}

impl Status {
    /// The status of a row with this answer; `changed` says whether one of its cells is another than
    /// before, where the lookup updates any.
    pub(crate) fn of(answer: Answer, changed: Option<bool>) -> Self {
        let kind = match answer {
            Answer::All { disagree: true, .. } | Answer::Chosen { .. } => Kind::Chosen,
            Answer::Matched(_) | Answer::All { .. } => Kind::Matched,
            Answer::Ambiguous(_) => Kind::Ambiguous,
            Answer::Unmatched(_) => Kind::Unmatched,
            Answer::BlankKey => Kind::BlankKey,
            Answer::Malformed => Kind::Malformed,
        };
        match (kind, changed) {
            (Kind::Matched | Kind::Chosen, Some(true)) => Self::Updated,
            (Kind::Matched | Kind::Chosen, Some(false)) => Self::Unchanged,
            _ => Self::Found(kind),
        }
    }

    /// The word for it.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Found(kind) => kind.label(),
            Self::Updated => "updated",
            Self::Unchanged => "unchanged",
            Self::Appended => "appended",
            Self::Corrected => "corrected",
        }
    }
}
