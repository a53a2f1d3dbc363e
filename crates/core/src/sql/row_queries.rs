//! The queries for the rows that findings name: the first main rows in trouble, and the rows of the reference.

use super::answers::Answers;
use super::cell::Cell;
use super::counts::{ANSWERED, overlapping};
use super::named_rows;
use super::reading::{BLANK, MALFORMED, WHOLE};
use super::stage::Stage;
use super::words::{each, joined};
use super::{Asking, RowName, cells_of};
use crate::key::Key;

/// Marks in the place of numbers in queries that are known only when these are asked; no name of a table or column has such a
/// character.
pub(super) const MOST: &str = "\0most\0";
pub(super) const ALL: &str = "\0all\0";
const UNUSED: &str = "\0unused\0";
pub(super) const MOST_UNUSED: &str = "\0most unused\0";
pub(super) const MOST_KEYLESS: &str = "\0most keyless\0";
const SHOWN: &str = "\0shown\0";
const SEED: &str = "\0seed\0";

/// How many matched keys are shown, and what they are chosen by: the same number chooses the same ones.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Shown {
    /// How many.
    pub most: usize,
    /// What they are chosen by.
    pub seed: u64,
}

/// Which rows of a reference are named as well as the rows of keys in trouble.
#[derive(Debug, Clone, Copy)]
pub struct NamedRows<'u> {
    /// Whether there are rows without a key.
    pub has_keyless: bool,
    /// Whether there are unused rows, and the numbers of the first ones, where rows have such.
    pub has_unused: bool,
    /// These numbers.
    pub unused: &'u [u64],
    /// Matched keys that are shown.
    pub shown: Shown,
}

impl Shown {
    /// Puts it into a query.
    fn within(self, query: &str) -> String {
        query.replace(SHOWN, &self.most.to_string()).replace(SEED, &self.seed.to_string())
    }
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
    /// The first main rows in trouble, each by itself, and the ones that repeat a key.
    listed: String,
    repeated: String,
    /// Matched keys to look at: as `troubles`.
    matched: String,
    /// The first rows of the reference that nothing asks for, by their numbers, where rows have such.
    unused: Option<String>,
    /// The rows of the reference that findings name, the unused ones, and others: the number, how often its
    /// key is asked for, in a reverse lookup by which of the searched columns, the name, and the text of each column that is
    /// used.
    reference: String,
    /// What the name of a row of the reference is.
    pub reference_name: RowName,
    /// The columns of the reference that are used, in order.
    pub reference_columns: Vec<usize>,
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

    /// The query for the first rows of the reference that nothing asks for, up to `most`, by their numbers; `None` where rows
    /// have no numbers, and the query for named rows finds these as well.
    pub fn unused(&self, most: usize) -> Option<String> {
        Some(self.unused.as_ref()?.replace(MOST, &most.to_string()))
    }

    /// The query for some matched keys, each with the first row that asks for it: as `troubles`.
    pub fn matched(&self, shown: Shown) -> String {
        shown.within(&self.matched)
    }

    /// The query for the rows of the reference that findings name, `most` of each kind, and the first ones up to `all`: the number, or 0 where rows have none, how often the key is asked for, in a reverse lookup by which of the
    /// searched columns, the name, and the text of each column that is used.
    pub fn reference(&self, named: &NamedRows<'_>, most: usize, all: usize) -> String {
        let unused: Vec<String> = named.unused.iter().map(u64::to_string).collect();
        let most_if = |are_any: bool| if are_any { most } else { 0 }.to_string();
        let query = self.reference.replace(MOST_UNUSED, &most_if(named.has_unused));
        let query = query.replace(MOST_KEYLESS, &most_if(named.has_keyless));
        let query = named.shown.within(&query.replace(MOST, &most.to_string()));
        query.replace(ALL, &all.to_string()).replace(UNUSED, &unused.join(","))
    }

    /// The query for the first main rows in trouble, or that a rule has chosen an answer for, up to `most` of each kind: as
    /// `troubles`, a record for each row.
    pub fn listed(&self, most: usize) -> String {
        self.listed.replace(MOST, &most.to_string())
    }

    /// The query for the first main rows that ask for a key which an earlier one asks for, up to `most`: as `listed`, and the
    /// name of the earlier one.
    pub fn repeated(&self, most: usize) -> String {
        self.repeated.replace(MOST, &most.to_string())
    }

