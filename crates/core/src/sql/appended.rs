//! Rows of a reference that nothing asks for, as new rows of the main table.
//!
//! The new rows are in a table of their own, with their keys in the main table's columns, and their answers are put with the
//! others of the reference. From then on they are rows of the enriched table: `m.app_of` is the number of the reference that a
//! row is of, or 0 for a row of the main table, and `m.app` the row's own number.

use super::answers::Answers;
use super::cell::{Cell, ValueType};
use super::reading::{BLANK, MALFORMED, Reading, WHOLE, What};
use super::records::{Records, key_columns, key_state};
use super::row_queries::is_asked;
use super::stage::{Stage, where_all};
use super::words::{each, is_blank, joined};
use super::{Asking, Steps, cells_of};
use crate::enrich::Appending;
use crate::lookup::Rule;
use crate::template::BoundTemplate;

/// The new rows of a reference.
#[derive(Debug)]
pub(super) struct Appended {
    /// The number of the reference.
    pub(super) nth: usize,
    /// Their table.
    pub(super) table: String,
    /// The columns of the key in the enriched table, with what they have of a new row: a value of a type that the main table's
    /// values also are of, or a text.
    pub(super) columns: Vec<(usize, Option<Cell>)>,
    /// The query for how many there are, how many rows of the reference without a main row are not among them, because their key
    /// is blank, malformed, ambiguous or can't be split, and how many of the new ones the main table's side would not find again.
    pub(super) counts: String,
}

/// A type that values of both cells are of, without loss.
fn common(ours: &Cell, theirs: &Cell) -> Option<(String, ValueType)> {
    let both = |value: ValueType| ours.value == value && theirs.value == value;
    if ours.value == theirs.value && ours.declared == theirs.declared {
        Some((ours.declared.clone(), ours.value))
    } else if both(ValueType::Integer) {
        Some(("bigint".to_owned(), ValueType::Integer))
    } else if both(ValueType::Decimal) {
        Some(("numeric".to_owned(), ValueType::Decimal))
    } else {
        None
    }
}

