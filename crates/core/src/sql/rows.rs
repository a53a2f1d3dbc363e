//! The rows of a reference: numbered, with their keys, and the keys that several of them hold.

use super::cell::Cell;
use super::decision::{Decision, Group};
use super::reading::{BLANK, MALFORMED, Reading, WHOLE, What};
use super::words::{is_blank, joined, literal, unblanked};
use super::{Asking, Steps, cells_of};
use crate::key::Key;
use crate::lookup::{RangeSpec, Rule};
use crate::template::BoundTemplate;

/// The tables of a reference's rows.
#[derive(Debug)]
pub(super) struct Rows {
    /// The number of the reference, from 1.
    pub(super) nth: usize,
    /// The table of rows that hold keys: each row once, or in a reverse lookup once for each of its keys.
    pub(super) holders: String,
    /// The table of all rows.
    pub(super) all: String,
    pub(super) parts: usize,
    /// The columns that are used.
    pub(super) used: Vec<usize>,
    /// The cells that are taken, of a record of the holders under the alias `e`.
    pub(super) taken: Vec<Cell>,
    /// Whether parts are compared by their values, not by their texts.
    pub(super) by_value: bool,
    pub(super) is_reverse: bool,
    pub(super) has_range: bool,
    /// Whether rows may spell a key differently.
    pub(super) has_spelling: bool,
}

/// A part of a key: its value as it is compared, and its state.
pub(super) struct Part {
    pub(super) value: String,
    pub(super) state: String,
}

/// Joins of the tables of readings, and how many there are.
#[derive(Debug, Default)]
pub(super) struct Joins {
    pub(super) text: String,
    count: usize,
}

impl Joins {
    /// Joins what a reading says of these cells; gives the alias.
    pub(super) fn add(&mut self, reading: &Reading, texts: &[String]) -> String {
        self.count += 1;
        let alias = format!("r{}", self.count);
        self.text += &format!(
            "\n    left join pg_temp.{} {alias} on {}",
            reading.table(),
            reading.is_of(&alias, texts)
        );
        alias
    }
}

/// The columns of a template, each once.
pub(super) fn columns_of<'t>(templates: impl IntoIterator<Item = &'t BoundTemplate>) -> Vec<usize> {
    let mut all = Vec::new();
    for &column in templates.into_iter().flat_map(BoundTemplate::columns) {
        if !all.contains(&column) {
            all.push(column);
        }
    }
    all
}

/// The query for the different texts of some cells.
pub(super) fn distinct(cells: &[Cell], columns: &[usize], from: &str) -> String {
    let texts = columns.iter().enumerate();
    let texts = texts.map(|(nth, &column)| format!("{} as in{}", cells[column].text(), nth + 1));
    format!("select distinct {} from {from}", joined(texts, ", "))
}

/// The texts of some cells.
pub(super) fn texts_of(cells: &[Cell], columns: &[usize]) -> Vec<String> {
    columns.iter().map(|&column| cells[column].text()).collect()
}

/// A part of a key that is a cell as it is. With `settles`, all blank cells have the same value.
pub(super) fn bare_part(cell: &Cell, blanks: &[String], by_value: bool, settles: bool) -> Part {
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
        [one] => one.state.clone(),
        _ => format!("greatest({})", joined(parts.iter().map(|part| part.state.clone()), ", ")),
    };
    match match_blanks {
        true if parts.is_empty() => WHOLE.to_string(),
        true => format!("case when {worst} = {MALFORMED} then {MALFORMED} else {WHOLE} end"),
        false if parts.is_empty() => WHOLE.to_string(),
        false => worst,
    }
}