    pub(super) fn new(stage: &Stage, asking: &Asking<'_>, answers: &Answers) -> Self {
        let (listed, repeated) = listed(stage, answers);
        let name = stage.row_name().clone();
        let (nth, columns) = (answers.nth, answers.asked.columns.clone());
        let cells = each(1..=columns.len(), |at| format!(", c{at}::text"));
        let order = order(answers);
        let troubles = format!(
            "select status, miss, rows::bigint, first::text{cells} from (\n    \
             select a.*, row_number() over (partition by status, miss = 'header' order by {order}) as at\n    \
             from pg_temp.troubles_{nth} a\n) a where at <= {MOST} order by {order}"
        );
        let unmatched = format!(
            "select status, miss, rows::bigint, first::text{cells} from pg_temp.troubles_{nth} a\n\
             where status = 'unmatched' and miss is null order by {order} limit {MOST}"
        );
        let is_in_place = answers.rows.in_place.is_some();
        let matched = format!(
            "select status, miss, rows::bigint, first::text{cells} from {} a",
            sampled(answers)
        );
        let unused = (!is_in_place).then(|| unused(answers));
        let reference = if is_in_place {
            named_rows::in_place(asking, answers, &order)
        } else {
            reference(asking, answers)
        };
        let reference_name = asking.row_name().0;
        let reference_columns = answers.rows.used.clone();
        Self {
            troubles,
            columns,
            name,
            unmatched,
            listed,
            repeated,
            matched,
            unused,
            reference,
            reference_name,
            reference_columns,
        }
    }
}

/// The order of records `a` of the keys that are asked for: by the first row, then by the cells.
fn order(answers: &Answers) -> String {
    format!("a.first{}", each(1..=answers.asked.columns.len(), |at| format!(", a.c{at}")))
}

/// Matched answers that are chosen by chance, as a table of a query.
pub(super) fn sampled(answers: &Answers) -> String {
    let cells = (1..=answers.asked.columns.len()).map(|at| format!("a.c{at}"));
    format!(
        "(select a.* from {} a where a.nth = 1 and a.status in ('matched', 'chosen')\n    \
         order by md5('{SEED}' || row({})::text) limit {SHOWN})",
        answers.table(),
        joined(cells, ", ")
    )
}

/// The queries for main rows in trouble, each by itself, and for rows that repeat a key.
fn listed(stage: &Stage, answers: &Answers) -> (String, String) {
    let (asked, table) = (&answers.asked, answers.table());
    let cells = each(1..=asked.columns.len(), |at| format!(", a.c{at}::text"));
    // As one text, in which no value and an empty one are two.
    let ours = joined(asked.found_by.iter().cloned(), ", ");
    let theirs = joined((1..=asked.columns.len()).map(|at| format!("a.c{at}")), ", ");
    let name = stage.name();
    let rows = |answers: &str, more: &str| {
        let join = format!("\n    join ({answers}) a on row({ours})::text = row({theirs})::text");
        let source = stage.source(asked.is_chained, &join);
        format!(
            "select a.status, a.miss, 1::bigint, ({name})::text as name{cells}{more} from {source}"
        )
    };
    let number = |columns: &str| {
        let partition = if columns.is_empty() { "" } else { "partition by " };
        format!("row_number() over ({partition}{columns} order by {name}) as at")
    };
    let in_trouble = format!("select * from {table} where nth = 1 and status <> 'matched'");
    let by_kind = number("a.status, a.miss = 'header'");
    let listed = format!(
        "select * from (\n    {}\n) l where at <= {MOST} order by name",
        rows(&in_trouble, &format!(", {by_kind}"))
    );
    let keys = joined(answers.keys(""), ", ");
    let window = if keys.is_empty() { String::new() } else { format!("partition by {keys}") };
    let shared = format!(
        "select * from (select *, sum(rows) over ({window}) as of_key, min(first) over ({window}) as key_first \
         from {table} where nth = 1 and status in {ANSWERED}) k where of_key > 1"
    );
    let by_key = number(&joined(answers.keys("a"), ", "));
    let repeated = format!(
        "select * from (\n    {}\n) l where at > 1 order by name limit {MOST}",
        rows(&shared, &format!(", a.key_first::text, {by_key}"))
    );
    (listed, repeated)
}

/// The condition under which an answer is one that rows of the reference give.
pub(super) fn answered() -> String {
    format!("a.nth = 1 and a.status in {ANSWERED}")
}

/// The query by whose rows a row `r` of the reference is asked for.
pub(super) fn is_asked(answers: &Answers) -> String {
    let (rows, nth, table, answered) = (&answers.rows, answers.nth, answers.table(), answered());
    if rows.has_range {
        format!(
            "select from {table} a join pg_temp.found_{nth} e on e.ask = a.ask where {answered} and e.row = r.row"
        )
    } else if rows.is_reverse() {
        format!(
            "select from {} e join {table} a on {} where {answered} and e.row = r.row",
            rows.holders,
            answers.is_to("a", "e")
        )
    } else {
        format!("select from {table} a where {} and {answered}", answers.is_to("a", "r"))
    }
}

/// The query for rows of the reference that nothing asks for.
fn unused(answers: &Answers) -> String {
    let (rows, is_asked) = (&answers.rows, is_asked(answers));
    format!(
        "select r.row from {} r where {} <> {WHOLE} or not exists ({is_asked}) order by r.row limit {MOST}",
        rows.all,
        rows.row_state("r")
    )
}

