//! Aliases on the server: keys that are not found, with what a person put in their place.
//!
//! Of the keys that are asked for, the ones that no row of the reference holds and that an alias is about get the key that it
//! gives, and are asked for like others from then on. Aliases of whole keys are joined; what aliases of parts make of a key is
//! read here.

use super::asked::Asked;
use super::reading::{MALFORMED, Reading, WHOLE, What};
use super::rows::Rows;
use super::words::{each, joined, literal};
use super::{Asking, Steps};
use crate::lookup::AliasKeys;

/// The queries for what became of aliases.
#[derive(Debug)]
pub struct AliasQueries {
    /// For each alias of a whole key: its number, from 0, and whether the reference has the main key, and the reference key;
    /// `None` where there are none.
    pub whole: Option<String>,
    /// The numbers of other aliases whose values rows of the reference have; `None` where there are none.
    pub parts: Option<String>,
    /// For each alias that is used: its number, and how many main rows it answered.
    pub used: String,
}

/// Replaces keys that are asked for and that no row holds. The keys are in the table `plain_…`, and go into `keys_…`.
pub(super) fn replace(
    steps: &mut Steps,
    (rows, asked): (&Rows, &Asked),
    asking: &Asking<'_>,
    aliases: &AliasKeys,
) {
    let nth = rows.nth;
    let parts = 1..=rows.parts;
    let is_key = |of: &str, columns: &str| {
        let pairs =
            parts.clone().map(|part| format!("{of}.key{part} collate \"C\" = {columns}{part}"));
        joined(pairs, " and ")
    };
    let is_held = |columns: &str| {
        let (holders, has_key) = (&rows.holders, rows.has_key("e"));
        format!("exists (select from {holders} e where {} and {has_key})", is_key("e", columns))
    };
    let has_whole = !aliases.whole().is_empty();
    if has_whole {
        let record = |one: &crate::lookup::WholeAlias| {
            let texts = one.main.iter().chain(&one.reference).map(|text| literal(text));
            format!("({}::bigint, {})", one.nth, joined(texts, ", "))
        };
        let columns = ["m", "r"]
            .iter()
            .flat_map(|side| parts.clone().map(move |part| format!("{side}{part}")));
        steps.statement(
            format!("The aliases for {}, and which of their keys it has.", asking.name),
            format!(
                "create temp table alias_{nth} as\nselect x.*, {} as is_needless, {} as is_there\nfrom (values {}) x(nth, {})",
                is_held("x.m"),
                is_held("x.r"),
                joined(aliases.whole().iter().map(record), ",\n    "),
                joined(columns, ", "),
            ),
        );
        let main = joined(parts.clone().map(|part| format!("x.m{part}")), ", ");
        steps.statement(
            "Those that may be used, one for each key.".to_owned(),
            format!(
                "create temp table used_alias_{nth} as\nselect distinct on ({main}) x.* from pg_temp.alias_{nth} x\n\
                 where x.is_there and not x.is_needless order by {main}, x.nth"
            ),
        );
    }
    let key = &asking.found.main_key;
    let has_parts = !aliases.of_parts().is_empty() || !aliases.of_cells().is_empty();
    let read = has_parts.then(|| {
        let key_of = |part: usize| format!("a.key{} collate \"C\"", part + 1);
        let among = |names: Vec<String>, values: Vec<Vec<&str>>| {
            let records = values
                .into_iter()
                .map(|one| format!("({})", joined(one.into_iter().map(literal), ", ")));
            format!("({}) in (values {})", joined(names, ", "), joined(records, ", "))
        };
        let mut conditions = Vec::new();
        let of_parts = aliases.of_parts().iter().map(|one| {
            let names = one.parts.iter().map(|&part| key_of(part)).collect();
            among(names, one.each().map(|(main, ..)| main).collect())
        });
        let of_parts = joined(of_parts, " or ");
        if !of_parts.is_empty() {
            let by_whole = if has_whole {
                format!(
                    " and not exists (select from pg_temp.used_alias_{nth} w where {})",
                    is_key("a", "w.m")
                )
            } else {
                String::new()
            };
            conditions.push(format!(
                "a.state = {WHOLE} and ({of_parts})\n    and not {}{by_whole}",
                is_held("a.key")
            ));
        }
        let of_cells = aliases.of_cells().iter().map(|one| {
            let columns = one.parts.iter().flat_map(|&part| key.parts()[part].columns());
            let names = columns.map(|&column| format!("a.{} collate \"C\"", asked.cell(column)));
            among(names.collect(), one.each().map(|(main, ..)| main).collect())
        });
        let of_cells = joined(of_cells, " or ");
        if !of_cells.is_empty() {
            conditions.push(format!(
                "a.key_state = {MALFORMED} and a.at_state = {WHOLE} and ({of_cells})"
            ));
        }
        let cells = key.columns().iter().zip(1..);
        let cells = cells.map(|(&column, at)| format!("a.{} as in{at}", asked.cell(column)));
        let query = format!(
            "select distinct {} from pg_temp.plain_{nth} a\nwhere {}",
            joined(cells, ", "),
            joined(conditions.into_iter().map(|one| format!("({one})")), "\n    or ")
        );
        let about = format!("What aliases of parts make of keys that {} has not.", asking.name);
        let what = What::Aliased { aliases: aliases.clone(), key: key.clone() };
        steps.reading(about, |name| {
            Reading::new(name, query, key.columns().to_vec(), key.blanks(), what)
        })
    });
    if let Some(read) = &read {
        steps.statement(
            format!("Those of them that {} has.", asking.name),
            format!(
                "create temp table found_alias_{nth} as\nselect p.* from pg_temp.{read} p where p.used is not null and {}",
                is_held("p.value")
            ),
        );
    }
    write_keys(steps, (rows, asked), asking, (has_whole, read.is_some()));
}

