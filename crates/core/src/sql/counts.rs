//! The queries for the findings of a reference: counts first, then the first rows of each kind.

use super::answers::Answers;
use super::reading::{BLANK, MALFORMED, WHOLE};
use super::stage::Stage;
use super::words::joined;
use super::{Asking, cells_of};
use crate::lookup::{RangeMatch, RangeSpec};

/// The answers that rows of the reference give.
const ANSWERED: &str = "('matched', 'chosen', 'ambiguous')";

/// The queries for the findings of a reference, once its answers are there.
#[derive(Debug)]
pub struct LookupQueries {
    /// For each outcome of main rows and each reason of a miss, how many rows it has: `status`, `miss`, `rows`.
    pub outcomes: String,
    /// One row: rows of the reference, of them without a key, of them malformed, keys, and ranges.
    pub reference: String,
    /// One row: duplicate keys, conflicting ones, collapsed ones.
    pub repeated: String,
    /// One row: rows of the reference that are asked for, and keys that are asked for several times.
    pub asked: String,
    /// One row of as many numbers for each updated column as there are outcomes of a cell.
    pub updates: Option<String>,
    /// Whether copies of main rows that an earlier reference made count by themselves.
    pub counts_copies: bool,
    /// Whether the reference has ranges.
    pub has_ranges: bool,
    /// The queries for its rows.
    pub rows: RowQueries,
}

/// The queries for the rows that findings name.
#[derive(Debug)]
pub struct RowQueries {
    /// The first answers in trouble, up to `{most}` of each kind: `status`, `miss`, `rows`, the first row's primary key, and
    /// the cells that the answer depends on.
    pub troubles: String,
    /// The columns of the enriched table that these cells are of.
    pub columns: Vec<usize>,
    /// The header of the main table's primary key, if that is one column: its values name rows, elsewhere numbers do.
    pub key: Option<String>,
    /// The keys that no row of the reference holds, up to `{most}`: as `troubles`.
    pub unmatched: String,
    /// The rows of the reference that findings name, `{most}` of each kind, and others up to `{all}`: the number, how often its
    /// key is asked for, in a reverse lookup by which of the searched columns, and the text of each column that is used.
    pub reference: String,
    /// These columns, in order.
    pub reference_columns: Vec<usize>,
}

impl LookupQueries {
    pub(super) fn new(asking: &Asking<'_>, answers: &Answers, key: Option<String>) -> Self {
        let Answers { rows, asked, .. } = answers;
        let (nth, table) = (answers.nth, answers.table());
        let searched = asking.found.searched.len();
        let state = rows.row_state("r", searched);
        let ranges = if rows.has_range {
            format!(
                "(select {} from {} e where {} and e.scale = (select scale from pg_temp.scale_{nth}))",
                if rows.is_reverse {
                    "coalesce(sum(cardinality(e.places)), 0)::bigint"
                } else {
                    "count(*)"
                },
                rows.holders,
                rows.has_key("e")
            )
        } else {
            "null::bigint".to_owned()
        };
        // Every key is on one record more than on those that repeat it.
        let reference = format!(
            "select count(*), count(*) filter (where {state} = {BLANK}), count(*) filter (where {state} = {MALFORMED}),\n    \
             (select count(*) from {} e where {}) - (select coalesce(sum(held - 1), 0)::bigint from pg_temp.repeated_{nth}),\n    \
             {ranges}\nfrom {} r",
            rows.holders,
            rows.has_key("e"),
            rows.all
        );
        let collapsed = |condition: &str| match rows.has_spelling {
            true => format!("count(*) filter (where {condition})"),
            false => "0::bigint".to_owned(),
        };
        let repeated = if rows.has_range {
            let groups = overlapping(asking, answers);
            format!(
                "select count(*) filter (where not disagree), count(*) filter (where disagree), {} from (\n{groups}\n) g",
                collapsed("collapsed")
            )
        } else {
            format!(
                "select count(*) filter (where not disagree), count(*) filter (where disagree), {} from pg_temp.repeated_{nth}",
                collapsed("collapsed")
            )
        };
        let keys = joined(rows.keys(""), ", ");
        let of_answers = format!("from {table} where nth = 1 and status in {ANSWERED}");
        let asked_for = if rows.has_range {
            // Each place of a key is asked for.
            let places = if rows.is_reverse { "cardinality(e.places)" } else { "1" };
            let group: String = rows.keys("e").iter().map(|key| format!(", {key}")).collect();
            let group = if rows.is_reverse { format!("{group}, e.places") } else { String::new() };
            format!(
                "select count(distinct row), coalesce(sum(places) filter (where rows > 1), 0)::bigint from (\n    \
                 select e.row, sum(a.rows) as rows, {places} as places from {table} a\n    \
                 join pg_temp.found_{nth} e on e.ask = a.ask\n    \
                 where a.nth = 1 and a.status in {ANSWERED} group by e.row{group}\n) k"
            )
        } else if rows.is_reverse {
            format!(
                "select (select count(distinct e.row) from {} e join (select distinct {keys} {of_answers}) a on {}),\n    \
                 (select count(*) from (select 1 {of_answers} group by {keys} having sum(rows) > 1) k)",
                rows.holders,
                rows.is_same_key("a", "e")
            )
        } else if rows.by_value {
            format!(
                "select coalesce(sum(held), 0)::bigint, count(*) filter (where rows > 1) {of_answers}"
            )
        } else {
            format!(
                "select coalesce(sum(held), 0)::bigint, count(*) filter (where rows > 1) from (\n    \
                 select sum(rows) as rows, max(held) as held {of_answers} group by {keys}\n) k"
            )
        };
        Self {
            outcomes: format!(
                "select status, miss, sum(rows)::bigint from {table} where nth = 1 group by status, miss"
            ),
            reference,
            repeated,
            asked: asked_for,
            updates: None,
            counts_copies: asked.is_chained,
            has_ranges: rows.has_range,
            rows: RowQueries::new(asking, answers, key),
        }
    }

