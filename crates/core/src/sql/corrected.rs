//! Corrections on the server: cells that a person settled by hand, written after the lookups.
//!
//! Corrections that name the same columns become one temporary table, with a record for all rows of one key; the output is
//! joined with it. A column keeps its type where all its corrections are values of it.

use super::cell::Cell;
use super::row_queries::MOST;
use super::stage::{Stage, where_all};
use super::words::{each, joined, literal};
use super::{Asking, Steps};
use crate::enrich::{Corrections, status_columns};
use crate::findings::Status;

/// The queries for what became of corrections.
#[derive(Debug)]
pub struct CorrectionQueries {
    /// For each correction whose rows there are: its number, from 0, how many cells it changed, and how many were so already.
    pub counts: String,
    changes: String,
}

impl CorrectionQueries {
    /// The query for the first cells that are corrected, up to `most` of each column, in the order of the main rows: the name of
    /// the row, the column, the texts before and after, and the number of the correction, from 0.
    pub fn changes(&self, most: usize) -> String {
        self.changes.replace(MOST, &most.to_string())
    }
}

/// Corrections that name the same columns.
struct Group {
    columns: Vec<usize>,
    /// What they have for the rows with some values there.
    rows: Vec<OfRows>,
    /// The columns that they write.
    written: Vec<usize>,
}

/// Corrections of the rows that some values tell.
struct OfRows {
    values: Vec<String>,
    /// The number of each, and the column that it writes.
    all: Vec<(usize, usize)>,
}

/// A column that is corrected.
struct Written {
    column: usize,
    /// The number of the correction of a row's cell, and the cell it makes; null where there is none.
    nth: String,
    value: String,
    /// Whether the cell is another than before.
    is_change: String,
}

