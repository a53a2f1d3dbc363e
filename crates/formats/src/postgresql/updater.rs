//! Writing into a table on a server: added columns, updates and new rows.
//!
//! The enriched rows are copied into a temporary table, each with marks of what is another in it, and found again by the
//! table's primary key. All of it is one transaction; the table keeps its types, keys, indexes, grants and policies,
//! and a cell that is not written keeps its value as it is stored.

use gather_keys_core::table::{OutputColumns, Sink};

use super::writer::{PASSING, ServerWriter, type_of};
use super::{ServerAddress, quoted};
use crate::columnar::{TextBatch, TextRenderer};
use crate::marked_rows::{MarkedRenderer, with_marks};
use crate::{Error, Result};

/// Writes into a table on a server.
#[derive(Debug)]
pub struct ServerUpdater {
    writer: ServerWriter,
    /// The columns of the primary key.
    key: Vec<String>,
    own: usize,
    added: Vec<String>,
    /// The types of the added columns.
    types: Vec<String>,
    /// The columns that are updated, in order.
    updated: Vec<usize>,
    declared: Vec<Option<String>>,
}

impl ServerUpdater {
    /// Begins to write into the table that an address names.
    ///
    /// # Errors
    /// [`Error::NoKey`] when there is no such table, or it has no primary key; [`Error::Inherited`] when other tables
    /// inherit from it; [`Error::Server`] when the server can't be reached or refuses.
    pub fn begin(address: &ServerAddress) -> Result<Self> {
        let mut writer = ServerWriter::begin(address, true)?;
        let key = writer.key()?;
        if key.is_empty() {
            let table = address.table().unwrap_or_default().to_owned();
            return Err(Error::NoKey { name: address.database(), table });
        }
        let (added, types, updated, declared) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        Ok(Self { writer, key, own: 0, added, types, updated, declared })
    }

    /// Says which types the columns had, those of the table first, as a server declares them.
    pub fn declare(&mut self, declared: Vec<Option<String>>) {
        self.declared = declared;
    }

    /// Sets the columns that are updated.
    ///
    /// # Errors
    /// [`Error::UpdatesKey`] when one is of the primary key.
    pub fn set_updated(&mut self, mut columns: Vec<usize>) -> Result<()> {
        columns.sort_unstable();
        columns.dedup();
        let header = |column: &usize| self.writer.columns().get(*column).map(|(header, _)| header);
        if let Some(header) = columns.iter().filter_map(header).find(|one| self.key.contains(one)) {
            let (name, header) = (self.name().to_owned(), header.clone());
            return Err(Error::UpdatesKey { name, header });
        }
        self.updated = columns;
        Ok(())
    }

    /// The name of the table in messages.
    pub fn name(&self) -> &str {
        self.writer.name()
    }

    /// Sends the rows to the server, where nobody sees them yet.
    ///
    /// # Errors
    /// Those of [`ServerWriter::send`].
    pub fn send(&mut self) -> Result<Vec<String>> {
        let (spooled, own) = (self.writer.spooled()?, self.own);
        let Some(spooled) = spooled else { return Ok(Vec::new()) };
        let fields = spooled.fields();
        for (nth, kind) in fields.iter().enumerate().skip(own).take(self.added.len()) {
            let declared = self.declared.get(nth).cloned().flatten();
            let known = match declared {
                Some(declared) => self.writer.knows(&declared)?.then_some(declared),
                None => None,
            };
            self.types.push(known.unwrap_or_else(|| type_of(kind)));
        }
        // As texts: their types are those of the table.
        let columns: Vec<String> = (0..fields.len()).map(|nth| format!("c{nth} text")).collect();
        let names: Vec<String> = (0..fields.len()).map(|nth| format!("c{nth}")).collect();
        let create = format!(
            "create temp table {} (place bigserial, {})",
            quoted(PASSING),
            columns.join(", ")
        );
        let types: Vec<String> =
            self.writer.columns().iter().map(|(_, kind)| kind.clone()).collect();
        let is_marked = |header: &String| self.added.contains(header);
        let mixed = self.writer.copy(spooled, &create, Some(&names.join(", ")), &types)?;
        Ok(mixed.into_iter().filter(is_marked).collect())
    }

