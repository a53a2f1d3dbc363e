//! Databases in a file, as `SQLite` keeps them: tables and views are read, tables written.

use gather_keys_core::table::Headers;

use crate::Result;

mod connection;
mod reader;
mod updater;
mod values;
mod writer;

pub(crate) use reader::{SIGNATURE, TableReader, tables};
pub use updater::TableUpdater;
pub use values::{NotText, ValuesChunk, ValuesParser};
pub use writer::DatabaseWriter;

/// A name as it is in a statement.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// The clause that orders the rows of a query by these columns, which the table must have.
pub(crate) fn order(headers: &Headers, order_by: &[String]) -> Result<String> {
    let mut columns = Vec::new();
    for header in order_by {
        columns.push(quoted(headers.name(headers.find(header)?.column)));
    }
    Ok(if columns.is_empty() { String::new() } else { format!(" order by {}", columns.join(", ")) })
}