    /// Sets the query for updated cells, once all lookups are on the stage.
    pub(super) fn count_updates(&mut self, stage: &Stage, nth: usize) {
        self.updates = stage.updates(nth);
    }
}

/// The query for the groups of rows of one key whose ranges overlap, with whether they disagree and are spelled differently.
fn overlapping(asking: &Asking<'_>, answers: &Answers) -> String {
    let (rows, nth, found) = (&answers.rows, answers.nth, asking.found);
    let matching =
        found.bounds.as_ref().map(|bounds| RangeSpec::new(bounds.clone(), found.reach).matching);
    let keys: String = rows.keys("e").iter().map(|key| format!("{key}, ")).collect();
    let partition = match rows.parts {
        0 => String::new(),
        _ => format!("partition by {}", joined(rows.keys("e"), ", ")),
    };
    let island = match matching {
        Some(RangeMatch::Before(_)) => "e.lower".to_owned(),
        Some(RangeMatch::After(_)) => "e.upper".to_owned(),
        _ => format!(
            "max(e.upper) over ({partition} order by e.lower, e.row rows between unbounded preceding and 1 preceding)"
        ),
    };
    let spelled = if rows.has_spelling { ", e.spelled" } else { "" };
    let inner = format!(
        "select {keys}e.row, e.lower, {island} as before, ({}) collate \"C\" as signature{spelled} from {} e\n            \
         where {} and e.scale = (select scale from pg_temp.scale_{nth})",
        rows.signature(asking, &[]),
        rows.holders,
        rows.has_key("e"),
    );
    let keys: String = rows.keys("e").iter().map(|key| format!("{key}, ")).collect();
    let group = match matching {
        Some(RangeMatch::Before(_) | RangeMatch::After(_)) => {
            format!("select {keys}e.before as island, e.row, e.signature{spelled} from ({inner}) e")
        }
        _ => format!(
            "select {keys}sum(case when e.lower <= e.before then 0 else 1 end) over ({partition} order by e.lower, e.row) \
             as island, e.row, e.signature{spelled}\n        from ({inner}) e"
        ),
    };
    let collapsed =
        if rows.has_spelling { ", min(e.spelled) <> max(e.spelled) as collapsed" } else { "" };
    format!(
        "    select {keys}e.island, count(*) as held, min(e.signature) <> max(e.signature) as disagree{collapsed},\n        \
         min(e.row) as first from (\n        {group}\n    ) e group by {keys}e.island having count(*) > 1"
    )
}

