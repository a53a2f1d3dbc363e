//! Questions that only a person can answer: keys that no step matches, rows that disagree, values that can't be read.
//!
//! In go the lookups of a pass with their findings, and the rows that a [`Gatherer`] took on the way; out come
//! [`Question`]s, those of most main rows first, and for each the [`Candidate`]s to choose from. Candidates are sought when
//! a question is asked, so that the first comes as soon as the reasons are known.

mod candidates;
mod gatherer;
mod likeness;
mod question;

pub use candidates::{Candidate, MOST, Seeker};
pub use gatherer::{DisputedKey, Gatherer, UnreadableKey};
pub use likeness::differing;
pub use question::{About, Question, questions};
