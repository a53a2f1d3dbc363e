//! The queries for the findings of a reference: counts first, then the first rows of each kind.

use super::answers::Answers;
use super::cell::Cell;
use super::reading::{BLANK, MALFORMED, WHOLE};
use super::stage::Stage;
use super::words::{joined, quoted};
use super::{Asking, RowName, cells_of};
use crate::key::Key;
use crate::lookup::{RangeMatch, RangeSpec};

/// What stands for numbers in queries that are known only when these are asked; no name of a table or column has such a
/// character.
const MOST: &str = "\0most\0";
const ALL: &str = "\0all\0";
const UNUSED: &str = "\0unused\0";

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
    /// The first answers in trouble of each kind: `status`, `miss`, `rows`, the first row's primary key, and
    /// the cells that the answer depends on.
    troubles: String,
    /// The columns of the enriched table that these cells are of.
    pub columns: Vec<usize>,
    /// What the name of a main row is.
    pub name: RowName,
    /// The keys that no row of the reference holds: as `troubles`.
    unmatched: String,
    /// The first rows of the reference that nothing asks for, by their numbers.
    unused: String,
    /// The rows of the reference that findings name, those that nothing asks for, and others: the number, how often its
    /// key is asked for, in a reverse lookup by which of the searched columns, and the text of each column that is used.
    reference: String,
    /// The columns of the reference that are used, in order.
    pub reference_columns: Vec<usize>,
}

