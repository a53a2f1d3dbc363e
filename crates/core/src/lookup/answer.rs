//! The answer of a lookup to one main row.

use crate::table::RowOutcome;

use super::EntryId;

/// The answer of a lookup to one main row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    /// Exactly one answer: the taken cells of this entry's row.
    Matched(EntryId),
    /// Several reference rows hold the key and disagree; a rule chose one of them.
    Chosen {
        /// The first entry of the key.
        first: EntryId,
        /// The chosen entry.
        entry: EntryId,
    },
    /// Several reference rows hold the key, and a rule takes from all of them.
    All {
        /// The first entry of the key.
        first: EntryId,
        /// Whether the rows disagree on what is taken.
        disagree: bool,
    },
    /// Several reference rows hold the key and disagree on what is taken. Carries the first entry of the key.
    Ambiguous(EntryId),
    /// No reference row answers.
    Unmatched(Miss),
    /// A part of the key is blank.
    BlankKey,
    /// A step could not read a value of the key.
    Malformed,
}

/// Why no reference row answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Miss {
    /// No reference row holds the key.
    Key,
    /// Reference rows hold the key, but none has a range with the value. Carries the first entry of the key.
    Range(EntryId),
    /// A reference row holds the key, but no column has the header that the main row names.
    Header,
}

impl Answer {
    /// What became of the row.
    pub(crate) fn outcome(self) -> RowOutcome {
        match self {
            Self::Matched(_) | Self::Chosen { .. } | Self::All { .. } => RowOutcome::Matched,
            Self::Ambiguous(_) => RowOutcome::Ambiguous,
            Self::Unmatched(_) => RowOutcome::Unmatched,
            Self::BlankKey => RowOutcome::BlankKey,
            Self::Malformed => RowOutcome::Malformed,
        }
    }

    /// The first entry of the answer, where there is one.
    pub(crate) fn first(self) -> Option<EntryId> {
        match self {
            Self::Matched(first)
            | Self::Chosen { first, .. }
            | Self::All { first, .. }
            | Self::Ambiguous(first) => Some(first),
            Self::Unmatched(_) | Self::BlankKey | Self::Malformed => None,
        }
    }
}
