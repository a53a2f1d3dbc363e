//! The description of an enrichment: which reference, matched on what, giving which columns.
//!
//! In goes the text that a person wrote for `on` and `take`, out come its parts; a text that is
//! ill-formed gives an error with the place.

mod on;
mod phrase;
mod take;

pub use on::OnPart;
pub use take::Take;

/// What one reference is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReferencePlan {
    /// What it is called in messages and gates.
    pub name: String,
    /// The parts of the key.
    pub on: Vec<OnPart>,
    /// The columns to add. `None` takes every column that is not part of the key.
    pub take: Option<Vec<Take>>,
}
