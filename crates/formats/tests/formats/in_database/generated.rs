//! Tables and plans for enrichments inside a database.

use std::fmt::Write as _;

use gather_keys_core::enrich::ANY;
use gather_keys_core::findings::Correction;
use gather_keys_core::lookup::Alias;
use gather_keys_core::plan::{
    Mark, On, Reach, ReferencePlan, Replace, Take, Update, WhenDuplicate, WhenUnmatched, Within,
};
use gather_keys_core::template::read_steps;
use postgres::Client;
use proptest::prelude::*;

use super::both_ways::Asked;

/// Texts that meet each other by steps, or nearly.
pub(super) fn text() -> impl Strategy<Value = Option<String>> {
    let texts = ["H-1", "h-1 ", "H-01", "H-2", "2", " ", "", "H\u{a0}1", "it's; \\ $$", "B; C"];
    prop::option::weighted(0.9, prop::sample::select(texts.to_vec()).prop_map(str::to_owned))
}

/// A type of a column, and values of it.
pub(super) fn typed() -> impl Strategy<Value = (&'static str, Vec<&'static str>)> {
    prop::sample::select(vec![
        ("integer", vec!["1", "2", "3"]),
        ("bigint", vec!["1", "2", "-1"]),
        ("text", vec!["1", "2.0", "x", "", " 1"]),
        ("numeric", vec!["1", "2.00", "0.10", "NaN"]),
        ("double precision", vec!["1", "2", "1e-7", "-0", "NaN"]),
        ("boolean", vec!["true", "false"]),
        ("char(3)", vec!["1", "2", "x"]),
        ("timestamptz", vec!["2026-05-19 10:00+02", "2026-05-19 08:00+00", "infinity"]),
    ])
}

/// Days, among them one that is none.
pub(super) fn day() -> impl Strategy<Value = Option<String>> {
    let days = ["2026-05-01", "2026-05-03", "2026-05-05", "2026-06-01", "2026-06-10", "2026-07-01"];
    prop::option::weighted(0.9, prop::sample::select(days.to_vec()).prop_map(str::to_owned))
}

pub(super) fn literal(value: Option<&str>) -> String {
    value.map_or("null".to_owned(), |value| {
        format!("E'{}'", value.replace('\\', "\\\\").replace('\'', "''"))
    })
}

/// The values of a table's rows.
pub(super) fn values(rows: &[Vec<Option<String>>]) -> String {
    let row = |row: &Vec<Option<String>>| {
        let cells: Vec<String> = row.iter().map(|cell| literal(cell.as_deref())).collect();
        format!("({})", cells.join(", "))
    };
    rows.iter().map(row).collect::<Vec<_>>().join(", ")
}

/// A plan of the reference `ref`, in the forms that a person writes.
pub(super) fn plan() -> impl Strategy<Value = ReferencePlan> {
    let on = prop::sample::select(vec![
        "a = k",
        "a = k",
        "b = k2",
        "a = k, b = k2",
        "a | fold | trim = k | fold | trim",
        "b | number = k2 | number",
        "{a}/{b} = {k}/{k2}",
        "a | code = k | code, b = k2",
        "a = any(k, s1, s2)",
        "a | fold | tidy = any(s1, s2) | fold | tidy",
        "a = k | fold",
        "size = s1",
    ]);
    let within = prop::option::weighted(
        0.3,
        prop::sample::select(vec![
            ("day in lo .. hi", None),
            ("day in lo ..< hi", None),
            ("day in lo ..", None),
            ("day in .. lo", Some("3 days")),
            ("day in lo ..", Some("2 days")),
        ]),
    );
    let take = prop::sample::subsequence(
        vec![
            "w",
            "v as Value",
            "{size} as Named",
            "@status",
            "@count",
            "@key",
            "@row",
            "@table",
            "x",
            "@column",
        ],
        0..6,
    );
    let rule = prop::sample::select(vec![
        "report",
        "first",
        "last",
        "highest v",
        "lowest lo",
        "every",
        "list",
    ]);
    let unmatched = prop::sample::select(vec!["blank", "blank", "drop", "only", "fill none"]);
    let update = prop::option::weighted(
        0.3,
        (prop::sample::select(vec!["note = w", "n = v", "note = v"]), any::<bool>(), any::<bool>()),
    );
    let how = (any::<bool>(), prop::bool::weighted(0.15), prop::bool::weighted(0.3));
    (on, within, take, rule, unmatched, update, how).prop_map(
        |(on, within, take, rule, unmatched, update, (cleans, match_blanks, appends))| {
            ReferencePlan {
                append_unused: appends && !on.contains("any(") && !on.contains("s1"),
                name: "ref".to_owned(),
                on: On::parse(&[on]).unwrap(),
                clean: if cleans { read_steps("clean", "compact").unwrap() } else { Vec::new() },
                within: within.map(|(within, _)| Within::parse(within).unwrap()),
                reach: within.and_then(|(_, reach)| Some(Reach::parse(reach?).unwrap())),
                when_duplicate: WhenDuplicate::parse(rule).unwrap(),
                when_unmatched: WhenUnmatched::parse(unmatched).unwrap(),
                match_blanks,
                take: Some(
                    take.iter()
                        .filter(|one| **one != "@column" || on.contains("any("))
                        .flat_map(|one| Take::parse(one).unwrap())
                        .collect(),
                ),
                update: update
                    .iter()
                    .flat_map(|(update, ..)| Update::parse(update).unwrap())
                    .collect(),
                replace: match update {
                    Some((_, true, _)) => Replace::Blanks,
                    _ => Replace::All,
                },
                bring_blanks: update.is_some_and(|(.., brings)| brings),
                ..ReferencePlan::default()
            }
        },
    )
}

