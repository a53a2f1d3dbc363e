//! The same enrichment as statements, for tables that are in a database.
//!
//! In go the plans with their columns found and what the server says of the tables; out comes a [`Script`]: statements
//! that join and count on the server, and [readings](Reading) of values that only this program can read. Nothing here
//! has a connection.
//!
//! Each reference becomes four temporary tables:
//!
//! ```text
//! rows      its rows, numbered, with their keys as they are compared and the cells that are taken
//! repeated  its keys that several rows hold, whether these disagree, and which one the rule chooses
//! asked     the different keys of the main table, and how many rows have each
//! answers   what the lookup answers to each of them
//! ```
//!
//! The output is the main table joined with the answers, so that its rows are gone through twice, whatever the rules.
//!
//! Where a key is compared by its values and no rule chooses among rows, a reference is joined where it is, on whichever
//! server: `rows` is a view of it, only rows that share a key are copied, as `same`, and the output is the main table joined
//! with the view.

mod added;
mod aliased;
mod answered;
mod answers;
mod appended;
mod asked;
mod cell;
mod corrected;
mod counts;
mod decision;
mod marked;
mod named_rows;
mod reading;
mod records;
mod row_queries;
mod rows;
mod stage;
mod words;

pub use aliased::AliasQueries;
pub use cell::ValueType;
pub use corrected::CorrectionQueries;
pub use counts::{LookupQueries, is_answered};
pub use marked::{MarkedKeys, sum_of};
pub use reading::{Reader, Reading};
pub use row_queries::{NamedRows, RowQueries, Shown};
pub use words::quoted;

use crate::enrich::{Corrections, Resolved};
use crate::key::Key;
use crate::lookup::{AliasKeys, RangeSpec};
use crate::table::{Headers, OutputColumns};
use answers::Answers;
use cell::Cell;
use stage::Stage;

/// A table as a server has it.
#[derive(Debug, Clone)]
pub struct StoredTable {
    /// Its name in statements.
    pub name: String,
    /// Its headers.
    pub headers: Headers,
    /// Its columns, in the order of the headers.
    pub columns: Vec<StoredColumn>,
    /// The columns of its primary key, from 0.
    pub key: Vec<usize>,
    /// The columns that its rows are in the order of, where it has one.
    pub order_by: Vec<usize>,
    /// Groups of columns of which no two rows have the same values.
    pub unique: Vec<Vec<usize>>,
    /// The names of the server's own columns that are the place of a row, where rows have one place each; else none.
    pub place: &'static [&'static str],
    /// The names of its parts in statements, where it is divided, as over servers; else none.
    pub parts: Vec<String>,
}

/// What names a row, of several main rows the first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RowName {
    /// The primary key, of one column with this header.
    Key(String),
    /// Its place in the table.
    Place,
    /// Nothing: the table is a view, or is elsewhere.
    None,
}

/// A column of such a table.
#[derive(Debug, Clone)]
pub struct StoredColumn {
    /// Its name there.
    pub name: String,
    /// The type of its values.
    pub value: ValueType,
    /// The type that it is declared with.
    pub declared: String,
}

/// A reference, and how it is asked.
#[derive(Debug)]
pub struct Asking<'a> {
    /// Its name in messages.
    pub name: &'a str,
    /// The plan with its columns found.
    pub found: &'a Resolved,
    /// Whether a blank part of a key matches a blank part.
    pub match_blanks: bool,
    /// The aliases for keys that it has not, if there are any.
    pub aliases: Option<&'a AliasKeys>,
    /// Its table.
    pub table: &'a StoredTable,
}

