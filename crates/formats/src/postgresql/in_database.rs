//! An enrichment inside the database where its tables are.
//!
//! In goes the script that the core makes of the plans; the server carries it out in one transaction, of one snapshot. What
//! comes here are counts, the rows that findings name, and the different values that only this program can read. Nobody
//! sees the output before the end, and a run that ends before leaves the database as it was.

mod shipped;

use std::io::{self, Write};

use gather_keys_core::enrich::{Resolved, RowOutput};
use gather_keys_core::findings::{Counted, CountedRow, LookupFindings};
use gather_keys_core::lookup::{Lookup, Seed};
use gather_keys_core::plan::ReferencePlan;
use gather_keys_core::sql::{
    LookupQueries, OutputColumn, Reading, RowName, Script, Step, StoredColumn, StoredTable,
};
use gather_keys_core::table::{Block, Headers};
use postgres::fallible_iterator::FallibleIterator;
use postgres::{CancelToken, Client, NoTls, Row};

use super::connection::reported;
use super::encryption::encrypted;
use super::identity::{DatabaseIdentity, TableIdentity};
use super::reader::{NAMED, SPELLING, chosen, names};
use super::value::value_type;
use super::writer::{There, too_long};
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
    name: String,
    client: Client,
    target: Option<Target>,
    /// The statements, for somebody who wants to read them or to run them by hand.
    shown: Option<WholeFile>,
    /// How many bytes of values went each way.
    sent: u64,
    received: u64,
}

/// The table that is written.
#[derive(Debug)]
struct Target {
    name: String,
    schema: String,
    table: String,
    there: Option<There>,
}

