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
use crate::lookup::{AliasKeys, OfParts, WholeAlias};

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

/// Keys that are asked for, while aliases replace some.
struct Replacing<'a> {
    rows: &'a Rows,
    asked: &'a Asked,
    asking: &'a Asking<'a>,
    aliases: &'a AliasKeys,
}

/// Replaces keys that are asked for and that no row holds. The keys are in the table `plain_…`, and go into `keys_…`.
pub(super) fn replace(
    steps: &mut Steps,
    (rows, asked): (&Rows, &Asked),
    asking: &Asking<'_>,
    aliases: &AliasKeys,
) {
    let replacing = Replacing { rows, asked, asking, aliases };
    if replacing.has_whole() {
        replacing.write_whole(steps);
    }
    if replacing.has_parts() {
        replacing.read_parts(steps);
    }
    replacing.write_keys(steps);
}

impl Replacing<'_> {
    fn has_whole(&self) -> bool {
        !self.aliases.whole().is_empty()
    }

    fn has_parts(&self) -> bool {
        !self.aliases.of_parts().is_empty() || !self.aliases.of_cells().is_empty()
    }

    /// The condition under which the key of a record under an alias is in columns that begin like this.
    fn is_key(&self, of: &str, columns: &str) -> String {
        let pairs = (1..=self.rows.parts)
            .map(|part| format!("{of}.key{part} collate \"C\" = {columns}{part}"));
        joined(pairs, " and ")
    }

    /// The condition under which a row of the reference holds the key in columns that begin like this.
    fn is_held(&self, columns: &str) -> String {
        let (holders, has_key) = (&self.rows.holders, self.rows.has_key("e"));
        let is_key = self.is_key("e", columns);
        format!("exists (select from {holders} e where {is_key} and {has_key})")
    }

    /// Writes the aliases of whole keys.
    fn write_whole(&self, steps: &mut Steps) {
        let (nth, parts) = (self.rows.nth, 1..=self.rows.parts);
        let record = |one: &WholeAlias| {
            let texts = one.main.iter().chain(&one.reference).map(|text| literal(text));
            format!("({}::bigint, {})", one.nth, joined(texts, ", "))
        };
        let columns = |side: &str| each(parts.clone(), |part| format!(", {side}{part}"));
        steps.statement(
            format!("The aliases for {}, and which of their keys it has.", self.asking.name),
            format!(
                "create temp table alias_{nth} as\nselect x.*, {} as is_needless, {} as is_there\n\
                 from (values {}) x(nth{}{})",
                self.is_held("x.m"),
                self.is_held("x.r"),
                joined(self.aliases.whole().iter().map(record), ",\n    "),
                columns("m"),
                columns("r"),
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

    /// Reads what the other aliases make of keys, and keeps what the reference has.
    fn read_parts(&self, steps: &mut Steps) {
        let Self { asked, asking, aliases, .. } = self;
        let (nth, key) = (self.rows.nth, &asking.found.main_key);
        let cells = key.columns().iter().zip(1..);
        let cells = cells.map(|(&column, at)| format!("a.{} as in{at}", asked.cell(column)));
        let query = format!(
            "select distinct {} from pg_temp.plain_{nth} a\nwhere {}",
            joined(cells, ", "),
            self.may_be_meant()
        );
        let about = format!("What aliases of parts make of keys that {} has not.", asking.name);
        let what = What::Aliased { aliases: (*aliases).clone(), key: key.clone() };
        let read = steps.reading(about, |name| {
            Reading::new(name, query, key.columns().to_vec(), key.blanks(), what)
        });
        steps.statement(
            format!("Those of them that {} has.", asking.name),
            format!(
                "create temp table found_alias_{nth} as\nselect p.* from pg_temp.{read} p where p.used is not null and {}",
                self.is_held("p.value")
            ),
        );
    }

    /// The condition under which aliases of parts may be about the key of a record `a`.
    fn may_be_meant(&self) -> String {
        let Self { asked, asking, aliases, .. } = self;
        let among = |names: Vec<String>, of_parts: &OfParts| {
            let values = of_parts.each().map(|(main, ..)| main);
            let records =
                values.map(|one| format!("({})", joined(one.into_iter().map(literal), ", ")));
            format!("({}) in (values {})", joined(names, ", "), joined(records, ", "))
        };
        let of_parts = aliases.of_parts().iter().map(|one| {
            let names = one.parts.iter().map(|part| format!("a.key{} collate \"C\"", part + 1));
            among(names.collect(), one)
        });
        let of_parts = joined(of_parts, " or ");
        let of_cells = aliases.of_cells().iter().map(|one| {
            let parts = asking.found.main_key.parts();
            let columns = one.parts.iter().flat_map(|&part| parts[part].columns());
            let names = columns.map(|&column| format!("a.{} collate \"C\"", asked.cell(column)));
            among(names.collect(), one)
        });
        let of_cells = joined(of_cells, " or ");
        let mut conditions = Vec::new();
        if !of_parts.is_empty() {
            let nth = self.rows.nth;
            let is_whole =
                format!("select from pg_temp.used_alias_{nth} w where {}", self.is_key("a", "w.m"));
            let by_whole = if self.has_whole() {
                format!(" and not exists ({is_whole})")
            } else {
                String::new()
            };
            conditions.push(format!(
                "(a.state = {WHOLE} and ({of_parts})\n    and not {}{by_whole})",
                self.is_held("a.key")
            ));
        }
        if !of_cells.is_empty() {
            conditions.push(format!(
                "(a.key_state = {MALFORMED} and a.at_state = {WHOLE} and ({of_cells}))"
            ));
        }
        joined(conditions, "\n    or ")
    }

    /// Writes the table of the keys that are asked for once aliases have replaced some.
    fn write_keys(&self, steps: &mut Steps) {
        let Self { rows, asked, asking, .. } = self;
        let (nth, parts) = (rows.nth, 1..=rows.parts);
        let (has_whole, has_parts) = (self.has_whole(), self.has_parts());
        let mut columns: Vec<String> =
            (1..=asked.columns.len()).map(|at| format!("a.c{at}")).collect();
        columns.extend(["a.rows", "a.first"].map(str::to_owned));
        columns.extend(asked.each.then(|| "a.ask".to_owned()));
        columns.extend(rows.has_range.then(|| "a.at".to_owned()));
        for one in 1..=asking.found.named_columns.len() {
            columns.extend([format!("a.named_state{one}"), format!("a.named{one}")]);
        }
        columns.extend(parts.clone().map(|part| format!("a.key{part} as own_key{part}")));
        let given = |whole: &str, part: &str| {
            // All aliases may be broken.
            let is_none = !has_whole && !has_parts;
            let given = [(has_whole, whole), (has_parts, part), (is_none, "null::text")];
            let given = given.into_iter().filter(|(is_there, _)| *is_there);
            joined(given.map(|(_, value)| value.to_owned()), ", ")
        };
        columns.extend(parts.clone().map(|part| {
            let given = given(&format!("w.r{part}"), &format!("p.value{part}"));
            format!("coalesce({given}, a.key{part}) collate \"C\" as key{part}")
        }));
        let used = format!("coalesce({})", given("w.nth::text", "p.used"));
        columns.push(format!("case when {used} is null then a.state else {WHOLE} end as state"));
        columns.push(format!("{used} as aliases"));
        let whole = has_whole.then(|| {
            let is_key = self.is_key("a", "w.m");
            format!("\n    left join pg_temp.used_alias_{nth} w on a.state = {WHOLE} and {is_key}")
        });
        let of_parts = has_parts.then(|| {
            let cells = asking.found.main_key.columns().iter().zip(1..);
            let cells = cells
                .map(|(&column, at)| format!("p.in{at} = a.{} collate \"C\"", asked.cell(column)));
            format!(
                "\n    left join pg_temp.found_alias_{nth} p on {}\n        \
                 and (a.state = {WHOLE} or a.key_state = {MALFORMED} and a.at_state = {WHOLE})",
                joined(cells, " and ")
            )
        });
        steps.statement(
            "The keys that are asked for, some of them replaced by aliases.".to_owned(),
            format!(
                "create temp table keys_{nth} as\nselect {}\nfrom pg_temp.plain_{nth} a{}{}",
                joined(columns, ",\n    "),
                whole.unwrap_or_default(),
                of_parts.unwrap_or_default()
            ),
        );
    }
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
