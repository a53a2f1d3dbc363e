//! Writing a table into a server's database.
//!
//! All of it is one transaction: the rows are copied into a table of a passing name, which takes its
//! place when all are there. Until then nobody sees anything of it, and a run that ends before leaves
//! the database as it was.

use std::io::Write;

use arrow_array::Array;
use arrow_schema::{DataType, SchemaRef};
use gather_keys_core::table::{Headers, Overlay, Sink};
use postgres::Client;

use super::connection::told;
use super::{ServerAddress, quoted};
use crate::columnar::{Spool, TextBatch, TextRenderer, texts};
use crate::{Error, Result};

/// The name of the table while it is written.
const PASSING: &str = "gather-keys, being written";

/// The most bytes that a name may have: a server cuts longer ones without an error.
const LONGEST_NAME: usize = 63;

/// How many bytes are sent at a time.
const PIECE: usize = 1 << 16;

/// Writes a table into a server's database.
pub struct ServerWriter {
    name: String,
    schema: String,
    table: String,
    client: Client,
    spool: Option<Spool>,
}

impl std::fmt::Debug for ServerWriter {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ServerWriter").field("name", &self.name).finish_non_exhaustive()
    }
}

impl ServerWriter {
    /// Begins to write the table that an address names. A table of the name is replaced only with
    /// `overwrite`.
    ///
    /// # Errors
    /// [`Error::TableExists`] when a table is there and may not be replaced, or a view is;
    /// [`Error::Server`] when the server can't be reached or refuses, or no table is named.
    pub fn begin(address: &ServerAddress, overwrite: bool) -> Result<Self> {
        let name = address.to_string();
        let Some(asked) = address.table() else {
            let (said, mend) = ("no table is named".to_owned(), "name one, such as #enriched");
            return Err(Error::Server { name, said, mend });
        };
        let mut client = address.connect()?;
        let failed = |error: postgres::Error| refused(&name, &error);
        // Whoever holds the table that is to be replaced is not waited for without end.
        let begin = "set datestyle = iso; set timezone = utc; set lock_timeout = '30s'; begin";
        client.batch_execute(begin).map_err(failed)?;
        let (schema, table) = match asked.split_once('.') {
            Some((schema, table)) => (schema.to_owned(), table.to_owned()),
            None => {
                let row = client.query_one("select current_schema()::text", &[]).map_err(failed)?;
                let schema: Option<String> = row.get(0);
                (schema.unwrap_or_else(|| "public".to_owned()), asked.to_owned())
            }
        };
        too_long(&name, &table)?;
        let there = client
            .query_opt(
                "select c.relkind::text from pg_class c join pg_namespace n \
                 on n.oid = c.relnamespace where n.nspname = $1 and c.relname = $2",
                &[&schema, &table],
            )
            .map_err(failed)?;
        if let Some(row) = there {
            let kind: String = row.get(0);
            let is_view = kind != "r";
            if !overwrite || is_view {
                return Err(Error::TableExists { name: address.database(), table, is_view });
            }
        }
        let spool = Some(Spool::new(&name, Vec::new()));
        Ok(Self { name, schema, table, client, spool })
    }

