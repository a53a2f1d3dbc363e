//! Records whose values become parts of keys: as they are on the server, or as this program reads them.

use super::Steps;
use std::fmt::Write;

use super::cell::Cell;
use super::reading::{BLANK, MALFORMED, Reading, WHOLE, What};
use super::words::{is_blank, joined, unblanked};
use crate::template::BoundTemplate;

/// A part of a key: its value as it is compared, and its state.
pub(super) struct Part {
    pub(super) value: String,
    pub(super) state: String,
}

/// The records of a table.
pub(super) struct Records {
    /// The table as a query for the different values has it, and its cells there.
    pub(super) from: String,
    pub(super) queried: Vec<Cell>,
    /// Its cells where what is read of them is joined to them.
    pub(super) cells: Vec<Cell>,
    /// The tables that are joined to them, and how many these are.
    pub(super) joins: String,
    joined: usize,
}

impl Records {
    pub(super) fn new(from: String, queried: Vec<Cell>, cells: Vec<Cell>) -> Self {
        Self { from, queried, cells, joins: String::new(), joined: 0 }
    }

    /// Reads what templates make of the records; gives the alias under which the results are joined.
    pub(super) fn read<'t>(
        &mut self,
        steps: &mut Steps,
        templates: impl IntoIterator<Item = &'t BoundTemplate>,
        (what, blanks): (What, &[String]),
        about: String,
    ) -> String {
        let columns = columns_of(templates);
        let listed = columns.iter().enumerate();
        let listed =
            listed.map(|(nth, &at)| format!("{} as in{}", self.queried[at].text(), nth + 1));
        let query = format!("select distinct {} from {}", joined(listed, ", "), self.from);
        let texts: Vec<String> = columns.iter().map(|&column| self.cells[column].text()).collect();
        let name = steps.reading(about, |name| Reading::new(name, query, columns, blanks, what));
        self.joined += 1;
        let alias = format!("r{}", self.joined);
        let pairs = texts.iter().enumerate();
        let pairs = pairs.map(|(nth, text)| format!("{alias}.in{} = {text}", nth + 1));
        let on = joined(pairs, " and ");
        let _ = write!(self.joins, "\n    left join pg_temp.{name} {alias} on {on}");
        alias
    }

    /// A part of a key. With `settles`, all blank cells have the same value; `by_value` where a cell is compared as it is.
    pub(super) fn part(
        &mut self,
        steps: &mut Steps,
        template: &BoundTemplate,
        blanks: &[String],
        (by_value, settles): (bool, bool),
        whose: &str,
    ) -> Part {
        if template.template().as_header().is_some() {
            return self.bare(template.columns()[0], blanks, by_value, settles);
        }
        let about = format!("What `{}` makes of the values {whose}.", template.template());
        let what = (What::Part(template.clone()), blanks);
        let alias = self.read(steps, [template], what, about);
        Part { value: format!("{alias}.value"), state: format!("{alias}.state") }
    }

    /// A part of a key that is a cell as it is.
    pub(super) fn bare(
        &self,
        column: usize,
        blanks: &[String],
        by_value: bool,
        settles: bool,
    ) -> Part {
        bare_part(&self.cells[column], blanks, by_value, settles)
    }
}

/// The columns of templates, each once.
pub(super) fn columns_of<'t>(templates: impl IntoIterator<Item = &'t BoundTemplate>) -> Vec<usize> {
    let mut all = Vec::new();
    for &column in templates.into_iter().flat_map(BoundTemplate::columns) {
        if !all.contains(&column) {
            all.push(column);
        }
    }
    all
}

/// A part of a key that is a cell as it is.
fn bare_part(cell: &Cell, blanks: &[String], by_value: bool, settles: bool) -> Part {
    if by_value {
        let state = format!("case when {} then {BLANK} else {WHOLE} end", cell.is_blank());
        return Part { value: cell.sql.clone(), state };
    }
    let text = unblanked(&cell.text(), blanks);
    let blank = is_blank(&text);
    // Blank is blank, however many spaces it has.
    let value = if settles { format!("case when {blank} then '' else {text} end") } else { text };
    Part { value, state: format!("case when {blank} then {BLANK} else {WHOLE} end") }
}

/// The state of a key of parts in these states; a blank part is as good as others where blanks match.
pub(super) fn key_state(parts: &[Part], match_blanks: bool) -> String {
    let worst = match parts {
        [] => return WHOLE.to_string(),
        [one] => one.state.clone(),
        _ => format!("greatest({})", joined(parts.iter().map(|part| part.state.clone()), ", ")),
    };
    if match_blanks {
        format!("case when {worst} = {MALFORMED} then {MALFORMED} else {WHOLE} end")
    } else {
        worst
    }
}

/// The parts of a key as columns: `… as key1`.
pub(super) fn key_columns(parts: &[Part]) -> Vec<String> {
    let parts = parts.iter().enumerate();
    parts.map(|(nth, part)| format!("{} as key{}", part.value, nth + 1)).collect()
}
