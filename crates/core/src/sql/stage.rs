//! The enriched table so far: the main table joined with the answers of the lookups before.

use super::added::{AddedCells, is_change};
use super::answers::Answers;
use super::appended::Appended;
use super::cell::Cell;
use super::words::{each, joined};
use super::{Asking, RowName, StoredTable, cells_of};
use crate::enrich::Unmatched;
use crate::findings::Kind;

/// The enriched table so far.
#[derive(Debug)]
pub(super) struct Stage {
    main: String,
    /// The cells of the main table itself, of a record `t`, and the columns that are the place of a row.
    main_cells: Vec<Cell>,
    place: Vec<String>,
    /// Whether new rows come to it, and the ones that have.
    appends: bool,
    new: Vec<Appended>,
    cells: Vec<Cell>,
    /// How many columns the main table has.
    own: usize,
    row_name: RowName,
    /// The name of a row; null where it has none.
    name: String,
    /// Whether a cell is another than the main table's own.
    changed: Vec<bool>,
    joins: String,
    /// The conditions under which a row of the joined tables is one of the enriched table.
    holds: Vec<String>,
    /// The conditions under which a row goes out.
    keeps: Vec<String>,
    /// The conditions under which a row is the first of those that references make of it.
    firsts: Vec<String>,
    /// For each lookup what becomes of the cells of each updated column.
    written: Vec<Vec<String>>,
    /// For each lookup the cells that it updates.
    changes: Vec<Vec<Changing>>,
    /// The columns of the main table that are updated, each with whether a cell is another than before.
    updated: Vec<(usize, String)>,
}

/// A cell that a lookup updates.
#[derive(Debug)]
struct Changing {
    column: usize,
    /// The texts of the cell before and after, and the condition under which they differ.
    before: String,
    after: String,
    is_change: String,
    /// The name and the number of the row of the reference that it comes from; null where several give it.
    by: [String; 2],
}

impl Stage {
    /// The main table as it is. `appends` says whether new rows come to it.
    pub(super) fn of(main: &StoredTable, appends: bool) -> Self {
        let cells = cells_of(main, "m");
        let (row_name, name) = match (&main.key[..], main.place) {
            (&[key], _) if cells[key].value.has_least() => {
                (RowName::Key(main.headers.address(key)), cells[key].sql.clone())
            }
            (_, [place]) => (RowName::Place, format!("m.{place}")),
            _ => (RowName::None, "null::text".to_owned()),
        };
        let place = main.place.iter().map(|place| (*place).to_owned());
        Self {
            main: main.name.clone(),
            main_cells: cells_of(main, "t"),
            place: place.collect(),
            appends,
            new: Vec::new(),
            changed: vec![false; cells.len()],
            own: cells.len(),
            cells,
            row_name,
            name,
            joins: String::new(),
            holds: Vec::new(),
            keeps: Vec::new(),
            firsts: Vec::new(),
            written: Vec::new(),
            changes: Vec::new(),
            updated: Vec::new(),
        }
    }

    /// The rows of the main table, and new ones, under the alias `m`.
    fn rows(&self) -> String {
        if !self.appends {
            return format!("{} m", self.main);
        }
        let texts: Vec<usize> = {
            let all = self.new.iter().flat_map(|new| &new.columns);
            let mut all: Vec<usize> =
                all.filter(|(_, typed)| typed.is_none()).map(|(column, _)| *column).collect();
            all.sort_unstable();
            all.dedup();
            all
        };
        let typed = |new: &Appended, column: usize| {
            let of_key = new.columns.iter().find(|(other, _)| *other == column);
            of_key.and_then(|(_, typed)| typed.clone())
        };
        // A key may be of a wider type than the main table's.
        let wider = |column: usize| self.new.iter().find_map(|new| typed(new, column));
        let own = (0..self.own).map(|column| {
            let cell = &self.main_cells[column];
            let (name, declared) = (cell.sql.trim_start_matches("t."), &cell.declared);
            match wider(column).filter(|wider| wider.declared != *declared) {
                Some(wider) => format!("t.{name}::{} as {name}", wider.declared),
                None => format!("t.{name}"),
            }
        });
        let place = |place: &String| format!("t.{place}");
        let own: Vec<String> = own.chain(self.place.iter().map(place)).collect();
        let none = each(&texts, |column| format!(", null::text as x{column}"));
        let mut all = vec![format!(
            "select {}{none}, 0 as app_of, 0::bigint as app from {} t",
            joined(own, ", "),
            self.main
        )];
        for new in &self.new {
            let own = (0..self.own).map(|column| match (typed(new, column), wider(column)) {
                (Some(cell), Some(wider)) => format!("{}::{}", cell.sql, wider.declared),
                (_, Some(wider)) => format!("null::{}", wider.declared),
                _ => format!("null::{}", self.main_cells[column].declared),
            });
            let place = self.place.iter().map(|place| match &place[..] {
                "tableoid" => "null::oid".to_owned(),
                _ => "null::tid".to_owned(),
            });
            let own: Vec<String> = own.chain(place).collect();
            let texts = each(&texts, |column| {
                let is_here =
                    new.columns.iter().any(|(other, typed)| other == column && typed.is_none());
                if is_here { format!(", n.t{column}") } else { ", null::text".to_owned() }
            });
            all.push(format!(
                "select {}{texts}, {}, n.app from {} n",
                joined(own, ", "),
                new.nth,
                new.table
            ));
        }
        format!("(\n        {}\n    ) m", joined(all, "\n        union all "))
    }

