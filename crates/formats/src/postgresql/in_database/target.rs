//! The table that is written: a new one, one that is replaced, or the main table itself.

use gather_keys_core::sql::{OutputColumn, Script, StoredTable};

use super::{InDatabase, Target, count_at, failed};
use crate::postgresql::inheritance::has_children;
use crate::postgresql::reader::chosen;
use crate::postgresql::writer::{refused, target_of, too_long};
use crate::postgresql::{ServerAddress, quoted};
use crate::{Error, Result};

impl InDatabase {
    /// Names the table that is to be written. A table of the name is replaced only with `overwrite`.
    ///
    /// # Errors
    /// [`Error::TableExists`] when a table is there and may not be replaced, or a view is; [`Error::Server`].
    pub fn set_target(&mut self, address: &ServerAddress, overwrite: bool) -> Result<()> {
        let name = address.to_string();
        let (schema, table, there) = target_of(&mut self.client, address, overwrite)?;
        self.target = Some(Target { name, schema, table, there });
        Ok(())
    }

    /// Makes the main table of an address the one that is written into.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone.
    pub fn set_main_target(&mut self, address: &ServerAddress) -> Result<()> {
        let name = address.to_string();
        let Some((schema, table, _)) =
            chosen(&mut self.client, address).map_err(|error| failed(&name, &error))?
        else {
            return Ok(());
        };
        self.target = Some(Target { name, schema, table, there: None });
        Ok(())
    }

    /// The beginning of a name that no table of the database has, in the schema of the table that is written.
    ///
    /// # Errors
    /// [`Error::Server`] when the server is gone.
    pub fn shared_name(&mut self) -> Result<Option<String>> {
        let Some(target) = &self.target else { return Ok(None) };
        let schema = quoted(&target.schema);
        // No two connections have one number, and nobody sees the tables of another's transaction.
        let number = self.one("select pg_backend_pid()::bigint")?;
        Ok(Some(format!("{schema}.gather_keys_{}", count_at(&number, 0))))
    }

    /// Writes the output, which nobody sees yet; returns how many rows it has.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone, [`Error::WouldLose`] when the table that is there has what a
    /// new one would not have.
    pub fn write(&mut self, script: &Script) -> Result<u64> {
        let Some(target) = &self.target else { return Ok(0) };
        let name = target.name();
        for column in &script.output {
            too_long(&target.name, &column.name)?;
        }
        let headers = script.output.iter().map(|column| &column.name[..]);
        let (before, statement) = match &target.there {
            // Its own types and requirements hold.
            Some(there) if there.has(headers) => {
                let columns = script.output.iter().zip(&there.columns);
                let values = columns.map(|(column, (_, declared))| as_declared(column, declared));
                let names: Vec<String> =
                    script.output.iter().map(|column| quoted(&column.name)).collect();
                let values = values.collect::<Vec<_>>().join(",\n    ");
                (
                    Some(format!("truncate {name}")),
                    format!(
                        "insert into {name} ({})\nselect {values}\n{}",
                        names.join(", "),
                        script.rows(&[])
                    ),
                )
            }
            Some(there) if !there.would_lose.is_empty() => {
                return Err(Error::WouldLose {
                    name: target.name.clone(),
                    table: target.table.clone(),
                    lost: there.would_lose.clone(),
                });
            }
            there => {
                let one =
                    |column: &OutputColumn| format!("{} as {}", column.value, quoted(&column.name));
                let columns = script.output.iter().map(one).collect::<Vec<_>>().join(",\n    ");
                (
                    there.is_some().then(|| format!("drop table {name}")),
                    format!("create table {name} as\nselect {columns}\n{}", script.rows(&[])),
                )
            }
        };
        if let Some(before) = before {
            self.show_statement("The table that is there makes room.", &before)?;
            self.execute(&before)?;
        }
        self.show_statement("The output: the rows with their answers.", &statement)?;
        let rows = self.make(&statement)?;
        self.drop_shared(script)?;
        Ok(rows)
    }

    /// Why the rows of a table can't be found again.
    fn no_key(&mut self, main: &StoredTable) -> Error {
        let address = main.headers.table();
        let table = address.rsplit_once('#').map_or(address, |(_, table)| table).to_owned();
        let name = self.name.clone();
        let oid = self.client.query_one("select coalesce(to_regclass($1)::oid, 0)", &[&main.name]);
        match oid.and_then(|row| has_children(&mut self.client, row.get(0))) {
            Ok(true) => Error::Inherited { name, table },
            Ok(false) => Error::NoKey { name, table },
            Err(error) => refused(&name, &error),
        }
    }

