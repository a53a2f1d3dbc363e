//! The computation behind Gather Keys.
//!
//! A main table and its reference tables come in as blocks of rows through the trait [`table::Source`]; the main
//! table's blocks go out, with the taken cells after them, through [`table::Sink`]. Nothing here opens a file,
//! prints, reads a clock or looks at the environment.
//!
//! # Example
//!
//! Two tables in memory, a key of two columns, the result, and the findings:
//!
//! ```
//! use gather_keys_core::enrich::EnrichmentBuilder;
//! use gather_keys_core::findings::Kind;
//! use gather_keys_core::plan::{On, ReferencePlan, Take};
//! use gather_keys_core::table::{Collected, MemoryTable};
//!
//! let mut harvest = MemoryTable::new(
//!     "harvest",
//!     ["Batch", "Apiary", "Hive"],
//!     [["B1", "Fellside", "7"], ["B2", "Larkfield", "7"], ["B3", "Fellside", "9"]],
//! );
//! let mut hives = MemoryTable::new(
//!     "hives",
//!     ["Site", "Tag", "Keeper"],
//!     [["Fellside", "007", "Edda"], ["Larkfield", "7", "Orla"], ["Larkfield", "7", "Tamsin"]],
//! );
//!
//! // The key: apiary and hive. A step reads 007 as the number 7.
//! let plan = ReferencePlan {
//!     name: "hives".to_owned(),
//!     on: On::parse(&["Apiary = Site, Hive | number = Tag | number"])?,
//!     take: Some(Take::parse("Keeper as Beekeeper, @status")?),
//!     ..ReferencePlan::default()
//! };
//! let mut builder = EnrichmentBuilder::new(harvest.headers(), [1, 2, 3, 4]);
//! builder.reference(&plan, &mut hives, 2)?;
//! let mut enrichment = builder.finish();
//!
//! // The result: a cell is filled only when there is exactly one answer.
//! let mut out = Collected::default();
//! let findings = enrichment.run(&mut harvest, &mut out, None, 2)?;
//! assert_eq!(out.headers, ["Batch", "Apiary", "Hive", "Beekeeper", "hives status"]);
//! assert_eq!(
//!     out.rows,
//!     [
//!         ["B1", "Fellside", "7", "Edda", "matched"],
//!         ["B2", "Larkfield", "7", "", "ambiguous"],
//!         ["B3", "Fellside", "9", "", "unmatched"],
//!     ]
//! );
//!
//! // The findings: counts, and samples with their rows.
//! let found = &findings.lookups[0];
//! assert_eq!(found.counts.of(Kind::Matched), 1);
//! assert_eq!(found.counts.of(Kind::Conflicting), 1);
//! let ambiguous = &found.samples(Kind::Ambiguous)[0];
//! assert_eq!((ambiguous.row, &ambiguous.key[..]), (2, &["Larkfield".to_owned(), "7".to_owned()][..]));
//! # Ok::<(), gather_keys_core::Error>(())
//! ```
//!
//! # Modules
//!
//! The modules, each of which uses only those above it:
//!
//! | module | what it holds |
//! |---|---|
//! | [`value`] | what a blank, a number, a date and a moment are |
//! | [`table`] | cells, blocks of rows, headers, and how tables are read and written |
//! | [`template`] | text with placeholders and steps |
//! | [`key`] | the parts of a key as packed text |
//! | [`plan`] | the description of an enrichment |
//! | [`spill`] | storage for tables that do not fit in memory |
//! | [`lookup`] | from the key of a main row to its reference row |
//! | [`findings`] | what the person should know about the keys |
//! | [`enrich`] | the pass over the main table |
//! | [`sql`] | the same enrichment as statements, for tables in a database |
//! | [`diagnosis`] | why keys are unmatched, and what would fix them |
//! | [`review`] | what only a person can settle |
//! | [`survey`] | a look at a table by itself |
//! | [`report`] | all findings as values, for reports |
//! | [`receipt`] | the record of a run |

pub mod diagnosis;
pub mod enrich;
mod error;
pub mod findings;
mod hashing;
pub mod key;
pub mod lookup;
pub mod parallel;
pub mod plan;
pub mod receipt;
pub mod report;
pub mod review;
pub mod spill;
pub mod sql;
pub mod survey;
pub mod table;
pub mod template;
pub mod value;

pub use error::{Error, Result};
