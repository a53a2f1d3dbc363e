//! The description of an enrichment: which reference, matched on what, giving which columns.
//!
//! In goes the text that a person wrote for `on` and `take`, out come its parts; a text that is
//! ill-formed gives an error with the place.

mod blank;
mod on;
mod take;
mod when;

pub use blank::parse_blanks;
pub use on::OnPart;
pub use take::{Mark, Take};
pub use when::{WhenDuplicate, WhenUnmatched};

use crate::template::StepUse;

/// What one reference is asked for.
#[derive(Debug, Clone, Default)]
pub struct ReferencePlan {
    /// What it is called in messages and gates.
    pub name: String,
    /// The parts of the key.
    pub on: Vec<OnPart>,
    /// Steps that every part goes through first, on both sides.
    pub clean: Vec<StepUse>,
    /// What to do when several rows hold a key and disagree.
    pub when_duplicate: WhenDuplicate,
    /// What to do when no row holds it.
    pub when_unmatched: WhenUnmatched,
    /// Whether a blank part of a key may meet a blank one.
    pub match_blanks: bool,
    /// What to add. `None` takes every column that is not part of the key.
    pub take: Option<Vec<Take>>,
    /// What runs, likenesses and `*` in `take` are not to bring.
    pub leave: Vec<Take>,
}
