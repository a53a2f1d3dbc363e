//! The answers of a lookup: one to each key that is asked for.

use super::asked::{Asked, is_by_value};
use super::cell::Cell;
use super::decision::{Decision, Group};
use super::reading::{BLANK, MALFORMED, UNKNOWN, WHOLE};
use super::rows::Rows;
use super::stage::Stage;
use super::words::{each, joined};
use super::{Asking, Steps, cells_of};
use crate::lookup::{RangeMatch, Rule};
use crate::plan::Reach;

/// The table of the answers.
#[derive(Debug)]
pub(super) struct Answers {
    /// The number of the reference, from 1.
    pub(super) nth: usize,
    pub(super) rows: Rows,
    pub(super) asked: Asked,
    /// Whether rows that nothing asks for become new ones.
    pub(super) appends: bool,
    /// The name of the table.
    table: String,
    /// The words that make it.
    create: String,
}

impl Answers {
    /// Writes the statements for the answers of a reference.
    pub(super) fn write(
        steps: &mut Steps,
        stage: &Stage,
        nth: usize,
        asking: &Asking<'_>,
        shared: Option<&str>,
    ) -> Self {
        let by_value = is_by_value(stage, asking, &cells_of(asking.table, "t"));
        let rows = Rows::write(steps, nth, asking, by_value, shared);
        rows.write_repeated(steps, asking);
        let is_in_place = rows.in_place.is_some();
        let asked = if is_in_place {
            Asked::of(stage, &rows, asking)
        } else {
            Asked::write(steps, stage, &rows, asking)
        };
        // Workers that share the work of the output see no temporary tables.
        let (table, create) = match shared.filter(|_| !is_in_place) {
            Some(name) => {
                let name = format!("{name}_answers_{nth}");
                (name.clone(), format!("create unlogged table {name}"))
            }
            None => (format!("pg_temp.answers_{nth}"), format!("create temp table answers_{nth}")),
        };
        let appends = asking.found.output.appending.is_some();
        let answers = Self { nth, rows, asked, appends, table, create };
        if is_in_place {
            answers.write_in_place(steps, stage, asking);
        } else if answers.asked.each {
            answers.write_found(steps, asking);
            answers.write_each(steps, asking);
        } else {
            answers.write_by_key(steps, asking);
        }
        let table = answers.table();
        steps.statement("Statistics of the answers.".to_owned(), format!("analyze {table}"));
        steps.statement(
            "Those of them that are in trouble.".to_owned(),
            format!(
                "create temp table troubles_{nth} as\nselect * from {table} where nth = 1 \
                 and status not in ('matched', 'chosen')"
            ),
        );
        answers
    }

    /// The name of the table.
    pub(super) fn table(&self) -> &str {
        &self.table
    }

    /// The parts of the key of an answer under an alias.
    pub(super) fn keys(&self, alias: &str) -> Vec<String> {
        let dot = if alias.is_empty() { String::new() } else { format!("{alias}.") };
        self.asked.keys.iter().map(|key| format!("{dot}{key}")).collect()
    }

    /// The condition under which an answer under an alias is to the key of a record of the reference under another.
    pub(super) fn is_to(&self, answer: &str, record: &str) -> String {
        let pairs = self.keys(answer).into_iter().zip(self.rows.keys(record));
        match self.rows.parts {
            0 => "true".to_owned(),
            _ => joined(pairs.map(|(one, other)| format!("{one} = {other}")), " and "),
        }
    }