impl Rows {
    /// Writes the statements for the rows of a reference. `by_value` says whether its key is compared by values.
    pub(super) fn write(
        steps: &mut Steps,
        nth: usize,
        asking: &Asking<'_>,
        by_value: bool,
    ) -> Self {
        let Asking { found, table, match_blanks, name } = asking;
        let parts = found.reference_keys[0].parts().len();
        let is_reverse = !found.searched.is_empty();
        let range = found.bounds.as_ref().map(|bounds| RangeSpec::new(bounds.clone(), found.reach));
        let has_spelling = !found.reference_keys.iter().all(Key::is_verbatim);
        let own = cells_of(table, "t");
        let mut used: Vec<usize> = found.taken.columns.clone();
        used.extend(found.reference_keys.iter().flat_map(Key::columns));
        used.extend(columns_of(&found.rank));
        used.extend(columns_of(range.iter().flat_map(|range| &range.bounds)));
        used.sort_unstable();
        used.dedup();
        // Rows are numbered before anything is joined to them, since that may change their order.
        let numbered: Vec<Cell> = (0..own.len())
            .map(|column| Cell { sql: format!("n.v{}", column + 1), ..own[column].clone() })
            .collect();
        let (mut joins, mut columns) = (Joins::default(), vec!["n.row".to_owned()]);
        let key_columns = columns_of(found.reference_keys.iter().flat_map(Key::parts));
        let mut states = Vec::new();
        for (at, key) in found.reference_keys.iter().enumerate() {
            let mut made = Vec::new();
            for template in key.parts() {
                if template.template().as_header().is_some() {
                    let cell = &numbered[template.columns()[0]];
                    made.push(bare_part(cell, key.blanks(), by_value, *match_blanks));
                    continue;
                }
                let columns = columns_of([template]);
                let query = distinct(&own, &columns, &format!("{} t", table.name));
                let about =
                    format!("What `{}` makes of the values of {name}.", template.template());
                let (what, blanks) = (What::Part(template.clone()), key.blanks());
                let reading = steps.reading(about, |made| {
                    Reading::new(made, query, columns.clone(), blanks, what)
                });
                let alias = joins.add(reading, &texts_of(&numbered, &columns));
                made.push(Part {
                    value: format!("{alias}.value"),
                    state: format!("{alias}.state"),
                });
            }
            let state = key_state(&made, *match_blanks);
            let values = made.into_iter().enumerate();
            columns.extend(values.map(|(part, made)| match is_reverse {
                true => format!("{} as key{}_{}", made.value, at + 1, part + 1),
                false => format!("{} as key{}", made.value, part + 1),
            }));
            if is_reverse {
                let spelled = array(&texts_of(&numbered, key.columns()));
                columns.push(format!("{spelled} as spelled{}", at + 1));
                columns.push(format!("{state} as state{}", at + 1));
                states.push(format!("state{}", at + 1));
            } else {
                columns.push(format!("{state} as key_state"));
            }
        }
        if has_spelling && !is_reverse {
            columns.push(format!("{} as spelled", array(&texts_of(&numbered, &key_columns))));
        }
        if let Some(range) = &range {
            let of_range = columns_of(&range.bounds);
            let query = distinct(&own, &of_range, &format!("{} t", table.name));
            let blanks = found.reference_keys[0].blanks();
            let what = What::Range(RangeSpec::new(
                found.bounds.clone().expect("it has a range"),
                found.reach,
            ));
            let reading = steps.reading(format!("The ranges of {name}."), |made| {
                Reading::new(made, query, of_range.clone(), blanks, what)
            });
            let alias = joins.add(reading, &texts_of(&numbered, &of_range));
            columns.push(format!("{alias}.state as range_state"));
            columns.extend(["scale", "lower", "upper"].map(|one| format!("{alias}.{one}")));
        }
        if let (Some(rank), Rule::Highest | Rule::Lowest) = (&found.rank, found.rule) {
            let of_rank = columns_of([rank]);
            let query = distinct(&own, &of_rank, &format!("{} t", table.name));
            let reading = steps
                .reading(format!("The values that order the rows of {name}."), |made| {
                    Reading::new(made, query, of_rank.clone(), &[], What::Rank(rank.clone()))
                });
            let alias = joins.add(reading, &texts_of(&numbered, &of_rank));
            columns.push(format!("{alias}.scale as rank_scale"));
            columns.push(format!("{alias}.place as rank"));
        }
        let taken = found.taken.columns.iter().enumerate();
        columns.extend(
            taken.map(|(nth, &column)| format!("{} as cell{}", numbered[column].sql, nth + 1)),
        );
        let order = match &table.order_by[..] {
            [] => String::new(),
            order => {
                let order = order.iter().map(|&column| own[column].sql.clone());
                format!("order by {}", joined(order, ", "))
            }
        };
        let kept = used.iter().map(|&column| format!(", {} as v{}", own[column].sql, column + 1));
        let numbering = format!(
            "select row_number() over ({order}) as row{}\n        from {} t",
            kept.collect::<String>(),
            table.name
        );
        let all = format!("rows_{nth}");
        steps.statement(
            format!("The rows of {name}, each with its number, its key and what is taken of it."),
            format!(
                "create temp table {all} as\nselect {}\nfrom (\n        {numbering}\n    ) n{}",
                columns.join(",\n    "),
                joins.text
            ),
        );
        let taken = found.taken.columns.iter().enumerate();
        let taken = taken.map(|(nth, &column)| Cell {
            sql: format!("e.cell{}", nth + 1),
            ..own[column].clone()
        });
        let mut rows = Self {
            nth,
            holders: format!("pg_temp.{all}"),
            all: format!("pg_temp.{all}"),
            parts,
            used,
            taken: taken.collect(),
            by_value,
            is_reverse,
            has_range: range.is_some(),
            has_spelling,
        };
        if is_reverse {
            rows.write_holders(steps, asking);
        }
        steps.statement(
            format!("Statistics of the rows of {name}."),
            format!("analyze {}", rows.holders),
        );
        if rows.has_range {
            steps.statement(
                format!("The scale of most ranges of {name}."),
                format!(
                    "create temp table scale_{nth} as\nselect r.scale from {} r where {} = {WHOLE} and r.scale is not null\n\
                     group by r.scale order by count(*) desc, min(r.row) limit 1",
                    rows.all,
                    rows.keys_state("r", found.searched.len())
                ),
            );
        }
        rows
    }

