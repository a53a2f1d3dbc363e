//! What the main table asks for: its different keys, each with how many rows have it.

use super::cell::Cell;
use super::reading::{MALFORMED, Reading, WHOLE, What};
use super::rows::{Joins, Part, Rows, bare_part, columns_of, distinct, key_state, texts_of};
use super::stage::Stage;
use super::words::joined;
use super::{Asking, Steps};
use crate::template::BoundTemplate;

/// The table of what is asked for.
#[derive(Debug)]
pub(super) struct Asked {
    /// Its name.
    pub(super) table: String,
    /// The cells of the stage that it has, as `c1`, `c2` and so on: their columns, and the expressions they are found by.
    pub(super) columns: Vec<usize>,
    pub(super) found_by: Vec<String>,
    /// The parts of the key, by their names in the table.
    pub(super) keys: Vec<String>,
    /// The state of the key and of the value in a range, of a record under the alias `a`.
    pub(super) state: String,
    /// The state of the columns that are named, if any are.
    pub(super) named_state: Option<String>,
    /// Whether more than the key decides, so that each record is answered by itself.
    pub(super) each: bool,
    /// Whether copies of rows that an earlier reference made count by themselves.
    pub(super) is_chained: bool,
}

/// Whether a key is compared by values: every part is a cell as it is, and values of both types are equal exactly when their
/// texts are.
pub(super) fn is_by_value(stage: &Stage, asking: &Asking<'_>, reference: &[Cell]) -> bool {
    let found = asking.found;
    let is_plain = found.bounds.is_none()
        && found.named_columns.is_empty()
        && found.searched.is_empty()
        && !asking.match_blanks
        && !found.output.shows_key();
    let (ours, theirs) = (&found.main_key, &found.reference_keys[0]);
    let pairs = || ours.parts().iter().zip(theirs.parts());
    is_plain
        && ours.is_verbatim()
        && theirs.is_verbatim()
        && pairs().all(|(ours, theirs)| {
            stage.cell(ours.columns()[0]).compares_like(&reference[theirs.columns()[0]])
        })
}

