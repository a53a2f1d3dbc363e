//! Writing a table into a database.
//!
//! All of it is one transaction: the rows go into a table of a passing name, which takes its place
//! when all are there. Until then nobody sees anything of it, and a run that ends before leaves the
//! database as it was.

use std::path::Path;

use gather_keys_core::table::{Block, CellKind, Headers, Overlay, Renderer, Sink};
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, OptionalExtension, params_from_iter};

use super::quoted;
use crate::workbook::is_plain_number;
use crate::{Error, Result};

/// The name of the table while it is written.
const PASSING: &str = "gather-keys, being written";

/// Writes a table into a database.
#[derive(Debug)]
pub struct DatabaseWriter {
    name: String,
    table: String,
    connection: Connection,
    columns: usize,
    insert: String,
}

impl DatabaseWriter {
    /// Begins to write `table` of the database at `path`, which is made if there is none; it is called
    /// `name` in messages. A table of the name is replaced only with `overwrite`.
    ///
    /// # Errors
    /// [`Error::TableExists`] when a table is there and may not be replaced, or a view is; and
    /// [`Error::Database`] when the database can't be written to.
    pub fn begin(name: &str, path: &Path, table: &str, overwrite: bool) -> Result<Self> {
        let failed = |error: rusqlite::Error| failed(name, &error);
        let is_new = path.metadata().map_or(true, |facts| facts.len() == 0);
        let connection = Connection::open(path).map_err(failed)?;
        if is_new {
            // Nobody needs to get back what there was, so that no journal is left behind either.
            connection.execute_batch("pragma journal_mode = memory").map_err(failed)?;
        }
        connection.execute_batch("begin immediate").map_err(failed)?;
        let there: Option<String> = connection
            .query_row(
                "select type from sqlite_master where name = ?1 collate nocase \
                 and type in ('table', 'view')",
                [table],
                |row| row.get(0),
            )
            .optional()
            .map_err(failed)?;
        if let Some(kind) = there
            && (!overwrite || kind != "table")
        {
            return Err(Error::TableExists {
                name: name.to_owned(),
                table: table.to_owned(),
                is_view: kind != "table",
            });
        }
        let (name, table) = (name.to_owned(), table.to_owned());
        Ok(Self { name, table, connection, columns: 0, insert: String::new() })
    }

    /// Lets the table appear.
    ///
    /// # Errors
    /// [`Error::Database`] when it can't be put in its place.
    pub fn commit(self) -> Result<()> {
        let Self { name, table, connection, .. } = self;
        let (passing, table) = (quoted(PASSING), quoted(&table));
        let done = connection
            .execute_batch(&format!(
                "drop table if exists {table}; alter table {passing} rename to {table}; commit"
            ))
            .and_then(|()| connection.close().map_err(|(_, error)| error));
        done.map_err(|error| failed(&name, &error))
    }

    /// What the database is called in messages.
    pub fn name(&self) -> &str {
        &self.name
    }
}

fn failed(name: &str, error: &rusqlite::Error) -> Error {
    Error::Database { name: name.to_owned(), said: error.to_string() }
}

impl Sink for DatabaseWriter {
    type Error = Error;
    type Renderer = DatabaseRenderer;

    fn write_headers(&mut self, main: &Headers, added: &[String]) -> Result<()> {
        let all = main.clone().with(added);
        self.columns = all.len();
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
        let places = vec!["?"; self.columns].join(", ");
        // Without types, so that each cell is kept as it comes.
        let create = format!("create table {} ({})", quoted(PASSING), columns.join(", "));
        self.insert = format!("insert into {} values ({places})", quoted(PASSING));
        let created = self.connection.execute_batch(&create);
        created.map_err(|error| failed(&self.name, &error))
    }

    fn renderer(&self, overlay: Overlay) -> DatabaseRenderer {
        DatabaseRenderer { overlay, columns: self.columns }
    }

    fn write(&mut self, rendered: &mut Block) -> Result<()> {
        let failed = |error: rusqlite::Error| failed(&self.name, &error);
        let mut insert = self.connection.prepare_cached(&self.insert).map_err(failed)?;
        for row in 0..rendered.rows() {
            let cells = (0..self.columns)
                .map(|column| value(rendered.cell(row, column), rendered.kind(row, column)));
            insert.execute(params_from_iter(cells)).map_err(failed)?;
        }
        Ok(())
    }
}

/// Puts the cells of rows together.
#[derive(Debug, Clone)]
pub struct DatabaseRenderer {
    overlay: Overlay,
    columns: usize,
}

impl Renderer for DatabaseRenderer {
    type Rendered = Block;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, out: &mut Block) {
        out.reset(self.columns);
        for (nth, &row) in rows.iter().enumerate() {
            for column in 0..main.columns() {
                match self.overlay.place(column) {
                    Some(place) => out.push_cell_of(added.cell(nth, place), added.kind(nth, place)),
                    None => out.push_cell_of(main.cell(row, column), main.kind(row, column)),
                }
            }
            for place in self.overlay.len()..added.columns() {
                out.push_cell_of(added.cell(nth, place), added.kind(nth, place));
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
        CellKind::Unsaid => is_plain_number(cell),
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
            && (is_plain_number(cell) || format!("{real}") == cell)
        {
            return ToSqlOutput::Owned(Value::Real(real));
        }
    }
    ToSqlOutput::Borrowed(ValueRef::Text(cell.as_bytes()))
}
