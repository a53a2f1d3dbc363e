//! Databases in a file, as `SQLite` keeps them: tables and views are read, tables written.

mod reader;
mod writer;

pub(crate) use reader::{BEGINS, open};
pub use writer::DatabaseWriter;