impl Asked {
    /// Writes the statements for what is asked of a reference.
    pub(super) fn write(
        steps: &mut Steps,
        stage: &Stage,
        rows: &Rows,
        asking: &Asking<'_>,
    ) -> Self {
        let Asking { found, match_blanks, name, .. } = asking;
        let nth = rows.nth;
        let named = found.named_columns.iter().map(|one| one.template());
        let columns = columns_of(
            found.main_key.parts().iter().chain(&found.range_value).chain(named.clone()),
        );
        let is_chained = stage.is_changed(&columns);
        let source = stage.source(is_chained);
        let cells = stage.cells();
        let found_by = |column: usize| {
            let cell = &cells[column];
            if rows.by_value { cell.sql.clone() } else { cell.text() }
        };
        let each = rows.has_range || !found.named_columns.is_empty();
        let group_by = joined((1..=columns.len()).map(|at| at.to_string()), ", ");
        // Rows are grouped by their values where that is as good, so that the servers of a partitioned table can do it; then
        // the texts of the different values are.
        let by_values = columns.iter().enumerate().map(|(at, &column)| {
            let cell = &cells[column];
            let is_value = rows.by_value || cell.value.groups_like_text();
            let value = if is_value { cell.sql.clone() } else { cell.text() };
            format!("{value} as c{}", at + 1)
        });
        let by_values = format!(
            "select {}, count(*) as rows, {} as first from {source} group by {group_by}",
            joined(by_values, ", "),
            stage.first()
        );
        let grouped = if rows.by_value {
            by_values
        } else {
            let texts = columns.iter().enumerate().map(|(at, &column)| {
                let (cell, sql) = (&cells[column], format!("g.c{}", at + 1));
                let is_text = !cell.value.groups_like_text();
                let text = if is_text { sql } else { Cell { sql, ..cell.clone() }.text() };
                format!("{text} as c{}", at + 1)
            });
            format!(
                "select {}, sum(rows)::bigint as rows, min(first) as first\n    from (\n        {by_values}\n    ) g group by {group_by}",
                joined(texts, ", ")
            )
        };
        let place =
            |column: usize| columns.iter().position(|&one| one == column).unwrap_or_default();
        // The cells as they are in the table, whose texts are made already.
        let own: Vec<Cell> = (0..stage.len())
            .map(|column| {
                let sql = format!("a.c{}", place(column) + 1);
                if rows.by_value {
                    Cell { sql, ..cells[column].clone() }
                } else {
                    Cell::of_text(sql)
                }
            })
            .collect();
        let number = if each { "row_number() over () as ask, " } else { "" };
        let raw = format!("asked_{nth}");
        let is_read = found.range_value.is_some()
            || !found.named_columns.is_empty()
            || found.main_key.parts().iter().any(|part| part.template().as_header().is_none());
        let about =
            format!("The different keys that are asked of {name}, with how many rows have each.");
        let mut made: Vec<Part> = Vec::new();
        let settles = *match_blanks || found.output.shows_key();
        if !is_read {
            for template in found.main_key.parts() {
                let cell = &own[template.columns()[0]];
                made.push(bare_part(cell, found.main_key.blanks(), rows.by_value, settles));
            }
            let state = key_state(&made, *match_blanks);
            let (mut more, keys) = if rows.by_value {
                // The cells are the parts.
                let parts = found.main_key.parts().iter();
                let keys = parts.map(|part| format!("c{}", place(part.columns()[0]) + 1));
                (Vec::new(), keys.collect())
            } else {
                let keys = made.iter().enumerate();
                let keys = keys.map(|(part, made)| format!("{} as key{}", made.value, part + 1));
                (keys.collect(), rows.keys(""))
            };
            more.push(format!("{state} as state"));
            steps.statement(
                about,
                format!(
                    "create temp table {raw} as\nselect {number}a.*, {}\nfrom (\n    {grouped}\n) a",
                    joined(more, ", ")
                ),
            );
            let state = "a.state".to_owned();
            let table = format!("pg_temp.{raw}");
            steps.statement("Statistics of it.".to_owned(), format!("analyze {table}"));
            let found_by = columns.iter().map(|&column| found_by(column)).collect();
            return Self {
                table,
                columns,
                found_by,
                keys,
                state,
                named_state: None,
                each,
                is_chained,
            };
        }
        steps.statement(
            about,
            format!("create temp table {raw} as\nselect {number}a.* from (\n    {grouped}\n) a"),
        );
        let mut joins = Joins::default();
        let from = format!("pg_temp.{raw} a");
        let blanks = found.main_key.blanks();
        let read = |steps: &mut Steps,
                    joins: &mut Joins,
                    template: &BoundTemplate,
                    what: What,
                    about: String| {
            let columns = columns_of([template]);
            let query = distinct(&own, &columns, &from);
            let reading = steps
                .reading(about, |made| Reading::new(made, query, columns.clone(), blanks, what));
            joins.add(reading, &texts_of(&own, &columns))
        };
        for template in found.main_key.parts() {
            if template.template().as_header().is_some() {
                let cell = &own[template.columns()[0]];
                made.push(bare_part(cell, blanks, false, settles));
                continue;
            }
            let about =
                format!("What `{}` makes of the values that are asked for.", template.template());
            let alias = read(steps, &mut joins, template, What::Part(template.clone()), about);
            made.push(Part { value: format!("{alias}.value"), state: format!("{alias}.state") });
        }
        let mut state = key_state(&made, *match_blanks);
        let mut more: Vec<String> = made
            .iter()
            .enumerate()
            .map(|(part, made)| format!("{} as key{}", made.value, part + 1))
            .collect();
        if let Some(value) = &found.range_value {
            let about = "The places of the values that must be in a range.".to_owned();
            let alias = read(steps, &mut joins, value, What::Point(value.clone()), about);
            more.push(format!("{alias}.place as at"));
            state = format!(
                "greatest({state}, {alias}.state, case when {alias}.scale \
                 <> (select scale from pg_temp.scale_{nth}) then {MALFORMED} else {WHOLE} end)"
            );
        }
        more.push(format!("{state} as state"));
        let mut states = Vec::new();
        for (one, template) in found.named_columns.iter().enumerate() {
            let about = format!("The columns of {name} that are named.");
            let what = What::Header(template.clone());
            let alias = read(steps, &mut joins, template.template(), what, about);
            more.push(format!("{alias}.state as named_state{}", one + 1));
            more.push(format!("{alias}.place as named{}", one + 1));
            states.push(format!("a.named_state{}", one + 1));
        }
        let table = format!("keys_{nth}");
        steps.statement(
            "The keys that are asked for, as they are compared.".to_owned(),
            format!(
                "create temp table {table} as\nselect a.*, {}\nfrom {from}{}",
                joined(more, ",\n    "),
                joins.text
            ),
        );
        let table = format!("pg_temp.{table}");
        steps.statement("Statistics of it.".to_owned(), format!("analyze {table}"));
        let named_state = (!states.is_empty()).then(|| {
            let all = states.join(", ");
            format!(
                "case when 2 = any(array[{all}]) then 2 when 1 = any(array[{all}]) then 1 \
                 when 3 = any(array[{all}]) then 3 else 0 end"
            )
        });
        let found_by = columns.iter().map(|&column| found_by(column)).collect();
        let (keys, state) = (rows.keys(""), "a.state".to_owned());
        Self { table, columns, found_by, keys, state, named_state, each, is_chained }
    }

    /// The parts of the key of a record under the alias `a`.
    pub(super) fn key(&self) -> Vec<String> {
        self.keys.iter().map(|key| format!("a.{key}")).collect()
    }

    /// The condition under which a record `a` has the key of a record of the reference under an alias.
    pub(super) fn has_key_of(&self, rows: &Rows, alias: &str) -> String {
        let pairs = rows.keys(alias).into_iter().zip(self.key());
        match rows.parts {
            0 => "true".to_owned(),
            _ => joined(pairs.map(|(theirs, ours)| format!("{theirs} = {ours}")), " and "),
        }
    }
}
