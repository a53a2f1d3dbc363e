//! The description of an enrichment: which reference, matched on what, giving which columns.
//!
//! In goes the text that a person wrote for `on`, `within` and `take`, out come its parts; a text
//! that is ill-formed gives an error with the place.

mod blank;
mod on;
mod selection;
mod take;
mod when;
mod within;

pub use blank::parse_blanks;
pub use on::{AnyOf, Held, On, OnPart};
pub use selection::Selection;
pub use take::{Mark, Take};
pub use when::{WhenDuplicate, WhenUnmatched};
pub use within::{Range, Reach, Within};

use crate::template::StepUse;

/// What one reference is asked for.
#[derive(Debug, Clone, Default)]
pub struct ReferencePlan {
    /// What it is called in messages and gates.
    pub name: String,
    /// What rows are matched on.
    pub on: On,
    /// Steps that every part goes through first, on both sides.
    pub clean: Vec<StepUse>,
    /// Which row counts among those that hold the key, by a range.
    pub within: Option<Within>,
    /// How far off the closest row may be.
    pub reach: Option<Reach>,
    /// What to do when several rows hold a key and disagree.
    pub when_duplicate: WhenDuplicate,
    /// What to do when no row holds it.
    pub when_unmatched: WhenUnmatched,
    /// Whether a blank part of a key may meet a blank one.
    pub match_blanks: bool,
    /// What to add. `None` takes every column that is not part of the key.
    pub take: Option<Vec<Take>>,
    /// What runs, likenesses and `*` in `take` are not to bring.
    pub leave: Vec<Selection>,
}