    /// The rows of a reverse lookup, once for each key that they hold, with the columns that hold it.
    fn write_holders(&mut self, steps: &mut Steps, asking: &Asking<'_>) {
        let Asking { found, table, name, .. } = asking;
        let nth = self.nth;
        let keys = |alias: &str| self.keys(alias);
        let cells = found.searched.iter().enumerate().map(|(at, &column)| {
            let keys = (1..=self.parts).map(|part| format!("r.key{}_{part}, ", at + 1));
            let header = literal(&table.headers.address(column));
            let at = at + 1;
            format!("({at}, {}r.state{at}, {header}, r.spelled{at})", keys.collect::<String>())
        });
        let cells = joined(cells, ",\n            ");
        let names = (1..=self.parts).map(|part| format!("key{part}, ")).collect::<String>();
        let spelled = if self.has_spelling {
            ", min(v.spelled) as spelled, max(v.spelled) as last_spelled"
        } else {
            ""
        };
        let mut more: Vec<String> =
            (1..=self.taken.len()).map(|cell| format!("r.cell{cell}")).collect();
        if self.has_range {
            more.extend(["r.scale", "r.lower", "r.upper"].map(str::to_owned));
        }
        if matches!(found.rule, Rule::Highest | Rule::Lowest) {
            more.extend(["r.rank_scale".to_owned(), "r.rank".to_owned()]);
        }
        let more: String = more.iter().map(|one| format!(", {one}")).collect();
        let holders = format!("holders_{nth}");
        steps.statement(
            format!("The keys that each row of {name} holds, with the columns that hold them."),
            format!(
                "create temp table {holders} as\nselect h.*{more}\nfrom (\n        select r.row, {keys}, \
                 min(v.place) as place, max(v.place) as last_place, array_agg(v.place order by v.place) as places,\n            \
                 string_agg(v.header, '; ' order by v.place) as headers{spelled}\n        \
                 from {all} r cross join lateral (values\n            {cells}\n        ) \
                 v(place, {names}state, header, spelled)\n        where v.state = {WHOLE} group by r.row, {keys}\n    ) h\n    \
                 join {all} r on r.row = h.row",
                keys = joined(keys("v"), ", "),
                all = self.all,
            ),
        );
        self.holders = format!("pg_temp.{holders}");
    }

    /// The parts of a key under an alias.
    pub(super) fn keys(&self, alias: &str) -> Vec<String> {
        let dot = if alias.is_empty() { String::new() } else { format!("{alias}.") };
        (1..=self.parts).map(|part| format!("{dot}key{part}")).collect()
    }

    /// The condition under which the keys of two records are equal.
    pub(super) fn is_same_key(&self, one: &str, other: &str) -> String {
        let pairs = self.keys(one).into_iter().zip(self.keys(other));
        match self.parts {
            0 => "true".to_owned(),
            _ => joined(pairs.map(|(one, other)| format!("{one} = {other}")), " and "),
        }
    }

