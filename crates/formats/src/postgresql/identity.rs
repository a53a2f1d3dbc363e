//! The table of an address as the server sees it, and what is declared of it.

use postgres::{Client, Error};

/// A database of a running server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct DatabaseIdentity {
    /// When the server was started, to the microsecond: no two servers were at once.
    server: String,
    database: u32,
}

impl DatabaseIdentity {
    /// The database that a connection leads to.
    pub(super) fn of(client: &mut Client) -> Result<Self, Error> {
        let row = client.query_one(
            "select pg_postmaster_start_time()::text, \
             (select oid from pg_database where datname = current_database())",
            &[],
        )?;
        Ok(Self { server: row.get(0), database: row.get(1) })
    }
}

/// A table of a database of a running server. Addresses that are spelled differently may mean one table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableIdentity {
    database: DatabaseIdentity,
    pub(super) table: u32,
}

impl TableIdentity {
    /// The identity of a table that is there.
    pub(super) fn find(client: &mut Client, schema: &str, table: &str) -> Result<Self, Error> {
        let row = client.query_one(
            "select c.oid from pg_class c join pg_namespace n on n.oid = c.relnamespace \
             where n.nspname = $1 and c.relname = $2",
            &[&schema, &table],
        )?;
        Ok(Self { database: DatabaseIdentity::of(client)?, table: row.get(0) })
    }
}

/// The types that the columns of a table are declared with.
pub(super) fn declared(client: &mut Client, table: u32) -> Result<Vec<String>, Error> {
    let rows = client.query(
        "select format_type(atttypid, atttypmod) from pg_attribute \
         where attrelid = $1 and attnum > 0 and not attisdropped order by attnum",
        &[&table],
    )?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}
