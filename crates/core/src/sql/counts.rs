//! The queries for the findings of a reference: counts first, then the first rows of each kind.

use super::Asking;
use super::aliased::AliasQueries;
use super::answers::Answers;
use super::marked::MarkedKeys;
use super::reading::{BLANK, MALFORMED};
use super::row_queries::{MOST, RowQueries};
use super::stage::Stage;
use super::words::{each, joined};
use crate::findings::Kind;
use crate::lookup::RangeMatch;

/// The answers that rows of the reference give.
pub(super) const ANSWERED: &str = "('matched', 'chosen', 'ambiguous')";

/// Whether rows of the reference give an answer of this outcome.
pub fn is_answered(outcome: &str) -> bool {
    [Kind::Matched, Kind::Chosen, Kind::Ambiguous].iter().any(|kind| kind.label() == outcome)
}

/// The queries for the findings of a reference, once its answers are there.
#[derive(Debug)]
pub struct LookupQueries {
    /// For each outcome of main rows and each reason of a miss: `status`, `miss`, how many rows there are, how many rows of the
    /// reference hold their keys, and how many keys several rows ask for.
    pub outcomes: String,
    /// One row: rows of the reference, of them without a key, of them malformed, keys, and ranges.
    pub reference: String,
    /// One row: duplicate keys, conflicting ones, collapsed ones.
    pub repeated: String,
    /// One row: rows of the reference that are asked for, and keys that are asked for several times; `None` where the outcomes
    /// say so.
    pub asked: Option<String>,
    /// One row of as many numbers for each updated column as there are outcomes of a cell.
    pub updates: Option<String>,
    /// One row: how many rows of the reference are new rows, how many without a main row are not, because their key is blank,
    /// malformed, ambiguous or can't be split, and how many new ones the main table's side would not find again; `None` where none
    /// are to be appended.
    pub appended: Option<String>,
    /// The queries for what a receipt notes of its keys.
    pub marked: MarkedKeys,
    /// The queries for aliases, if there are any.
    pub aliases: Option<AliasQueries>,
    /// The query for changed cells.
    changes: Option<String>,
    /// Whether copies of main rows that an earlier reference made count by themselves.
    pub counts_copies: bool,
    /// Whether the reference has ranges.
    pub has_ranges: bool,
    /// The queries for its rows.
    pub rows: RowQueries,
}

