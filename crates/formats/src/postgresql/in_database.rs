//! An enrichment inside the database where its tables are.
//!
//! In goes the script that the core makes of the plans; the server carries it out in one transaction, of one snapshot. What
//! comes here are counts, the rows that findings name, and the different values that only this program can read. Nobody
//! sees the output before the end, and a run that ends before leaves the database as it was.

mod counters;
mod crossing;
mod described;
mod findings;
mod shipped;
mod target;

pub use counters::{Counter, Watcher};
pub use crossing::Crossing;
pub use findings::{Answering, Most};

use std::io::{self, Write};

use gather_keys_core::sql::{Reading, Script, Step, StoredTable, sum_of};
use postgres::{CancelToken, Client, NoTls, Row};

use super::connection::reported;
use super::encryption::encrypted;
use super::identity::{DatabaseIdentity, TableIdentity};
use super::reader::SPELLING;
use super::writer::There;
use super::{ServerAddress, quoted};
use crate::{Error, Result, WholeFile};

/// How many rows are fetched at a time.
const AT_ONCE: usize = 10_000;

/// The memory that the server may take for a step of a statement: answers are joined by tables of hashes.
const WORK_MEMORY: &str = "256MB";

/// The settings of the transaction: answers are joined by tables of hashes, and partitions one by one, where they are.
fn settings() -> String {
    format!(
        "set local work_mem = '{WORK_MEMORY}'; set local enable_mergejoin = off; set local jit = off; \
         set local enable_partitionwise_join = on; set local enable_partitionwise_aggregate = on;"
    )
}

/// Cancels the statement that a server is carrying out.
#[derive(Clone)]
pub struct Canceller {
    token: CancelToken,
}

impl Canceller {
    /// Asks the server to stop.
    pub fn cancel(&self) {
        // A server that can't be asked notices that nobody listens any more.
        let _ = match encrypted() {
            Ok(encrypted) => self.token.cancel_query(encrypted),
            Err(_) => self.token.cancel_query(NoTls),
        };
    }
}

impl std::fmt::Debug for Canceller {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Canceller").finish_non_exhaustive()
    }
}

/// An enrichment inside a database.
pub struct InDatabase {
    address: ServerAddress,
    name: String,
    client: Client,
    target: Option<Target>,
    /// The statements, for somebody who wants to read them or to run them again.
    shown: Option<WholeFile>,
    /// How many bytes of values went each way.
    sent: u64,
    received: u64,
    /// What came from other servers, where that is counted.
    crossing: Option<Crossing>,
}

/// The table that is written.
#[derive(Debug)]
struct Target {
    name: String,
    schema: String,
    table: String,
    there: Option<There>,
}

impl Target {
    /// Its name in statements.
    fn name(&self) -> String {
        format!("{}.{}", quoted(&self.schema), quoted(&self.table))
    }
}

/// The sum of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableSum {
    /// How many rows it has.
    pub rows: u64,
    /// How many bytes these have as texts.
    pub bytes: u64,
    /// Their digest, which does not depend on their order.
    pub digest: String,
}

/// What is going on, for a person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Told {
    /// The step, in a sentence.
    pub about: String,
    /// The number of the step, from 1, and how many there are.
    pub nth: usize,
    /// How many steps there are.
    pub of: usize,
}

impl std::fmt::Debug for InDatabase {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("InDatabase").field("name", &self.name).finish_non_exhaustive()
    }
}

impl InDatabase {
    /// Begins a transaction in the database of an address.
    ///
    /// # Errors
    /// [`Error::Server`] when the server can't be reached or refuses, or the database is not in UTF-8.
    pub fn begin(address: &ServerAddress) -> Result<Self> {
        let name = address.database();
        let mut client = address.connect()?;
        let failed = |error: postgres::Error| failed(&name, &error);
        // The wait for a lock is limited, by the address or else by this.
        let patience = "select set_config('lock_timeout', '30s', false) \
                        where current_setting('lock_timeout') = '0'";
        let session = format!("{SPELLING}; set client_min_messages = error; {patience}");
        client.batch_execute(&session).map_err(failed)?;
        let begin = format!("begin transaction isolation level repeatable read; {}", settings());
        client.batch_execute(&begin).map_err(failed)?;
        let encoding = client.query_one("select current_setting('server_encoding')", &[]);
        let encoding: String = encoding.map_err(failed)?.get(0);
        if encoding != "UTF8" {
            let said = format!("the database is in {encoding}, not in UTF8");
            let fix = "let the tables be read here, not inside the database";
            return Err(Error::Server { name, said, fix });
        }
        Ok(Self {
            address: address.clone(),
            name,
            client,
            target: None,
            shown: None,
            sent: 0,
            received: 0,
            crossing: None,
        })
    }

