//! The rows of a reference: numbered, with their keys, and the keys that several of them hold.

use super::cell::Cell;
use super::decision::{Decision, Group};
use super::reading::{MALFORMED, WHOLE, What};
use super::records::{Part, Records, columns_of, key_columns, key_state};
use super::words::{each, joined, literal};
use super::{Asking, Steps, cells_of};
use crate::enrich::AddedCell;
use crate::key::Key;
use crate::lookup::{RangeSpec, Rule};
use crate::plan::Mark;

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
    /// How many columns a reverse lookup looks in; none in others.
    pub(super) searched: usize,
    /// The table of the keys that several rows hold.
    pub(super) repeated: String,
    /// Where the rows stay, if they are joined where they are.
    pub(super) in_place: Option<InPlace>,
    /// The columns that are used.
    pub(super) used: Vec<usize>,
    /// The cells that are taken, of a record of the holders under the alias `e`.
    pub(super) taken: Vec<Cell>,
    /// Whether parts are compared by their values, not by their texts.
    pub(super) by_value: bool,
    pub(super) has_range: bool,
    /// Whether rows may spell a key differently.
    pub(super) has_spelling: bool,
}

/// Rows that are joined where they are.
#[derive(Debug)]
pub(super) struct InPlace {
    /// What follows `create` for the table of the keys that several rows hold.
    create: String,
    /// The columns that are the place of a row.
    pub(super) places: usize,
    /// Whether no two rows have the same key.
    pub(super) is_unique: bool,
    /// The query for how many rows there are, and how many of them have no key.
    pub(super) counts: String,
}

/// Whether rows whose key is compared by values are joined where they are: nothing is asked of them that needs an order, and
/// each can be found again.
fn are_in_place(asking: &Asking<'_>) -> bool {
    let Asking { found, table, .. } = asking;
    let has_number =
        found.output.cells.iter().any(|cell| matches!(cell, AddedCell::Mark(Mark::Row)));
    !table.place.is_empty()
        && table.order_by.is_empty()
        && found.rule == Rule::Report
        && found.output.appending.is_none()
        && !has_number
}

