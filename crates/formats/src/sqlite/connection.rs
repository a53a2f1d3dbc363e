//! Connections to a database in a file.

use std::path::{Path, PathBuf};

use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags};

use crate::{Error, Result};

/// How many bytes the library may allocate while a database is read.
const MOST_MEMORY: u64 = 256 << 20;

/// A connection that only reads.
///
/// A run of some program that was ended while it wrote leaves a journal. The database is restored from it first, by a
/// connection that may write.
pub(super) fn open_for_reading(path: &Path) -> rusqlite::Result<Connection> {
    let mut journal = PathBuf::from(path).into_os_string();
    journal.push("-journal");
    if Path::new(&journal).metadata().is_ok_and(|facts| facts.len() > 0) {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let restored = Connection::open_with_flags(path, flags)?;
        restored.query_row("select count(*) from sqlite_master", [], |_| Ok(()))?;
    }
    // One thread uses it, so that no call need lock it.
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(path, flags)?;
    // A view of a stranger's database may call nothing that does more than compute.
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true)?;
    // Nor may it fill the memory, which the library allocates by itself. Sorting goes by way of files.
    connection.query_row(&format!("pragma hard_heap_limit = {MOST_MEMORY}"), [], |_| Ok(()))?;
    Ok(connection)
}

/// A connection that writes, and lets nothing but what it is reported to write change: no row of another table follows a
/// row that is removed, and no trigger fires.
pub(super) fn open_for_writing(name: &str, path: &Path) -> Result<Connection> {
    let failed = |error: rusqlite::Error| failed(name, &error);
    let is_new = path.metadata().map_or(true, |facts| facts.len() == 0);
    let connection = Connection::open(path).map_err(failed)?;
    if is_new {
        // Nobody needs to restore an earlier state, so that no journal is left either.
        connection.execute_batch("pragma journal_mode = memory").map_err(failed)?;
    }
    connection
        .execute_batch("pragma foreign_keys = off; pragma temp_store = file")
        .map_err(failed)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false).map_err(failed)?;
    // A file that is not a database is reported before any work.
    connection.query_row("select count(*) from sqlite_master", [], |_| Ok(())).map_err(failed)?;
    Ok(connection)
}

/// The message of the database, as an error of writing.
pub(super) fn failed(name: &str, error: &rusqlite::Error) -> Error {
    use rusqlite::ErrorCode::{
        ConstraintViolation, DatabaseBusy, DatabaseLocked, DiskFull, ReadOnly, SchemaChanged,
    };

    let fix = match error.sqlite_error_code() {
        Some(DatabaseBusy | DatabaseLocked | SchemaChanged) => {
            "another program holds it: run again once that has ended"
        }
        Some(DiskFull) => "free some space on the disk",
        Some(ReadOnly) => "change its permissions, or name another database",
        Some(ConstraintViolation) => {
            "the table's own rules refuse a row: correct it, or name another table"
        }
        _ => "check the database with its own program, or name another",
    };
    Error::Database { name: name.to_owned(), said: error.to_string(), fix }
}