    /// Adds the new rows of a reference, before its answers.
    pub(super) fn append(&mut self, new: Appended) {
        let is_new = format!("m.app_of = {}", new.nth);
        for column in 0..self.cells.len() {
            let of_key = new.columns.iter().find(|(other, _)| *other == column);
            let now = &self.cells[column];
            let cell = match of_key {
                Some((_, Some(typed))) => {
                    let (value, declared) = (typed.value, typed.declared.clone());
                    // Where an update or a lookup has not made something else of it already.
                    if now.declared == declared || !self.changed[column] {
                        Cell { value, declared, ..now.clone() }
                    } else {
                        now.clone()
                    }
                }
                Some((_, None)) => Cell::of_text(format!(
                    "nullif(case when {is_new} then m.x{column} else {} end, '')",
                    now.text()
                )),
                None if column >= self.own => {
                    let sql = format!("case when {is_new} then null else {} end", now.sql);
                    Cell { sql, ..now.clone() }
                }
                None => continue,
            };
            self.cells[column] = cell;
        }
        self.new.push(new);
    }

    /// The columns of the main table that new rows may have; `None` where there are none.
    pub(super) fn new_columns(&self) -> Option<Vec<usize>> {
        let of_key = self.new.iter().flat_map(|new| &new.columns).map(|(column, _)| *column);
        let updated = self.updated.iter().map(|(column, _)| *column);
        let mut all: Vec<usize> = of_key.chain(updated).filter(|&at| at < self.own).collect();
        all.sort_unstable();
        all.dedup();
        self.appends.then_some(all)
    }

    /// How many columns it has.
    pub(super) fn len(&self) -> usize {
        self.cells.len()
    }

    /// How many of them the main table has.
    pub(super) fn own(&self) -> usize {
        self.own
    }

    /// A cell of the main table itself.
    pub(super) fn main_cell(&self, column: usize) -> &Cell {
        &self.main_cells[column]
    }

    /// A cell of a row.
    pub(super) fn cell(&self, column: usize) -> &Cell {
        &self.cells[column]
    }

    /// Whether some of the columns are added, or updated.
    pub(super) fn is_changed(&self, columns: &[usize]) -> bool {
        columns.iter().any(|&column| self.changed[column])
    }

    /// The expression for the name of the first row of several.
    pub(super) fn first(&self) -> String {
        match self.row_name {
            // Without an aggregate, so that another server can do the rest.
            RowName::None => self.name.clone(),
            RowName::Key(_) | RowName::Place => format!("min({})", self.name),
        }
    }

    /// The expression for the name of a row; null where it has none.
    pub(super) fn name(&self) -> &str {
        &self.name
    }

    /// What that name is.
    pub(super) fn row_name(&self) -> &RowName {
        &self.row_name
    }

    /// Where rows come from: the main table, joined with answers or not, and with more.
    pub(super) fn source(&self, with_answers: bool, more: &str) -> String {
        let (joins, holds) =
            if with_answers { (&self.joins[..], &self.holds[..]) } else { ("", &[][..]) };
        format!("{}{joins}{more}{}", self.rows(), where_all(holds))
    }

    /// Where the output's rows come from.
    pub(super) fn all_rows(&self) -> String {
        format!("from {}{}", self.rows(), self.joins)
    }

    /// The conditions under which a row goes out.
    pub(super) fn conditions(&self) -> Vec<String> {
        self.holds.iter().chain(&self.keeps).cloned().collect()
    }

    /// The conditions under which a row is one that a lookup asks for: of the copies that later references make of a row one counts.
    fn of_lookup(&self, nth: usize) -> Vec<String> {
        let conditions = self.holds.iter().chain(&self.keeps).chain(&self.firsts[nth + 1..]);
        let is_there = self.appends.then(|| format!("m.app_of <= {nth}"));
        conditions.cloned().chain(is_there).collect()
    }