impl LookupQueries {
    pub(super) fn new(asking: &Asking<'_>, answers: &Answers, name: RowName) -> Self {
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
        let keys = joined(answers.keys(""), ", ");
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
                answers.is_to("a", "e")
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
            rows: RowQueries::new(asking, answers, name),
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
    /// The query for the first answers in trouble, up to `most` of each kind: `status`, `miss`, `rows`, the name of the first
    /// row, and the cells that the answer depends on.
    pub fn troubles(&self, most: usize) -> String {
        self.troubles.replace(MOST, &most.to_string())
    }

    /// The query for the keys that no row of the reference holds, up to `most`, with the same columns.
    pub fn unmatched(&self, most: usize) -> String {
        self.unmatched.replace(MOST, &most.to_string())
    }

    /// The query for the first rows of the reference that nothing asks for, up to `most`, by their numbers.
    pub fn unused(&self, most: usize) -> String {
        self.unused.replace(MOST, &most.to_string())
    }

    /// The query for the rows of the reference that findings name, `most` of each kind, the `unused` ones, and the first ones
    /// up to `all`: the number, how often the key is asked for, in a reverse lookup by which of the searched columns, and the
    /// text of each column that is used.
    pub fn reference(&self, most: usize, unused: &[u64], all: usize) -> String {
        let unused: Vec<String> = unused.iter().map(u64::to_string).collect();
        let query = self.reference.replace(MOST, &most.to_string());
        query.replace(ALL, &all.to_string()).replace(UNUSED, &unused.join(","))
    }

    fn new(asking: &Asking<'_>, answers: &Answers, name: RowName) -> Self {
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
             from pg_temp.troubles_{nth} a\n) a where at <= {MOST} order by {0}",
            order("a")
        );
        let unmatched = format!(
            "select status, miss, rows::bigint, first::text{cells} from pg_temp.troubles_{nth} a\n\
             where status = 'unmatched' and miss is null order by {} limit {MOST}",
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
        let numbered =
            |column: usize| Cell { sql: format!("n.v{}", column + 1), ..own[column].clone() };
        let cells: String = rows
            .used
            .iter()
            .map(|&column| {
                format!(", t.{} as v{}", quoted(&asking.table.columns[column].name), column + 1)
            })
            .collect();
        // What is taken is of interest only where a finding names the row.
        let is_taken_only = |column: &usize| {
            let of_key = asking.found.reference_keys.iter().flat_map(Key::columns);
            asking.found.taken.columns.contains(column)
                && !of_key.into_iter().any(|one| one == column)
        };
        let text = |&column: &usize| match is_taken_only(&column) {
            true => format!(", case when w.is_named then {} else '' end", numbered(column).text()),
            false => format!(", {}", numbered(column).text()),
        };
        let texts: String = rows.used.iter().map(text).collect();
        // Of a large reference only keys that one row alone holds: the rows of others come together, or not at all.
        let alone = if rows.has_range {
            "true".to_owned()
        } else {
            format!(
                "not exists (select from {} e join pg_temp.shared_{nth} s on {} where e.row = r.row and {})",
                rows.holders,
                rows.is_same_key("s", "e"),
                rows.has_key("e")
            )
        };
        let state = rows.row_state("r", asking.found.searched.len());
        let same = rows.is_same_key("d", "e");
        // Of keys that several rows hold, the first ones of each kind.
        let kinds = if rows.has_range {
            format!(
                "select e.row from {0} e join (\n        select *, row_number() over (partition by disagree order by first) as at \
                 from (\n{1}\n        ) g\n    ) d on {same} and d.at <= {MOST} where {2}",
                rows.holders,
                overlapping(asking, answers),
                rows.has_key("e")
            )
        } else {
            let collapsed = if rows.has_spelling { ", collapsed" } else { "" };
            format!(
                "select e.row from {} e join (\n        select d.*, row_number() over (partition by disagree{collapsed} order by first) \
                 as at from pg_temp.repeated_{nth} d\n    ) d on {same} and d.at <= {MOST} where {}",
                rows.holders,
                rows.has_key("e")
            )
        };
        let answered = format!("a.nth = 1 and a.status in {ANSWERED}");
        let (places, each) = places_of(rows.is_reverse);
        let asked_for = if rows.has_range {
            format!(
                "select e.row, sum(a.rows)::bigint as rows, {places} as places from {table} a\n    \
                 join pg_temp.found_{nth} e on e.ask = a.ask join named w on w.row = e.row{each}\n    \
                 where {answered} group by e.row"
            )
        } else {
            let same = answers.is_to("a", "e");
            format!(
                "select e.row, max(a.rows)::bigint as rows, {places} as places from {} e join named w on w.row = e.row\n    \
                 join {table} a on {same}{each} where {} and {answered} group by e.row",
                rows.holders,
                rows.has_key("e")
            )
        };
        let is_asked = if rows.has_range {
            format!(
                "select from {table} a join pg_temp.found_{nth} e on e.ask = a.ask where {answered} and e.row = r.row"
            )
        } else if rows.is_reverse {
            format!(
                "select from {} e join {table} a on {} where {answered} and e.row = r.row",
                rows.holders,
                answers.is_to("a", "e")
            )
        } else {
            format!("select from {table} a where {} and {answered}", answers.is_to("a", "r"))
        };
        let unused = format!(
            "select r.row from {} r where {state} <> {WHOLE} or not exists ({is_asked}) order by r.row limit {MOST}",
            rows.all
        );
        let trouble = |of: u8| {
            format!(
                "(select r.row from {} r where {state} = {of} order by r.row limit {MOST})",
                rows.all
            )
        };
        let ambiguous = format!(
            "select e.row from {} e join (\n        select a.* from pg_temp.troubles_{nth} a where a.status = 'ambiguous' \
             order by {} limit {MOST}\n    ) a on {} where {}",
            rows.holders,
            order("a"),
            answers.is_to("a", "e"),
            rows.has_key("e")
        );
        let reference = format!(
            "with whole as (select count(*) <= {ALL} as is_all from {0} r), named as (\n    \
             select row, bool_or(is_named) as is_named from (\n    \
             select row, true as is_named from (\n    {kinds}\n    union {ambiguous}\n    union {1}\n    union {2}\n    \
             union select unnest('{{{UNUSED}}}'::bigint[])\n    ) n\n    \
             union all (select r.row, is_all from {0} r, whole where is_all or {alone} order by r.row limit {ALL})\n    \
             ) n group by row\n), asked_for as (\n    {asked_for}\n)\n\
             select n.row, coalesce(a.rows, 0)::bigint, a.places{texts}\nfrom (\n    \
             select row_number() over ({numbering}) as row{cells}\n    from {3} t\n) n join named w on w.row = n.row\n    \
             left join asked_for a on a.row = n.row order by n.row",
            rows.all,
            trouble(BLANK),
            trouble(MALFORMED),
            asking.table.name,
        );
        let columns = asked.columns.clone();
        Self {
            troubles,
            columns,
            name,
            unmatched,
            unused,
            reference,
            reference_columns: rows.used.clone(),
        }
    }
}

/// The searched columns by which a row is asked for, in a reverse lookup, and what they are taken from.
fn places_of(is_reverse: bool) -> (&'static str, &'static str) {
    match is_reverse {
        true => ("array_agg(distinct p)::text", " cross join unnest(e.places) p"),
        false => ("null::text", ""),
    }
}
