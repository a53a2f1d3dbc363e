//! Databases in a file, as `SQLite` keeps them: tables and views are read, tables written.

mod connection;
mod reader;
mod values;
mod writer;

pub(crate) use reader::{BEGINS, TableReader};
pub use values::{NotText, ValuesParser, ValuesPiece};
pub use writer::DatabaseWriter;

/// A name as it stands in a statement.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}