/// A plan of the reference `ref` whose rows are joined where they are, if types are alike.
pub(super) fn plain_plan() -> impl Strategy<Value = ReferencePlan> {
    let on = prop::sample::select(vec!["a = k", "b = k2", "b = k2", "a = k, b = k2", "size = s1"]);
    (plan(), on).prop_map(|(plan, on)| ReferencePlan {
        on: On::parse(&[on]).unwrap(),
        clean: Vec::new(),
        within: None,
        reach: None,
        when_duplicate: WhenDuplicate::default(),
        match_blanks: false,
        take: plan.take.map(|take| {
            let is_plain = |one: &Take| match one {
                Take::Mark { mark, .. } => matches!(mark, Mark::Status | Mark::Count | Mark::Table),
                Take::Named { .. } => false,
                _ => true,
            };
            take.into_iter().filter(is_plain).collect()
        }),
        ..plan
    })
}

/// Corrections of different cells, if there are any.
pub(super) fn corrections() -> impl Strategy<Value = Vec<Correction>> {
    let any = || Some(ANY.to_owned());
    let id = prop::sample::select(vec!["0", "1", "2", "3", "77", ANY]);
    let a = prop_oneof![text(), Just(any()), Just(any())];
    let header = prop::sample::select(vec!["note", "note", "n", "day", "size", "a", "w"]);
    let value = prop::sample::select(vec!["x", "H-1", "2.5", "12345.1", "2026-05-03", ""]);
    let all = prop::collection::vec((id, a, header, value), 0..5);
    prop_oneof![Just(Vec::new()), all].prop_map(|all| {
        let all = all.into_iter().zip(1..).map(|((id, a, header, value), row)| Correction {
            key: vec![id.to_owned(), a.unwrap_or_default()],
            header: header.to_owned(),
            value: value.to_owned(),
            row,
        });
        let mut all: Vec<Correction> = all.collect();
        let mut seen = std::collections::HashSet::new();
        all.retain(|one| seen.insert((one.key.clone(), one.header.clone())));
        all
    })
}