    /// What the table is called in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Sends the rows to the server, where nobody sees them yet. Gives the headers of the columns that
    /// are written as text although some of their cells are numbers, dates or the like.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses, [`Error::Spool`] when what waited for it can't be
    /// read again.
    pub fn send(&mut self) -> Result<Vec<String>> {
        let Some(spool) = self.spool.take() else { return Ok(Vec::new()) };
        let mut spooled = spool.finish()?;
        let failed = |error: postgres::Error| refused(&self.name, &error);
        let lost = |cause: std::io::Error| {
            let cause = cause.get_ref().and_then(|cause| cause.downcast_ref::<postgres::Error>());
            match cause {
                Some(error) => refused(&self.name, error),
                None => Error::Server {
                    name: self.name.clone(),
                    said: "the connection is lost".to_owned(),
                    mend: "run again",
                },
            }
        };
        let passing = format!("{}.{}", quoted(&self.schema), quoted(PASSING));
        let columns = columns(&self.name, &spooled.schema)?;
        let create = format!("create table {passing} ({columns})");
        self.client.batch_execute(&create).map_err(failed)?;
        let copy = format!("copy {passing} from stdin csv");
        let mut rows = self.client.copy_in(&copy[..]).map_err(failed)?;
        let mut text = Vec::with_capacity(2 * PIECE);
        while let Some(batch) = spooled.next_texts()? {
            let columns: Vec<_> = batch.columns().iter().map(|column| texts(column)).collect();
            for row in 0..batch.num_rows() {
                for (nth, column) in columns.iter().enumerate() {
                    if nth > 0 {
                        text.push(b',');
                    }
                    // What is not there stands for nothing; what is there is always in quotes.
                    if column.is_valid(row) {
                        push_quoted(column.value(row), &mut text);
                    }
                }
                text.push(b'\n');
                if text.len() >= PIECE {
                    rows.write_all(&text).map_err(lost)?;
                    text.clear();
                }
            }
        }
        rows.write_all(&text).map_err(lost)?;
        rows.finish().map_err(failed)?;
        Ok(spooled.mixed)
    }

    /// Lets the table appear.
    ///
    /// # Errors
    /// [`Error::Server`] when it can't be put in its place.
    pub fn commit(self) -> Result<()> {
        let Self { name, schema, table, mut client, .. } = self;
        let (schema, table, passing) = (quoted(&schema), quoted(&table), quoted(PASSING));
        let done = client.batch_execute(&format!(
            "drop table if exists {schema}.{table}; \
             alter table {schema}.{passing} rename to {table}; commit"
        ));
        done.map_err(|error| refused(&name, &error))
    }
}

fn refused(name: &str, error: &postgres::Error) -> Error {
    let mend = "check that the user may make the table, or name another";
    Error::Server { name: name.to_owned(), said: told(error), mend }
}

fn too_long(name: &str, what: &str) -> Result<()> {
    if what.len() <= LONGEST_NAME {
        return Ok(());
    }
    let said = format!("`{what}` is longer than the {LONGEST_NAME} bytes that a name may have");
    Err(Error::Server { name: name.to_owned(), said, mend: "give it a shorter name" })
}

/// The columns of a table with these types.
fn columns(name: &str, schema: &SchemaRef) -> Result<String> {
    let mut columns = Vec::new();
    for field in schema.fields() {
        too_long(name, field.name())?;
        let kind = match field.data_type() {
            DataType::Int64 => "bigint".to_owned(),
            DataType::Float64 => "double precision".to_owned(),
            DataType::Decimal128(digits, scale) => format!("numeric({digits}, {scale})"),
            DataType::Date32 => "date".to_owned(),
            DataType::Timestamp(_, None) => "timestamp".to_owned(),
            DataType::Timestamp(_, Some(_)) => "timestamptz".to_owned(),
            DataType::Time64(_) => "time".to_owned(),
            DataType::Boolean => "boolean".to_owned(),
            _ => "text".to_owned(),
        };
        columns.push(format!("{} {kind}", quoted(field.name())));
    }
    Ok(columns.join(", "))
}

fn push_quoted(cell: &str, text: &mut Vec<u8>) {
    text.push(b'"');
    for piece in cell.split_inclusive('"') {
        text.extend_from_slice(piece.as_bytes());
        if piece.ends_with('"') {
            text.push(b'"');
        }
    }
    text.push(b'"');
}

impl Sink for ServerWriter {
    type Error = Error;
    type Renderer = TextRenderer;

    fn write_headers(&mut self, main: &Headers, added: &[String]) -> Result<()> {
        self.spool.as_mut().map_or(Ok(()), |spool| spool.write_headers(main, added))
    }

    fn renderer(&self, overlay: Overlay) -> TextRenderer {
        match &self.spool {
            Some(spool) => spool.renderer(overlay),
            None => TextRenderer::default(),
        }
    }

    fn write(&mut self, rendered: &mut TextBatch) -> Result<()> {
        self.spool.as_mut().map_or(Ok(()), |spool| spool.write(rendered))
    }
}
