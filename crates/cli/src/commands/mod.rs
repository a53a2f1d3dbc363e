//! The commands.

mod completions;
mod demo;
mod enrich;
mod find;
mod headers;
mod key;
mod manual;
mod review;
mod suggest;
mod survey;
mod watch;
mod why;

pub(crate) use completions::completions;
pub(crate) use demo::demo;
pub(crate) use enrich::{check, enrich};
pub(crate) use find::find;
pub(crate) use headers::headers;
pub(crate) use key::{key, with_steps};
pub(crate) use manual::manual;
pub(crate) use review::review;
pub(crate) use suggest::suggest;
pub(crate) use survey::survey;
pub(crate) use watch::watch;
pub(crate) use why::why;

/// How a run ended that nothing was wrong with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// Everything was done.
    Done,
    /// A gate does not hold, so the table was not written.
    Stopped,
}