    /// Writes into the main table itself, where nobody sees it yet: the columns that references add, cells that they update, and
    /// new rows. Every row of it goes out.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses, or another program has changed a row; [`Error::NoKey`] when rows can't be found
    /// again, [`Error::Inherited`] when other tables inherit from it, [`Error::UpdatesKey`] when they are found by a column that is updated.
    pub fn write_into(&mut self, main: &StoredTable, script: &Script) -> Result<()> {
        let name = || main.headers.table().to_owned();
        let places: Vec<String> = match (main.place, &main.key[..]) {
            ([place], _) => vec![(*place).to_owned()],
            (_, []) => return Err(self.no_key(main)),
            (_, key) => key.iter().map(|&column| quoted(&main.columns[column].name)).collect(),
        };
        let is_key = |column: &usize| main.place.len() != 1 && main.key.contains(column);
        if let Some((column, ..)) = script.updated.iter().find(|(column, ..)| is_key(column)) {
            let header = main.headers.address(*column);
            return Err(Error::UpdatesKey { name: name(), header });
        }
        if !script.added.is_empty() {
            for column in &script.added {
                too_long(&name(), &column.name)?;
            }
            let added = script.added.iter();
            let added =
                added.map(|one| format!("add column {} {}", quoted(&one.name), one.declared));
            let alter =
                format!("alter table {} {}", main.name, added.collect::<Vec<_>>().join(", "));
            self.show_statement("The columns that are added.", &alter)?;
            self.execute(&alter)?;
        }
        let (mut values, mut set, mut concerned) = (Vec::new(), Vec::new(), Vec::new());
        for (nth, column) in script.added.iter().enumerate() {
            values.push(format!("{} as a{nth}", column.value));
            set.push(format!("{} = s.a{nth}", quoted(&column.name)));
            concerned.push(format!("({}) is not null", column.value));
        }
        for (nth, (at, column, changed)) in script.updated.iter().enumerate() {
            let declared = &main.columns[*at].declared;
            values.push(format!("{} as u{nth}", as_declared(column, declared)));
            set.push(format!("{} = s.u{nth}", quoted(&column.name)));
            concerned.push(format!("({changed})"));
        }
        if !set.is_empty() {
            let found = places.iter().enumerate();
            let found = found.map(|(nth, place)| format!("t.{place} = s.p{nth}"));
            let places = places.iter().enumerate();
            let places = places.map(|(nth, place)| format!("m.{place} as p{nth}"));
            let update = format!(
                "update {} t set {}\nfrom (\n    select {}\n    {}\n) s where {}",
                main.name,
                set.join(", "),
                places.chain(values).collect::<Vec<_>>().join(",\n        "),
                script.rows(&concerned),
                found.collect::<Vec<_>>().join(" and ")
            );
            self.show_statement("The cells that are others than before.", &update)?;
            self.execute(&update)?;
        }
        if let Some((new, is_new)) = &script.new {
            let own = new.iter().map(|(at, column)| {
                let declared = &main.columns[*at].declared;
                (quoted(&column.name), as_declared(column, declared))
            });
            let added = script.added.iter();
            let added = added.map(|column| (quoted(&column.name), column.value.clone()));
            let (names, values): (Vec<String>, Vec<String>) = own.chain(added).unzip();
            let insert = format!(
                "insert into {} ({})\nselect {}\n{}",
                main.name,
                names.join(", "),
                values.join(",\n    "),
                script.rows(std::slice::from_ref(is_new))
            );
            self.show_statement("The new rows.", &insert)?;
            self.execute(&insert)?;
        }
        self.drop_shared(script)
    }

    /// Drops the tables that only the making of the output needs.
    fn drop_shared(&mut self, script: &Script) -> Result<()> {
        if script.shared.is_empty() {
            return Ok(());
        }
        let dropped = format!("drop table {}", script.shared.join(", "));
        self.show_statement("The answers are not needed any more.", &dropped)?;
        self.execute(&dropped).map(drop)
    }
}

/// The value of a column for one of a type; of another type by its text, so that no digit is lost without a word.
fn as_declared(column: &OutputColumn, declared: &str) -> String {
    if column.declared == declared {
        column.value.clone()
    } else {
        format!("({})::{declared}", column.text)
    }
}
