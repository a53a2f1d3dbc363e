//! Writing a table into a server's database.
//!
//! All of it is one transaction: the rows are copied into a temporary table, and into the table itself when all are
//! there. Until then nobody sees anything of it, and a run that ends before leaves the database as it was.
//!
//! A table that is replaced stays the same table, with its types, keys, indexes, grants and policies: its rows are
//! replaced. It must have the same columns; a table with others is replaced as a whole only if nothing is lost by that.

use std::io::Write;

use arrow_array::Array;
use arrow_schema::{DataType, SchemaRef};
use gather_keys_core::table::{OutputColumns, Sink};
use postgres::Client;

use super::connection::reported;
use super::inheritance::has_children;
use super::{ServerAddress, TableIdentity, quoted};
use crate::columnar::{Spool, Spooled, TextBatch, TextRenderer, texts};
use crate::{Error, Result};

/// The name of the table while it is written.
pub(super) const PASSING: &str = "gather-keys, being written";

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
    /// The table that had the name when the run began.
    there: Option<There>,
    /// The types that the columns had where they come from, as a server declares them.
    declared: Vec<Option<String>>,
    spool: Option<Spool>,
}

/// A table that is there already.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct There {
    pub(super) identity: TableIdentity,
    /// Its columns, each with its type.
    pub(super) columns: Vec<(String, String)>,
    pub(super) is_view: bool,
    /// Whether other tables inherit its columns.
    has_children: bool,
    /// The things that would be lost with it.
    pub(super) would_lose: Vec<String>,
}

impl There {
    pub(super) fn find(
        client: &mut Client,
        schema: &str,
        table: &str,
    ) -> std::result::Result<Option<Self>, postgres::Error> {
        let found = client.query_opt(
            "select c.oid, c.relkind::text, \
             (select count(*) from pg_constraint where conrelid = c.oid), \
             (select count(*) from pg_index i where i.indrelid = c.oid and not exists \
                (select from pg_constraint k where k.conindid = i.indexrelid)), \
             (select count(*) from pg_trigger where tgrelid = c.oid and not tgisinternal), \
             (select count(*) from pg_policy where polrelid = c.oid), \
             (select count(*) from pg_constraint where confrelid = c.oid and conrelid <> c.oid), \
             (select count(distinct r.ev_class) from pg_depend d join pg_rewrite r on r.oid = d.objid \
                where d.classid = 'pg_rewrite'::regclass and d.refobjid = c.oid and r.ev_class <> c.oid), \
             (select count(*) from pg_attrdef where adrelid = c.oid) + \
             (select count(*) from pg_attribute where attrelid = c.oid and attnotnull and attnum > 0 \
                and not attisdropped), \
             c.relacl is not null, obj_description(c.oid) is not null \
             from pg_class c join pg_namespace n on n.oid = c.relnamespace \
             where n.nspname = $1 and c.relname = $2",
            &[&schema, &table],
        )?;
        let Some(row) = found else { return Ok(None) };
        let of = |nth: usize, one: &str, more: &str| match row.get::<_, i64>(nth) {
            0 => None,
            1 => Some(format!("1 {one}")),
            count => Some(format!("{count} {more}")),
        };
        let would_lose = [
            of(2, "key or rule", "keys and rules"),
            of(3, "index", "indexes"),
            of(4, "trigger", "triggers"),
            of(5, "policy", "policies"),
            of(6, "key of another table", "keys of other tables"),
            of(7, "view on it", "views on it"),
            of(8, "default or requirement of a column", "defaults and requirements of columns"),
            row.get::<_, bool>(9).then(|| "its grants".to_owned()),
            row.get::<_, bool>(10).then(|| "its comment".to_owned()),
        ];
        let would_lose = would_lose.into_iter().flatten().collect();
        let is_view = row.get::<_, String>(1) != "r";
        let oid: u32 = row.get(0);
        let columns = client.query(
            "select attname::text, format_type(atttypid, atttypmod) from pg_attribute \
             where attrelid = $1 and attnum > 0 and not attisdropped order by attnum",
            &[&oid],
        )?;
        let columns = columns.iter().map(|row| (row.get(0), row.get(1))).collect();
        let identity = TableIdentity::find(client, schema, table)?;
        let has_children = has_children(client, oid)?;
        Ok(Some(Self { identity, columns, is_view, has_children, would_lose }))
    }

