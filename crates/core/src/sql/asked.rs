//! What the main table asks for: its different keys, each with how many rows have it.

use super::aliased;
use super::cell::Cell;
use super::reading::{BLANK, MALFORMED, UNKNOWN, WHOLE, What};
use super::records::{Part, Records, columns_of, key_columns, key_state};
use super::rows::Rows;
use super::stage::Stage;
use super::words::joined;
use super::{Asking, Steps};
use crate::lookup::HeaderTemplate;

/// The table of the keys that are asked for.
#[derive(Debug)]
pub(super) struct Asked {
    /// Its name.
    pub(super) table: String,
    /// The cells of the stage that it has, as `c1`, `c2` and so on: their columns, and the expressions they are found by.
    pub(super) columns: Vec<usize>,
    pub(super) found_by: Vec<String>,
    /// The expressions of the cells that are the parts of the key, where parts are compared by their values.
    pub(super) part_cells: Vec<String>,
    /// The condition under which a part is blank, there.
    pub(super) is_blank: String,
    /// The parts of the key, by their names in the table; then the same before aliases replaced some.
    pub(super) keys: Vec<String>,
    pub(super) own_keys: Vec<String>,
    /// How many columns are named.
    named: usize,
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
        && !found.output.shows_key()
        && asking.aliases.is_none()
        && found.output.appending.is_none();
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
    /// What is asked of a reference.
    pub(super) fn of(stage: &Stage, rows: &Rows, asking: &Asking<'_>) -> Self {
        let (found, nth) = (asking.found, rows.nth);
        let named = found.named_columns.iter().map(HeaderTemplate::template);
        let columns =
            columns_of(found.main_key.parts().iter().chain(&found.range_value).chain(named));
        let is_chained = stage.is_changed(&columns);
        let found_by = columns.iter().map(|&column| {
            let cell = stage.cell(column);
            if rows.by_value { cell.sql.clone() } else { cell.text() }
        });
        let found_by = found_by.collect();
        let mut asked = Self {
            table: format!("pg_temp.asked_{nth}"),
            found_by,
            part_cells: Vec::new(),
            is_blank: String::new(),
            keys: rows.keys(""),
            own_keys: rows.keys(""),
            named: found.named_columns.len(),
            each: rows.has_range || !found.named_columns.is_empty(),
            is_chained,
            columns,
        };
        if rows.by_value {
            // The cells are the parts.
            let parts = || found.main_key.parts().iter().map(|part| part.columns()[0]);
            asked.keys = parts().map(|column| asked.cell(column)).collect();
            asked.part_cells = parts().map(|column| stage.cell(column).sql.clone()).collect();
            asked.is_blank = joined(parts().map(|column| stage.cell(column).is_blank()), " or ");
        }
        asked
    }

    /// Writes the statements for the keys that are asked of a reference.
    pub(super) fn write(
        steps: &mut Steps,
        stage: &Stage,
        rows: &Rows,
        asking: &Asking<'_>,
    ) -> Self {
        let (found, nth) = (asking.found, rows.nth);
        let mut asked = Self::of(stage, rows, asking);
        let number = if asked.each { "row_number() over () as ask, " } else { "" };
        let grouped = asked.grouped(stage, rows);
        let about = format!(
            "The different keys that are asked of {}, with how many rows have each.",
            asking.name
        );
        let is_read = asked.each
            || asking.aliases.is_some()
            || found.main_key.parts().iter().any(|part| part.template().as_header().is_none());
        let mut records = asked.records(stage, rows);
        if is_read {
            let create = format!(
                "create temp table asked_{nth} as\nselect {number}a.* from (\n    {grouped}\n) a"
            );
            steps.statement(about, create);
            let columns = asking_columns(steps, rows, asking, &mut records);
            let keys = if asking.aliases.is_some() { "plain" } else { "keys" };
            steps.statement(
                "The keys that are asked for, as they are compared.".to_owned(),
                format!(
                    "create temp table {keys}_{nth} as\nselect a.*, {}\nfrom {}{}",
                    joined(columns, ",\n    "),
                    records.from,
                    records.joins
                ),
            );
            if let Some(aliases) = asking.aliases {
                aliased::replace(steps, (rows, &asked), asking, aliases);
                asked.own_keys = (1..=rows.parts).map(|part| format!("own_key{part}")).collect();
            }
            asked.table = format!("pg_temp.keys_{nth}");
        } else {
            let mut columns = asking_columns(steps, rows, asking, &mut records);
            if rows.by_value {
                // The cells are the parts.
                columns.drain(..rows.parts);
            }
            steps.statement(
                about,
                format!(
                    "create temp table asked_{nth} as\nselect a.*, {}\nfrom (\n    {grouped}\n) a",
                    joined(columns, ", ")
                ),
            );
        }
        steps.statement("Statistics of it.".to_owned(), format!("analyze {}", asked.table));
        asked
    }

