//! Writing a table into a database.
//!
//! The rows are collected in a temporary table of the connection's own, which is in no file of the user's. The
//! database itself is written to in one short transaction, in [`DatabaseWriter::commit`]: a run that ends before leaves
//! it as it was, and one that is killed in between leaves a journal from which the next program that opens the
//! database restores it.
//!
//! A table that is replaced stays the same table, with its keys, indexes and triggers: its rows are replaced. It must
//! have the same columns; a table with others is replaced as a whole only if nothing is lost by that.

use std::path::Path;

use gather_keys_core::table::{Block, CellKind, Headers, OutputColumns, Renderer, Sink};
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, OptionalExtension, params_from_iter};

use super::connection::{failed, open_for_writing};
use super::quoted;
use crate::workbook::is_plain_number;
use crate::{Error, Result};

/// The table that the rows are collected in.
pub(super) const COLLECTED: &str = "temp.\"gather-keys, being written\"";

/// Writes a table into a database.
#[derive(Debug)]
pub struct DatabaseWriter {
    name: String,
    table: String,
    connection: Connection,
    /// The object that has the table's name.
    there: Option<There>,
    headers: Vec<String>,
    /// Whether texts that look like numbers would become such, for each column of a table that is kept.
    makes_numbers: Vec<bool>,
    /// The marks of the cells that are written, where not all are.
    marks: Option<Marks>,
    rows: u64,
    insert: String,
}

/// Where the collected rows are marked.
#[derive(Debug)]
struct Marks {
    /// The columns that are updated, and the first of their marks.
    updated: Vec<usize>,
    first: usize,
}

impl Marks {
    /// Whether a cell of a column of the table is written.
    fn are_of(&self, column: usize, row: usize, rendered: &Block) -> bool {
        let is_marked = |nth: usize| !rendered.cell(row, self.first + nth).is_empty();
        let updated = self.updated.iter().position(|other| *other == column);
        is_marked(self.updated.len()) || updated.is_some_and(is_marked)
    }
}

/// A table that is there already.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct There {
    /// Its name as it was made.
    pub(super) name: String,
    /// Its columns, each with the type that it was declared with.
    pub(super) columns: Vec<(String, String)>,
    /// The statement that it was made by.
    made_by: String,
    /// The things that would be lost with it.
    would_lose: Vec<String>,
}

impl There {
    /// The object with a name; an error for a view.
    pub(super) fn find(connection: &Connection, name: &str, table: &str) -> Result<Option<Self>> {
        let failed = |error: rusqlite::Error| failed(name, &error);
        let found: Option<(String, String, String)> = connection
            .query_row(
                "select type, name, sql from sqlite_master where name = ?1 collate nocase \
                 and type in ('table', 'view')",
                [table],
                |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)),
            )
            .optional()
            .map_err(failed)?;
        let Some((kind, own_name, made_by)) = found else { return Ok(None) };
        if kind != "table" {
            let (name, table) = (name.to_owned(), table.to_owned());
            return Err(Error::TableExists { name, table, is_view: true });
        }
        let all = |query: &str| -> rusqlite::Result<Vec<(String, String)>> {
            let mut query = connection.prepare(query)?;
            query.query_map([&own_name], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
        };
        let columns = all("select name, type from pragma_table_info(?1)").map_err(failed)?;
        let with_it = all(
            "select type, coalesce(sql, '') from sqlite_master where tbl_name = ?1 and type <> 'table' \
             order by type, name",
        )
        .map_err(failed)?;
        let referring: i64 = connection
            .query_row(
                "select count(*) from sqlite_master m, pragma_foreign_key_list(m.name) f \
                 where m.type = 'table' and f.\"table\" = ?1 collate nocase",
                [&own_name],
                |row| row.get(0),
            )
            .map_err(failed)?;
        let plural = |count: usize, one: &str, more: &str| match count {
            0 => None,
            1 => Some(format!("1 {one}")),
            count => Some(format!("{count} {more}")),
        };
        let count = |kind: &str| with_it.iter().filter(|(other, _)| other == kind).count();
        let has_types = columns.iter().any(|(_, declared)| !declared.is_empty());
        let rules =
            ["primary key", "unique", "references", "check", "not null", "default", "strict"];
        let lower = made_by.to_lowercase();
        let has_rules = rules.iter().any(|rule| lower.contains(rule));
        let would_lose = [
            has_types.then(|| "the types of its columns".to_owned()),
            has_rules.then(|| "its keys and rules".to_owned()),
            plural(count("index"), "index", "indexes"),
            plural(count("trigger"), "trigger", "triggers"),
            plural(
                usize::try_from(referring).unwrap_or_default(),
                "key of another table",
                "keys of other tables",
            ),
        ];
        let would_lose = would_lose.into_iter().flatten().collect();
        Ok(Some(Self { name: own_name, columns, made_by, would_lose }))
    }

    /// The columns of its primary key.
    pub(super) fn key(&self, connection: &Connection) -> rusqlite::Result<Vec<String>> {
        let mut query = connection
            .prepare("select name from pragma_table_info(?1) where pk > 0 order by pk")?;
        query.query_map([&self.name], |row| row.get(0))?.collect()
    }

    /// Whether each of its columns takes values of its own type only.
    pub(super) fn is_strict(&self) -> bool {
        let options = self.made_by.rsplit(')').next().unwrap_or_default();
        options.to_lowercase().contains("strict")
    }

    /// Whether it has these columns in this order.
    fn has(&self, headers: &[String]) -> bool {
        self.columns.len() == headers.len()
            && self
                .columns
                .iter()
                .zip(headers)
                .all(|((own, _), header)| own.eq_ignore_ascii_case(header))
    }
}

