//! Writing into a table of a database: added columns, updates and new rows.
//!
//! The enriched rows are collected beside the database, each with marks of what is another in it, and found again by the
//! table's primary key. The table is written to in one short transaction, in [`TableUpdater::commit`]: it keeps its
//! types, keys, indexes and triggers, and a cell that is not written keeps its value as it is stored.

use std::path::Path;

use gather_keys_core::table::{Block, OutputColumns, Sink};

use super::connection::failed;
use super::quoted;
use super::writer::{COLLECTED, DatabaseRenderer, DatabaseWriter, There};
use crate::marked_rows::{MarkedRenderer, with_marks};
use crate::{Error, Result};

/// Writes into a table of a database.
#[derive(Debug)]
pub struct TableUpdater {
    writer: DatabaseWriter,
    there: There,
    /// The columns of the primary key.
    key: Vec<String>,
    /// How many columns the table has, and the headers that are added.
    own: usize,
    added: Vec<String>,
    /// The columns that are updated, in order.
    updated: Vec<usize>,
}

impl TableUpdater {
    /// Begins to write into `table` of the database at `path`, which is called `name` in messages.
    ///
    /// # Errors
    /// [`Error::NoKey`] when the table has no primary key, or is a view; and [`Error::Database`] when the database
    /// can't be written to.
    pub fn begin(name: &str, path: &Path, table: &str) -> Result<Self> {
        let writer = DatabaseWriter::begin(name, path, table, true)?;
        let no_key = || Error::NoKey { name: name.to_owned(), table: table.to_owned() };
        let there = writer.there().cloned().ok_or_else(no_key)?;
        let key = there.key(writer.connection()).map_err(|error| failed(name, &error))?;
        if key.is_empty() {
            return Err(no_key());
        }
        let (added, updated) = (Vec::new(), Vec::new());
        Ok(Self { writer, there, key, own: 0, added, updated })
    }

    /// Sets the columns that are updated.
    ///
    /// # Errors
    /// [`Error::UpdatesKey`] when one is of the primary key.
    pub fn set_updated(&mut self, mut columns: Vec<usize>) -> Result<()> {
        columns.sort_unstable();
        columns.dedup();
        let header = |column: &usize| self.there.columns.get(*column).map(|(header, _)| header);
        if let Some(header) = columns.iter().filter_map(header).find(|one| self.key.contains(one)) {
            let (name, header) = (self.name().to_owned(), header.clone());
            return Err(Error::UpdatesKey { name, header });
        }
        self.updated = columns;
        Ok(())
    }

    /// The name of the database in messages.
    pub fn name(&self) -> &str {
        self.writer.name()
    }

    /// Writes into the table, in one transaction.
    ///
    /// # Errors
    /// [`Error::Database`] when the database refuses, [`Error::TargetChanged`] when the table or its rows are others
    /// than when the run began. The database is then as it was.
    pub fn commit(self) -> Result<()> {
        let connection = self.writer.connection();
        let failed = |error: rusqlite::Error| failed(self.name(), &error);
        connection.execute_batch("commit; begin immediate").map_err(failed)?;
        if let Err(error) = self.put_in_place() {
            // A transaction that can't be rolled back ends with the connection.
            let _ = connection.execute_batch("rollback");
            return Err(error);
        }
        connection.execute_batch("commit").map_err(failed)?;
        self.writer.close()
    }

    fn put_in_place(&self) -> Result<()> {
        let connection = self.writer.connection();
        let failed = |error: rusqlite::Error| failed(self.name(), &error);
        let changed =
            || Error::TargetChanged { name: format!("{}#{}", self.name(), self.there.name) };
        if There::find(connection, self.name(), &self.there.name)?.as_ref() != Some(&self.there) {
            return Err(changed());
        }
        let table = quoted(&self.there.name);
        // A strict table takes no column without a type.
        let any = if self.there.is_strict() { " any" } else { "" };
        for header in &self.added {
            let add = format!("alter table main.{table} add column {}{any}", quoted(header));
            connection.execute_batch(&add).map_err(failed)?;
        }
        let collected: Vec<String> = self.writer.headers().iter().map(|one| quoted(one)).collect();
        let marks = &collected[self.own + self.added.len()..];
        let (is_changed, is_new) = marks.split_at(self.updated.len());
        let is_new = is_new.first().map_or("", |mark| mark);
        let own = |column: usize| &collected[column];
        let mut set: Vec<String> = self
            .added
            .iter()
            .zip(&collected[self.own..])
            .map(|(header, from)| format!("{} = c.{from}", quoted(header)))
            .collect();
        set.extend(self.updated.iter().zip(is_changed).map(|(&column, mark)| {
            let header = quoted(&self.there.columns[column].0);
            format!(
                "{header} = case when c.{mark} is null then {table}.{header} else c.{} end",
                own(column)
            )
        }));
        let is_key = |header: &String| {
            let column = self.there.columns.iter().position(|(one, _)| one == header);
            format!("{table}.{} = c.{}", quoted(header), own(column.unwrap_or_default()))
        };
        let found: Vec<String> = self.key.iter().map(is_key).collect();
        let concerned = match (self.added.is_empty(), is_changed) {
            (false, _) | (true, []) => String::new(),
            (true, marks) => {
                let marks: Vec<String> =
                    marks.iter().map(|mark| format!("c.{mark} is not null")).collect();
                format!(" and ({})", marks.join(" or "))
            }
        };
        if !set.is_empty() {
            let of_main = format!("c.{is_new} is null{concerned}");
            let count = format!("select count(*) from {COLLECTED} c where {of_main}");
            let rows: i64 = connection.query_row(&count, [], |row| row.get(0)).map_err(failed)?;
            let update = format!(
                "update main.{table} set {} from {COLLECTED} c where {of_main} and {}",
                set.join(", "),
                found.join(" and ")
            );
            let updated = connection.execute(&update, []).map_err(failed)?;
            if updated != usize::try_from(rows).unwrap_or_default() {
                return Err(changed());
            }
        }
        // Columns without any value have those that the table gives them.
        let mut columns = Vec::new();
        let all = self.there.columns.iter().map(|(header, _)| header).chain(&self.added);
        for (header, from) in all.zip(&collected) {
            let count = format!("select count({from}) from {COLLECTED} where {is_new} is not null");
            let values: i64 = connection.query_row(&count, [], |row| row.get(0)).map_err(failed)?;
            if values > 0 {
                columns.push((quoted(header), from.clone()));
            }
        }
        if columns.is_empty() {
            return Ok(());
        }
        let (into, from): (Vec<String>, Vec<String>) = columns.into_iter().unzip();
        let insert = format!(
            "insert into main.{table} ({}) select {} from {COLLECTED} where {is_new} is not null order by rowid",
            into.join(", "),
            from.join(", ")
        );
        connection.execute(&insert, []).map(drop).map_err(failed)
    }
}

impl Sink for TableUpdater {
    type Error = Error;
    type Renderer = MarkedRenderer<DatabaseRenderer>;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        self.own = columns.own();
        let marked = with_marks(columns, self.updated.len());
        self.writer.collect(marked.headers(), Some(&self.updated))?;
        self.added = self.writer.headers()[self.own..columns.len()].to_vec();
        Ok(())
    }

    fn renderer(&self, columns: &OutputColumns) -> MarkedRenderer<DatabaseRenderer> {
        let marked = with_marks(columns, columns.overlay().len());
        MarkedRenderer::new(self.writer.renderer(&marked), columns.overlay())
    }

    fn write(&mut self, rendered: &mut Block) -> Result<()> {
        self.writer.write(rendered)
    }
}