    /// The expression for the state of the key of a record `a` whose parts are compared by their values.
    pub(super) fn state(&self, stage: &Stage, rows: &Rows, asking: &Asking<'_>) -> String {
        let (records, blanks) = (self.records(stage, rows), asking.found.main_key.blanks());
        let parts = asking.found.main_key.parts().iter();
        let parts = parts.map(|part| records.bare(part.columns()[0], blanks, true, false));
        key_state(&parts.collect::<Vec<_>>(), asking.match_blanks)
    }

    /// The name of a cell in the table, by its column in the stage.
    pub(super) fn cell(&self, column: usize) -> String {
        let place = self.columns.iter().position(|&one| one == column).unwrap_or_default();
        format!("c{}", place + 1)
    }

    /// The query for the different cells, with how many rows have them and the name of the first.
    fn grouped(&self, stage: &Stage, rows: &Rows) -> String {
        let cells = || self.columns.iter().map(|&column| stage.cell(column));
        let group_by = joined((1..=self.columns.len()).map(|at| at.to_string()), ", ");
        let list = |values: Vec<String>| {
            let values = values.into_iter().enumerate();
            joined(values.map(|(nth, value)| format!("{value} as c{}", nth + 1)), ", ")
        };
        // Rows are grouped by their values where that is as good, so that the servers of a partitioned table can do it; then
        // the texts of the different values are.
        let values = cells().map(|cell| {
            let is_value = rows.by_value || cell.value.groups_like_text();
            if is_value { cell.sql.clone() } else { cell.text() }
        });
        let by_values = format!(
            "select {}, count(*) as rows, {} as first from {} group by {group_by}",
            list(values.collect()),
            stage.first(),
            stage.source(self.is_chained, "")
        );
        if rows.by_value {
            return by_values;
        }
        let texts = cells().enumerate().map(|(nth, cell)| {
            let sql = format!("g.c{}", nth + 1);
            let is_value = cell.value.groups_like_text();
            if is_value { Cell { sql, ..cell.clone() }.text() } else { sql }
        });
        format!(
            "select {}, sum(rows)::bigint as rows, min(first) as first\n    from (\n        {by_values}\n    ) g group by {group_by}",
            list(texts.collect())
        )
    }

    /// The records of the table, whose texts are made already.
    fn records(&self, stage: &Stage, rows: &Rows) -> Records {
        let cell = |column: usize| {
            let sql = format!("a.{}", self.cell(column));
            if rows.by_value {
                Cell { sql, ..stage.cell(column).clone() }
            } else {
                Cell::of_text(sql)
            }
        };
        let cells: Vec<Cell> = (0..stage.len()).map(cell).collect();
        Records::new(format!("pg_temp.asked_{} a", rows.nth), cells.clone(), cells)
    }

    /// The state of the columns that a record `a` names, if it names any: the worst, but that a header is unknown.
    pub(super) fn named_state(&self) -> Option<String> {
        let all = joined((1..=self.named).map(|one| format!("a.named_state{one}")), ", ");
        let any = |state: u8| format!("when {state} = any(array[{all}]) then {state}");
        let precedence = joined([MALFORMED, BLANK, UNKNOWN].map(any), " ");
        (self.named > 0).then(|| format!("case {precedence} else {WHOLE} end"))
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

/// The columns of the keys that are asked for: their parts, their state, the value in a range and the columns that are
/// named.
fn asking_columns(
    steps: &mut Steps,
    rows: &Rows,
    asking: &Asking<'_>,
    records: &mut Records,
) -> Vec<String> {
    let Asking { found, match_blanks, name, .. } = asking;
    let blanks = found.main_key.blanks();
    let how = (rows.by_value, *match_blanks || found.output.shows_key());
    let parts = found.main_key.parts().iter();
    let parts = parts.map(|part| records.part(steps, part, blanks, how, "that are asked for"));
    let parts: Vec<Part> = parts.collect();
    let mut state = key_state(&parts, *match_blanks);
    let mut columns = key_columns(&parts);
    let (key_state, mut at_state) = (state.clone(), WHOLE.to_string());
    if let Some(value) = &found.range_value {
        let about = "The places of the values that must be in a range.".to_owned();
        let alias = records.read(steps, [value], (What::Point(value.clone()), blanks), about);
        columns.push(format!("{alias}.place as at"));
        at_state = format!(
            "greatest({alias}.state, case when {alias}.scale \
             <> (select scale from pg_temp.scale_{}) then {MALFORMED} else {WHOLE} end)",
            rows.nth
        );
        state = format!("greatest({state}, {at_state})");
    }
    if asking.aliases.is_some() {
        columns.extend([format!("{key_state} as key_state"), format!("{at_state} as at_state")]);
    }
    columns.push(format!("{state} as state"));
    for (one, template) in (1..).zip(&found.named_columns) {
        let about = format!("The columns of {name} that are named.");
        let what = (What::Header(template.clone()), blanks);
        let alias = records.read(steps, [template.template()], what, about);
        columns.push(format!("{alias}.state as named_state{one}"));
        columns.push(format!("{alias}.place as named{one}"));
    }
    columns
}