/// Whether a column declared so makes numbers of texts that look like some.
fn makes_numbers(declared: &str) -> bool {
    let declared = declared.to_uppercase();
    let has = |word: &&str| declared.contains(*word);
    if has(&"INT") {
        return true;
    }
    !["CHAR", "CLOB", "TEXT", "BLOB"].iter().any(has) && !declared.is_empty()
}

impl DatabaseWriter {
    /// Begins to write `table` of the database at `path`, which is made if there is none; it is called
    /// `name` in messages. The rows of a table of the name are replaced only with `overwrite`.
    ///
    /// # Errors
    /// [`Error::TableExists`] when a table is there and may not be replaced, or a view is; and
    /// [`Error::Database`] when the database can't be written to.
    pub fn begin(name: &str, path: &Path, table: &str, overwrite: bool) -> Result<Self> {
        let connection = open_for_writing(name, path)?;
        let there = There::find(&connection, name, table)?;
        if there.is_some() && !overwrite {
            let (name, table) = (name.to_owned(), table.to_owned());
            return Err(Error::TableExists { name, table, is_view: false });
        }
        let (name, table) = (name.to_owned(), table.to_owned());
        let (headers, makes_numbers, insert) = (Vec::new(), Vec::new(), String::new());
        let (marks, rows) = (None, 0);
        Ok(Self { name, table, connection, there, headers, makes_numbers, marks, rows, insert })
    }

    /// Replaces the rows of the table, or makes it, in one transaction.
    ///
    /// # Errors
    /// [`Error::Database`] when the database refuses, [`Error::TargetChanged`] when the table is another than when
    /// the run began. The database is then as it was.
    pub fn commit(self) -> Result<()> {
        let connection = &self.connection;
        let failed = |error: rusqlite::Error| failed(&self.name, &error);
        // The collected rows are complete; what follows is about the database.
        connection.execute_batch("commit; begin immediate").map_err(failed)?;
        if let Err(error) = self.put_in_place() {
            // A transaction that can't be rolled back ends with the connection.
            let _ = connection.execute_batch("rollback");
            return Err(error);
        }
        connection.execute_batch("commit").map_err(failed)?;
        self.close()
    }

    /// Closes the database.
    pub(super) fn close(self) -> Result<()> {
        let Self { name, connection, .. } = self;
        connection.close().map_err(|(_, error)| super::connection::failed(&name, &error))
    }

    fn put_in_place(&self) -> Result<()> {
        let connection = &self.connection;
        let failed = |error: rusqlite::Error| failed(&self.name, &error);
        let now = There::find(connection, &self.name, &self.table)?;
        if now != self.there {
            return Err(Error::TargetChanged { name: format!("{}#{}", self.name, self.table) });
        }
        let columns: Vec<String> = self.headers.iter().map(|header| quoted(header)).collect();
        let columns = columns.join(", ");
        let table = quoted(self.there.as_ref().map_or(&self.table, |there| &there.name));
        let make = format!("create table main.{table} ({columns});");
        let fill = format!(
            "insert into main.{table} ({columns}) select * from {COLLECTED} order by rowid;"
        );
        let broken = || -> rusqlite::Result<i64> {
            connection
                .query_row("select count(*) from pragma_foreign_key_check", [], |row| row.get(0))
        };
        match &self.there {
            None => connection.execute_batch(&(make + &fill)).map_err(failed),
            Some(there) if there.has(&self.headers) => {
                let before = broken().map_err(failed)?;
                let replace = format!("delete from main.{table}; {fill}");
                connection.execute_batch(&replace).map_err(failed)?;
                match broken().map_err(failed)?.saturating_sub(before) {
                    ..=0 => Ok(()),
                    count => Err(Error::BreaksKeys {
                        name: self.name.clone(),
                        table: self.table.clone(),
                        count: count.cast_unsigned(),
                    }),
                }
            }
            Some(there) if there.would_lose.is_empty() => {
                let replace = format!("drop table main.{table}; {make} {fill}");
                connection.execute_batch(&replace).map_err(failed)
            }
            Some(there) => Err(Error::WouldLose {
                name: self.name.clone(),
                table: self.table.clone(),
                lost: there.would_lose.clone(),
            }),
        }
    }

