//! The cells that a lookup adds to a row and updates in it, from its answer.

use super::Asking;
use super::answers::Answers;
use super::cell::{Cell, ValueType};
use super::words::{each, is_blank, joined, literal};
use crate::enrich::{AddedCell, Unmatched};
use crate::findings::{Kind, Status};
use crate::lookup::Rule;
use crate::plan::{Mark, Replace};

/// The cells that the answers of a lookup give.
pub(super) struct AddedCells<'a> {
    asking: &'a Asking<'a>,
    answers: &'a Answers,
    /// The name of the answer in statements.
    alias: String,
    /// The taken cells of the answer.
    cells: Vec<Cell>,
}

/// Whether an updated cell is another than before, from what became of it.
pub(super) fn is_change(written: &str) -> String {
    format!("{written} in ('filled', 'replaced', 'erased')")
}

impl<'a> AddedCells<'a> {
    pub(super) fn of(asking: &'a Asking<'a>, answers: &'a Answers) -> Self {
        Self { asking, answers, alias: answers.alias(), cells: answers.cells() }
    }

    /// A taken cell, by its place.
    fn taken(&self, place: usize) -> Cell {
        let cell = &self.cells[place];
        match self.asking.found.rule {
            Rule::List => Cell::of_text(format!(
                "nullif(coalesce({}.list{}, {}), '')",
                self.alias,
                place + 1,
                cell.text()
            )),
            _ => cell.clone(),
        }
    }

    /// A cell, or the text that unmatched rows get.
    fn filled(&self, cell: Cell) -> Cell {
        let Unmatched::Fill(text) = &self.asking.found.output.unmatched else { return cell };
        Cell::of_text(format!(
            "case when {} = '{}' then {} else nullif({}, '') end",
            self.answers.status(),
            Kind::Unmatched.label(),
            literal(text),
            cell.text()
        ))
    }

    /// What becomes of a cell that is updated by a taken cell, and the cell after that.
    pub(super) fn updated(&self, now: &Cell, taken: usize) -> (String, Cell) {
        let (has_answer, new) = (self.answers.has_answer(), self.taken(taken));
        let replacing = self.asking.found.output.replacing;
        let (blank_now, blank_new) = (is_blank(&now.text()), is_blank(&new.text()));
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
        let value = |cell: &Cell| {
            if is_one_type { cell.sql.clone() } else { format!("nullif({}, '')", cell.text()) }
        };
        let (is_new, new, old) = (is_change(&what), value(&new), value(now));
        let sql = format!("case when {is_new} then {new} else {old} end");
        let cell = if is_one_type { Cell { sql, ..now.clone() } } else { Cell::of_text(sql) };
        (what, cell)
    }

    /// All added cells. `written` has what became of each updated cell.
    pub(super) fn all(&self, written: &[String]) -> Vec<Cell> {
        let found = self.asking.found;
        let add = |cell: &AddedCell| match *cell {
            AddedCell::Taken(place) => self.filled(self.taken(place)),
            AddedCell::Named(one) => self.filled(self.named(one)),
            AddedCell::Mark(mark) => self.mark(mark, written),
        };
        found.output.cells.iter().map(add).collect()
    }

    /// The taken cell that the row names, by the number of the naming.
    fn named(&self, one: usize) -> Cell {
        if self.asking.found.rule != Rule::List {
            return self.answers.named_cell(self.asking, one + 1, &self.alias, &self.alias, false);
        }
        let places = self.asking.found.named_columns[one].places();
        let cases = each(places, |place| format!(" when {place} then {}", self.taken(place).sql));
        Cell::of_text(format!("case {}.named{}{cases} end", self.alias, one + 1))
    }

    /// What the lookup knows of the row.
    fn mark(&self, mark: Mark, written: &[String]) -> Cell {
        let (alias, table) = (&self.alias, &self.asking.table.headers);
        let (found, has_answer) = (self.asking.found, self.answers.has_answer());
        let number =
            |sql: String| Cell { sql, value: ValueType::Integer, declared: "bigint".to_owned() };
        let is_list = found.rule == Rule::List;
        match mark {
            Mark::Status if self.answers.appends => {
                let (nth, label) = (self.answers.nth, Status::Appended.label());
                let status = self.told_status(written);
                Cell::of_text(format!(
                    "case when m.app_of = {nth} then '{label}' else {status} end"
                ))
            }
            Mark::Status => Cell::of_text(self.told_status(written)),
            Mark::Count => number(self.answers.held()),
            Mark::Key => Cell::of_text(format!("nullif({alias}.key_text, '')")),
            Mark::Row if is_list => Cell::of_text(format!(
                "coalesce({alias}.row::text, case when {has_answer} then {alias}.row_list end)"
            )),
            Mark::Row => number(format!("{alias}.row")),
            Mark::Table => {
                let name = literal(table.table());
                Cell::of_text(format!("case when {has_answer} then {name} end"))
            }
            Mark::Column if is_list => {
                let headers = found.searched.iter().map(|&column| literal(&table.address(column)));
                Cell::of_text(format!(
                    "coalesce({alias}.headers, (select string_agg((array[{}])[p], '; ' order by o) \
                     from unnest({alias}.place_list) with ordinality x(p, o)))",
                    joined(headers, ", ")
                ))
            }
            Mark::Column => Cell::of_text(format!("{alias}.headers")),
        }
    }

    /// The status of a row; where the lookup updates cells, whether any is another.
    fn told_status(&self, written: &[String]) -> String {
        let status = self.answers.status();
        if written.is_empty() {
            return status;
        }
        format!(
            "case when {} then case when {} then '{}' else '{}' end else {status} end",
            self.answers.has_answer(),
            joined(written.iter().map(|what| is_change(what)), " or "),
            Status::Updated.label(),
            Status::Unchanged.label()
        )
    }
}