impl RowQueries {
    fn new(asking: &Asking<'_>, answers: &Answers, key: Option<String>) -> Self {
        let Answers { rows, asked, .. } = answers;
        let (nth, table) = (answers.nth, answers.table());
        let cells: String = (1..=asked.columns.len()).map(|at| format!(", c{at}::text")).collect();
        let order = |alias: &str| {
            let cells = (1..=asked.columns.len()).map(|at| format!(", {alias}.c{at}"));
            format!("{alias}.first{}", cells.collect::<String>())
        };
        let troubles = format!(
            "select status, miss, rows::bigint, first::text{cells} from (\n    \
             select a.*, row_number() over (partition by status, miss = 'header' order by {0}) as at\n    \
             from {table} a where nth = 1 and status not in ('matched', 'chosen')\n) a where at <= {{most}} order by {0}",
            order("a")
        );
        let unmatched = format!(
            "select status, miss, rows::bigint, first::text{cells} from {table} a\n\
             where nth = 1 and status = 'unmatched' and miss is null order by {} limit {{most}}",
            order("a")
        );
        let own = cells_of(asking.table, "t");
        let numbering = match &asking.table.order_by[..] {
            [] => String::new(),
            order => {
                let order = order.iter().map(|&column| own[column].sql.clone());
                format!("order by {}", joined(order, ", "))
            }
        };
        let texts: String = rows
            .used
            .iter()
            .map(|&column| format!(", {} as v{}", own[column].text(), column + 1))
            .collect();
        let named: String =
            rows.used.iter().map(|&column| format!(", n.v{}", column + 1)).collect();
        let state = rows.row_state("r", asking.found.searched.len());
        let keys = rows.keys("e");
        let same = rows.is_same_key("d", "e");
        // Of keys that several rows hold, the first ones of each kind.
        let kinds = if rows.has_range {
            format!(
                "select e.row from {0} e join (\n        select *, row_number() over (partition by disagree order by first) as at \
                 from (\n{1}\n        ) g\n    ) d on {same} and d.at <= {{most}} where {2}",
                rows.holders,
                overlapping(asking, answers),
                rows.has_key("e")
            )
        } else {
            let collapsed = if rows.has_spelling { ", collapsed" } else { "" };
            let parts = if keys.is_empty() { "1".to_owned() } else { joined(rows.keys("d"), ", ") };
            format!(
                "select e.row from {} e join (\n        select d.*, row_number() over (partition by disagree{collapsed} order by {parts}) \
                 as at from pg_temp.repeated_{nth} d\n    ) d on {same} and d.at <= {{most}} where {}",
                rows.holders,
                rows.has_key("e")
            )
        };
        let answered = format!("a.nth = 1 and a.status in {ANSWERED}");
        let asked_of = if rows.has_range {
            let (places, each) = places_of(rows.is_reverse);
            format!(
                "select e.row, sum(a.rows)::bigint as rows, {places} as places from {table} a\n    \
                 join pg_temp.found_{nth} e on e.ask = a.ask{each} where {answered} group by e.row"
            )
        } else {
            let columns = if keys.is_empty() {
                String::new()
            } else {
                format!(" group by {}", joined(rows.keys("a"), ", "))
            };
            let listed: String = rows.keys("a").iter().map(|key| format!("{key}, ")).collect();
            let (places, each) = places_of(rows.is_reverse);
            format!(
                "select e.row, max(d.rows)::bigint as rows, {places} as places from {} e join (\n        \
                 select {listed}sum(a.rows) as rows from {table} a where {answered}{columns}\n    ) d on {same}{each} where {} group by e.row",
                rows.holders,
                rows.has_key("e")
            )
        };
        let trouble = |of: u8| {
            format!(
                "(select r.row from {} r where {state} = {of} order by r.row limit {{most}})",
                rows.all
            )
        };
        let ambiguous = format!(
            "select e.row from {} e join (\n        select {} from {table} a where a.status = 'ambiguous' order by {} limit {{most}}\n    \
             ) d on {same} where {}",
            rows.holders,
            if keys.is_empty() { "1".to_owned() } else { joined(rows.keys("a"), ", ") },
            order("a"),
            rows.has_key("e")
        );
        let reference = format!(
            "with asked_for as (\n    {asked_of}\n), named as (\n    {kinds}\n    union {ambiguous}\n    union {}\n    union {}\n    \
             union (select r.row from {all} r where {state} = {WHOLE} and not exists (select from asked_for a where a.row = r.row)\n        \
             order by r.row limit {{most}})\n    union (select r.row from {all} r order by r.row limit {{all}})\n)\n\
             select n.row, coalesce(a.rows, 0)::bigint, a.places{named}\nfrom (\n    \
             select row_number() over ({numbering}) as row{texts}\n    from {} t\n) n join named w on w.row = n.row\n    \
             left join asked_for a on a.row = n.row order by n.row",
            trouble(BLANK),
            trouble(MALFORMED),
            asking.table.name,
            all = rows.all,
        );
        let columns = asked.columns.clone();
        Self { troubles, columns, key, unmatched, reference, reference_columns: rows.used.clone() }
    }
}

/// The searched columns by which a row is asked for, in a reverse lookup, and what they are taken from.
fn places_of(is_reverse: bool) -> (&'static str, &'static str) {
    match is_reverse {
        true => ("array_agg(distinct p)::text", " cross join unnest(e.places) p"),
        false => ("null::text", ""),
    }
}