impl Asking<'_> {
    /// The range that chooses among the rows of a key.
    fn range(&self) -> Option<RangeSpec> {
        let bounds = self.found.bounds.clone()?;
        Some(RangeSpec::new(bounds, self.found.reach))
    }

    /// What names its rows, and the expression for that of a row `t`; numbers do where they have an order.
    fn row_name(&self) -> (RowName, String) {
        let Self { table, .. } = self;
        let cells = cells_of(table, "t");
        match (&table.order_by[..], &table.key[..], table.place) {
            ([], &[key], _) => (RowName::Key(table.headers.address(key)), cells[key].text()),
            ([], _, [place]) => (RowName::Place, format!("t.{place}::text")),
            ([], _, [part, place]) => {
                (RowName::Place, format!("t.{part}::regclass::text || ' ' || t.{place}::text"))
            }
            _ => (RowName::None, "null::text".to_owned()),
        }
    }

    /// Whether rows may spell a key differently.
    fn has_spelling(&self) -> bool {
        !self.found.reference_keys.iter().all(Key::is_verbatim)
    }

    /// The query for the rows of its table, numbered in their order, with some of the columns: `row`, and `v1`, `v2` and so on.
    fn numbered(&self, columns: &[usize]) -> String {
        let own = cells_of(self.table, "t");
        let order = match &self.table.order_by[..] {
            [] => String::new(),
            order => {
                let order = order.iter().map(|&column| own[column].sql.clone());
                format!("order by {}", words::joined(order, ", "))
            }
        };
        let kept =
            words::each(columns, |&column| format!(", {} as v{}", own[column].sql, column + 1));
        let (name, (_, row_name)) = (&self.table.name, self.row_name());
        format!(
            "select row_number() over ({order}) as row, {row_name} as name{kept}\n        from {name} t"
        )
    }
}

/// A step of a script.
#[derive(Debug)]
pub enum Step {
    /// A statement.
    Statement {
        /// What it does, in a sentence.
        about: String,
        /// The statement.
        sql: String,
    },
    /// Values that this program reads.
    Reading {
        /// What is read, in a sentence.
        about: String,
        /// How.
        reading: Box<Reading>,
    },
}

/// An enrichment as statements.
#[derive(Debug)]
pub struct Script {
    /// What makes the answers, in order.
    pub steps: Vec<Step>,
    /// The columns of the output: each name, the expression of its value, that of its canonical text, and its type.
    pub output: Vec<OutputColumn>,
    /// The tables that the output is made of, from the word `from` on.
    pub source: String,
    /// The conditions under which their rows go out.
    pub conditions: Vec<String>,
    /// For each reference the queries for its findings.
    pub lookups: Vec<LookupQueries>,
    /// The queries for what became of corrections, if there are any.
    pub corrected: Option<CorrectionQueries>,
    /// The tables that are to be dropped once the output is written.
    pub shared: Vec<String>,
    /// The columns that references add, for an output that is the main table itself.
    pub added: Vec<OutputColumn>,
    /// The columns of the main table that new rows may have, each with its value there, and the condition under which a row of the output is new; `None` where
    /// there are none.
    pub new: Option<(Vec<(usize, OutputColumn)>, String)>,
    /// The columns of the main table that references update: the column, its new value, and whether that is another.
    pub updated: Vec<(usize, OutputColumn, String)>,
}

/// A column of the output.
#[derive(Debug, Clone)]
pub struct OutputColumn {
    /// Its name.
    pub name: String,
    /// The expression of its value.
    pub value: String,
    /// The expression of its canonical text.
    pub text: String,
    /// Its type.
    pub declared: String,
}

/// A script while it is written.
#[derive(Debug, Default)]
struct Steps {
    all: Vec<Step>,
    readings: usize,
}

impl Steps {
    fn statement(&mut self, about: String, sql: String) {
        self.all.push(Step::Statement { about, sql });
    }

    /// Adds a reading, and gives the name of its table.
    fn reading(&mut self, about: String, make: impl FnOnce(String) -> Reading) -> String {
        self.readings += 1;
        let name = format!("read_{}", self.readings);
        let reading = Box::new(make(name.clone()));
        self.all.push(Step::Reading { about, reading });
        name
    }
}