    /// Writes into the table.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses, [`Error::TargetChanged`] when the table or its rows are others than
    /// when the run began.
    pub fn commit(mut self) -> Result<()> {
        let target = self.writer.lock("share row exclusive")?;
        let passing = format!("pg_temp.{}", quoted(PASSING));
        let columns = self.writer.columns().to_vec();
        for (header, kind) in self.added.iter().zip(&self.types) {
            self.writer
                .execute(&format!("alter table {target} add column {} {kind}", quoted(header)))?;
        }
        let first_mark = self.own + self.added.len();
        let is_new = format!("p.c{}", first_mark + self.updated.len());
        let mut set: Vec<String> = self
            .added
            .iter()
            .zip(&self.types)
            .enumerate()
            .map(|(nth, (header, kind))| {
                format!("{} = p.c{}::{kind}", quoted(header), self.own + nth)
            })
            .collect();
        set.extend(self.updated.iter().enumerate().map(|(nth, &column)| {
            let (header, kind) = (quoted(&columns[column].0), &columns[column].1);
            let mark = format!("p.c{}", first_mark + nth);
            format!(
                "{header} = case when {mark} is null then t.{header} else p.c{column}::{kind} end"
            )
        }));
        let is_key = |header: &String| {
            let column = columns.iter().position(|(one, _)| one == header).unwrap_or_default();
            format!("t.{} = p.c{column}::{}", quoted(header), columns[column].1)
        };
        let found: Vec<String> = self.key.iter().map(is_key).collect();
        let marks: Vec<String> = (0..self.updated.len())
            .map(|nth| format!("p.c{} is not null", first_mark + nth))
            .collect();
        let concerned = if self.added.is_empty() && !marks.is_empty() {
            format!(" and ({})", marks.join(" or "))
        } else {
            String::new()
        };
        if !set.is_empty() {
            let of_main = format!("{is_new} is null{concerned}");
            let rows =
                self.writer.count(&format!("select count(*) from {passing} p where {of_main}"))?;
            let update = format!(
                "update {target} t set {} from {passing} p where {of_main} and {}",
                set.join(", "),
                found.join(" and ")
            );
            if self.writer.execute(&update)? != rows {
                return Err(Error::TargetChanged { name: self.name().to_owned() });
            }
        }
        // Columns without any value have those that the table gives them.
        let own = columns.iter().map(|(header, kind)| (header, kind));
        let all = own.chain(self.added.iter().zip(&self.types));
        let (mut into, mut from) = (Vec::new(), Vec::new());
        for (nth, (header, kind)) in all.enumerate() {
            let values =
                format!("select count(p.c{nth}) from {passing} p where {is_new} is not null");
            if self.writer.count(&values)? > 0 {
                into.push(quoted(header));
                from.push(format!("p.c{nth}::{kind}"));
            }
        }
        if !into.is_empty() {
            self.writer.execute(&format!(
                "insert into {target} ({}) select {} from {passing} p where {is_new} is not null order by place",
                into.join(", "),
                from.join(", ")
            ))?;
        }
        self.writer.execute("commit").map(drop)
    }
}

impl Sink for ServerUpdater {
    type Error = Error;
    type Renderer = MarkedRenderer<TextRenderer>;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        self.own = columns.own();
        self.added = columns.headers().iter().skip(self.own).map(str::to_owned).collect();
        self.writer.write_headers(&with_marks(columns, self.updated.len()))
    }

    fn renderer(&self, columns: &OutputColumns) -> MarkedRenderer<TextRenderer> {
        let marked = with_marks(columns, columns.overlay().len());
        MarkedRenderer::new(self.writer.renderer(&marked), columns.overlay())
    }

    fn write(&mut self, rendered: &mut TextBatch) -> Result<()> {
        self.writer.write(rendered)
    }
}
