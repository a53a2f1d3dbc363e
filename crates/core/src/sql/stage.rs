//! The enriched table so far: the main table joined with the answers of the lookups before.

use super::answers::Answers;
use super::cell::{Cell, ValueType};
use super::words::{is_blank, joined, literal};
use super::{Asking, RowName, StoredTable, cells_of};
use crate::enrich::{AddedCell, Unmatched};
use crate::findings::{Kind, Status};
use crate::lookup::Rule;
use crate::plan::{Mark, Replace};

/// The enriched table so far.
#[derive(Debug)]
pub(super) struct Stage {
    main: String,
    cells: Vec<Cell>,
    /// How many columns the main table has.
    own: usize,
    row_name: RowName,
    /// The name of the first row of several.
    first: String,
    /// Whether a cell is another than the main table's own.
    changed: Vec<bool>,
    joins: String,
    /// The conditions under which a row goes out.
    keeps: Vec<String>,
    /// The conditions under which a row is the first of those that references make of it.
    firsts: Vec<String>,
    /// For each lookup what becomes of the cells of each updated column.
    written: Vec<Vec<String>>,
    /// The columns of the main table that are updated, each with whether a cell is another than before.
    updated: Vec<(usize, String)>,
}

impl Stage {
    /// The main table as it is.
    pub(super) fn of(main: &StoredTable) -> Self {
        let cells = cells_of(main, "m");
        let (row_name, first) = match (&main.key[..], main.place) {
            (&[key], _) if cells[key].value.has_least() => {
                (RowName::Key(main.headers.address(key)), format!("min({})", cells[key].sql))
            }
            (_, Some(place)) => (RowName::Place, format!("min(m.{place})")),
            (_, None) => (RowName::None, "null::text".to_owned()),
        };
        Self {
            main: main.name.clone(),
            changed: vec![false; cells.len()],
            own: cells.len(),
            cells,
            row_name,
            first,
            joins: String::new(),
            keeps: Vec::new(),
            firsts: Vec::new(),
            written: Vec::new(),
            updated: Vec::new(),
        }
    }

    /// How many columns it has.
    pub(super) fn len(&self) -> usize {
        self.cells.len()
    }

    /// A cell of a row.
    pub(super) fn cell(&self, column: usize) -> &Cell {
        &self.cells[column]
    }

    /// Whether some of the columns are added, or updated.
    pub(super) fn is_changed(&self, columns: &[usize]) -> bool {
        columns.iter().any(|&column| self.changed[column])
    }

    /// The cells of a row.
    pub(super) fn cells(&self) -> &[Cell] {
        &self.cells
    }

    /// The expression for the name of the first row of several.
    pub(super) fn first(&self) -> &str {
        &self.first
    }

    /// What that name is.
    pub(super) fn row_name(&self) -> &RowName {
        &self.row_name
    }

    /// Where rows come from: the main table, joined with answers or not.
    pub(super) fn source(&self, with_answers: bool) -> String {
        let joins = if with_answers { &self.joins[..] } else { "" };
        format!("{} m{joins}", self.main)
    }

    /// Where the output's rows come from.
    pub(super) fn rows_that_go_out(&self) -> String {
        format!("from {}{}", self.source(true), where_all(&self.keeps))
    }

    /// The query for how often each thing happened to the cells of each column that a lookup updates, in the order of
    /// [`Written`](crate::findings::Written); `None` where it updates none.
    pub(super) fn updates(&self, nth: usize) -> Option<String> {
        let written = self.written.get(nth).filter(|written| !written.is_empty())?;
        let counts = written.iter().flat_map(|written| {
            crate::findings::Written::ALL
                .map(|one| format!("count(*) filter (where {written} = '{}')", one.label()))
        });
        // Of the copies that later references make of a row, one counts.
        let conditions: Vec<String> =
            self.keeps.iter().chain(&self.firsts[nth + 1..]).cloned().collect();
        Some(format!(
            "select {} from {}{}",
            joined(counts, ", "),
            self.source(true),
            where_all(&conditions)
        ))
    }

    /// The columns of the main table that are updated, each once, with whether a cell is another than before.
    pub(super) fn updated(&self) -> impl Iterator<Item = (usize, String)> {
        let mut all: Vec<(usize, String)> = Vec::new();
        for (column, changed) in &self.updated {
            match all.iter_mut().find(|(other, _)| other == column) {
                Some((_, before)) => *before += &format!(" or {changed}"),
                None => all.push((*column, changed.clone())),
            }
        }
        all.into_iter()
    }