impl Rows {
    /// Writes the statements for the rows of a reference. `by_value` says whether its key is compared by values, `shared`
    /// is the beginning of a name for tables that the server's workers share.
    pub(super) fn write(
        steps: &mut Steps,
        nth: usize,
        asking: &Asking<'_>,
        by_value: bool,
        shared: Option<&str>,
    ) -> Self {
        if by_value && are_in_place(asking) {
            return Self::write_in_place(steps, nth, asking, shared);
        }
        let Asking { found, table, name, .. } = asking;
        let range = asking.range();
        let own = cells_of(table, "t");
        let mut used: Vec<usize> = found.taken.columns.clone();
        used.extend(found.reference_keys.iter().flat_map(Key::columns));
        used.extend(columns_of(&found.rank));
        used.extend(columns_of(range.iter().flat_map(|range| &range.bounds)));
        used.sort_unstable();
        used.dedup();
        // Rows are numbered before anything is joined to them, since that may change their order.
        let numbered = (0..own.len())
            .map(|column| Cell { sql: format!("n.v{}", column + 1), ..own[column].clone() });
        let mut records =
            Records::new(format!("{} t", table.name), own.clone(), numbered.collect());
        let mut columns = vec!["n.row".to_owned(), "n.name".to_owned()];
        key_columns_of(steps, asking, by_value, &mut records, &mut columns);
        order_columns_of(steps, asking, range, &mut records, &mut columns);
        let taken = found.taken.columns.iter().enumerate();
        columns.extend(
            taken
                .clone()
                .map(|(nth, &column)| format!("{} as cell{}", records.cells[column].sql, nth + 1)),
        );
        if let Some(appending) = &found.output.appending {
            // A new row has its key as it is here.
            let of_key = columns_of(appending.parts().iter().map(|(_, theirs)| theirs));
            let own = of_key.into_iter();
            columns.extend(own.map(|at| format!("{} as own{at}", records.cells[at].sql)));
        }
        let numbering = asking.numbered(&used);
        let all = format!("rows_{nth}");
        steps.statement(
            format!("The rows of {name}, each with its number, its key and what is taken of it."),
            format!(
                "create temp table {all} as\nselect {}\nfrom (\n        {numbering}\n    ) n{}",
                columns.join(",\n    "),
                records.joins
            ),
        );
        let taken = taken.map(|(nth, &column)| Cell {
            sql: format!("e.cell{}", nth + 1),
            ..own[column].clone()
        });
        let mut rows = Self {
            nth,
            holders: format!("pg_temp.{all}"),
            all: format!("pg_temp.{all}"),
            parts: found.reference_keys[0].parts().len(),
            searched: found.searched.len(),
            repeated: format!("pg_temp.repeated_{nth}"),
            in_place: None,
            used,
            taken: taken.collect(),
            by_value,
            has_range: found.bounds.is_some(),
            has_spelling: asking.has_spelling(),
        };
        if rows.is_reverse() {
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
                    rows.keys_state("r")
                ),
            );
        }
        rows
    }

    /// Writes the view of rows that stay where they are.
    fn write_in_place(
        steps: &mut Steps,
        nth: usize,
        asking: &Asking<'_>,
        shared: Option<&str>,
    ) -> Self {
        let Asking { found, table, name, .. } = asking;
        let (key, own) = (&found.reference_keys[0], cells_of(table, "t"));
        let mut used: Vec<usize> = found.taken.columns.clone();
        used.extend(key.columns());
        used.sort_unstable();
        used.dedup();
        let parts = key.parts().iter().map(|part| &own[part.columns()[0]]);
        // In words that another server understands as well.
        let blank = joined(parts.clone().map(Cell::is_blank), " or ");
        let place = table.place.iter().enumerate();
        let mut columns: Vec<String> =
            place.map(|(at, place)| format!("t.{place} as place{}", at + 1)).collect();
        columns.push(format!("{} as name", asking.row_name().1));
        columns.extend(parts.zip(1..).map(|(cell, part)| format!("{} as key{part}", cell.sql)));
        columns.push(format!("not ({blank}) as is_whole"));
        let taken = found.taken.columns.iter().enumerate();
        columns.extend(
            taken.clone().map(|(nth, &column)| format!("{} as cell{}", own[column].sql, nth + 1)),
        );
        columns.extend(used.iter().map(|&at| format!("{} as v{}", own[at].sql, at + 1)));
        steps.statement(
            format!("The rows of {name}, each with its key and what is taken of it. They stay where they are."),
            format!(
                "create temp view rows_{nth} as\nselect {}\nfrom {} t",
                columns.join(",\n    "),
                table.name
            ),
        );
        // Each part of a divided table is counted where it is.
        let parts_of_table = if table.parts.is_empty() {
            std::slice::from_ref(&table.name)
        } else {
            &table.parts[..]
        };
        let counts = parts_of_table.iter().map(|part| {
            format!(
                "select count(*) as rows, count(*) filter (where {blank}) as blank from {part} t"
            )
        });
        let (repeated, create) = match shared {
            Some(shared) => {
                let name = format!("{shared}_repeated_{nth}");
                (name.clone(), format!("unlogged table {name}"))
            }
            None => (format!("pg_temp.repeated_{nth}"), format!("temp table repeated_{nth}")),
        };
        let in_place = InPlace {
            create,
            places: table.place.len(),
            is_unique: is_unique(asking),
            counts: joined(counts, "\n    union all "),
        };
        let taken = taken.map(|(nth, &column)| Cell {
            sql: format!("e.cell{}", nth + 1),
            ..own[column].clone()
        });
        Self {
            nth,
            holders: format!("pg_temp.rows_{nth}"),
            all: format!("pg_temp.rows_{nth}"),
            parts: key.parts().len(),
            searched: 0,
            repeated,
            in_place: Some(in_place),
            used,
            taken: taken.collect(),
            by_value: true,
            has_range: false,
            has_spelling: false,
        }
    }

    /// The columns that are the place of a row that stays where it is, under an alias.
    pub(super) fn places(&self, alias: &str) -> Vec<String> {
        let places = self.in_place.as_ref().map_or(0, |in_place| in_place.places);
        (1..=places).map(|at| format!("{alias}.place{at}")).collect()
    }

    /// Whether the key may be in any of several columns.
    pub(super) fn is_reverse(&self) -> bool {
        self.searched > 0
    }

    /// The rows of a reverse lookup, once for each key that they hold, with the columns that hold it.
    fn write_holders(&mut self, steps: &mut Steps, asking: &Asking<'_>) {
        let Asking { found, table, name, .. } = asking;
        let nth = self.nth;
        let keys = |alias: &str| self.keys(alias);
        let cells = found.searched.iter().enumerate().map(|(at, &column)| {
            let keys = each(1..=self.parts, |part| format!("r.key{}_{part}, ", at + 1));
            let header = literal(&table.headers.address(column));
            let at = at + 1;
            format!("({at}, {keys}r.state{at}, {header}, r.spelled{at})")
        });
        let cells = joined(cells, ",\n            ");
        let names = each(1..=self.parts, |part| format!("key{part}, "));
        let spelled = if self.has_spelling {
            ", min(v.spelled) as spelled, max(v.spelled) as last_spelled"
        } else {
            ""
        };
        let mut more = vec!["r.name".to_owned()];
        more.extend((1..=self.taken.len()).map(|cell| format!("r.cell{cell}")));
        if self.has_range {
            more.extend(["r.scale", "r.lower", "r.upper"].map(str::to_owned));
        }
        if matches!(found.rule, Rule::Highest | Rule::Lowest) {
            more.extend(["r.rank_scale".to_owned(), "r.rank".to_owned()]);
        }
        let more = each(more, |one| format!(", {one}"));
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
        if self.is_reverse() {
            "true".to_owned()
        } else if self.in_place.is_some() {
            format!("{dot}is_whole")
        } else {
            format!("{dot}key_state = {WHOLE}")
        }
    }

    /// The state of the keys of a row of the table of all rows, under an alias.
    pub(super) fn keys_state(&self, alias: &str) -> String {
        if !self.is_reverse() {
            return format!("{alias}.key_state");
        }
        // One key is enough to find the row, whatever its other cells hold.
        let states = joined((1..=self.searched).map(|at| format!("{alias}.state{at}")), ", ");
        format!("case when least({states}) = {WHOLE} then {WHOLE} else greatest({states}) end")
    }

    /// The state of a row of the table of all rows, under an alias.
    pub(super) fn row_state(&self, alias: &str) -> String {
        let keys = self.keys_state(alias);
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
        if self.is_reverse() {
            format!("{alias}.place, {alias}.row")
        } else {
            format!("{alias}.row")
        }
    }

    /// The opposite order: a row counts by the last of the columns that hold the key.
    pub(super) fn order_from_last(&self, alias: &str) -> String {
        if self.is_reverse() {
            format!("{alias}.last_place desc, {alias}.row desc")
        } else {
            format!("{alias}.row desc")
        }
    }

    /// Writes the keys that several rows hold, and what the rule makes of each.
    pub(super) fn write_repeated(&self, steps: &mut Steps, asking: &Asking<'_>) {
        let nth = self.nth;
        let keys = joined(self.keys("e"), ", ");
        let several = if self.by_value && is_unique(asking) { "false" } else { "count(*) > 1" };
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
        let mut from = format!(
            "{} e join pg_temp.shared_{nth} s on {} where {}",
            self.holders,
            self.is_same_key("s", "e"),
            self.has_key("e")
        );
        if self.in_place.is_some() {
            steps.statement(
                "Statistics of them.".to_owned(),
                format!("analyze pg_temp.shared_{nth}"),
            );
            steps.statement(
                "The rows that hold these keys, each with a number.".to_owned(),
                format!("create temp table same_{nth} as\nselect row_number() over () as row, e.*\nfrom {from}"),
            );
            from = format!("pg_temp.same_{nth} e");
        }
        let decision = Decision {
            rows: self,
            found: asking.found,
            signature: self.signature(asking, &[]),
            with_spelling: self.has_spelling,
        };
        let group = Group { columns: self.keys("e") };
        let query = decision.query(&group, &from);
        let about = "Whether the rows of each disagree, and which one counts.".to_owned();
        match &self.in_place {
            Some(in_place) => {
                // The cells are those of the first one, since no other counts.
                let places = joined(self.places("e"), ", ");
                let create = format!(
                    "create {} as\nselect d.*, {places}\nfrom (\n{query}\n) d join pg_temp.same_{nth} e on e.row = d.first",
                    in_place.create
                );
                steps.statement(about, create);
                steps.statement(
                    "Statistics of them.".to_owned(),
                    format!("analyze {}", self.repeated),
                );
            }
            None => steps.statement(about, format!("create temp table repeated_{nth} as\n{query}")),
        }
    }

    /// A text that is the same for records which give the same cells: the ones that every main row takes, and `named` ones.
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

