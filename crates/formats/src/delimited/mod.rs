//! Delimited text: rows on lines, cells between delimiters, double quotes around what needs them.
//!
//! What a cell is, is settled by the csv crate's parser (`csv-core`); beside the cells the reader
//! keeps the bytes of each row, so that the writer can put a row back as it stood.

mod detect;
mod dialect;
mod reader;
mod records;
mod writer;

pub use dialect::{Dialect, Layout};
pub use reader::{ReadOptions, Reader};
pub use writer::Writer;
