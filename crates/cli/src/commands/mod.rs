//! The commands.

mod demo;
mod enrich;

pub(crate) use demo::demo;
pub(crate) use enrich::{check, enrich};

/// How a run ended that nothing was wrong with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// Everything was done.
    Done,
    /// A gate does not hold, so the table was not written.
    Stopped,
}