/// The rows of a main table.
pub(super) type MainRow = (Option<String>, usize, Option<String>, &'static str, Option<String>);
/// The rows of a reference.
pub(super) type ReferenceRow = (
    Option<String>,
    usize,
    Option<String>,
    Option<String>,
    Option<String>,
    (Option<String>, Option<String>),
    Option<i32>,
);

pub(super) fn main_rows() -> impl Strategy<Value = Vec<MainRow>> {
    let size = prop::sample::select(vec!["s1", "s2", "S1 ", "s9", ""]);
    prop::collection::vec((text(), 0..9_usize, day(), size, text()), 0..12)
}

pub(super) fn reference_rows() -> impl Strategy<Value = Vec<ReferenceRow>> {
    let values = (text(), text());
    let number = prop::option::of(0..3_i32);
    prop::collection::vec((text(), 0..9_usize, day(), day(), text(), values, number), 0..10)
}

/// The tables `main` and `ref` of a schema.
pub(super) struct Tables {
    /// The types of `b` and `k2`, with values of them.
    pub(super) ours: (&'static str, Vec<&'static str>),
    pub(super) theirs: (&'static str, Vec<&'static str>),
    pub(super) main: Vec<MainRow>,
    pub(super) reference: Vec<ReferenceRow>,
    /// What follows the columns of the main table's `id`, of both tables, and what is said once their rows are there, which
    /// may be refused.
    pub(super) key: &'static str,
    pub(super) divided: [&'static str; 2],
    pub(super) then: &'static str,
}

impl Tables {
    /// The rows of both tables.
    fn rows(&self) -> [Vec<Vec<Option<String>>>; 2] {
        let value =
            |values: &[&str], nth: usize| (nth < 8).then(|| values[nth % values.len()].to_owned());
        let Self { ours, theirs, .. } = self;
        let main = self.main.iter().enumerate().map(|(nth, (a, b, day, size, note))| {
            vec![
                Some(nth.to_string()),
                a.clone(),
                value(&ours.1, *b),
                day.clone(),
                Some((*size).to_owned()),
                note.clone(),
                (nth % 3 > 0).then(|| (nth % 4).to_string()),
            ]
        });
        let rows = self.reference.iter().enumerate();
        let reference = rows.map(|(nth, (k, k2, lo, hi, w, (s1, s2), v))| {
            vec![
                Some((nth * 7 % 10).to_string()),
                k.clone(),
                value(&theirs.1, *k2),
                lo.clone(),
                hi.clone(),
                v.map(|v| v.to_string()),
                w.clone(),
                s1.clone(),
                s2.clone(),
                Some((nth % 2 == 0).to_string()),
            ]
        });
        [main.collect(), reference.collect()]
    }

    /// Aliases between rows.
    pub(super) fn aliases(&self, pairs: &Pairs) -> Vec<Alias> {
        let [main, reference] = self.rows();
        if main.is_empty() || reference.is_empty() {
            return Vec::new();
        }
        let cells = |rows: &[Vec<Option<String>>], at: &prop::sample::Index| {
            at.get(rows).iter().map(|cell| cell.clone().unwrap_or_default()).collect()
        };
        let aliases = pairs.iter().zip(1..).map(|((ours, theirs, parts), row)| Alias {
            row,
            parts: parts.clone(),
            main: cells(&main, ours),
            reference: cells(&reference, theirs),
        });
        aliases.collect()
    }

    pub(super) fn create(&self, client: &mut Client, schema: &str) {
        let Self { ours, theirs, key, divided, .. } = self;
        let [main, reference] = self.rows();
        let parts = |table: &str, divided: &str| {
            let part = |nth: usize| {
                format!(
                    "create table {schema}.{table}_{nth} partition of {schema}.{table} for values with (modulus 2, remainder {nth});"
                )
            };
            if divided.is_empty() { String::new() } else { part(0) + &part(1) }
        };
        let create = |table: &str, columns: &str, divided: &str, rows: &[Vec<Option<String>>]| {
            let mut create = format!(
                "create table {schema}.{table} ({columns}) {divided}; {}",
                parts(table, divided)
            );
            if !rows.is_empty() {
                let _ = write!(create, "insert into {schema}.{table} values {}", values(rows));
            }
            create
        };
        let columns = format!(
            "id integer{key}, a text, b {}, day date, size text, note text, n numeric(6, 2)",
            ours.0
        );
        client.batch_execute(&create("main", &columns, divided[0], &main)).unwrap();
        let columns = format!(
            "pos integer, k text, k2 {}, lo date, hi date, v numeric(6, 2), w text, s1 text, s2 text, x boolean",
            theirs.0
        );
        client.batch_execute(&create("ref", &columns, divided[1], &reference)).unwrap();
        let _ = client.batch_execute(self.then);
    }
}

/// Aliases, each from the cells of a main row to those of a row of the reference, by their numbers, about some parts of the key.
pub(super) type Pairs = Vec<(prop::sample::Index, prop::sample::Index, Vec<usize>)>;

pub(super) fn pairs() -> impl Strategy<Value = Pairs> {
    let parts = prop::sample::select(vec![vec![0], vec![0], vec![1], vec![0, 1]]);
    let all = (any::<prop::sample::Index>(), any::<prop::sample::Index>(), parts);
    prop_oneof![Just(Vec::new()), prop::collection::vec(all, 1..6)]
}

/// The plans of both references of the table `ref` of a schema, of which the second may ask for what the first takes.
pub(super) fn asked(
    plans: Vec<(ReferencePlan, Vec<Alias>)>,
    schema: &str,
    chains: bool,
    orders: bool,
) -> Vec<Asked> {
    let asked = plans.into_iter().enumerate().map(|(nth, (mut plan, aliases))| {
        if nth > 0 {
            "more".clone_into(&mut plan.name);
            if chains {
                plan.on = On::parse(&["note = w"]).unwrap();
            }
        }
        let order_by = if orders { vec!["pos".to_owned()] } else { Vec::new() };
        Asked { table: format!("{schema}.ref"), order_by, plan, aliases }
    });
    asked.collect()
}