    /// The name of the database in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    pub(super) fn there(&self) -> Option<&There> {
        self.there.as_ref()
    }

    pub(super) fn connection(&self) -> &Connection {
        &self.connection
    }

    /// The headers of the collected rows.
    pub(super) fn headers(&self) -> &[String] {
        &self.headers
    }

    /// Begins to collect rows of these headers. With `updated`, they are for a table that is written into, with marks in
    /// the last columns, of these columns and of whole rows.
    pub(super) fn collect(&mut self, all: &Headers, updated: Option<&[usize]>) -> Result<()> {
        let mut names: Vec<String> = Vec::new();
        for column in 0..all.len() {
            let mut header = all.address(column);
            // Upper and lower case are one to a database.
            while names.iter().any(|name| name.eq_ignore_ascii_case(&header)) {
                header.push_str(" (column)");
            }
            names.push(header);
        }
        let columns: Vec<String> = names.iter().map(|name| quoted(name)).collect();
        let places = vec!["?"; names.len()].join(", ");
        // Without types, so that each cell is kept as it comes.
        let create = format!("create table {COLLECTED} ({})", columns.join(", "));
        self.insert = format!("insert into {COLLECTED} values ({places})");
        self.headers = names;
        if let Some(there) = &self.there {
            if let Some(updated) = updated {
                let kinds = there.columns.iter().map(|(_, declared)| makes_numbers(declared));
                self.makes_numbers = kinds.collect();
                let first = self.headers.len() - updated.len() - 1;
                self.marks = Some(Marks { updated: updated.to_vec(), first });
            } else if there.has(&self.headers) {
                let kinds = there.columns.iter().map(|(_, declared)| makes_numbers(declared));
                self.makes_numbers = kinds.collect();
            } else if !there.would_lose.is_empty() {
                // Said before any row is written.
                return Err(Error::WouldLose {
                    name: self.name.clone(),
                    table: self.table.clone(),
                    lost: there.would_lose.clone(),
                });
            }
        }
        let created = self.connection.execute_batch(&format!("{create}; begin"));
        created.map_err(|error| failed(&self.name, &error))
    }
}

impl Sink for DatabaseWriter {
    type Error = Error;
    type Renderer = DatabaseRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        self.collect(columns.headers(), None)
    }

    fn renderer(&self, columns: &OutputColumns) -> DatabaseRenderer {
        DatabaseRenderer { columns: columns.clone() }
    }

    fn write(&mut self, rendered: &mut Block) -> Result<()> {
        let failed = |error: rusqlite::Error| failed(&self.name, &error);
        let mut insert = self.connection.prepare_cached(&self.insert).map_err(failed)?;
        for row in 0..rendered.rows() {
            self.rows += 1;
            for (column, _) in self.makes_numbers.iter().enumerate().filter(|(_, makes)| **makes) {
                let cell = rendered.cell(row, column);
                let is_written =
                    self.marks.as_ref().is_none_or(|marks| marks.are_of(column, row, rendered));
                if is_written && is_altered(cell, rendered.kind(row, column)) {
                    return Err(Error::BecomesNumber {
                        name: format!("{}#{}", self.name, self.table),
                        row: self.rows,
                        header: self.headers[column].clone(),
                        cell: cell.to_owned(),
                    });
                }
            }
            let cells = (0..self.headers.len())
                .map(|column| value(rendered.cell(row, column), rendered.kind(row, column)));
            insert.execute(params_from_iter(cells)).map_err(failed)?;
        }
        Ok(())
    }
}

/// Whether a column of numbers would make another text of a cell's.
fn is_altered(cell: &str, kind: CellKind) -> bool {
    let ToSqlOutput::Borrowed(ValueRef::Text(_)) = value(cell, kind) else { return false };
    cell.trim().parse::<f64>().is_ok_and(f64::is_finite)
}

/// Puts the cells of rows together.
#[derive(Debug, Clone)]
pub struct DatabaseRenderer {
    columns: OutputColumns,
}

impl Renderer for DatabaseRenderer {
    type Rendered = Block;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, out: &mut Block) {
        out.reset(self.columns.len());
        for (nth, &row) in rows.iter().enumerate() {
            for cell in self.columns.cells() {
                let (cell, kind) = cell.of((main, row), (added, nth));
                out.push_cell_of(cell, kind);
            }
        }
    }
}

/// The value of a cell: a number where it is one and comes back as it was, nothing where it is blank,
/// else its text.
fn value(cell: &str, kind: CellKind) -> ToSqlOutput<'_> {
    let is_number = match kind {
        _ if cell.is_empty() => return ToSqlOutput::Owned(Value::Null),
        CellKind::Number => true,
        CellKind::Untyped => is_plain_number(cell),
        CellKind::Text | CellKind::Date | CellKind::Time | CellKind::Truth => false,
    };
    if is_number {
        if let Ok(integer) = cell.parse::<i64>()
            && integer.to_string() == cell
        {
            return ToSqlOutput::Owned(Value::Integer(integer));
        }
        if let Ok(real) = cell.parse::<f64>()
            && real.is_finite()
            && (is_plain_number(cell) || format!("{real}") == cell || cell.contains('.'))
        {
            return ToSqlOutput::Owned(Value::Real(real));
        }
    }
    ToSqlOutput::Borrowed(ValueRef::Text(cell.as_bytes()))
}