    /// The columns of an answer, of a record `a` of the keys, the row `e` that it comes from, and the decision `d`.
    fn columns(&self, asking: &Asking<'_>, held: &str, ask: &str) -> Vec<String> {
        let Self { rows, asked, .. } = self;
        let found = asking.found;
        let mut all: Vec<String> = (1..=asked.columns.len()).map(|at| format!("a.c{at}")).collect();
        all.extend(["a.rows".to_owned(), "a.first".to_owned()]);
        if !rows.by_value {
            let keys = asked.key().into_iter().enumerate();
            all.extend(keys.map(|(part, key)| format!("{key} as key{}", part + 1)));
        }
        all.extend(["e.row", "e.name as row_name"].map(str::to_owned));
        all.push(format!("{held} as held"));
        all.push(match found.rule {
            Rule::Every => format!(
                "case when d.held is null then 1 else row_number() over (partition by {ask} order by {}) end as nth",
                rows.order("e")
            ),
            _ => "1 as nth".to_owned(),
        });
        let cells = rows.taken.iter().enumerate();
        all.extend(cells.map(|(nth, cell)| format!("{} as cell{}", cell.sql, nth + 1)));
        if found.rule == Rule::List {
            all.extend((1..=rows.taken.len()).map(|nth| format!("d.list{nth}")));
            all.push("d.row_list".to_owned());
            if rows.is_reverse() {
                all.push("d.place_list".to_owned());
            }
        }
        if rows.is_reverse() {
            all.push("e.headers".to_owned());
        }
        if found.output.shows_key() {
            let parts: Vec<String> = asked.own_keys.iter().map(|key| format!("a.{key}")).collect();
            let parts = if parts.is_empty() { vec!["''".to_owned()] } else { parts };
            all.push(format!("{} as key_text", joined(parts, " || ', ' || ")));
        }
        all.extend((1..=found.named_columns.len()).map(|one| format!("a.named{one}")));
        if asking.aliases.is_some() {
            all.push("a.aliases".to_owned());
            all.extend(asked.own_keys.iter().map(|key| format!("a.{key}")));
        }
        all.extend(found.output.appending.as_ref().map(|_| "0::bigint as app".to_owned()));
        all
    }

    /// What the decision on several rows makes of an answer that is there.
    fn decided(rule: Rule) -> String {
        let among = match rule {
            Rule::Every | Rule::List => "'chosen'".to_owned(),
            _ => "case when d.chosen is null then 'ambiguous' else 'chosen' end".to_owned(),
        };
        format!("case when d.held is null or not d.disagree then 'matched' else {among} end")
    }

