//! Findings: what the person should know about the keys.
//!
//! In go the answers of each lookup, row by row and in order; out come counts that always add up,
//! a few samples of each trouble, and, to whoever records them, every single finding. Counting is
//! all that happens on the way of an ordinary matched row.

mod appended;
mod corrected;
mod gate;
mod kind;
mod recorder;
mod rows_asked;
mod sample;
mod status;
mod tally;
mod times_asked;
mod unmatched;
mod written;

pub use appended::{Appended, NotAppended};
pub use corrected::{Corrected, Correction};
pub use gate::{Gate, GateResult, Relation};
pub use kind::{Counts, Kind, KindInfo, Population, Severity};
pub use recorder::{Change, ChangedBy, MainFinding, Recorder};
pub(crate) use rows_asked::RequestedRows;
pub use sample::{SAMPLES, Sample};
pub use status::Status;
pub use tally::{Findings, LookupFindings, UpdateFindings};
pub(crate) use tally::{Tallied, Tally};
pub(crate) use times_asked::RequestCounts;
pub use unmatched::{KEPT, UnmatchedKey, UnmatchedKeys};
pub use written::{Written, WrittenCounts};