/// How much of what was found comes here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Most {
    /// How many rows of each kind of finding.
    pub sampled: usize,
    /// How many keys that no reference row holds, so that their reasons can be found.
    pub unmatched: usize,
    /// How many rows of each reference, whether findings name them or not.
    pub rows: usize,
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
        Ok(Self { name, client, target: None, shown: None, sent: 0, received: 0 })
    }

    /// Writes the statements to a file as they are carried out, so that they can be read, and run again by hand.
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

    /// How many bytes of values went to the server, and came from there.
    pub fn traffic(&self) -> (u64, u64) {
        (self.sent, self.received)
    }

    /// Names the table that is to be written. A table of the name is replaced only with `overwrite`.
    ///
    /// # Errors
    /// [`Error::TableExists`] when a table is there and may not be replaced, or a view is; [`Error::Server`].
    pub fn set_target(&mut self, address: &ServerAddress, overwrite: bool) -> Result<()> {
        let name = address.to_string();
        let Some(asked) = address.table() else {
            let (said, fix) = ("no table is named".to_owned(), "name one, such as #enriched");
            return Err(Error::Server { name, said, fix });
        };
        let (schema, table) = match asked.split_once('.') {
            Some((schema, table)) => (schema.to_owned(), table.to_owned()),
            None => {
                let row = self.client.query_one("select current_schema()::text", &[]);
                let schema: Option<String> = row.map_err(|error| failed(&name, &error))?.get(0);
                (schema.unwrap_or_else(|| "public".to_owned()), asked.to_owned())
            }
        };
        too_long(&name, &table)?;
        let there = There::find(&mut self.client, &schema, &table);
        let there = there.map_err(|error| failed(&name, &error))?;
        if let Some(there) = &there
            && (!overwrite || there.is_view)
        {
            let (name, is_view) = (address.database(), there.is_view);
            return Err(Error::TableExists { name, table, is_view });
        }
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
        Ok(Some(format!("{schema}.gather_keys_{}_answers", count_at(&number, 0))))
    }

    /// Which table is there under the name of the one that is written.
    pub fn identity(&self) -> Option<&TableIdentity> {
        Some(&self.target.as_ref()?.there.as_ref()?.identity)
    }

    /// The name of the table that is written, or of the database.
    pub fn name(&self) -> &str {
        self.target.as_ref().map_or(&self.name, |target| &target.name)
    }

    /// What the server says of the table of an address, whose rows are in the order of some columns if these are given.
    ///
    /// # Errors
    /// When the server has no such table, or the table no such columns.
    pub fn describe(
        &mut self,
        address: &ServerAddress,
        order_by: &[String],
    ) -> Result<(StoredTable, TableIdentity)> {
        let name = address.to_string();
        let failed = |error: postgres::Error| failed(&name, &error);
        let client = &mut self.client;
        let Some((schema, table, _)) = chosen(client, address).map_err(failed)? else {
            let all = names(client, NAMED).unwrap_or_default();
            let asked = address.table().unwrap_or_default().to_owned();
            return Err(Error::NoPart { name: address.database(), what: "table", asked, all });
        };
        let identity = TableIdentity::find(client, &schema, &table).map_err(failed)?;
        let stored = format!("{}.{}", quoted(&schema), quoted(&table));
        let statement = client.prepare(&format!("select * from {stored}")).map_err(failed)?;
        let rows = client.query(
            "select a.attname::text, format_type(a.atttypid, a.atttypmod), coalesce(c.collisdeterministic, true), \
             coalesce(array_position(i.indkey::smallint[], a.attnum), -1)::integer from pg_attribute a \
             left join pg_collation c on c.oid = a.attcollation \
             left join pg_index i on i.indrelid = a.attrelid and i.indisprimary \
             where a.attrelid = $1 and a.attnum > 0 and not a.attisdropped order by a.attnum",
            &[&identity.table],
        );
        let rows = rows.map_err(failed)?;
        let kinds = statement.columns().iter().map(postgres::Column::type_);
        let columns: Vec<StoredColumn> = rows
            .iter()
            .zip(kinds)
            .map(|(row, kind)| StoredColumn {
                name: row.get(0),
                value: value_type(kind, row.get(2)),
                declared: row.get(1),
            })
            .collect();
        let headers: Vec<String> = columns.iter().map(|column| column.name.clone()).collect();
        let headers = Headers::new(&name, headers);
        let order_by = order_by.iter().map(|header| Ok(headers.find(header)?.column));
        let order_by = order_by.collect::<Result<Vec<usize>>>()?;
        let mut key: Vec<(i32, usize)> =
            rows.iter().zip(0..).map(|(row, at)| (row.get(3), at)).collect();
        key.retain(|(place, _)| *place >= 0);
        key.sort_unstable();
        let key = key.into_iter().map(|(_, at)| at).collect();
        let unique = client
            .query(
                "select i.indkey::smallint[], i.indnkeyatts from pg_index i where i.indrelid = $1 and i.indisunique \
                 and i.indisvalid and i.indimmediate and i.indpred is null and i.indexprs is null",
                &[&identity.table],
            )
            .map_err(failed)?;
        let numbers = client
            .query(
                "select attnum from pg_attribute where attrelid = $1 and attnum > 0 and not attisdropped order by attnum",
                &[&identity.table],
            )
            .map_err(failed)?;
        let numbers: Vec<i16> = numbers.iter().map(|row| row.get(0)).collect();
        let unique = unique.iter().filter_map(|row| {
            let (columns, keys): (Vec<i16>, i16) = (row.get(0), row.get(1));
            let place = |number: &i16| numbers.iter().position(|other| other == number);
            columns.iter().take(keys.cast_unsigned().into()).map(place).collect::<Option<Vec<_>>>()
        });
        let kind = client
            .query_one("select relkind::text from pg_class where oid = $1", &[&identity.table])
            .map_err(failed)?;
        let has_places = matches!(kind.get(0), "r" | "m");
        let (unique, place) = (unique.collect(), has_places.then_some("ctid"));
        Ok((StoredTable { name: stored, headers, columns, key, order_by, unique, place }, identity))
    }

    /// Carries out the steps of a script, and tells of each before it begins.
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
                    self.execute(sql)?;
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

    /// What was found of a reference: its lookup, with those of its rows that findings name, what that adds, and the findings.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone, and those of
    /// [`ReferenceBuilder::finish`](gather_keys_core::lookup::ReferenceBuilder::finish).
    pub fn findings(
        &mut self,
        queries: &LookupQueries,
        (plan, table, found): (&ReferencePlan, &StoredTable, Resolved),
        seed: Seed,
        most: Most,
    ) -> Result<(Lookup, RowOutput, LookupFindings)> {
        let mut counted = self.count(queries, most)?;
        let updated = found.output.updates.iter().map(|one| one.column);
        for ((column, _), updated) in counted.updates.iter_mut().zip(updated) {
            *column = updated;
        }
        let mut block = Block::new(table.columns.len());
        let (mut positions, mut line) = (Vec::new(), 1);
        let has_unused = counted.rows[0] > counted.asked[0];
        self.reference_rows(queries, (most, has_unused), |position, asked, by, cells| {
            let mut cells = queries.rows.reference_columns.iter().zip(cells).peekable();
            for column in 0..table.columns.len() {
                let cell = cells.next_if(|(used, _)| **used == column);
                block.push_cell(cell.map_or("", |(_, cell)| cell));
            }
            line += 1;
            block.push_line(line);
            positions.push(position);
            counted.asked_rows.push((asked, by));
        })?;
        let mut builder = found.builder(plan, &table.headers, seed);
        builder.add(&block)?;
        drop(block);
        let reference = builder.some_of(positions, counted.rows[0], counted.keys).finish()?;
        let (lookup, output) = found.lookup(reference);
        let columns = queries.rows.columns.iter().max().map_or(0, |last| last + 1);
        let columns = columns.max(lookup.columns().into_iter().max().map_or(0, |last| last + 1));
        let findings = counted.findings(&lookup, columns, most.sampled);
        Ok((lookup, output, findings))
    }

    /// What was counted for a reference, with the first main rows of each trouble.
    fn count(&mut self, queries: &LookupQueries, most: Most) -> Result<Counted> {
        let outcomes = self.query(&queries.outcomes)?;
        let outcomes = outcomes.iter().map(|row| (row.get(0), row.get(1), count_at(row, 2)));
        let outcomes = outcomes.collect();
        let reference = self.one(&queries.reference)?;
        let repeated = self.one(&queries.repeated)?;
        let asked = self.one(&queries.asked)?;
        let mut updates = Vec::new();
        if let Some(query) = &queries.updates {
            let row = self.one(query)?;
            let counts: Vec<u64> = (0..row.len()).map(|nth| count_at(&row, nth)).collect();
            let (each, _) = counts.as_chunks::<5>();
            updates.extend(each.iter().map(|counts| (0, *counts)));
        }
        let troubles = self.main_rows(&queries.rows.troubles(most.sampled), queries)?;
        let unmatched = match most.unmatched {
            0 => Vec::new(),
            most => self.main_rows(&queries.rows.unmatched(most), queries)?,
        };
        Ok(Counted {
            outcomes,
            rows: [0, 1, 2].map(|nth| count_at(&reference, nth)),
            keys: count_at(&reference, 3),
            ranges: queries.has_ranges.then(|| count_at(&reference, 4)),
            repeated: [0, 1, 2].map(|nth| count_at(&repeated, nth)),
            asked: [0, 1].map(|nth| count_at(&asked, nth)),
            updates,
            counts_copies: queries.counts_copies,
            troubles,
            unmatched,
            asked_rows: Vec::new(),
        })
    }

    /// The main rows that a query gives.
    fn main_rows(&mut self, query: &str, queries: &LookupQueries) -> Result<Vec<CountedRow>> {
        let of_row = |row: &Row| {
            let first: Option<String> = row.get(3);
            let first = first.unwrap_or_default();
            let name = match &queries.rows.name {
                RowName::Key(header) => format!("{header} {first}"),
                RowName::Place => format!("row at {first}"),
                RowName::None => "a row".to_owned(),
            };
            let cells = queries.rows.columns.iter().enumerate();
            let cell = |(at, &column): (usize, &usize)| {
                let cell: Option<String> = row.get(4 + at);
                (column, cell.unwrap_or_default())
            };
            CountedRow {
                outcome: row.get(0),
                miss: row.get(1),
                rows: count_at(row, 2),
                row: 0,
                name: Some(name),
                cells: cells.map(cell).collect(),
            }
        };
        let mut all = Vec::new();
        let none: [i32; 0] = [];
        let rows = self.client.query_raw(query, none);
        let mut rows = rows.map_err(|error| failed(&self.name, &error))?;
        while let Some(row) = rows.next().map_err(|error| failed(&self.name, &error))? {
            let row = of_row(&row);
            self.received += row.cells.iter().map(|(_, cell)| cell.len() as u64).sum::<u64>();
            all.push(row);
        }
        Ok(all)
    }

    /// Passes the rows of a reference that findings name on: the position of each, how often it is asked for, and its cells.
    fn reference_rows(
        &mut self,
        queries: &LookupQueries,
        (most, has_unused): (Most, bool),
        mut take: impl FnMut(u32, u64, Vec<usize>, &[String]),
    ) -> Result<()> {
        let unused =
            if has_unused { self.query(&queries.rows.unused(most.sampled))? } else { Vec::new() };
        let unused: Vec<u64> = unused.iter().map(|row| count_at(row, 0)).collect();
        let query = queries.rows.reference(most.sampled, &unused, most.rows);
        self.execute(&format!("declare rows_named no scroll cursor without hold for {query}"))?;
        let mut cells = Vec::new();
        loop {
            let rows = self.query(&format!("fetch {AT_ONCE} from rows_named"))?;
            for row in &rows {
                cells.clear();
                cells.extend((3..row.len()).map(|nth| row.get::<_, String>(nth)));
                self.received += cells.iter().map(|cell| cell.len() as u64).sum::<u64>();
                let by: Option<&str> = row.get(2);
                let by = by.unwrap_or_default().trim_matches(['{', '}']).split(',');
                let by = by.filter_map(|place| place.parse::<usize>().ok()?.checked_sub(1));
                take((count_at(row, 0) - 1) as u32, count_at(row, 1), by.collect(), &cells);
            }
            if rows.len() < AT_ONCE {
                break;
            }
        }
        self.execute("close rows_named").map(drop)
    }

    /// How many rows the output would have.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone.
    pub fn rows_of(&mut self, script: &Script) -> Result<u64> {
        Ok(count_at(&self.one(&format!("select count(*) {}", script.source))?, 0))
    }

    /// How many rows a table has.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone.
    pub fn rows_in(&mut self, table: &StoredTable) -> Result<u64> {
        Ok(count_at(&self.one(&format!("select count(*) from {}", table.name))?, 0))
    }

    /// Writes the output, which nobody sees yet; returns how many rows it has.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses or is gone, [`Error::WouldLose`] when the table that is there has what a
    /// new one would not have.
    pub fn write(&mut self, script: &Script) -> Result<u64> {
        let Some(target) = &self.target else { return Ok(0) };
        let name = format!("{}.{}", quoted(&target.schema), quoted(&target.table));
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
                        script.source
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
                    format!("create table {name} as\nselect {columns}\n{}", script.source),
                )
            }
        };
        if let Some(before) = before {
            self.show_statement("The table that is there makes room.", &before)?;
            self.execute(&before)?;
        }
        self.show_statement("The output: the rows with their answers.", &statement)?;
        let rows = self.execute(&statement)?;
        self.drop_shared(script)?;
        Ok(rows)
    }

    /// Writes into the main table itself, where nobody sees it yet: the columns that references add, and cells that they
    /// update. Every row of it goes out.
    ///
    /// # Errors
    /// [`Error::Server`] when the server refuses, or another program has changed a row; [`Error::NoKey`] when rows can't be found
    /// again, [`Error::UpdatesKey`] when they are found by a column that is updated.
    pub fn write_into(&mut self, main: &StoredTable, script: &Script) -> Result<()> {
        let name = || main.headers.table().to_owned();
        let places: Vec<String> = match (main.place, &main.key[..]) {
            (Some(place), _) => vec![place.to_owned()],
            (None, []) => return Err(Error::NoKey { name: self.name.clone(), table: name() }),
            (None, key) => key.iter().map(|&column| quoted(&main.columns[column].name)).collect(),
        };
        let is_key = |column: &usize| main.place.is_none() && main.key.contains(column);
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
                "update {} t set {}\nfrom (\n    select {}\n    {}\nwhere {}\n) s where {}",
                main.name,
                set.join(", "),
                places.chain(values).collect::<Vec<_>>().join(",\n        "),
                script.source,
                concerned.join(" or "),
                found.collect::<Vec<_>>().join(" and ")
            );
            self.show_statement("The cells that are others than before.", &update)?;
            self.execute(&update)?;
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

/// The value of a column for one of a type; of another type by its text, so that no digit is lost without a word.
fn as_declared(column: &OutputColumn, declared: &str) -> String {
    if column.declared == declared {
        column.value.clone()
    } else {
        format!("({})::{declared}", column.text)
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