    /// The query for how often each thing happened to the cells of each column that a lookup updates, in the order of
    /// [`Written`](crate::findings::Written); `None` where it updates none.
    pub(super) fn updates(&self, nth: usize) -> Option<String> {
        let written = self.written.get(nth).filter(|written| !written.is_empty())?;
        let counts = written.iter().flat_map(|written| {
            crate::findings::Written::ALL
                .map(|one| format!("count(*) filter (where {written} = '{}')", one.label()))
        });
        let conditions = self.of_lookup(nth);
        Some(format!(
            "select {} from {}{}{}",
            joined(counts, ", "),
            self.rows(),
            self.joins,
            where_all(&conditions)
        ))
    }

    /// The query for the first cells that a lookup changes, in the order of the main rows: the name of the row, the column,
    /// the texts before and after, the name and the number of the row of the reference that it comes from; `None` where it
    /// updates none. `most` says how many.
    pub(super) fn changes(&self, nth: usize, most: &str) -> Option<String> {
        let changes = self.changes.get(nth).filter(|changes| !changes.is_empty())?;
        let conditions = self.of_lookup(nth);
        let each = changes.iter().enumerate().map(|(at, changing)| {
            let Changing { column, before, after, is_change, by: [name, number] } = changing;
            let all: Vec<String> = conditions.iter().chain([is_change]).cloned().collect();
            format!(
                "(select {1} as place, ({1})::text as name, {at} as at, {column}::bigint as col, {before} as before, \
                 {after} as after, {name} as by_name, {number} as by_row\n    from {0}{2}{3} order by {1} limit {most})",
                self.rows(),
                self.name,
                self.joins,
                where_all(&all)
            )
        });
        let each = joined(each, "\n    union all ");
        Some(format!(
            "select name, col, before, after, by_name, by_row from (\n    {each}\n) c order by place, at limit {most}"
        ))
    }

    /// The columns of the main table that are updated, each once, with whether a cell is another than before.
    pub(super) fn updated(&self) -> impl Iterator<Item = (usize, String)> {
        let mut all: Vec<(usize, String)> = Vec::new();
        for (column, changed) in &self.updated {
            match all.iter_mut().find(|(other, _)| other == column) {
                Some((_, before)) => *before = format!("{before} or {changed}"),
                None => all.push((*column, changed.clone())),
            }
        }
        all.into_iter()
    }

    /// Adds the answers of a lookup.
    pub(super) fn add(&mut self, asking: &Asking<'_>, answers: &Answers) {
        let added = AddedCells::of(asking, answers);
        let status = answers.status();
        self.joins.push_str(&answers.joins(self.appends));
        self.holds.extend(answers.is_one());
        let unmatched = Kind::Unmatched.label();
        let kept = match asking.found.output.unmatched {
            Unmatched::Drop => Some(format!("{status} <> '{unmatched}'")),
            Unmatched::Only => Some(format!("{status} = '{unmatched}'")),
            Unmatched::Blank | Unmatched::Fill(_) => None,
        };
        let nth = answers.nth;
        self.keeps.extend(kept.map(|kept| {
            // New rows do not ask this reference.
            if self.appends { format!("(m.app_of >= {nth} or {kept})") } else { kept }
        }));
        self.firsts.push(answers.is_first());
        // Updates first: the status says what they did.
        let updates = &asking.found.output.updates;
        let updated = updates.iter().map(|one| added.updated(&self.cells[one.column], one.taken));
        let (written, updated): (Vec<String>, Vec<Cell>) = updated.unzip();
        let cells = added.all(&written);
        let changes =
            updates.iter().zip(&updated).zip(&written).map(|((update, cell), what)| Changing {
                column: update.column,
                before: self.cells[update.column].text(),
                after: cell.text(),
                is_change: is_change(what),
                by: answers.giving_row(),
            });
        let changes = changes.collect();
        self.changes.push(changes);
        for ((update, cell), what) in updates.iter().zip(updated).zip(&written) {
            if update.column < self.own {
                self.updated.push((update.column, is_change(what)));
            }
            self.cells[update.column] = cell;
            self.changed[update.column] = true;
        }
        self.changed.extend(cells.iter().map(|_| true));
        self.cells.extend(cells);
        self.written.push(written);
    }
}

impl Stage {
    /// Joins corrections to the rows: the cells that they write, each with its column and the condition under which it is another
    /// than before, and cells that tell of it.
    pub(super) fn correct(
        &mut self,
        joins: &str,
        written: Vec<(usize, Cell, String)>,
        told: Vec<(usize, Cell)>,
    ) {
        self.joins.push_str(joins);
        for (column, cell, is_change) in written {
            if column < self.own {
                self.updated.push((column, is_change));
            }
            self.cells[column] = cell;
        }
        for (column, cell) in told {
            self.cells[column] = cell;
        }
    }
}

/// The condition under which a row is new.
pub(super) const IS_NEW: &str = "m.app_of > 0";

/// A condition of several.
pub(super) fn where_all(conditions: &[String]) -> String {
    match conditions {
        [] => String::new(),
        all => format!("\nwhere {}", all.join(" and ")),
    }
}
