//! Tables of a `PostgreSQL` server: tables and views are read, tables written.
//!
//! An address is `postgres://USER@HOST:PORT/DATABASE#SCHEMA.TABLE`. The password may stand in it, in
//! `PGPASSWORD` or in the usual password file; it is never told to anybody else.

mod address;
mod connection;
mod copied_rows;
mod encryption;
mod identity;
mod password;
mod reader;
mod value;
mod writer;

pub use address::ServerAddress;
pub use identity::TableIdentity;
pub(crate) use reader::open;
pub use writer::ServerWriter;

/// A name as it stands in a statement.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}
