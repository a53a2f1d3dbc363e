//! Reading a table or a view of a server.
//!
//! The server copies it out as it is at one moment, row after row, in as much memory as one row takes.
//! The bytes from the server are passed on as they arrive, so that they can be observed, and then split.

use std::io::{self, BufReader, Read};
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread;

use gather_keys_core::table::Headers;
use postgres::Client;

use super::connection::reported;
use super::copied_rows::CopiedRows;
use super::identity::{TableIdentity, declared};
use super::value::Spelling;
use super::{ServerAddress, quoted};
use crate::error::said;
use crate::guard::count_unbounded;
use crate::rows::{AHEAD, Streamed};
use crate::sqlite::order;
use crate::{Error, Result, Tap};

/// How many bytes are handed over at a time.
const PIECE: usize = 1 << 16;

/// The description of an open table.
pub(crate) struct OpenedTable {
    /// Its name.
    pub(crate) table: String,
    /// Among how many it was chosen.
    pub(crate) tables: usize,
    pub(crate) identity: TableIdentity,
    /// The types that its columns are declared with.
    pub(crate) declared: Vec<String>,
}

/// Begins to read a table or view: the one of a name, or else the first, in the order of some of its columns if
/// these are given. All that comes from the server passes through `tap`.
///
/// Without an order rows come as the server has them, from its first page on and by one process, so that they come
/// in the same order as long as nobody changes the table.
///
/// # Errors
/// When the server can't be reached, refuses, or has no such table.
pub(crate) fn open(
    address: &ServerAddress,
    order_by: &[String],
    tap: &dyn Tap,
) -> Result<(Streamed, OpenedTable)> {
    let name = address.to_string();
    let failed = |error: postgres::Error| Error::Server {
        name: name.clone(),
        said: reported(&error),
        fix: "check that the user may read the table",
    };
    count_unbounded();
    let mut client = address.connect()?;
    client
        .batch_execute(&format!(
            "{SPELLING}; set max_parallel_workers_per_gather = 0; \
             begin transaction isolation level repeatable read, read only"
        ))
        .map_err(failed)?;
    let (schema, table, count) =
        chosen(&mut client, address).map_err(failed)?.ok_or_else(|| {
            let all = names(&mut client, NAMED).unwrap_or_default();
            let asked = address.table().unwrap_or_default().to_owned();
            Error::NoPart { name: address.database(), what: "table", asked, all }
        })?;
    let from = format!("{}.{}", quoted(&schema), quoted(&table));
    let statement = client.prepare(&format!("select * from {from}")).map_err(failed)?;
    let headers: Vec<String> =
        statement.columns().iter().map(|column| column.name().to_owned()).collect();
    let spellings: Vec<Spelling> =
        statement.columns().iter().map(|column| Spelling::of(column.type_())).collect();
    let headers = Headers::new(&name, headers);
    let order = order(&headers, order_by)?;
    let identity = TableIdentity::find(&mut client, &schema, &table).map_err(failed)?;
    let declared = declared(&mut client, identity.table).map_err(failed)?;
    let copy = format!("copy (select * from {from}{order}) to stdout");
    let begun = copied(client, copy).map_err(|cause| Error::Read { name: name.clone(), cause })?;
    let text = tap.on(Box::new(begun));
    let called = name.clone();
    let streamed = Streamed::begin(&name, move |hand| {
        hand.headers(headers)?;
        let mut rows = CopiedRows::new(BufReader::with_capacity(PIECE, text));
        let mut room = String::new();
        loop {
            let mut spellings = spellings.iter();
            let row = rows.next_row(|value| {
                if let Some(spelling) = spellings.next() {
                    let (cell, kind) = spelling.cell(value, &mut room);
                    hand.cell(cell, kind);
                }
            });
            let is_row = row.map_err(|cause| Error::Read { name: called.clone(), cause })?;
            if !is_row {
                return Ok(());
            }
            hand.end_row()?;
        }
    })?;
    Ok((streamed, OpenedTable { table, tables: count, identity, declared }))
}

/// The forms that a server writes values in, and the order that it reads rows in, for every session.
pub(super) const SPELLING: &str = "set datestyle = iso; set timezone = utc; \
    set intervalstyle = postgres; set extra_float_digits = 1; set bytea_output = hex; \
    set synchronize_seqscans = off; set standard_conforming_strings = on";