    /// Adds the answers of a lookup.
    pub(super) fn add(&mut self, asking: &Asking<'_>, answers: &Answers) {
        let (found, nth) = (asking.found, answers.nth);
        let alias = format!("a{nth}");
        let is_found = answers.asked.found_by.iter().enumerate();
        let is_found = is_found.map(|(at, sql)| format!("{alias}.c{} = {sql}", at + 1));
        self.joins += &format!(
            "\n    left join {} {alias} on {}",
            answers.table(),
            joined(is_found, " and ")
        );
        let status = format!("coalesce({alias}.status, '{}')", Kind::BlankKey.label());
        let unmatched = format!("'{}'", Kind::Unmatched.label());
        match found.output.unmatched {
            Unmatched::Drop => self.keeps.push(format!("{status} <> {unmatched}")),
            Unmatched::Only => self.keeps.push(format!("{status} = {unmatched}")),
            Unmatched::Blank | Unmatched::Fill(_) => {}
        }
        self.firsts.push(format!("coalesce({alias}.nth, 1) = 1"));
        let cells: Vec<Cell> = answers
            .rows
            .taken
            .iter()
            .map(|cell| Cell {
                sql: cell.sql.replacen("e.", &format!("{alias}."), 1),
                ..cell.clone()
            })
            .collect();
        let taken = |place: usize| {
            let cell = &cells[place];
            match found.rule {
                Rule::List => Cell::of_text(format!(
                    "nullif(coalesce({alias}.list{}, {}), '')",
                    place + 1,
                    cell.text()
                )),
                _ => cell.clone(),
            }
        };
        let filled = |cell: Cell| match &found.output.unmatched {
            Unmatched::Fill(text) => Cell::of_text(format!(
                "case when {status} = {unmatched} then {} else nullif({}, '') end",
                literal(text),
                cell.text()
            )),
            _ => cell,
        };
        // Updates first: the status says what they did.
        let has_answer =
            format!("{status} in ('{}', '{}')", Kind::Matched.label(), Kind::Chosen.label());
        let mut written = Vec::new();
        let mut updated = Vec::new();
        for update in &found.output.updates {
            let (now, new) = (self.cells[update.column].clone(), taken(update.taken));
            let replacing = found.output.replacing;
            let blank_now = is_blank(&now.text());
            let blank_new = is_blank(&new.text());
            let becomes = match (replacing.replace, replacing.bring_blanks) {
                (Replace::Blanks, _) => "'left'".to_owned(),
                (_, true) => format!("case when {blank_new} then 'erased' else 'replaced' end"),
                (_, false) => format!("case when {blank_new} then 'left' else 'replaced' end"),
            };
            let what = format!(
                "case when not ({has_answer}) then null when {} = {} or ({blank_now} and {blank_new}) then 'same' \
                 when {blank_now} then 'filled' else {becomes} end",
                now.text(),
                new.text()
            );
            let is_one_type = now.declared == new.declared;
            let value = |cell: &Cell| match is_one_type {
                true => cell.sql.clone(),
                false => format!("nullif({}, '')", cell.text()),
            };
            let sql = format!(
                "case when {what} in ('filled', 'replaced', 'erased') then {} else {} end",
                value(&new),
                value(&now)
            );
            let cell = if is_one_type { Cell { sql, ..now } } else { Cell::of_text(sql) };
            updated.push((update.column, cell));
            written.push(what);
        }
        let status = if written.is_empty() {
            status.clone()
        } else {
            let changed =
                written.iter().map(|what| format!("{what} in ('filled', 'replaced', 'erased')"));
            format!(
                "case when {has_answer} then case when {} then '{}' else '{}' end else {status} end",
                joined(changed, " or "),
                Status::Updated.label(),
                Status::Unchanged.label()
            )
        };
        let number =
            |sql: String| Cell { sql, value: ValueType::Integer, declared: "bigint".to_owned() };
        let added: Vec<Cell> = found
            .output
            .cells
            .iter()
            .map(|cell| match *cell {
                AddedCell::Taken(place) => filled(taken(place)),
                AddedCell::Named(one) => filled(if found.rule == Rule::List {
                    let places = found.named_columns[one].places();
                    let cases = places
                        .iter()
                        .map(|&place| format!(" when {place} then {}", taken(place).sql));
                    Cell::of_text(format!(
                        "case {alias}.named{}{} end",
                        one + 1,
                        cases.collect::<String>()
                    ))
                } else {
                    answers.named_cell(asking, one + 1, &alias, &alias, false)
                }),
                AddedCell::Mark(Mark::Status) => Cell::of_text(status.clone()),
                AddedCell::Mark(Mark::Count) => number(format!("{alias}.held")),
                AddedCell::Mark(Mark::Key) => {
                    Cell::of_text(format!("nullif({alias}.key_text, '')"))
                }
                AddedCell::Mark(Mark::Row) if found.rule == Rule::List => Cell::of_text(format!(
                    "coalesce({alias}.row::text, case when {has_answer} then {alias}.row_list end)"
                )),
                AddedCell::Mark(Mark::Row) => number(format!("{alias}.row")),
                AddedCell::Mark(Mark::Table) => Cell::of_text(format!(
                    "case when {has_answer} then {} end",
                    literal(asking.table.headers.table())
                )),
                AddedCell::Mark(Mark::Column) => {
                    let mut sql = format!("{alias}.headers");
                    if found.rule == Rule::List {
                        let headers = found.searched.iter();
                        let headers =
                            headers.map(|&column| literal(&asking.table.headers.address(column)));
                        sql = format!(
                            "coalesce({sql}, (select string_agg((array[{}])[p], '; ' order by o) \
                             from unnest({alias}.place_list) with ordinality x(p, o)))",
                            joined(headers, ", ")
                        );
                    }
                    Cell::of_text(sql)
                }
            })
            .collect();
        let own = self.own;
        for ((column, cell), what) in updated.into_iter().zip(&written) {
            if column < own {
                let changed = format!("{what} in ('filled', 'replaced', 'erased')");
                self.updated.push((column, changed));
            }
            self.cells[column] = cell;
            self.changed[column] = true;
        }
        self.changed.extend(added.iter().map(|_| true));
        self.cells.extend(added);
        self.written.push(written);
    }
}

/// A condition of several.
fn where_all(conditions: &[String]) -> String {
    match conditions {
        [] => String::new(),
        all => format!("\nwhere {}", all.join(" and ")),
    }
}