    /// Writes the statements to a file as they are carried out, so that they can be read, and run again.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn show(&mut self, file: WholeFile) -> Result<()> {
        self.shown = Some(file);
        let spelling = SPELLING.replace("; ", ";\n");
        self.show_text(&format!(
            "-- To be run with psql. Nobody sees anything of it before the end, when the output appears.\n\
             \\set ON_ERROR_STOP on\n{spelling};\nbegin transaction isolation level repeatable read;\n{}\n\n",
            settings().replace("; ", ";\n")
        ))
    }

    /// The file of the statements, with their end.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn take_shown(&mut self) -> Result<Option<WholeFile>> {
        self.show_text(if self.target.is_some() { "commit;\n" } else { "rollback;\n" })?;
        Ok(self.shown.take())
    }

    /// What cancels the statement that the server is carrying out, from another thread.
    pub fn canceller(&self) -> Canceller {
        Canceller { token: self.client.cancel_token() }
    }

    /// Whether another address is of the same database.
    ///
    /// # Errors
    /// When its server can't be reached.
    pub fn has(&mut self, other: &ServerAddress) -> Result<bool> {
        if other.database() == self.name {
            return Ok(true);
        }
        let here = DatabaseIdentity::of(&mut self.client);
        let here = here.map_err(|error| failed(&self.name, &error))?;
        let there = DatabaseIdentity::of(&mut other.connect()?);
        Ok(here == there.map_err(|error| failed(&other.database(), &error))?)
    }

    /// What watches how far the server is, over a connection of its own.
    ///
    /// # Errors
    /// [`Error::Server`] when the server can't be reached once more.
    pub fn watcher(&mut self) -> Result<Watcher> {
        let session: i32 = self.one("select pg_backend_pid()")?.get(0);
        Watcher::of(&self.address, session)
    }

    /// How many bytes of values went to the server, and came from there.
    pub fn traffic(&self) -> (u64, u64) {
        (self.sent, self.received)
    }

    /// Which table is there under the name of the one that is written.
    pub fn identity(&self) -> Option<&TableIdentity> {
        Some(&self.target.as_ref()?.there.as_ref()?.identity)
    }

    /// The name of the table that is written, or of the database.
    pub fn name(&self) -> &str {
        self.target.as_ref().map_or(&self.name, |target| &target.name)
    }

    /// Carries out the steps of a script, and says which one begins.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone; [`Error::Write`] when the statements can't be shown.
    pub fn carry_out(&mut self, script: &Script, mut tell: impl FnMut(Told)) -> Result<()> {
        let of = script.steps.len();
        for (nth, step) in (1..).zip(&script.steps) {
            let (Step::Statement { about, .. } | Step::Reading { about, .. }) = step;
            tell(Told { about: about.clone(), nth, of });
            match step {
                Step::Statement { about, sql } => {
                    self.show_statement(about, sql)?;
                    let is_table = ["create temp table", "create unlogged table"];
                    if is_table.iter().any(|words| sql.starts_with(words)) {
                        self.make(sql)?;
                    } else {
                        self.execute(sql)?;
                    }
                }
                Step::Reading { about, reading } => self.read(about, reading)?,
            }
        }
        Ok(())
    }

    /// Reads the values that a query gives, and copies what they are back to the server.
    fn read(&mut self, about: &str, reading: &Reading) -> Result<()> {
        let create = reading.create();
        self.show_statement(about, &create)?;
        self.execute(&create)?;
        self.execute(&format!(
            "declare values_read no scroll cursor without hold for {}",
            reading.query()
        ))?;
        let copy = format!("copy pg_temp.{} from stdin", reading.table());
        self.show_text(&format!("{copy};\n"))?;
        let (mut reader, mut text, mut cells) = (reading.reader(), Vec::new(), Vec::new());
        loop {
            let rows = self.query(&format!("fetch {AT_ONCE} from values_read"))?;
            if rows.is_empty() {
                break;
            }
            text.clear();
            for row in &rows {
                cells.clear();
                for nth in 0..reading.width() {
                    let cell: String = row.get(nth);
                    self.received += cell.len() as u64;
                    cells.push(cell);
                }
                for (nth, cell) in cells.iter().enumerate() {
                    push_copied((nth > 0).then_some(b'\t'), Some(cell), &mut text);
                }
                reader.read(&cells, |result| push_copied(Some(b'\t'), result, &mut text));
                text.push(b'\n');
            }
            self.show_bytes(&text)?;
            self.copy_in(&copy, &text)?;
            if rows.len() < AT_ONCE {
                break;
            }
        }
        self.show_text("\\.\n\n")?;
        self.execute("close values_read")?;
        let analyze = format!("analyze pg_temp.{}", reading.table());
        self.show_statement("Statistics of it.", &analyze)?;
        self.execute(&analyze).map(drop)
    }

    /// How many rows the output would have.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone.
    pub fn rows_of(&mut self, script: &Script) -> Result<u64> {
        Ok(count_at(&self.one(&format!("select count(*) {}", script.rows(&[])))?, 0))
    }

    /// How many rows a table has.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone.
    pub fn rows_in(&mut self, table: &StoredTable) -> Result<u64> {
        Ok(count_at(&self.one(&format!("select count(*) from {}", table.name))?, 0))
    }

    /// The sum of a table, as a receipt has it.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone.
    pub fn sum_of(&mut self, table: &StoredTable) -> Result<TableSum> {
        self.summed(&sum_of(&table.name))
    }

    /// The sum of the table that was written, which nobody sees yet.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone.
    pub fn sum_of_output(&mut self) -> Result<TableSum> {
        let name = self.target.as_ref().map(Target::name).unwrap_or_default();
        self.summed(&sum_of(&name))
    }

    fn summed(&mut self, query: &str) -> Result<TableSum> {
        let row = self.one(query)?;
        let digest: String = row.get(2);
        let digest = format!("rows:{digest}");
        Ok(TableSum { rows: count_at(&row, 0), bytes: count_at(&row, 1), digest })
    }

    /// Ends the transaction, so that the output appears.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone.
    pub fn commit(mut self) -> Result<()> {
        self.execute("commit").map(drop)
    }

    fn show_statement(&mut self, about: &str, sql: &str) -> Result<()> {
        // A comment ends with its line.
        let about = about.replace(|one: char| one.is_control(), " ");
        self.show_text(&format!("-- {about}\n{sql};\n\n"))
    }

    fn show_text(&mut self, text: &str) -> Result<()> {
        self.show_bytes(text.as_bytes())
    }

    fn show_bytes(&mut self, bytes: &[u8]) -> Result<()> {
        match &mut self.shown {
            Some(shown) => shown.write_all(bytes).map_err(unshown),
            None => Ok(()),
        }
    }

    fn copy_in(&mut self, copy: &str, text: &[u8]) -> Result<()> {
        self.sent += text.len() as u64;
        let mut rows = self.client.copy_in(copy).map_err(|error| failed(&self.name, &error))?;
        rows.write_all(text).map_err(|_| gone(&self.name))?;
        rows.finish().map(drop).map_err(|error| failed(&self.name, &error))
    }

    fn execute(&mut self, statement: &str) -> Result<u64> {
        self.client.execute(statement, &[]).map_err(|error| failed(&self.name, &error))
    }

    fn query(&mut self, query: &str) -> Result<Vec<Row>> {
        self.client.query(query, &[]).map_err(|error| failed(&self.name, &error))
    }

    fn one(&mut self, query: &str) -> Result<Row> {
        self.client.query_one(query, &[]).map_err(|error| failed(&self.name, &error))
    }
}