/// Whether no two rows have the same key, because the server sees to it that no two have the same values in some of its columns.
fn is_unique(asking: &Asking<'_>) -> bool {
    let columns = asking.found.reference_keys[0].columns();
    let mut unique = asking.table.unique.iter();
    unique.any(|unique| unique.iter().all(|one| columns.contains(one)))
}

/// A text of several texts, from which each can be read again.
fn array(texts: &[String]) -> String {
    if texts.is_empty() { "''".to_owned() } else { format!("array[{}]::text", texts.join(", ")) }
}

/// Adds the columns of the keys of a reference: their parts, states and spellings.
fn key_columns_of(
    steps: &mut Steps,
    asking: &Asking<'_>,
    by_value: bool,
    records: &mut Records,
    columns: &mut Vec<String>,
) {
    let Asking { found, match_blanks, name, .. } = asking;
    let is_reverse = !found.searched.is_empty();
    let whose = format!("of {name}");
    for (at, key) in (1..).zip(&found.reference_keys) {
        let how = (by_value, *match_blanks);
        let parts = key.parts().iter();
        let parts = parts.map(|part| records.part(steps, part, key.blanks(), how, &whose));
        let parts: Vec<Part> = parts.collect();
        let state = key_state(&parts, *match_blanks);
        let spelled = || array(&texts_of(&records.cells, key.columns()));
        if is_reverse {
            let keys = parts.iter().enumerate();
            columns
                .extend(keys.map(|(nth, part)| format!("{} as key{at}_{}", part.value, nth + 1)));
            columns.push(format!("{} as spelled{at}", spelled()));
            columns.push(format!("{state} as state{at}"));
        } else {
            columns.extend(key_columns(&parts));
            columns.push(format!("{state} as key_state"));
            columns.extend(asking.has_spelling().then(|| format!("{} as spelled", spelled())));
        }
    }
}

/// Adds the columns of what orders the rows of a reference: their ranges, and the values that a rule goes by.
fn order_columns_of(
    steps: &mut Steps,
    asking: &Asking<'_>,
    range: Option<RangeSpec>,
    records: &mut Records,
    columns: &mut Vec<String>,
) {
    let Asking { found, name, .. } = asking;
    if let Some(range) = range {
        let bounds = range.bounds.clone();
        let what = (What::Range(range), found.reference_keys[0].blanks());
        let alias = records.read(steps, &bounds, what, format!("The ranges of {name}."));
        columns.push(format!("{alias}.state as range_state"));
        columns.extend(["scale", "lower", "upper"].map(|one| format!("{alias}.{one}")));
    }
    if let (Some(rank), Rule::Highest | Rule::Lowest) = (&found.rank, found.rule) {
        let about = format!("The values that order the rows of {name}.");
        let alias = records.read(steps, [rank], (What::Rank(rank.clone()), &[]), about);
        columns.push(format!("{alias}.scale as rank_scale"));
        columns.push(format!("{alias}.place as rank"));
    }
}

/// The texts of some cells.
fn texts_of(cells: &[Cell], columns: &[usize]) -> Vec<String> {
    columns.iter().map(|&column| cells[column].text()).collect()
}