    /// Whether it has these columns in this order.
    pub(super) fn has<'h>(&self, headers: impl ExactSizeIterator<Item = &'h str>) -> bool {
        self.columns.len() == headers.len()
            && self.columns.iter().zip(headers).all(|((own, _), header)| own == header)
    }
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
    /// [`Error::TableExists`] when a table is there and may not be replaced, or a view is; [`Error::Inherited`] when
    /// other tables inherit from it; [`Error::Server`] when the server can't be reached or refuses, or no table is
    /// named.
    pub fn begin(address: &ServerAddress, overwrite: bool) -> Result<Self> {
        let name = address.to_string();
        named(address)?;
        let mut client = address.connect()?;
        let failed = |error: postgres::Error| refused(&name, &error);
        // The wait for a lock on the replaced table is limited.
        let begin = "set datestyle = iso; set timezone = utc; set lock_timeout = '30s'; begin";
        client.batch_execute(begin).map_err(failed)?;
        let (schema, table, there) = target_of(&mut client, address, overwrite)?;
        let declared = Vec::new();
        let spool = Some(Spool::new(&name, Vec::new()));
        Ok(Self { name, schema, table, client, there, declared, spool })
    }

    /// The name of the table in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Says which types the columns had, as a server declares them, where that is known.
    pub fn declare(&mut self, declared: Vec<Option<String>>) {
        self.declared = declared;
    }

    /// Which table is there under the name already.
    pub fn identity(&self) -> Option<&TableIdentity> {
        self.there.as_ref().map(|there| &there.identity)
    }

    /// Sends the rows to the server, where nobody sees them yet. Gives the headers of the columns that
    /// are written as text although some of their cells are numbers, dates or similar.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses, [`Error::Spool`] when what waited for it can't be
    /// read again.
    pub fn send(&mut self) -> Result<Vec<String>> {
        let Some(spooled) = self.spooled()? else { return Ok(Vec::new()) };
        let passing = quoted(PASSING);
        let target = format!("{}.{}", quoted(&self.schema), quoted(&self.table));
        let headers = spooled.schema.fields().iter().map(|field| &field.name()[..]);
        let (create, types) = match &self.there {
            // Its own types and requirements hold.
            Some(there) if there.has(headers) => (
                format!("create temp table {passing} (like {target})"),
                there.columns.iter().map(|(_, declared)| declared.clone()).collect(),
            ),
            Some(there) if !there.would_lose.is_empty() => {
                return Err(Error::WouldLose {
                    name: self.name.clone(),
                    table: self.table.clone(),
                    lost: there.would_lose.clone(),
                });
            }
            _ => {
                let mut declared = std::mem::take(&mut self.declared);
                for one in &mut declared {
                    // A type of another database's own making is not known here.
                    if let Some(kind) = one
                        && !self.knows(kind)?
                    {
                        *one = None;
                    }
                }
                let (columns, types) = columns(&self.name, &spooled.schema, &declared)?;
                (format!("create temp table {passing} ({columns})"), types)
            }
        };
        self.copy(spooled, &create, None, &types)
    }

    /// The rows that were collected, once.
    pub(super) fn spooled(&mut self) -> Result<Option<Spooled>> {
        self.spool.take().map(Spool::finish).transpose()
    }

    /// Copies rows into a temporary table that `create` makes, into some of its columns if they are named. Gives the
    /// headers of the columns that are written as text although some of their cells are numbers, dates or similar.
    pub(super) fn copy(
        &mut self,
        mut spooled: Spooled,
        create: &str,
        columns: Option<&str>,
        types: &[String],
    ) -> Result<Vec<String>> {
        let failed = |error: postgres::Error| refused(&self.name, &error);
        let lost = |cause: std::io::Error| {
            let cause = cause.get_ref().and_then(|cause| cause.downcast_ref::<postgres::Error>());
            match cause {
                Some(error) => refused(&self.name, error),
                None => Error::Server {
                    name: self.name.clone(),
                    said: "the connection is lost".to_owned(),
                    fix: "run again",
                },
            }
        };
        let is_bytes: Vec<bool> = types.iter().map(|kind: &String| kind == "bytea").collect();
        self.client.batch_execute(create).map_err(failed)?;
        let columns = columns.map_or(String::new(), |columns| format!(" ({columns})"));
        let copy = format!("copy {}{columns} from stdin csv", quoted(PASSING));
        let mut rows = self.client.copy_in(&copy[..]).map_err(failed)?;
        let mut text = Vec::with_capacity(2 * PIECE);
        while let Some(batch) = spooled.next_texts()? {
            let columns: Vec<_> = batch.columns().iter().map(|column| texts(column)).collect();
            for row in 0..batch.num_rows() {
                for (nth, column) in columns.iter().enumerate() {
                    if nth > 0 {
                        text.push(b',');
                    }
                    // A null value is written as nothing; every other value is in quotes.
                    if column.is_valid(row) {
                        let prefix = if is_bytes.get(nth) == Some(&true) { "\\x" } else { "" };
                        push_quoted(prefix, column.value(row), &mut text);
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

    /// The columns of the primary key of the table that is there.
    pub(super) fn key(&mut self) -> Result<Vec<String>> {
        let Some(there) = &self.there else { return Ok(Vec::new()) };
        let rows = self.client.query(
            "select a.attname::text from pg_index i join pg_attribute a \
             on a.attrelid = i.indrelid and a.attnum = any(i.indkey) \
             where i.indrelid = $1 and i.indisprimary order by a.attnum",
            &[&there.identity.table],
        );
        Ok(rows
            .map_err(|error| refused(&self.name, &error))?
            .iter()
            .map(|row| row.get(0))
            .collect())
    }

    /// The columns of the table that is there, each with its type.
    pub(super) fn columns(&self) -> &[(String, String)] {
        self.there.as_ref().map_or(&[], |there| &there.columns)
    }

    /// Whether the server has a type.
    pub(super) fn knows(&mut self, kind: &str) -> Result<bool> {
        let known = self.client.query_one("select to_regtype($1) is not null", &[&kind]);
        Ok(known.map_err(|error| refused(&self.name, &error))?.get(0))
    }

    /// Carries out a statement; gives the number of rows that it is about.
    pub(super) fn execute(&mut self, statement: &str) -> Result<u64> {
        let done = self.client.execute(statement, &[]);
        done.map_err(|error| refused(&self.name, &error))
    }

    /// A number that a query gives.
    pub(super) fn count(&mut self, query: &str) -> Result<u64> {
        let row = self.client.query_one(query, &[]);
        let count: i64 = row.map_err(|error| refused(&self.name, &error))?.get(0);
        Ok(count.cast_unsigned())
    }

    /// Locks the table that is there in a mode, and returns it as statements name it.
    ///
    /// # Errors
    /// [`Error::TargetChanged`] when it is another than when the run began.
    pub(super) fn lock(&mut self, mode: &str) -> Result<String> {
        let target = format!("{}.{}", quoted(&self.schema), quoted(&self.table));
        if self.there.is_some() {
            let lock = format!("lock table {target} in {mode} mode");
            let locked = self.client.batch_execute(&lock);
            locked.map_err(|error| refused(&self.name, &error))?;
        }
        let now = There::find(&mut self.client, &self.schema, &self.table);
        if now.map_err(|error| refused(&self.name, &error))? != self.there {
            return Err(Error::TargetChanged { name: self.name.clone() });
        }
        Ok(target)
    }

    /// Lets the table appear.
    ///
    /// # Errors
    /// [`Error::Server`] when it can't be put in its place.
    pub fn commit(mut self) -> Result<()> {
        let target = self.lock("access exclusive")?;
        let Self { name, mut client, there, .. } = self;
        let failed = |error: postgres::Error| refused(&name, &error);
        let passing = quoted(PASSING);
        let rows = client.query(
            "select attname::text, format_type(atttypid, atttypmod) from pg_attribute where attrelid = \
             to_regclass($1) and attnum > 0 and not attisdropped order by attnum",
            &[&format!("pg_temp.{passing}")],
        );
        let columns: Vec<(String, String)> =
            rows.map_err(failed)?.iter().map(|row| (row.get(0), row.get(1))).collect();
        let names = columns.iter().map(|(column, _)| quoted(column)).collect::<Vec<_>>().join(", ");
        let fill = format!("insert into {target} ({names}) select {names} from pg_temp.{passing}");
        let is_same = there
            .as_ref()
            .is_some_and(|there| there.has(columns.iter().map(|(name, _)| &name[..])));
        let place = if is_same {
            format!("truncate {target}; {fill}")
        } else {
            let drop =
                if there.is_some() { format!("drop table {target}; ") } else { String::new() };
            let columns = columns.iter().map(|(column, kind)| format!("{} {kind}", quoted(column)));
            let columns = columns.collect::<Vec<_>>().join(", ");
            format!("{drop}create table {target} ({columns}); {fill}")
        };
        client.batch_execute(&format!("{place}; commit")).map_err(failed)
    }
}

pub(super) fn refused(name: &str, error: &postgres::Error) -> Error {
    let fix = "check that the user may make the table, or name another";
    Error::Server { name: name.to_owned(), said: reported(error), fix }
}

/// The table that an address names.
///
/// # Errors
/// [`Error::Server`] when it names none.
fn named(address: &ServerAddress) -> Result<&str> {
    address.table().ok_or_else(|| Error::Server {
        name: address.to_string(),
        said: "no table is named".to_owned(),
        fix: "name one, such as #enriched",
    })
}

/// The schema and the name of the table that an address names to be written, and what is there under the name. A table of
/// the name is replaced only with `overwrite`.
///
/// # Errors
/// [`Error::TableExists`] when a table is there and may not be replaced, or a view is; [`Error::Inherited`] when other tables
/// inherit from it; [`Error::Server`] when the server refuses, or no table is named.
pub(super) fn target_of(
    client: &mut Client,
    address: &ServerAddress,
    overwrite: bool,
) -> Result<(String, String, Option<There>)> {
    let name = address.to_string();
    let failed = |error: postgres::Error| refused(&name, &error);
    let (schema, table) = match named(address)?.split_once('.') {
        Some((schema, table)) => (schema.to_owned(), table.to_owned()),
        None => {
            let row = client.query_one("select current_schema()::text", &[]).map_err(failed)?;
            let schema: Option<String> = row.get(0);
            (schema.unwrap_or_else(|| "public".to_owned()), named(address)?.to_owned())
        }
    };
    too_long(&name, &table)?;
    let there = There::find(client, &schema, &table).map_err(failed)?;
    if let Some(there) = &there
        && (!overwrite || there.is_view)
    {
        let (name, is_view) = (address.database(), there.is_view);
        return Err(Error::TableExists { name, table, is_view });
    }
    if there.as_ref().is_some_and(|there| there.has_children) {
        return Err(Error::Inherited { name: address.database(), table });
    }
    Ok((schema, table, there))
}

pub(super) fn too_long(name: &str, what: &str) -> Result<()> {
    if what.len() <= LONGEST_NAME {
        return Ok(());
    }
    let said = format!("`{what}` is longer than the {LONGEST_NAME} bytes that a name may have");
    Err(Error::Server { name: name.to_owned(), said, fix: "give it a shorter name" })
}

/// The columns of a table, with their declared types or the types that all their cells have; and these
/// types.
fn columns(
    name: &str,
    schema: &SchemaRef,
    declared: &[Option<String>],
) -> Result<(String, Vec<String>)> {
    let (mut columns, mut types) = (Vec::new(), Vec::new());
    for (nth, field) in schema.fields().iter().enumerate() {
        too_long(name, field.name())?;
        let declared = declared.get(nth).cloned().flatten();
        let kind = declared.unwrap_or_else(|| type_of(field.data_type()));
        columns.push(format!("{} {kind}", quoted(field.name())));
        types.push(kind);
    }
    Ok((columns.join(", "), types))
}

/// The type of a server that all cells of a column have.
pub(super) fn type_of(kind: &DataType) -> String {
    match kind {
        DataType::Int64 => "bigint".to_owned(),
        DataType::Float64 => "double precision".to_owned(),
        DataType::Decimal128(digits, scale) => format!("numeric({digits}, {scale})"),
        DataType::Date32 => "date".to_owned(),
        DataType::Timestamp(_, None) => "timestamp".to_owned(),
        DataType::Timestamp(_, Some(_)) => "timestamptz".to_owned(),
        DataType::Time64(_) => "time".to_owned(),
        DataType::Boolean => "boolean".to_owned(),
        _ => "text".to_owned(),
    }
}

fn push_quoted(prefix: &str, cell: &str, text: &mut Vec<u8>) {
    text.push(b'"');
    text.extend_from_slice(prefix.as_bytes());
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

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        self.spool.as_mut().map_or(Ok(()), |spool| spool.write_headers(columns))
    }

    fn renderer(&self, columns: &OutputColumns) -> TextRenderer {
        match &self.spool {
            Some(spool) => spool.renderer(columns),
            None => TextRenderer::default(),
        }
    }

    fn write(&mut self, rendered: &mut TextBatch) -> Result<()> {
        self.spool.as_mut().map_or(Ok(()), |spool| spool.write(rendered))
    }
}