/// A count in a row; one that is null is none.
fn count_at(row: &Row, nth: usize) -> u64 {
    row.get::<_, Option<i64>>(nth).unwrap_or_default().cast_unsigned()
}

/// Adds a value as a server copies it in, after a separator.
fn push_copied(before: Option<u8>, value: Option<&str>, text: &mut Vec<u8>) {
    text.extend(before);
    let Some(value) = value else { return text.extend_from_slice(b"\\N") };
    for byte in value.bytes() {
        match byte {
            b'\\' => text.extend_from_slice(b"\\\\"),
            b'\t' => text.extend_from_slice(b"\\t"),
            b'\n' => text.extend_from_slice(b"\\n"),
            b'\r' => text.extend_from_slice(b"\\r"),
            other => text.push(other),
        }
    }
}

fn failed(name: &str, error: &postgres::Error) -> Error {
    if error.as_db_error().is_none() && error.is_closed() {
        return gone(name);
    }
    let fix = "nothing was written; correct that, and run again";
    Error::Server { name: name.to_owned(), said: reported(error), fix }
}

fn gone(name: &str) -> Error {
    let said = "the connection to the server is lost".to_owned();
    Error::Server { name: name.to_owned(), said, fix: "nothing was written; run again" }
}

fn unshown(cause: io::Error) -> Error {
    Error::Write { name: "the statements".to_owned(), cause }
}