    /// Whether a record of the holders holds a key.
    pub(super) fn has_key(&self, alias: &str) -> String {
        let dot = if alias.is_empty() { String::new() } else { format!("{alias}.") };
        if self.is_reverse { "true".to_owned() } else { format!("{dot}key_state = {WHOLE}") }
    }

    /// The state of the keys of a row of the table of all rows, under an alias.
    pub(super) fn keys_state(&self, alias: &str, searched: usize) -> String {
        if !self.is_reverse {
            return format!("{alias}.key_state");
        }
        // One key is enough to find the row, whatever its other cells hold.
        let states = joined((1..=searched).map(|at| format!("{alias}.state{at}")), ", ");
        format!("case when least({states}) = {WHOLE} then {WHOLE} else greatest({states}) end")
    }

    /// The state of a row of the table of all rows, under an alias.
    pub(super) fn row_state(&self, alias: &str, searched: usize) -> String {
        let keys = self.keys_state(alias, searched);
        if !self.has_range {
            return keys;
        }
        format!(
            "case when {alias}.scale is not null and {keys} = {WHOLE} \
             and {alias}.scale <> (select scale from pg_temp.scale_{}) then {MALFORMED}\n    \
             else greatest({keys}, {alias}.range_state) end",
            self.nth
        )
    }

    /// The order of records of one key.
    pub(super) fn order(&self, alias: &str) -> String {
        if self.is_reverse { format!("{alias}.place, {alias}.row") } else { format!("{alias}.row") }
    }

    /// The opposite order: a row counts by the last of the columns that hold the key.
    pub(super) fn order_from_last(&self, alias: &str) -> String {
        if self.is_reverse {
            format!("{alias}.last_place desc, {alias}.row desc")
        } else {
            format!("{alias}.row desc")
        }
    }

    /// Writes the keys that several rows hold, and what the rule makes of each.
    pub(super) fn write_repeated(&self, steps: &mut Steps, asking: &Asking<'_>) {
        let nth = self.nth;
        let keys = joined(self.keys("e"), ", ");
        // The server sees to it that no two rows have the same values there.
        let columns = asking.found.reference_keys[0].columns();
        let is_unique = self.by_value
            && asking
                .table
                .unique
                .iter()
                .any(|unique| unique.iter().all(|one| columns.contains(one)));
        let several = if is_unique { "false" } else { "count(*) > 1" };
        let group_by = if self.parts == 0 { String::new() } else { format!(" group by {keys}") };
        let list = if self.parts == 0 { "1 as one".to_owned() } else { keys };
        steps.statement(
            format!("The keys that several rows of {} hold.", asking.name),
            format!(
                "create temp table shared_{nth} as\nselect {list} from {} e where {}{group_by} having {several}",
                self.holders,
                self.has_key("e"),
            ),
        );
        let from = format!(
            "{} e join pg_temp.shared_{nth} s on {} where {}",
            self.holders,
            self.is_same_key("s", "e"),
            self.has_key("e")
        );
        let decision = Decision {
            rows: self,
            found: asking.found,
            signature: self.signature(asking, &[]),
            with_spelling: self.has_spelling,
        };
        let group = Group { columns: self.keys("e") };
        steps.statement(
            "Whether the rows of each disagree, and which one counts.".to_owned(),
            format!("create temp table repeated_{nth} as\n{}", decision.query(&group, &from)),
        );
    }

    /// A text that is the same for records which give the same cells: those that every main row takes, and `named` ones.
    pub(super) fn signature(&self, asking: &Asking<'_>, named: &[String]) -> String {
        let count = if named.is_empty() { self.taken.len() } else { asking.found.taken.always };
        let mut texts: Vec<String> = self.taken[..count].iter().map(Cell::text).collect();
        texts.extend(named.iter().cloned());
        if asking.found.taken.in_column {
            texts.push("e.places::text".to_owned());
        }
        array(&texts)
    }
}

/// A text of several texts, from which each can be told.
fn array(texts: &[String]) -> String {
    if texts.is_empty() { "''".to_owned() } else { format!("array[{}]::text", texts.join(", ")) }
}
