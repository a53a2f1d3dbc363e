//! Reading a table or a view of a database.

use std::path::Path;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread;

use gather_keys_core::table::{Headers, ascending};
use rusqlite::Connection;

use super::connection::open_for_reading;
use super::values::{ValuesChunk, ValuesParser};
use super::{order, quoted};
use crate::guard::guarded;
use crate::rows::{AHEAD, AT_ONCE};
use crate::{Error, Result};

/// How such a file begins.
pub(crate) const SIGNATURE: &[u8] = b"SQLite format 3\0";

/// How many bytes of values are handed over at a time.
const PIECE: usize = 1 << 16;

/// Reads a table or view.
pub(crate) struct TableReader {
    name: String,
    /// The connection, until the rows are asked for. A second one might see another database.
    database: Option<Connection>,
    table: String,
    headers: Headers,
    /// The columns that are read, ascending.
    read: Vec<usize>,
    /// The order of its rows, as written in a query.
    order_by: String,
    values: Option<Asked>,
}

/// A thread that goes through the rows.
struct Asked {
    pieces: Receiver<Result<ValuesChunk>>,
    /// Takes used chunks, to be filled again.
    used: SyncSender<ValuesChunk>,
}

fn unread(name: &str, error: &rusqlite::Error) -> Error {
    let fix = "check the database with its own program";
    Error::Unread { name: name.to_owned(), said: error.to_string(), fix }
}

impl TableReader {
    /// Opens a table or view of the database at `path`: the one of a name, or else the first. Gives its
    /// name, and how many there are.
    ///
    /// # Errors
    /// When the database can't be read, or has no such table.
    pub(crate) fn open(
        name: &str,
        path: &Path,
        part: Option<&str>,
        order_by: &[String],
    ) -> Result<(Self, (String, usize))> {
        let failed = |error: rusqlite::Error| unread(name, &error);
        let database = open_for_reading(path).map_err(failed)?;
        let names = tables_of(name, &database)?;
        let chosen = match part {
            None => names.first(),
            Some(part) => names.iter().find(|name| *name == part),
        };
        let none = || Error::NoPart {
            name: name.to_owned(),
            what: "table",
            asked: part.unwrap_or_default().to_owned(),
            all: names.clone(),
        };
        let table = chosen.ok_or_else(none)?.clone();
        let query = format!("select * from {}", quoted(&table));
        let headers = {
            let rows = database.prepare(&query).map_err(failed)?;
            // The library gives up at once on a name that is no text.
            let names =
                guarded(name, || rows.column_names().map(str::to_owned).collect::<Vec<_>>());
            let Some(names) = names else {
                let said = format!("the name of a column of `{table}` is not UTF-8");
                let fix = "rename the column with the database's own program";
                return Err(Error::Unread { name: name.to_owned(), said, fix });
            };
            Headers::new(name, names)
        };
        let order_by = order(&headers, order_by)?;
        let read = (0..headers.len()).collect();
        let count = names.len();
        let (name, database) = (name.to_owned(), Some(database));
        let reader =
            Self { name, database, table: table.clone(), headers, read, order_by, values: None };
        Ok((reader, (table, count)))
    }

    pub(crate) fn headers(&self) -> &Headers {
        &self.headers
    }

    pub(crate) fn want(&mut self, columns: &[usize]) {
        self.read = ascending(columns);
    }

    pub(crate) fn parser(&self) -> ValuesParser {
        ValuesParser::new(&self.name, &self.headers, &self.read)
    }

    /// The next piece; `None` when there is none left. `used` is one that is needed no more.
    ///
    /// # Errors
    /// When the database can't be read.
    pub(crate) fn read_chunk(&mut self, used: ValuesChunk) -> Result<Option<ValuesChunk>> {
        if let Some(database) = self.database.take() {
            let (query, picked) = self.query();
            self.values = Some(begin(&self.name, database, query, picked)?);
        }
        let Some(values) = &self.values else { return Ok(None) };
        // A chunk that finds no room is dropped.
        let _ = values.used.try_send(used);
        values.pieces.recv().map_or(Ok(None), |piece| piece.map(Some))
    }

