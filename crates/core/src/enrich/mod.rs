//! The enrichment: main rows through the lookups, in order.
//!
//! [`resolve`] finds the columns that a plan names in the tables at hand. [`Enrichment::run`] is
//! the pass: a block of main rows comes in from the source, every row of it is answered by every
//! lookup, the answers are counted, and the block goes out to the sink with the taken cells
//! beside it. Nothing of a main row is kept afterwards, so the main table may have any size.

mod appending;
mod columns;
mod corrections;
mod hands;
mod joined;
mod lots;
mod pass;
mod resolve;
mod spans;
mod stage;
mod status;
mod taken_over;
mod taking;
mod updating;

pub use appending::{Appending, NotAppended};
pub use columns::shown_columns;
pub use corrections::{Corrected, Correction, Corrections};
pub use pass::{Enrichment, Followed};
pub use resolve::{NeedsWhole, Note, Resolved, Side, added_names, resolve};
pub use status::Status;
pub use taking::{AddedCell, Taking, Unmatched};
pub use updating::{Replacing, Updating, Written, WrittenCounts};
