//! The query for the rows that findings name of a reference whose rows stay where they are.
//!
//! These have no numbers, so that each is found by its place, and every kind of them is sought by itself: on whichever server
//! the rows are, only named ones come from there.

use super::Asking;
use super::answers::Answers;
use super::row_queries::{ALL, MOST, MOST_KEYLESS, MOST_UNUSED, answered, sampled, texts};
use super::words::joined;

/// The query for the rows of the reference that findings name, and others. `order` is that of the answers.
pub(super) fn in_place(asking: &Asking<'_>, answers: &Answers, order: &str) -> String {
    let (rows, nth) = (&answers.rows, answers.nth);
    let mut columns = rows.places("e");
    columns.push("e.name".to_owned());
    columns.extend(rows.keys("e"));
    columns.extend(rows.used.iter().map(|column| format!("e.v{}", column + 1)));
    let columns = joined(columns, ", ");
    let (all, repeated) = (&rows.all, &rows.repeated);
    let is_whole = rows.has_key("e");
    let shared = format!(
        "select true as is_named, {columns} from pg_temp.same_{nth} e join (\n        \
         select d.*, row_number() over (partition by disagree order by first) as at from {repeated} d\n    \
         ) d on {} and d.at <= {MOST}",
        rows.is_same_key("d", "e")
    );
    let ambiguous = format!(
        "select true, {columns} from pg_temp.same_{nth} e join (\n        \
         select a.* from pg_temp.troubles_{nth} a where a.status = 'ambiguous' order by {order} limit {MOST}\n    \
         ) a on {}",
        answers.is_to("a", "e")
    );
    let keyless =
        format!("(select true, {columns} from {all} e where not {is_whole} limit {MOST_KEYLESS})");
    let unused = format!(
        "(select true, {columns} from {all} e where {is_whole} and not exists (\n        \
         select from {} a where {} and {}) limit {MOST_UNUSED})",
        answers.table(),
        answers.is_to("a", "e"),
        answered()
    );
    let shown = format!(
        "select true, {columns} from {all} e join {} a on {} and {is_whole}",
        sampled(answers),
        answers.is_to("a", "e")
    );
    let all_shared = format!(
        "select false, {columns} from pg_temp.same_{nth} e where (select count(*) from pg_temp.same_{nth}) <= {ALL}"
    );
    let alone = format!(
        "(select false, {columns} from {all} e where {is_whole} and not exists (\n        \
         select from pg_temp.shared_{nth} s where {}) limit {ALL})",
        rows.is_same_key("s", "e")
    );
    let texts = texts(asking, answers, "n.is_named");
    let places = joined(rows.places("n"), ", ");
    format!(
        "with named as (\n    {shared}\n    union all {ambiguous}\n    union all {keyless}\n    union all {unused}\n    union all {shown}\n    \
         union all {all_shared}\n    union all {alone}\n), each_once as (\n    \
         select distinct on ({places}) n.* from named n order by {places}, n.is_named desc\n)\n\
         select 0::bigint, coalesce(a.rows, 0)::bigint, null::text, case when n.is_named then n.name else '' end{texts}\nfrom each_once n\n    \
         left join {} a on {} and {} order by {places}",
        answers.table(),
        answers.is_to("a", "n"),
        answered()
    )
}