impl LookupQueries {
    pub(super) fn new(stage: &Stage, asking: &Asking<'_>, answers: &Answers) -> Self {
        let Answers { rows, asked, .. } = answers;
        let (nth, table) = (answers.nth, answers.table());
        let state = rows.row_state("r");
        let ranges = if rows.has_range {
            format!(
                "(select {} from {} e where {} and e.scale = (select scale from pg_temp.scale_{nth}))",
                if rows.is_reverse() {
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
        let is_repeated =
            format!("(select coalesce(sum(held - 1), 0)::bigint from {})", rows.repeated);
        // A key is on one record, and on more that repeat it.
        let reference = match &rows.in_place {
            Some(in_place) => format!(
                "select sum(rows)::bigint, sum(blank)::bigint, 0::bigint, sum(rows - blank)::bigint - {is_repeated}, {ranges}\nfrom (\n    \
                 {}\n) r",
                in_place.counts
            ),
            None => format!(
                "select count(*), count(*) filter (where {state} = {BLANK}), count(*) filter (where {state} = {MALFORMED}),\n    \
             (select count(*) from {} e where {}) - {is_repeated},\n    {ranges}\nfrom {} r",
                rows.holders,
                rows.has_key("e"),
                rows.all
            ),
        };
        let collapsed =
            if rows.has_spelling { "count(*) filter (where collapsed)" } else { "0::bigint" };
        let repeated = if rows.has_range {
            let groups = overlapping(asking, answers);
            format!(
                "select count(*) filter (where not disagree), count(*) filter (where disagree), {collapsed} from (\n{groups}\n) g"
            )
        } else {
            format!(
                "select count(*) filter (where not disagree), count(*) filter (where disagree), {collapsed} from {}",
                rows.repeated
            )
        };
        let keys = joined(answers.keys(""), ", ");
        let of_answers = format!("from {table} where nth = 1 and status in {ANSWERED}");
        let asked_for = if rows.has_range {
            // Each place of a key is asked for.
            let places = if rows.is_reverse() { "cardinality(e.places)" } else { "1" };
            let group = each(rows.keys("e"), |key| format!(", {key}"));
            let group =
                if rows.is_reverse() { format!("{group}, e.places") } else { String::new() };
            format!(
                "select count(distinct row), coalesce(sum(places) filter (where rows > 1), 0)::bigint from (\n    \
                 select e.row, sum(a.rows) as rows, {places} as places from {table} a\n    \
                 join pg_temp.found_{nth} e on e.ask = a.ask\n    \
                 where a.nth = 1 and a.status in {ANSWERED} group by e.row{group}\n) k"
            )
        } else if rows.is_reverse() {
            format!(
                "select (select count(distinct e.row) from {} e join (select distinct {keys} {of_answers}) a on {}),\n    \
                 (select count(*) from (select 1 {of_answers} group by {keys} having sum(rows) > 1) k)",
                rows.holders,
                answers.is_to("a", "e")
            )
        } else {
            format!(
                "select coalesce(sum(held), 0)::bigint, count(*) filter (where rows > 1) from (\n    \
                 select sum(rows) as rows, max(held) as held {of_answers} group by {keys}\n) k"
            )
        };
        // There is one answer to each key where it is compared by its values.
        let is_one = rows.by_value && !rows.has_range && !rows.is_reverse();
        Self {
            outcomes: format!(
                "select status, miss, sum(rows)::bigint, coalesce(sum(held), 0)::bigint, count(*) filter (where rows > 1)\n\
                 from {table} where nth = 1 group by status, miss"
            ),
            reference,
            repeated,
            asked: (!is_one).then_some(asked_for),
            updates: None,
            appended: None,
            marked: MarkedKeys::new(stage, asking, answers),
            aliases: asking.aliases.map(|aliases| AliasQueries::new(rows, aliases, table)),
            changes: None,
            counts_copies: asked.is_chained,
            has_ranges: rows.has_range,
            rows: RowQueries::new(stage, asking, answers),
        }
    }

    /// Sets the queries for updated cells, once all lookups are on the stage.
    pub(super) fn count_updates(&mut self, stage: &Stage, nth: usize) {
        self.updates = stage.updates(nth);
        self.changes = stage.changes(nth, MOST);
    }

    /// The query for the first cells that the lookup changes, up to `most`, in the order of the main rows: the name of the row,
    /// the column, the texts before and after, and the name and the number of the row of the reference that it comes from, which
    /// are both null where several give it; `None` where it updates none.
    pub fn changes(&self, most: usize) -> Option<String> {
        Some(self.changes.as_ref()?.replace(MOST, &most.to_string()))
    }
}

/// The query for the groups of rows of one key whose ranges overlap, with whether they disagree and are spelled differently.
pub(super) fn overlapping(asking: &Asking<'_>, answers: &Answers) -> String {
    let (rows, nth) = (&answers.rows, answers.nth);
    let matching = asking.range().map(|range| range.matching);
    let keys = each(rows.keys("e"), |key| format!("{key}, "));
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
    // In a reverse lookup each row may spell the key in several ways.
    let last_spelled = if rows.is_reverse() { "last_spelled" } else { "spelled" };
    let spelled = match (rows.has_spelling, rows.is_reverse()) {
        (false, _) => "",
        (true, false) => ", e.spelled",
        (true, true) => ", e.spelled, e.last_spelled",
    };
    let inner = format!(
        "select {keys}e.row, e.lower, {island} as before, ({}) collate \"C\" as signature{spelled} from {} e\n            \
         where {} and e.scale = (select scale from pg_temp.scale_{nth})",
        rows.signature(asking, &[]),
        rows.holders,
        rows.has_key("e"),
    );
    let group = match matching {
        Some(RangeMatch::Before(_) | RangeMatch::After(_)) => {
            format!("select {keys}e.before as island, e.row, e.signature{spelled} from ({inner}) e")
        }
        _ => format!(
            "select {keys}sum(case when e.lower <= e.before then 0 else 1 end) over ({partition} order by e.lower, e.row) \
             as island, e.row, e.signature{spelled}\n        from ({inner}) e"
        ),
    };
    let collapsed = if rows.has_spelling {
        format!(", min(e.spelled) <> max(e.{last_spelled}) as collapsed")
    } else {
        String::new()
    };
    format!(
        "    select {keys}e.island, count(*) as held, min(e.signature) <> max(e.signature) as disagree{collapsed},\n        \
         min(e.row) as first from (\n        {group}\n    ) e group by {keys}e.island having count(*) > 1"
    )
}
