//! The description of an enrichment: which reference, matched on what, giving which columns.
//!
//! In goes a [`Plan`], or the text that a person wrote for `on`, `within` or `take`; out come its
//! parts. A text that is malformed gives an error with the place.

mod asked;
mod blank;
mod columns;
mod document;
mod header_list;
mod keys;
mod on;
mod selection;
mod take;
mod text;
mod update;
mod when;
mod within;
mod written;

pub use asked::{AskedHeaders, asked_of_main};
pub use blank::parse_blanks;
pub use columns::Columns;
pub use document::{MainTable, Plan, ReferenceTable, TableForm};
pub use header_list::parse_headers;
pub use keys::{Holds, PlanKey};
pub use on::{AnyOf, Held, On, OnPart};
pub use selection::Selection;
pub use take::{Mark, Take};
pub use text::{Text, Texts};
pub use update::{Replace, Update};
pub use when::{WhenDuplicate, WhenUnmatched};
pub use within::{Range, Reach, Within};

use crate::template::StepUse;

/// A header as it is written in `on`, `take` and similar: in double quotes where it holds characters or words
/// that mean something there.
///
/// ```
/// use gather_keys_core::plan::quoted_header;
///
/// assert_eq!(quoted_header("Site code"), "Site code");
/// assert_eq!(quoted_header("Wend, lower"), "\"Wend, lower\"");
/// ```
pub fn quoted_header(header: &str) -> String {
    let means_something = |word: &str| matches!(word, "as" | "in" | ".." | "..<");
    let is_plain = !header.is_empty()
        && header.trim() == header
        && !header.contains(['"', ',', '=', '|', '{', '}', '*', '(', ')'])
        && !header.starts_with('@')
        && !header.split_whitespace().any(means_something);
    if is_plain { header.to_owned() } else { format!("\"{}\"", header.replace('"', "\"\"")) }
}

/// The plan of one reference.
// Each switch is one that a person sets by itself.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Clone, Default)]
pub struct ReferencePlan {
    /// The name in messages and gates.
    pub name: String,
    /// The parts of the key.
    pub on: On,
    /// Steps that every part goes through first, on both sides.
    pub clean: Vec<StepUse>,
    /// The range by which one of the rows with the key is chosen.
    pub within: Option<Within>,
    /// How far off the closest row may be.
    pub reach: Option<Reach>,
    /// What to do when several rows hold a key and disagree.
    pub when_duplicate: WhenDuplicate,
    /// What to do when no row holds it.
    pub when_unmatched: WhenUnmatched,
    /// Whether a blank part of a key may meet a blank one.
    pub match_blanks: bool,
    /// The columns to add. `None` takes every column that is not part of the key.
    pub take: Option<Vec<Take>>,
    /// The columns that runs, patterns and `*` in `take` do not bring.
    pub leave: Vec<Selection>,
    /// The columns to update.
    pub update: Vec<Update>,
    /// Which cells an update may replace.
    pub replace: Replace,
    /// Whether an update may replace a formula, where its table has any.
    pub replace_formulas: bool,
    /// Whether a blank cell of the reference may erase a value.
    pub bring_blanks: bool,
    /// Whether rows that no main row asked for are added at the end.
    pub append_unused: bool,
}