/// Writes the table of the keys that are asked for once aliases have replaced some.
fn write_keys(
    steps: &mut Steps,
    (rows, asked): (&Rows, &Asked),
    asking: &Asking<'_>,
    (has_whole, has_parts): (bool, bool),
) {
    let nth = rows.nth;
    let mut columns: Vec<String> = (1..=asked.columns.len()).map(|at| format!("a.c{at}")).collect();
    columns.extend(["a.rows", "a.first"].map(str::to_owned));
    columns.extend(asked.each.then(|| "a.ask".to_owned()));
    columns.extend(rows.has_range.then(|| "a.at".to_owned()));
    for one in 1..=asking.found.named_columns.len() {
        columns.extend([format!("a.named_state{one}"), format!("a.named{one}")]);
    }
    columns.extend((1..=rows.parts).map(|part| format!("a.key{part} as own_key{part}")));
    let given = |whole: &str, part: &str| {
        // All aliases may be broken.
        let is_none = !has_whole && !has_parts;
        let given = [(has_whole, whole), (has_parts, part), (is_none, "null::text")];
        let given = given.into_iter().filter(|(is_there, _)| *is_there);
        joined(given.map(|(_, value)| value.to_owned()), ", ")
    };
    columns.extend((1..=rows.parts).map(|part| {
        let given = given(&format!("w.r{part}"), &format!("p.value{part}"));
        format!("coalesce({given}, a.key{part}) collate \"C\" as key{part}")
    }));
    let used = format!("coalesce({})", given("w.nth::text", "p.used"));
    columns.push(format!("case when {used} is null then a.state else {WHOLE} end as state"));
    columns.push(format!("{used} as aliases"));
    let mut joins = String::new();
    if has_whole {
        let pairs = (1..=rows.parts).map(|part| format!("w.m{part} = a.key{part} collate \"C\""));
        joins += &format!(
            "\n    left join pg_temp.used_alias_{nth} w on a.state = {WHOLE} and {}",
            joined(pairs, " and ")
        );
    }
    if has_parts {
        let cells = asking.found.main_key.columns().iter().zip(1..);
        let pairs =
            cells.map(|(&column, at)| format!("p.in{at} = a.{} collate \"C\"", asked.cell(column)));
        joins += &format!(
            "\n    left join pg_temp.found_alias_{nth} p on {}\n        \
             and (a.state = {WHOLE} or a.key_state = {MALFORMED} and a.at_state = {WHOLE})",
            joined(pairs, " and ")
        );
    }
    steps.statement(
        "The keys that are asked for, with those that aliases give.".to_owned(),
        format!(
            "create temp table keys_{nth} as\nselect {}\nfrom pg_temp.plain_{nth} a{joins}",
            joined(columns, ",\n    ")
        ),
    );
}

impl AliasQueries {
    /// The queries for the aliases of a reference, whose answers are in a table.
    pub(super) fn new(rows: &Rows, aliases: &AliasKeys, table: &str) -> Self {
        let nth = rows.nth;
        let of_parts = aliases.of_parts().iter().chain(aliases.of_cells()).map(|one| {
            let records = one.each().map(|(_, values, alias)| {
                format!("({alias}::bigint, {})", joined(values.iter().map(|text| literal(text)), ", "))
            });
            let columns = each(1..=one.parts.len(), |at| format!(", r{at}"));
            let pairs = one.parts.iter().zip(1..);
            let pairs = pairs.map(|(part, at)| format!("e.key{} collate \"C\" = x.r{at}", part + 1));
            format!(
                "select x.nth from (values {}) x(nth{columns})\nwhere exists (select from {} e where {} and {})",
                joined(records, ", "),
                rows.holders,
                joined(pairs, " and "),
                rows.has_key("e")
            )
        });
        let parts = Some(joined(of_parts, "\nunion all ")).filter(|query| !query.is_empty());
        let has_whole = !aliases.whole().is_empty();
        Self {
            whole: has_whole
                .then(|| format!("select nth, is_needless, is_there from pg_temp.alias_{nth}")),
            parts,
            used: format!(
                "select x.nth::bigint, sum(a.rows)::bigint from {table} a\n    \
                 cross join unnest(string_to_array(a.aliases, ' ')) x(nth) where a.nth = 1 group by 1"
            ),
        }
    }
}
