//! Lookups: from the key of a main row to its reference row.
//!
//! A [`ReferenceBuilder`] takes a reference table block by block and builds a [`Reference`]; a [`Lookup`] joins it
//! to the key of a main table and gives each main row its [`Answer`]. Where several reference rows hold a key,
//! their [ranges](Bounds) and a [`Rule`] decide.
//!
//! ```text
//! build/   rows are packed and collected      store/   where their text is
//! index/   where their keys are found         probe/   main rows ask
//! ```

mod answer;
mod build;
mod group;
mod ids;
mod index;
mod probe;
mod reference;
mod rule;
mod search;
mod soundness;
mod spec;
mod spilled;
mod store;

pub use crate::hashing::Seed;
pub use answer::{Answer, Miss};
pub(crate) use build::SPARE_ROWS;
pub use build::{Overflow, ReferenceBuilder, SomeRows};
pub use group::Group;
pub use ids::{EntryId, RowId};
pub(crate) use index::RangeMatch;
pub(crate) use probe::NamedColumn;
pub use probe::{Alias, AliasFacts, AliasKeys, AliasState, HeaderTemplate, Lookup, ProbeBuffers};
pub(crate) use probe::{OfParts, WholeAlias};
pub use reference::Reference;
pub use rule::Rule;
pub use search::{Hit, Hits, Wanted};
pub use soundness::Unsound;
pub(crate) use spec::RangeSpec;
pub use spec::{Bounds, TakenColumns};
pub(crate) use spilled::KeyStatistics;