/// The query for the rows of keys that several rows hold, of the first keys of each kind.
fn shared(asking: &Asking<'_>, answers: &Answers) -> String {
    let rows = &answers.rows;
    let (groups, kind) = if rows.has_range {
        (format!("(\n{}\n        ) d", overlapping(asking, answers)), "disagree")
    } else {
        let kind = if rows.has_spelling { "disagree, collapsed" } else { "disagree" };
        (format!("{} d", rows.repeated), kind)
    };
    format!(
        "select e.row from {} e join (\n        \
         select d.*, row_number() over (partition by {kind} order by first) as at from {groups}\n    \
         ) d on {} and d.at <= {MOST} where {}",
        rows.holders,
        rows.is_same_key("d", "e"),
        rows.has_key("e")
    )
}

/// The query for how often the named rows are asked for.
fn asked_for(answers: &Answers) -> String {
    let (rows, nth, table, answered) = (&answers.rows, answers.nth, answers.table(), answered());
    // In a reverse lookup also by which of the searched columns.
    let (places, place) = if rows.is_reverse() {
        ("array_agg(distinct p)::text", " cross join unnest(e.places) p")
    } else {
        ("null::text", "")
    };
    if rows.has_range {
        return format!(
            "select e.row, sum(a.rows)::bigint as rows, {places} as places from {table} a\n    \
             join pg_temp.found_{nth} e on e.ask = a.ask join named w on w.row = e.row{place}\n    \
             where {answered} group by e.row"
        );
    }
    format!(
        "select e.row, max(a.rows)::bigint as rows, {places} as places from {} e join named w on w.row = e.row\n    \
         join {table} a on {}{place} where {} and {answered} group by e.row",
        rows.holders,
        answers.is_to("a", "e"),
        rows.has_key("e")
    )
}

/// The texts of the columns that are used, of a record `n` of the reference, each after a comma. What is taken is of interest only
/// where a finding names the row.
pub(super) fn texts(asking: &Asking<'_>, answers: &Answers, is_named: &str) -> String {
    let own = cells_of(asking.table, "t");
    let is_taken_only = |column: &usize| {
        let mut of_key = asking.found.reference_keys.iter().flat_map(Key::columns);
        asking.found.taken.columns.contains(column) && !of_key.any(|one| one == column)
    };
    each(&answers.rows.used, |column| {
        let text = Cell { sql: format!("n.v{}", column + 1), ..own[*column].clone() }.text();
        if is_taken_only(column) {
            format!(", case when {is_named} then {text} else '' end")
        } else {
            format!(", {text}")
        }
    })
}

/// The query for the rows of the reference that findings name, and others.
fn reference(asking: &Asking<'_>, answers: &Answers) -> String {
    let (rows, nth) = (&answers.rows, answers.nth);
    let texts = texts(asking, answers, "w.is_named");
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
    let trouble = |of: u8| {
        let (all, state) = (&rows.all, rows.row_state("r"));
        format!("(select r.row from {all} r where {state} = {of} order by r.row limit {MOST})")
    };
    let ambiguous = format!(
        "select e.row from {} e join (\n        select a.* from pg_temp.troubles_{nth} a where a.status = 'ambiguous' \
         order by {} limit {MOST}\n    ) a on {} where {}",
        rows.holders,
        order(answers),
        answers.is_to("a", "e"),
        rows.has_key("e")
    );
    let shown = if rows.has_range {
        format!(
            "select e.row from pg_temp.found_{nth} e join {} a on e.ask = a.ask",
            sampled(answers)
        )
    } else {
        format!(
            "select e.row from {} e join {} a on {} where {}",
            rows.holders,
            sampled(answers),
            answers.is_to("a", "e"),
            rows.has_key("e")
        )
    };
    format!(
        "with whole as (select count(*) <= {ALL} as is_all from {0} r), named as (\n    \
         select row, bool_or(is_named) as is_named from (\n    \
         select row, true as is_named from (\n    {1}\n    union {ambiguous}\n    union {2}\n    union {3}\n    union {shown}\n    \
         union select unnest('{{{UNUSED}}}'::bigint[])\n    ) n\n    \
         union all (select r.row, is_all from {0} r, whole where is_all or {alone} order by r.row limit {ALL})\n    \
         ) n group by row\n), asked_for as (\n    {4}\n)\n\
         select n.row, coalesce(a.rows, 0)::bigint, a.places, case when w.is_named then n.name when n.name is not null then '' end{texts}\nfrom (\n    {5}\n) n join named w on w.row = n.row\n    \
         left join asked_for a on a.row = n.row order by n.row",
        rows.all,
        shared(asking, answers),
        trouble(BLANK),
        trouble(MALFORMED),
        asked_for(answers),
        asking.numbered(&rows.used),
    )
}