    /// The query of the columns that are read, and their places among its columns.
    fn query(&self) -> (String, Vec<usize>) {
        let table = format!("{}{}", quoted(&self.table), self.order_by);
        // Of two columns with one name, the name means the first.
        let is_plain = (0..self.headers.len())
            .all(|column| self.headers.address(column) == self.headers.name(column));
        if self.read.is_empty() {
            return (format!("select null from {table}"), Vec::new());
        }
        if self.read.len() == self.headers.len() || !is_plain {
            return (format!("select * from {table}"), self.read.clone());
        }
        let columns: Vec<String> =
            self.read.iter().map(|&column| quoted(self.headers.name(column))).collect();
        let picked = (0..columns.len()).collect();
        (format!("select {} from {table}", columns.join(", ")), picked)
    }
}

/// The names of the tables and views of the database at `path`, in the order in which they were made.
///
/// # Errors
/// When the database can't be read.
pub(crate) fn tables(name: &str, path: &Path) -> Result<Vec<String>> {
    let database = open_for_reading(path).map_err(|error| unread(name, &error))?;
    tables_of(name, &database)
}

fn tables_of(name: &str, database: &Connection) -> Result<Vec<String>> {
    let names = names(database).map_err(|error| unread(name, &error))?;
    if let Some(bad) = names.iter().find_map(|name| name.as_ref().err()) {
        let said = format!("the name of a table is not UTF-8 ({bad})");
        let fix = "rename the table with the database's own program";
        return Err(Error::Unread { name: name.to_owned(), said, fix });
    }
    Ok(names.into_iter().flatten().collect())
}

fn names(
    database: &Connection,
) -> rusqlite::Result<Vec<std::result::Result<String, std::str::Utf8Error>>> {
    let mut names = database.prepare(
        "select name from sqlite_master where type in ('table', 'view') \
         and name not like 'sqlite\\_%' escape '\\' order by rowid",
    )?;
    let names = names.query_map([], |row| {
        let name = row.get_ref(0)?.as_bytes_or_null()?.unwrap_or_default();
        Ok(str::from_utf8(name).map(str::to_owned))
    })?;
    names.collect()
}

/// Begins to ask, in a thread of its own.
fn begin(name: &str, database: Connection, query: String, picked: Vec<usize>) -> Result<Asked> {
    let (send, pieces) = sync_channel(AHEAD);
    let (used, free) = sync_channel(2 * AHEAD);
    let called = name.to_owned();
    let work = move || {
        if let Err(error) = ask(&database, &query, &picked, (&send, &free)) {
            // Nobody needs to know if nobody waits.
            let _ = send.send(Err(unread(&called, &error)));
        }
    };
    let began = thread::Builder::new().name("table".to_owned()).spawn(work);
    began.map_err(|cause| Error::Read { name: name.to_owned(), cause })?;
    Ok(Asked { pieces, used })
}

fn ask(
    database: &Connection,
    query: &str,
    picked: &[usize],
    (send, free): (&SyncSender<Result<ValuesChunk>>, &Receiver<ValuesChunk>),
) -> rusqlite::Result<()> {
    let mut rows = database.prepare(query)?;
    let mut rows = rows.query([])?;
    let empty = || free.try_recv().unwrap_or_default().emptied(PIECE + PIECE / 8);
    let mut piece = empty();
    while let Some(row) = rows.next()? {
        for &column in picked {
            piece.push(row.get_ref(column)?);
        }
        piece.end_row();
        if piece.len() >= PIECE || piece.rows() == AT_ONCE {
            let whole = std::mem::replace(&mut piece, empty());
            if send.send(Ok(whole)).is_err() {
                return Ok(());
            }
        }
    }
    if piece.rows() > 0 {
        let _ = send.send(Ok(piece));
    }
    Ok(())
}
