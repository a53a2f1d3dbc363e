//! Findings: what the person should know about the keys.
//!
//! The answers of each lookup go in, row by row and in order. Counts that always add up come out, with a
//! few samples of each trouble, and every single finding for a recorder. An ordinary matched row is only
//! counted.

mod appended;
mod bound;
mod corrected;
mod counted;
mod gate;
mod kind;
mod recorder;
mod request_counts;
mod requested_rows;
mod sample;
mod status;
mod tally;
mod unmatched;
mod written;

pub use appended::{Appended, NotAppended};
pub use corrected::{Corrected, Correction};
pub use counted::{Counted, CountedRow};
pub use gate::{CountGate, Gate, GateResult};
pub use kind::{Counts, Kind, KindInfo, Population, Severity};
pub use recorder::{AskedBy, Change, ChangedBy, ChangingRow, MainFinding, Recorder};
pub(crate) use request_counts::RequestCounts;
pub(crate) use requested_rows::RequestedRows;
pub use sample::{SAMPLES, Sample};
pub use status::Status;
pub use tally::{Findings, LookupFindings, UpdateFindings};
pub(crate) use tally::{Tallied, Tally};
pub use unmatched::{KEPT, UnmatchedKey, UnmatchedKeys};
pub use written::{Written, WrittenCounts};