/// The tables and views of the database that are no part of the server itself.
const TABLES: &str = "select n.nspname, c.relname from pg_class c join pg_namespace n \
    on n.oid = c.relnamespace where c.relkind in ('r', 'v', 'm', 'p', 'f') \
    and n.nspname not in ('pg_catalog', 'information_schema') and n.nspname !~ '^pg_(toast|temp)'";

/// The schema and the name of the table that is meant, and among how many it was chosen.
pub(super) fn chosen(
    client: &mut Client,
    address: &ServerAddress,
) -> std::result::Result<Option<(String, String, usize)>, postgres::Error> {
    let Some(asked) = address.table() else {
        let order = "and pg_table_is_visible(c.oid) order by c.relname";
        let all = client.query(&format!("{TABLES} {order}"), &[])?;
        return Ok(all.first().map(|row| (row.get(0), row.get(1), all.len())));
    };
    let visible = "and pg_table_is_visible(c.oid) and c.relname = $1";
    let mut found = client.query(&format!("{TABLES} {visible}"), &[&asked])?;
    if found.is_empty()
        && let Some((first, table)) = asked.split_once('.')
    {
        let named = "and n.nspname = $1 and c.relname = $2";
        found = client.query(&format!("{TABLES} {named}"), &[&first, &table])?;
    }
    Ok(found.first().map(|row| (row.get(0), row.get(1), 1)))
}

/// The names of all tables and views of a database, without the schema where it is not needed.
///
/// # Errors
/// When the server can't be reached, or refuses.
pub(crate) fn tables(address: &ServerAddress) -> Result<Vec<String>> {
    let refused = |error: postgres::Error| Error::Server {
        name: address.to_string(),
        said: reported(&error),
        fix: "check that the user may read the database",
    };
    names(&mut address.connect()?, i64::MAX).map_err(refused)
}

/// How many tables an error names.
pub(super) const NAMED: i64 = 40;

/// The names of the first tables of a database.
pub(super) fn names(
    client: &mut Client,
    most: i64,
) -> std::result::Result<Vec<String>, postgres::Error> {
    let name = "case when pg_table_is_visible(c.oid) then c.relname \
                else n.nspname || '.' || c.relname end";
    let query = TABLES.replace("n.nspname, c.relname", name);
    let rows = client.query(&format!("{query} order by 1 limit $1"), &[&most])?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}

/// The rows that a server copies out, by a thread that asks it.
struct Copied {
    pieces: Receiver<io::Result<Vec<u8>>>,
    piece: Vec<u8>,
    at: usize,
}

fn copied(mut client: Client, statement: String) -> io::Result<Copied> {
    let (send, pieces) = sync_channel::<io::Result<Vec<u8>>>(AHEAD);
    let work = move || {
        let refused = |error: &postgres::Error| {
            said(format!("the server stopped: {}; run again", reported(error)))
        };
        let mut copy = match client.copy_out(&statement) {
            Ok(copy) => copy,
            // Nobody needs to know if nobody waits.
            Err(error) => return drop(send.send(Err(refused(&error)))),
        };
        loop {
            let mut piece = Vec::with_capacity(PIECE);
            let read = copy.by_ref().take(PIECE as u64).read_to_end(&mut piece);
            let sent = match read {
                Ok(0) => return,
                // Behind its end nothing may be asked for any more.
                Ok(some) if some < PIECE => return drop(send.send(Ok(piece))),
                Ok(_) => send.send(Ok(piece)),
                Err(cause) => {
                    let cause = cause.get_ref().and_then(|cause| cause.downcast_ref());
                    let cause = cause.map_or_else(
                        || said("the connection to the server is lost; run again".to_owned()),
                        refused,
                    );
                    return drop(send.send(Err(cause)));
                }
            };
            if sent.is_err() {
                return;
            }
        }
    };
    thread::Builder::new().spawn(work)?;
    Ok(Copied { pieces, piece: Vec::new(), at: 0 })
}

impl Read for Copied {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        if self.at == self.piece.len() {
            match self.pieces.recv() {
                Ok(piece) => (self.piece, self.at) = (piece?, 0),
                Err(_) => return Ok(0),
            }
        }
        let read = bytes.len().min(self.piece.len() - self.at);
        bytes[..read].copy_from_slice(&self.piece[self.at..self.at + read]);
        self.at += read;
        Ok(read)
    }
}
