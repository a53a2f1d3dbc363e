//! Tables: headers, blocks of rows, and the traits by which tables are read and written.
//!
//! A table flows as [`Block`]s. A [`Source`] reads chunks of a table and its [`Parser`] makes blocks of them; a
//! [`Sink`] writes what its [`Renderer`] makes of blocks. A [`MemoryTable`] is both a table in memory and a
//! source.

mod arranged;
mod block;
mod by_columns;
mod cell_kind;
mod headers;
pub(crate) mod in_order;
mod kept_columns;
mod lines;
mod meant_header;
mod memory_table;
mod output_columns;
mod overlay;
pub(crate) mod packed;
mod packer;
mod raw_columns;
mod row;
mod sink;
mod source;
mod total_row;
mod unquoted_rows;

pub use arranged::{Arranged, Differing};
pub use block::{Block, NotText, Parts, RowBytes, RowPlaces, Span};
pub use by_columns::{AddedText, ColumnCells, SaidCell};
pub use cell_kind::CellKind;
pub(crate) use headers::without_clash;
pub use headers::{Found, Headers};
pub use kept_columns::{KeptColumns, ascending};
pub use lines::Lines;
pub(crate) use meant_header::meant_header;
pub use memory_table::{Collected, MemoryTable};
pub use output_columns::{OutputCell, OutputColumns, Run};
pub use overlay::Overlay;
pub(crate) use packer::Packer;
pub(crate) use raw_columns::RawSlice;
pub use raw_columns::{RawCells, RawColumns, RawForm, RawRow};
pub use row::Row;
pub use sink::{Discard, OwnCells, PassThrough, Rendered, Renderer, RowOutcome, RowOutcomes, Sink};
pub use source::{Before, Parser, Source};
pub use total_row::TotalRow;
pub use unquoted_rows::RawRowForm;
