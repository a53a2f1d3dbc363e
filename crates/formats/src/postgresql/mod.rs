//! Tables of a `PostgreSQL` server: tables and views are read, tables written.
//!
//! An address is `postgres://USER@HOST:PORT/DATABASE#SCHEMA.TABLE`. The password may be in it, in
//! `PGPASSWORD` or in the usual password file; no message shows it.

mod address;
mod connection;
mod copied_rows;
mod encryption;
mod identity;
mod in_database;
mod inheritance;
mod password;
mod reader;
mod updater;
mod value;
mod writer;

pub use address::ServerAddress;
pub use identity::TableIdentity;
pub use in_database::{
    Answering, Canceller, Counter, Crossing, InDatabase, Most, TableSum, Told, Watcher,
};
pub(crate) use reader::{open, tables};
pub use updater::ServerUpdater;
pub use writer::ServerWriter;

use gather_keys_core::sql::quoted;