/// Writes the new rows of a reference, and their answers.
pub(super) fn append(
    steps: &mut Steps,
    stage: &Stage,
    (asking, answers): (&Asking<'_>, &Answers),
    (appending, shared): (&Appending, Option<&str>),
) -> Appended {
    let (nth, name, rows) = (answers.nth, asking.name, &answers.rows);
    write_givers(steps, asking, answers);
    let (create, table) = match shared {
        Some(shared) => {
            let name = format!("{shared}_new_{nth}");
            (format!("create unlogged table {name}"), name)
        }
        None => (format!("create temp table new_{nth}"), format!("pg_temp.new_{nth}")),
    };
    let mut keys = NewKeys::default();
    for part in appending.parts() {
        keys.add(steps, stage, (asking, answers), part);
    }
    let NewKeys { columns, made, joins, are_split } = keys;
    let conditions = where_all(&are_split);
    steps.statement(
        format!("The new rows of {name}, with their keys in the columns of the main table."),
        format!(
            "{create} as\nselect g.app, {}\nfrom pg_temp.givers_{nth} g join {} r on r.row = g.of_row{joins}{conditions}",
            joined(made, ", "),
            rows.all
        ),
    );
    steps.statement("Statistics of them.".to_owned(), format!("analyze {table}"));
    let new = Appended { nth, table, columns, counts: String::new() };
    let lost = write_keys(steps, stage, asking, answers, &new);
    let insert = insert(asking, answers, &new);
    steps.statement("Their answers.".to_owned(), insert);
    Appended { counts: counts(asking, answers, &new, &lost), ..new }
}

/// The keys of new rows, while they are put together.
#[derive(Default)]
struct NewKeys {
    /// The columns, with their typed cells.
    columns: Vec<(usize, Option<Cell>)>,
    /// What is selected: a text for each column, and a value where it has one.
    made: Vec<String>,
    /// The tables of parts that are split, and the conditions under which they could be.
    joins: String,
    are_split: Vec<String>,
}

impl NewKeys {
    /// Adds a part: what the main table makes it of, and what the reference does.
    fn add(
        &mut self,
        steps: &mut Steps,
        stage: &Stage,
        (asking, answers): (&Asking<'_>, &Answers),
        (main, theirs): &(BoundTemplate, BoundTemplate),
    ) {
        let own = cells_of(asking.table, "t");
        let cell = |column: usize| Cell { sql: format!("r.own{column}"), ..own[column].clone() };
        let is_bare = main.template().is_bare() && theirs.template().is_bare();
        let values = if is_bare {
            vec![cell(theirs.columns()[0])]
        } else {
            let cells = theirs.columns().iter().map(|&column| cell(column).text());
            self.split(steps, answers, (main, theirs), &cells.collect::<Vec<_>>())
        };
        for (&column, value) in main.columns().iter().zip(values) {
            if self.columns.iter().any(|(other, _)| *other == column) {
                continue;
            }
            let text = value.text();
            // White space alone is no spelling of a key.
            let text = format!("case when {} then '' else {text} end", is_blank(&text));
            let is_own = column < stage.own();
            let typed = if is_own { common(stage.main_cell(column), &value) } else { None };
            self.made.push(format!("{text} as t{column}"));
            let typed = typed.map(|(declared, kind)| {
                let value = format!("case when ({text}) <> '' then {} end::{declared}", value.sql);
                self.made.push(format!("{value} as y{column}"));
                Cell { sql: format!("n.y{column}"), value: kind, declared }
            });
            self.columns.push((column, typed));
        }
    }

    /// The cells of a part that are read here, from the texts of the cells that the reference makes it of.
    fn split(
        &mut self,
        steps: &mut Steps,
        answers: &Answers,
        (main, theirs): (&BoundTemplate, &BoundTemplate),
        cells: &[String],
    ) -> Vec<Cell> {
        let listed = cells.iter().zip(1..).map(|(text, at)| format!("{text} as in{at}"));
        let query = format!(
            "select distinct {} from {} r join pg_temp.givers_{} g on g.of_row = r.row",
            joined(listed, ", "),
            answers.rows.all,
            answers.nth
        );
        let template = main.template();
        let about = format!("What the keys of rows without a main row are there: `{template}`.");
        let what = What::Split { main: main.clone(), theirs: theirs.clone() };
        let read = steps
            .reading(about, |name| Reading::new(name, query, theirs.columns().to_vec(), &[], what));
        let alias = format!("s{}", self.are_split.len() + 1);
        let pairs = cells.iter().zip(1..).map(|(text, at)| format!("{alias}.in{at} = {text}"));
        let join =
            ["\n    left join pg_temp.", &read, " ", &alias, " on ", &joined(pairs, " and ")];
        self.joins.extend(join);
        self.are_split.push(format!("{alias}.state = {WHOLE}"));
        let values = 1..=main.columns().len();
        values.map(|at| Cell::of_text(format!("{alias}.value{at}"))).collect()
    }
}

/// Writes which rows give new ones: of several rows of one key the one that counts, in the place of the first, unless each row
/// counts by itself.
fn write_givers(steps: &mut Steps, asking: &Asking<'_>, answers: &Answers) {
    let Answers { nth, rows, .. } = answers;
    let rule = asking.found.rule;
    let is_alone = rows.has_range || rule == Rule::Every;
    let gives = match rule {
        _ if is_alone => String::new(),
        Rule::List => " and (d.held is null or r.row = d.first)".to_owned(),
        _ => {
            " and (d.held is null or r.row = d.first and (not d.disagree or d.chosen is not null))"
                .to_owned()
        }
    };
    let lists = if rule == Rule::List && !is_alone {
        let lists = each(1..=rows.taken.len(), |at| format!(", d.list{at}"));
        format!(", d.disagree is true as is_list, d.row_list{lists}")
    } else {
        String::new()
    };
    let of_row = if is_alone || rule == Rule::List { "r.row" } else { "coalesce(d.chosen, r.row)" };
    let held = if rows.has_range {
        format!(
            "(select count(*) from {} e where {} and {})",
            rows.holders,
            rows.is_same_key("e", "r"),
            rows.has_key("e")
        )
    } else {
        "coalesce(d.held, 1)".to_owned()
    };
    steps.statement(
        format!("The rows of {} that nothing asks for, and that give new rows.", asking.name),
        format!(
            "create temp table givers_{nth} as\nselect row_number() over (order by r.row) as app, {of_row} as of_row, {held} as held{lists}\n\
             from {} r left join {} d on {}\nwhere {} = {WHOLE} and not exists ({}){gives}",
            rows.all,
            rows.repeated,
            rows.is_same_key("d", "r"),
            rows.row_state("r"),
            is_asked(answers),
        ),
    );
    steps.statement("Statistics of them.".to_owned(), format!("analyze pg_temp.givers_{nth}"));
}

/// Writes the keys that the main table's side makes of the new rows; gives the condition under which a record of them, joined
/// with its row `r`, is not found again.
fn write_keys(
    steps: &mut Steps,
    stage: &Stage,
    asking: &Asking<'_>,
    answers: &Answers,
    new: &Appended,
) -> String {
    let (nth, found, rows) = (answers.nth, asking.found, &answers.rows);
    let is_of_key = |column: &usize| new.columns.iter().any(|(other, _)| other == column);
    let cells = (0..stage.len()).map(|column| {
        Cell::of_text(if is_of_key(&column) { format!("n.t{column}") } else { "''".to_owned() })
    });
    let cells: Vec<Cell> = cells.collect();
    let mut records = Records::new(format!("{} n", new.table), cells.clone(), cells);
    let key = &found.main_key;
    let parts = key.parts().iter();
    let parts =
        parts.map(|part| records.part(steps, part, key.blanks(), (false, true), "of new rows"));
    let parts: Vec<_> = parts.collect();
    let state = key_state(&parts, asking.match_blanks);
    let columns = key_columns(&parts);
    steps.statement(
        "The keys that the main table's side makes of them.".to_owned(),
        format!(
            "create temp table new_keys_{nth} as\nselect n.app, {}, {state} as state\nfrom {}{}",
            joined(columns, ", "),
            records.from,
            records.joins
        ),
    );
    if rows.has_range {
        return "false".to_owned();
    }
    let pairs = (1..=rows.parts).map(|part| format!("k.key{part} collate \"C\" = r.key{part}"));
    format!("not (k.state = {WHOLE} and {})", joined(pairs, " and "))
}

/// The statement that puts the answers of new rows with the others.
fn insert(asking: &Asking<'_>, answers: &Answers, new: &Appended) -> String {
    let Answers { nth, rows, asked, .. } = answers;
    let found = asking.found;
    let is_list = found.rule == Rule::List;
    let mut pairs: Vec<(String, String)> = Vec::new();
    let mut push = |name: String, value: String| pairs.push((name, value));
    // The cells that a new row has where it is joined with its answer.
    for (&column, at) in asked.columns.iter().zip(1..) {
        let typed = new.columns.iter().find(|(other, typed)| *other == column && typed.is_some());
        let value = if typed.is_some() { format!("n.t{column}") } else { "''".to_owned() };
        push(format!("c{at}"), value);
    }
    push("rows".to_owned(), "0".to_owned());
    (1..=rows.parts).for_each(|part| push(format!("key{part}"), format!("e.key{part}")));
    let unless_list = |value: &str| {
        if is_list && !rows.has_range {
            format!("case when not g.is_list then {value} end")
        } else {
            value.to_owned()
        }
    };
    push("row".to_owned(), unless_list("e.row"));
    push("row_name".to_owned(), unless_list("e.name"));
    push("held".to_owned(), "g.held".to_owned());
    push("nth".to_owned(), "0".to_owned());
    for at in 1..=rows.taken.len() {
        push(format!("cell{at}"), unless_list(&format!("e.cell{at}")));
        if is_list && !rows.has_range {
            push(format!("list{at}"), format!("g.list{at}"));
        }
    }
    if is_list && !rows.has_range {
        push("row_list".to_owned(), "g.row_list".to_owned());
    }
    if found.output.shows_key() {
        let keys = (1..=rows.parts).map(|part| format!("k.key{part}"));
        push("key_text".to_owned(), joined(keys, " || ', ' || "));
    }
    push("status".to_owned(), "'matched'".to_owned());
    push("app".to_owned(), "g.app".to_owned());
    let (names, values): (Vec<String>, Vec<String>) = pairs.into_iter().unzip();
    format!(
        "insert into {} ({})\nselect {}\nfrom {} n join pg_temp.givers_{nth} g on g.app = n.app\n    \
         join {} e on e.row = g.of_row join pg_temp.new_keys_{nth} k on k.app = n.app",
        answers.table(),
        joined(names, ", "),
        joined(values, ",\n    "),
        new.table,
        rows.all
    )
}

/// The query for what became of the rows that nothing asks for.
fn counts(asking: &Asking<'_>, answers: &Answers, new: &Appended, lost: &str) -> String {
    let Answers { nth, rows, .. } = answers;
    let is_alone = rows.has_range || matches!(asking.found.rule, Rule::Every | Rule::List);
    let ambiguous = if is_alone {
        "0::bigint".to_owned()
    } else {
        format!(
            "(select count(*) from {} r join {} d on {} where {} = {WHOLE} and d.disagree and d.chosen is null\n        \
             and not exists ({}))",
            rows.all,
            rows.repeated,
            rows.is_same_key("d", "r"),
            rows.row_state("r"),
            is_asked(answers)
        )
    };
    let state = |of: u8| {
        format!("(select count(*) from {} r where {} = {of})", rows.all, rows.row_state("r"))
    };
    let all = format!("(select count(*) from {})", new.table);
    format!(
        "select {all}, {}, {},\n    {ambiguous},\n    (select count(*) from pg_temp.givers_{nth}) - {all},\n    \
         (select count(*) from pg_temp.new_keys_{nth} k join pg_temp.givers_{nth} g on g.app = k.app\n        \
         join {} r on r.row = g.of_row where {lost})",
        state(BLANK),
        state(MALFORMED),
        rows.all
    )
}