/// Writes corrections onto the rows of the stage; gives the queries for what became of them, and the tables that are to be
/// dropped.
pub(super) fn correct(
    steps: &mut Steps,
    stage: &mut Stage,
    (corrections, asked): (&Corrections, &[Asking<'_>]),
    shared: Option<&str>,
) -> (CorrectionQueries, Vec<String>) {
    let placed: Vec<_> = corrections.placed().collect();
    let mut groups: Vec<Group> = Vec::new();
    for (nth, (told_by, column, _)) in placed.iter().enumerate() {
        let columns: Vec<usize> = told_by.iter().map(|(column, _)| *column).collect();
        let values: Vec<String> = told_by.iter().map(|(_, value)| (*value).to_owned()).collect();
        let place = groups.iter().position(|group| group.columns == columns);
        let place = place.unwrap_or_else(|| {
            groups.push(Group { columns, rows: Vec::new(), written: Vec::new() });
            groups.len() - 1
        });
        groups[place].add(values, (nth, *column));
    }
    // Of two corrections of a cell, the one that names more columns counts.
    groups.sort_by_key(|group| std::cmp::Reverse(group.columns.len()));
    let mut dropped = Vec::new();
    let mut joins = String::new();
    for (at, group) in (1..).zip(&groups) {
        let (create, name) = match shared {
            Some(shared) => {
                let name = format!("{shared}_corrections_{at}");
                dropped.push(name.clone());
                (format!("create unlogged table {name}"), name)
            }
            None => {
                let name = format!("corrections_{at}");
                (format!("create temp table {name}"), format!("pg_temp.{name}"))
            }
        };
        steps.statement(
            "Cells that a person settled, by the values that identify their rows.".to_owned(),
            format!("{create} {}", group.values(|nth| placed[nth].2)),
        );
        steps.statement("Statistics of them.".to_owned(), format!("analyze {name}"));
        let is_told = group.columns.iter().enumerate();
        let is_told =
            is_told.map(|(key, &column)| format!("x{at}.k{key} = {}", stage.cell(column).text()));
        let is_told = joined(is_told, " and ");
        let is_told = if is_told.is_empty() { "true" } else { &is_told };
        joins.extend(["\n    left join ", &name, &format!(" x{at} on "), is_told]);
    }
    let mut columns: Vec<usize> = placed.iter().map(|(_, column, _)| *column).collect();
    columns.sort_unstable();
    columns.dedup();
    let written: Vec<Written> =
        columns.iter().map(|&column| Written::of(stage, &groups, column)).collect();
    let queries = queries(stage, &written, &joins);
    let outputs = || asked.iter().map(|asking| &asking.found.output);
    let status = |column: usize| {
        let tells = |written: &&Written| {
            status_columns(stage.own(), outputs(), written.column).contains(&column)
        };
        let any = written.iter().filter(tells).map(|written| written.is_change.clone());
        joined(any, " or ")
    };
    let told: Vec<(usize, Cell)> = (stage.own()..stage.len())
        .map(|column| (column, status(column)))
        .filter(|(_, any)| !any.is_empty())
        .map(|(column, any)| {
            let (now, label) = (stage.cell(column).text(), Status::Corrected.label());
            (column, Cell::of_text(format!("case when {any} then '{label}' else {now} end")))
        })
        .collect();
    let mut cells = Vec::new();
    for one in &written {
        let (now, values) = (stage.cell(one.column), placed.iter());
        let values = values.filter(|(_, column, _)| *column == one.column);
        let is_of_type = values.clone().all(|(.., value)| now.takes(value));
        let Written { value, is_change, column, .. } = one;
        let cell = if is_of_type {
            let declared = &now.declared;
            let sql = format!(
                "case when {is_change} then nullif({value}, '')::{declared} else {} end",
                now.sql
            );
            Cell { sql, ..now.clone() }
        } else {
            let before = now.text();
            Cell::of_text(format!(
                "nullif(case when {is_change} then {value} else {before} end, '')"
            ))
        };
        cells.push((*column, cell, is_change.clone()));
    }
    stage.correct(&joins, cells, told);
    (queries, dropped)
}

impl Group {
    fn add(&mut self, values: Vec<String>, (nth, column): (usize, usize)) {
        if !self.written.contains(&column) {
            self.written.push(column);
        }
        match self.rows.iter_mut().find(|rows| rows.values == values) {
            Some(rows) => rows.all.push((nth, column)),
            None => self.rows.push(OfRows { values, all: vec![(nth, column)] }),
        }
    }

    /// The columns of its table, and its records. `value` gives the value of a correction.
    fn values<'v>(&self, value: impl Fn(usize) -> &'v str) -> String {
        let keys = (0..self.columns.len()).map(|key| format!("k{key}"));
        let cells = self.written.iter().map(|column| format!("n{column}, v{column}"));
        let record = |OfRows { values, all }: &OfRows| {
            let keys = values.iter().map(|value| format!("{} collate \"C\"", literal(value)));
            let cells =
                self.written.iter().map(|column| match all.iter().find(|(_, of)| of == column) {
                    Some((nth, _)) => format!("{nth}::bigint, {}", literal(value(*nth))),
                    None => "null::bigint, null::text".to_owned(),
                });
            format!("({})", joined(keys.chain(cells), ", "))
        };
        format!(
            "({}) as\nvalues {}",
            joined(keys.chain(cells), ", "),
            joined(self.rows.iter().map(record), ",\n    ")
        )
    }
}

impl Written {
    fn of(stage: &Stage, groups: &[Group], column: usize) -> Self {
        let of_column = (1..).zip(groups).filter(|(_, group)| group.written.contains(&column));
        let mut levels: Vec<(usize, Vec<usize>)> = Vec::new();
        for (at, group) in of_column {
            match levels.last_mut() {
                Some((width, all)) if *width == group.columns.len() => all.push(at),
                _ => levels.push((group.columns.len(), vec![at])),
            }
        }
        // Of several that name as many columns, the first one counts.
        let level = |(_, all): &(usize, Vec<usize>)| {
            format!("least({})", joined(all.iter().map(|at| format!("x{at}.n{column}")), ", "))
        };
        let nth = format!("coalesce({})", joined(levels.iter().map(level), ", "));
        let all: Vec<usize> = levels.iter().flat_map(|(_, all)| all.iter().copied()).collect();
        let cases = each(&all, |at| format!(" when x{at}.n{column} then x{at}.v{column}"));
        let value = format!("case {nth}{cases} end");
        let now = stage.cell(column).text();
        let is_change = format!("coalesce({value} <> {now}, false)");
        Self { column, nth, value, is_change }
    }
}

/// The queries for what became of corrections that are joined to the stage by `joins`.
fn queries(stage: &Stage, written: &[Written], joins: &str) -> CorrectionQueries {
    let rows = |more: &str, condition: &str| {
        let conditions: Vec<String> =
            stage.conditions().into_iter().chain([condition.to_owned()]).collect();
        let conditions = where_all(&conditions);
        format!("{}{joins}{more}{conditions}", stage.all_rows())
    };
    let each = written.iter().map(|one| format!("({}, {})", one.nth, one.is_change));
    let lateral = format!(
        "\n    cross join lateral (values {}) v(n, is_change)",
        joined(each, ",\n        ")
    );
    let counts = format!(
        "select v.n::bigint, count(*) filter (where v.is_change), count(*) filter (where not v.is_change)\n{} group by 1",
        rows(&lateral, "v.n is not null")
    );
    let name = stage.name();
    let each = written.iter().map(|one| {
        let Written { column, nth, value, is_change } = one;
        let before = stage.cell(*column).text();
        format!(
            "(select {name} as place, ({name})::text as name, {column}::bigint as col, {before} as before, \
             {value} as after, ({nth})::bigint as nth\n    {} order by {name} limit {MOST})",
            rows("", is_change)
        )
    });
    let changes = format!(
        "select name, col, before, after, nth from (\n    {}\n) c order by place, col limit {MOST}",
        joined(each, "\n    union all ")
    );
    CorrectionQueries { counts, changes }
}
