//! Decisions: what a rule makes of several rows that may answer.
//!
//! The same rules as in [`lookup`](crate::lookup), as aggregates over groups of records: the rows of a key, or all that
//! may answer one main row.

use super::rows::Rows;
use super::words::joined;
use crate::enrich::Resolved;
use crate::lookup::Rule;

/// How groups of records are decided on.
pub(super) struct Decision<'a> {
    pub(super) rows: &'a Rows,
    pub(super) found: &'a Resolved,
    /// A text that is the same for records which give the same cells.
    pub(super) signature: String,
    /// Whether it is of interest that rows spell the key differently.
    pub(super) with_spelling: bool,
}

/// What makes a group of records.
pub(super) struct Group {
    /// The columns that are equal.
    pub(super) columns: Vec<String>,
}

impl Decision<'_> {
    /// The query for the decision on each group of several records, which come from `from` under the alias `e`.
    ///
    /// Its columns: those of the group, then `held`, how many rows there are; `first`, the first of them; `disagree`; `chosen`, the number of the row
    /// that counts, if one does; for the rule `list` the joined texts of the cells, of the numbers and of the headers.
    pub(super) fn query(&self, group: &Group, from: &str) -> String {
        let Self { rows, found, signature, .. } = self;
        let order = rows.order("g");
        let mut inner: Vec<String> = group.columns.clone();
        inner.push("e.row".to_owned());
        inner.push(format!("({signature}) collate \"C\" as signature"));
        if rows.is_reverse() {
            inner.extend(["e.place", "e.last_place", "e.places"].map(str::to_owned));
        }
        let last_spelled = if rows.is_reverse() { "last_spelled" } else { "spelled" };
        if self.with_spelling {
            inner.push("e.spelled".to_owned());
            if rows.is_reverse() {
                inner.push(format!("e.{last_spelled}"));
            }
        }
        let is_list = found.rule == Rule::List;
        if is_list {
            let cells = rows.taken.iter().enumerate();
            inner.extend(cells.map(|(nth, cell)| format!("{} as text{}", cell.text(), nth + 1)));
        }
        let best = match found.rule {
            Rule::Highest => Some("max"),
            Rule::Lowest => Some("min"),
            _ => None,
        };
        if let Some(best) = best {
            let partition = match &group.columns[..] {
                [] => String::new(),
                columns => format!("partition by {}", columns.join(", ")),
            };
            inner.push("e.rank, e.rank_scale".to_owned());
            inner.push(format!("{best}(e.rank) over ({partition}) as best"));
        }
        let names: Vec<String> =
            group.columns.iter().map(|column| format!("g.{}", short(column))).collect();
        let first = format!("(array_agg(g.row order by {order}))[1]");
        let disagree = "(min(g.signature) <> max(g.signature))";
        let by_rule = match found.rule {
            Rule::First => first.clone(),
            Rule::Last => format!("(array_agg(g.row order by {}))[1]", rows.order_from_last("g")),
            Rule::Highest | Rule::Lowest => format!(
                "case when count(g.rank) = count(*) and count(distinct g.rank_scale) = 1 \
                 and min(g.signature) filter (where g.rank = g.best) \
                 = max(g.signature) filter (where g.rank = g.best) \
                 then (array_agg(g.row order by {order}) filter (where g.rank = g.best))[1] end"
            ),
            Rule::Report | Rule::Every | Rule::List => "null::bigint".to_owned(),
        };
        let chosen = match found.rule {
            // Every row counts.
            Rule::Every => by_rule,
            _ => format!("case when {disagree} then {by_rule} else {first} end"),
        };
        let mut outer = names.clone();
        outer.push("count(*) as held".to_owned());
        outer.push("min(g.row) as first".to_owned());
        outer.push(format!("{disagree} as disagree"));
        outer.push(format!("{chosen} as chosen"));
        if self.with_spelling {
            outer.push(format!("(min(g.spelled) <> max(g.{last_spelled})) as collapsed"));
        }
        if is_list {
            let texts = (1..=rows.taken.len())
                .map(|nth| format!("array_agg(g.text{nth} order by {order}) as texts{nth}"));
            outer.extend(texts);
            outer.push(format!("string_agg(g.row::text, '; ' order by {order}) as row_list"));
            if rows.is_reverse() {
                outer.push("array_agg(g.places::text) as all_places".to_owned());
            }
        }
        let group_by = match &names[..] {
            [] => String::new(),
            names => format!("\ngroup by {}", names.join(", ")),
        };
        let decided = format!(
            "select {}\nfrom (select {} from {from}) g{group_by}\nhaving count(*) > 1",
            outer.join(",\n    "),
            inner.join(", ")
        );
        if is_list { self.listed(&names, &decided) } else { decided }
    }

    /// The query with the texts that the values of the rows are joined to, from the one that has arrays of them.
    fn listed(&self, names: &[String], decided: &str) -> String {
        let kept = names.iter().map(|name| name.replacen("g.", "d.", 1));
        let lists = (1..=self.rows.taken.len()).map(|nth| {
            format!(
                "case when d.disagree then (select string_agg(u.v, '; ' order by u.o) from \
                 (select v, min(o) as o from unnest(d.texts{nth}) with ordinality x(v, o) \
                 where v <> '' group by v) u) end as list{nth}"
            )
        });
        let more = ["d.held", "d.first", "d.disagree", "d.chosen", "d.row_list"].map(str::to_owned);
        let mut columns: Vec<String> = kept.chain(more).chain(lists).collect();
        if self.with_spelling {
            columns.push("d.collapsed".to_owned());
        }
        if self.rows.is_reverse() {
            columns.push(
                "(select array_agg(distinct p order by p) from unnest(d.all_places) x(t), \
                 unnest(x.t::integer[]) p) as place_list"
                    .to_owned(),
            );
        }
        format!("select {}\nfrom (\n{decided}\n) d", joined(columns, ",\n    "))
    }
}

/// The name of a column without its alias.
fn short(column: &str) -> &str {
    column.split_once('.').map_or(column, |(_, name)| name)
}
