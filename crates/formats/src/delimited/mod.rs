//! Delimited text: rows on lines, cells between delimiters, double quotes around what needs them.
//!
//! The reader returns chunks that end where a row does, and a parser finds the rows and cells in each, as
//! the csv crate would. A block also keeps the bytes of each row, so that the writer can write a row back
//! unchanged.

mod byte_classifier;
mod copy_buffer;
mod cut;
mod detect;
mod dialect;
mod encoding;
mod parser;
mod reader;
mod rearranged;
mod row_cells;
mod scan;
mod structural_index;
mod writer;

pub use dialect::{Dialect, Layout};
pub use encoding::{Encoded, Encoding, NotInEncoding, Unencodable, decoded};
pub use parser::{Fault, TextParser};
pub use reader::{HeaderRow, ReadOptions, Reader};
pub(crate) use row_cells::row_cells;
pub(crate) use writer::push_cell;
pub use writer::{TextRenderer, Writer};