    /// The condition under which a row answers, where several may.
    fn counts(rule: Rule) -> &'static str {
        match rule {
            Rule::Every => "true",
            _ => "(d.held is null or e.row = d.chosen)",
        }
    }

    /// Answers by the rows where they are.
    fn write_in_place(&self, steps: &mut Steps, stage: &Stage, asking: &Asking<'_>) {
        let Self { rows, asked, .. } = self;
        let cells = asked.found_by.iter().zip(1..).map(|(sql, at)| format!("{sql} as c{at}"));
        let cells = joined(cells, ", ");
        let group_by = joined((1..=asked.columns.len()).map(|at| at.to_string()), ", ");
        let (first, state) = (stage.first(), asked.state(stage, rows, asking));
        let select = format!("select {cells}, count(*) as times, {first} as first");
        let (counted, rows_of_key, found, join, one) = if asking.table.parts.is_empty() {
            // Each key is joined once.
            let source = stage.source(asked.is_chained, "");
            let join = format!(
                "\n    left join {} e on {} and {}",
                rows.all,
                asked.has_key_of(rows, "e"),
                rows.has_key("e")
            );
            let pairs = rows.places("d").into_iter().zip(rows.places("e"));
            let is_first = joined(pairs.map(|(one, other)| format!("{one} = {other}")), " and ");
            let one = format!("\nwhere d.held is null or {is_first}");
            let counted = format!("{select} from {source} group by {group_by}");
            (counted, "a.times".to_owned(), "e.key1 is not null", join, one)
        } else {
            // Each row is joined, since servers can join tables of theirs, but not what they count of one. It is there once for
            // each row that holds its key.
            let pairs = rows.keys("e").into_iter().zip(&asked.part_cells);
            let is_same = joined(pairs.map(|(theirs, ours)| format!("{theirs} = {ours}")), " and ");
            let join = format!(
                "\n        left join {} e on {is_same} and {}",
                rows.all,
                rows.has_key("e")
            );
            let source = stage.source(asked.is_chained, &join);
            let counted = format!(
                "{select}, count(e.key1) as found\n        from {source}\n        group by {group_by}"
            );
            let rows = "a.times / coalesce(d.held, 1)".to_owned();
            (counted, rows, "a.found > 0", String::new(), String::new())
        };
        // A key that a row holds is whole; of others it is found out.
        let status = format!(
            "case when {found} then case when d.disagree then 'ambiguous' else 'matched' end\n        \
             when ({state}) = {BLANK} then 'blank key' else 'unmatched' end as status"
        );
        let held = format!(
            "case when {found} then coalesce(d.held, 1) when ({state}) = {WHOLE} then 0 end as held"
        );
        steps.statement(
            format!("The keys that are asked of {}, and whether its rows hold them.", asking.name),
            format!(
                "{} as\nselect a.*, ({rows_of_key})::bigint as rows, {held}, 1 as nth,\n    \
                 {status}, null::text as miss\nfrom (\n    {counted}\n) a{join}\n    left join {} d on {}{one}",
                self.create,
                rows.repeated,
                asked.has_key_of(rows, "d"),
            ),
        );
    }

    /// Answers by the key alone.
    fn write_by_key(&self, steps: &mut Steps, asking: &Asking<'_>) {
        let Self { rows, asked, .. } = self;
        let rule = asking.found.rule;
        let state = "a.state";
        let status = format!(
            "case when {state} = {MALFORMED} then 'malformed' when {state} = {BLANK} then 'blank key'\n        \
             when d.held is null and e.row is null then 'unmatched' else {} end as status",
            Self::decided(rule)
        );
        let held = format!(
            "case when {state} = {WHOLE} then coalesce(d.held, case when e.row is null then 0 else 1 end) end"
        );
        let ask = joined((1..=asked.columns.len()).map(|at| format!("a.c{at}")), ", ");
        let mut columns = self.columns(asking, &held, &ask);
        columns.push(status);
        columns.push("null::text as miss".to_owned());
        steps.statement(
            format!("The answers of {} to them.", asking.name),
            format!(
                "{} as\nselect {}\nfrom {} a\n    \
                 left join {} d on {state} = {WHOLE} and {}\n    \
                 left join {} e on {state} = {WHOLE} and {} and {} and {}",
                self.create,
                columns.join(",\n    "),
                asked.table,
                rows.repeated,
                asked.has_key_of(rows, "d"),
                rows.holders,
                asked.has_key_of(rows, "e"),
                rows.has_key("e"),
                Self::counts(rule),
            ),
        );
    }

    /// Finds the rows that may answer each key.
    fn write_found(&self, steps: &mut Steps, asking: &Asking<'_>) {
        let Self { nth, rows, asked, .. } = self;
        let found = asking.found;
        let named = (1..=found.named_columns.len()).map(|one| {
            format!("{} as named_text{one}, ", self.named_cell(asking, one, "a", "e", true).text())
        });
        let named: String = named.collect();
        let state = "a.state";
        let same = format!("{} and {}", asked.has_key_of(rows, "e"), rows.has_key("e"));
        let range = asking.range();
        let joined_rows = match &range {
            None => format!("join {} e on {state} = {WHOLE} and {same}", rows.holders),
            Some(range) => {
                let on_scale = format!("e.scale = (select scale from pg_temp.scale_{nth})");
                let within = |distance: &str| match range.reach {
                    None => String::new(),
                    Some(Reach::Number(reach) | Reach::Time(reach)) => {
                        format!(" and {distance} <= {reach}")
                    }
                };
                let (bound, order) = match range.matching {
                    RangeMatch::Holding => ("", ""),
                    RangeMatch::Before(_) => ("e.lower <= a.at", "e.lower desc"),
                    RangeMatch::After(_) => ("e.upper >= a.at", "e.upper"),
                };
                if range.matching == RangeMatch::Holding {
                    format!(
                        "join {} e on {state} = {WHOLE} and {same} and {on_scale}\n        \
                         and e.lower <= a.at and e.upper >= a.at",
                        rows.holders
                    )
                } else {
                    let by = if order == "e.upper" { "upper" } else { "lower" };
                    let keys = each(rows.keys(""), |key| format!("{key}, "));
                    steps.statement(
                        format!("An index for the closest ranges of {}.", asking.name),
                        format!("create index on {} ({keys}{by})", rows.holders),
                    );
                    let distance = match range.matching {
                        RangeMatch::After(_) => "c.lower - a.at",
                        _ => "a.at - c.lower",
                    };
                    format!(
                        "cross join lateral (\n        select c.* from (\n            select e.* from {} e where \
                         {same} and {on_scale} and {bound}\n            order by {order} fetch first row with ties\n        \
                         ) c where true{}\n    ) e",
                        rows.holders,
                        within(distance)
                    )
                }
            }
        };
        let whole = match &range {
            Some(range) if range.matching != RangeMatch::Holding => {
                format!("\nwhere {state} = {WHOLE}")
            }
            _ => String::new(),
        };
        steps.statement(
            format!("The rows of {} that may answer each of them.", asking.name),
            format!(
                "create temp table found_{nth} as\nselect a.ask, {named}e.*\nfrom {} a\n    {joined_rows}{whole}",
                asked.table
            ),
        );
        let texts: Vec<String> =
            (1..=found.named_columns.len()).map(|one| format!("e.named_text{one}")).collect();
        let decision = Decision {
            rows,
            found,
            signature: rows.signature(asking, &texts),
            with_spelling: false,
        };
        let group = Group { columns: vec!["e.ask".to_owned()] };
        let from = format!("pg_temp.found_{nth} e");
        steps.statement(
            "Where these are several: whether they disagree, and which one counts.".to_owned(),
            format!("create temp table decided_{nth} as\n{}", decision.query(&group, &from)),
        );
        steps.statement(
            "Statistics of the rows that may answer.".to_owned(),
            format!("analyze pg_temp.found_{nth}"),
        );
    }

    /// Answers each key by itself.
    fn write_each(&self, steps: &mut Steps, asking: &Asking<'_>) {
        let Self { nth, rows, asked, .. } = self;
        let rule = asking.found.rule;
        let state = "a.state";
        let (named, fails) = match &asked.named_state() {
            Some(named) => (
                format!(" and ({named}) = {WHOLE}"),
                format!(
                    "when ({named}) = {MALFORMED} then 'malformed' when ({named}) = {BLANK} then 'blank key'\n        \
                     when ({named}) = {UNKNOWN} then 'unmatched' "
                ),
            ),
            None => (String::new(), String::new()),
        };
        let status = format!(
            "case when {state} = {MALFORMED} then 'malformed' when {state} = {BLANK} then 'blank key'\n        \
             when h.held is null then 'unmatched' {fails}else {} end as status",
            Self::decided(rule)
        );
        let miss = format!(
            "case when {state} <> {WHOLE} then null when h.held is null and k.is_there then 'range'\n        \
             when h.held is null then null {}end as miss",
            match &asked.named_state() {
                Some(named) => format!("when ({named}) = {UNKNOWN} then 'header' "),
                None => String::new(),
            }
        );
        let held = match &asked.named_state() {
            Some(named) => format!(
                "case when {state} = {WHOLE} and (h.held is null or ({named}) in ({WHOLE}, {UNKNOWN})) then coalesce(h.held, 0) end"
            ),
            None => format!("case when {state} = {WHOLE} then coalesce(h.held, 0) end"),
        };
        let mut columns = self.columns(asking, &held, "a.ask");
        columns.extend(["a.ask".to_owned(), status, miss]);
        let keys = joined(rows.keys("e"), ", ");
        let keys = if keys.is_empty() { String::new() } else { format!("{keys}, ") };
        steps.statement(
            format!("The answers of {} to them.", asking.name),
            format!(
                "{} as\nselect {}\nfrom {} a\n    \
                 left join (select distinct {keys}true as is_there from {} e where {}) k on {}\n    \
                 left join (select ask, count(*) as held from pg_temp.found_{nth} group by ask) h on h.ask = a.ask\n    \
                 left join pg_temp.decided_{nth} d on d.ask = a.ask{named}\n    \
                 left join pg_temp.found_{nth} e on e.ask = a.ask{named} and {}",
                self.create,
                columns.join(",\n    "),
                asked.table,
                rows.holders,
                rows.has_key("e"),
                asked.has_key_of(rows, "k"),
                Self::counts(rule),
            ),
        );
    }

    /// The taken cell that a main row names by the template of a number, from 1: its column is in a record under one alias,
    /// its cells under another. Where the types of the columns differ, or `as_text`, a text.
    pub(super) fn named_cell(
        &self,
        asking: &Asking<'_>,
        one: usize,
        of_place: &str,
        of_cells: &str,
        as_text: bool,
    ) -> Cell {
        let cells: Vec<Cell> = self
            .rows
            .taken
            .iter()
            .map(|cell| Cell {
                sql: cell.sql.replacen("e.", &format!("{of_cells}."), 1),
                ..cell.clone()
            })
            .collect();
        let places = asking.found.named_columns[one - 1].places();
        let is_one_type = places.windows(2).all(|pair| {
            let (one, other) = (&cells[pair[0]], &cells[pair[1]]);
            one.declared == other.declared && one.value == other.value
        });
        let is_text = as_text || !is_one_type;
        let cases = places.iter().map(|&place| {
            let cell = &cells[place];
            let value = if is_text { cell.text() } else { cell.sql.clone() };
            format!(" when {place} then {value}")
        });
        let sql = format!("case {of_place}.named{one}{} end", cases.collect::<String>());
        match places.first() {
            Some(&first) if !is_text => Cell { sql, ..cells[first].clone() },
            _ => Cell::of_text(sql),
        }
    }
}
