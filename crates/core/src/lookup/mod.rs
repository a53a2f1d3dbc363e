//! Lookups: from a main row's key to its reference row.
//!
//! In go a reference table, block by block, and then main rows; out comes an [`Answer`] for each
//! of them. One probe a row, however many columns are taken.

mod index;
mod rank;
mod reference;
mod search;

pub use reference::{Group, Reference, ReferenceBuilder, RowId, Seed};
pub use search::{Hit, Hits, Wanted};

use crate::key::Key;
use crate::table::Block;
use crate::template::{PartState, Work};

/// What to do with keys whose rows disagree on what is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Rule {
    /// Take nothing: the main row is ambiguous.
    #[default]
    Report,
    /// Take from the first row.
    First,
    /// Take from the last row.
    Last,
    /// Take from the row of the highest rank.
    Highest,
    /// Take from the row of the lowest rank.
    Lowest,
    /// Take from every row, one after the other, also where they agree.
    Every,
    /// Take the distinct values of all rows.
    List,
}

/// What a lookup found for one main row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    /// Exactly one answer: the taken cells of this reference row.
    Matched(RowId),
    /// Several reference rows hold the key and disagree; a rule chose this one.
    Chosen {
        /// The first row that holds the key.
        first: RowId,
        /// The chosen one.
        row: RowId,
    },
    /// Several reference rows hold the key, the first of which this is, and a rule takes from all.
    All(RowId),
    /// Several reference rows hold the key and disagree on what is taken; this is the first.
    Ambiguous(RowId),
    /// No reference row holds the key.
    Unmatched,
    /// A part of the key is blank.
    BlankKey,
    /// A step could not read a value that a part of the key is made from.
    Malformed,
}

/// A reference ready to be asked by the rows of a main table.
#[derive(Debug)]
pub struct Lookup {
    key: Key,
    reference: Reference,
}

impl Lookup {
    /// Joins the main table's key to the reference that it asks; `key` has as many parts as the
    /// reference's own key.
    pub fn new(key: Key, reference: Reference) -> Self {
        Self { key, reference }
    }

    /// The main table's key.
    pub fn key(&self) -> &Key {
        &self.key
    }

    /// The reference that is asked.
    pub fn reference(&self) -> &Reference {
        &self.reference
    }

    /// Looks one main row up. `key` and `work` are working space; what they hold is replaced.
    pub fn answer(&self, main: &Block, row: usize, key: &mut String, work: &mut Work) -> Answer {
        key.clear();
        match self.key.pack(main, row, key, work) {
            PartState::Malformed => Answer::Malformed,
            PartState::Blank if !self.reference.matches_blanks() => Answer::BlankKey,
            PartState::Blank | PartState::Whole => {
                self.reference.find(key).map_or(Answer::Unmatched, |first| self.settle(first))
            }
        }
    }

    /// The answer for a key that the reference holds.
    fn settle(&self, first: RowId) -> Answer {
        let reference = &self.reference;
        if reference.rule() == Rule::Every && reference.is_repeated(first) {
            return Answer::All(first);
        }
        if !reference.is_conflicting(first) {
            return Answer::Matched(first);
        }
        match (reference.rule(), reference.chosen(first)) {
            (Rule::List, _) => Answer::All(first),
            (_, Some(row)) => Answer::Chosen { first, row },
            (_, None) => Answer::Ambiguous(first),
        }
    }
}
