//! The enrichment: main rows through the lookups, in order.
//!
//! An [`EnrichmentBuilder`] finds the columns that plans name in the tables, and loads the references.
//! [`Enrichment::run`] is the pass: it reads a block
//! of main rows, answers every row by every lookup, counts the answers, assembles the output rows, and writes them
//! to the sink. No main row is kept afterwards, so that the main table may have any size.
//!
//! ```text
//! pass ── stage ── row_output, pass_through     a block, on any thread
//!   └──── ordered_output                        blocks in order: counts, findings, sink
//! bounded                                       the pass with references on disk
//! ```

mod appending;
mod bounded;
mod builder;
mod chosen;
mod columns;
mod corrections;
mod joined;
mod ordered_output;
mod pass;
mod pass_through;
mod resolve;
mod row_output;
mod stage;
mod updated_cells;
mod updating;

pub use appending::Appending;
pub(crate) use appending::split;
pub use builder::EnrichmentBuilder;
pub use columns::{selected_columns, shown_columns};
pub(crate) use corrections::status_columns;
pub use corrections::{ANY, Corrections};
pub use pass::{Enrichment, LookupTrace};
pub use resolve::{NeedsWhole, Note, Resolved, Side, resolve};
pub use row_output::{AddedCell, RowOutput, Unmatched};
pub use updating::{Replacing, Updating};