impl Script {
    /// The statements of an enrichment: the main table, the references in order, the columns of the output, and corrections that
    /// come after the lookups. Matches by position have no meaning here and are not to be among them.
    ///
    /// With `shared`, the beginning of a name that no table of the database has, the answers are in tables that the server's
    /// workers share, for the time of the transaction; otherwise in temporary ones.
    pub fn new(
        main: &StoredTable,
        asked: &[Asking<'_>],
        (output, corrections): (&OutputColumns, Option<&Corrections>),
        shared: Option<&str>,
    ) -> Self {
        let mut steps = Steps::default();
        let appends = asked.iter().any(|asking| asking.found.output.appending.is_some());
        let mut stage = Stage::of(main, appends);
        let (mut lookups, mut dropped) = (Vec::new(), Vec::new());
        for (nth, asking) in asked.iter().enumerate() {
            let answers = Answers::write(&mut steps, &stage, nth + 1, asking, shared);
            let mut queries = LookupQueries::new(&stage, asking, &answers);
            if let Some(appending) = &asking.found.output.appending {
                let how = (appending, shared);
                let new = appended::append(&mut steps, &stage, (asking, &answers), how);
                queries.appended = Some(new.counts.clone());
                dropped.extend(shared.map(|_| new.table.clone()));
                stage.append(new);
            }
            lookups.push(queries);
            stage.add(asking, &answers);
            dropped.extend(shared.map(|_| answers.joined_table().to_owned()));
        }
        for (nth, queries) in lookups.iter_mut().enumerate() {
            queries.count_updates(&stage, nth);
        }
        let corrections = corrections.filter(|all| all.placed().next().is_some());
        let corrected = corrections.map(|corrections| {
            let (queries, tables) =
                corrected::correct(&mut steps, &mut stage, (corrections, asked), shared);
            dropped.extend(tables);
            queries
        });
        let column = |column: usize, name: &str| {
            let cell = stage.cell(column);
            OutputColumn {
                name: name.to_owned(),
                value: cell.sql.clone(),
                text: format!("nullif({}, '')", cell.text()),
                declared: cell.declared.clone(),
            }
        };
        let own = main.columns.len();
        let columns = (0..output.len()).map(|nth| (output.column(nth), output.headers().name(nth)));
        let output: Vec<OutputColumn> =
            columns.clone().map(|(at, name)| column(at, name)).collect();
        let added =
            columns.filter(|(at, _)| *at >= own).map(|(at, name)| column(at, name)).collect();
        let updated =
            stage.updated().map(|(at, changed)| (at, column(at, &main.columns[at].name), changed));
        let updated = updated.collect();
        let new = stage.new_columns().map(|columns| {
            let columns = columns.into_iter().map(|at| (at, column(at, &main.columns[at].name)));
            (columns.collect(), stage::IS_NEW.to_owned())
        });
        Self {
            new,
            source: stage.all_rows(),
            conditions: stage.conditions(),
            steps: steps.all,
            output,
            lookups,
            corrected,
            shared: dropped,
            added,
            updated,
        }
    }
}

impl Script {
    /// What follows the columns of a query for the rows that go out, as far as one of `among` holds, or for all of them where there
    /// is none.
    pub fn rows(&self, among: &[String]) -> String {
        let among = Some(words::joined(among.iter().cloned(), " or "));
        let among = among.filter(|among| !among.is_empty()).map(|among| format!("({among})"));
        let conditions: Vec<String> = self.conditions.iter().cloned().chain(among).collect();
        format!("{}{}", self.source, stage::where_all(&conditions))
    }
}

/// The cells of a stored table under an alias.
fn cells_of(table: &StoredTable, alias: &str) -> Vec<Cell> {
    let cell = |column: &StoredColumn| Cell {
        sql: format!("{alias}.{}", quoted(&column.name)),
        value: column.value,
        declared: column.declared.clone(),
    };
    table.columns.iter().map(cell).collect()
}
