//! Columnar files, as Parquet and Arrow keep them: tables in batches of typed columns.
//!
//! Reading decodes batches, of the wanted columns only, one after the other; making cells of them is
//! done by as many threads as there are. Writing comes the other way: the cells of a table say only
//! when all are seen which type each column can have, so they wait in a temporary file until then.

mod arrow_file;
mod batches;
mod cells;
mod dictionary;
mod fit;
mod leaf;
mod reader;
mod repeats;
mod spool;
mod typed;
mod writer;

pub(crate) use batches::{ARROW, ARROW_STREAM, PARQUET};
pub(crate) use fit::texts;
pub use leaf::StoredType;
pub(crate) use reader::{BatchChunk, BatchFault, BatchParser, BatchReader};
pub(crate) use spool::{Spool, Spooled, TextBatch, TextRenderer};
pub use writer::ColumnarWriter;

/// The kinds of columnar files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Columnar {
    /// Parquet.
    Parquet,
    /// Arrow, with a list of its batches at the end.
    Arrow,
    /// Arrow, one batch after the other.
    ArrowStream,
}

impl Columnar {
    /// The name of such a file.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Parquet => "Parquet file",
            Self::Arrow | Self::ArrowStream => "Arrow file",
        }
    }
}
