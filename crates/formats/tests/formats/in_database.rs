//! Enrichments inside a database, against those of the program's own engine, on a real server.

mod both_ways;
mod generated;
mod hostile_names;
mod rare_cases;
mod types;

use gather_keys_core::findings::Correction;
use gather_keys_core::plan::Columns;

use both_ways::{Job, compare, schema};
use generated::{
    Tables, asked, corrections, main_rows, pairs, plain_plan, plan, reference_rows, typed,
};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), ..ProptestConfig::default() })]

    /// Whatever is asked of whatever tables, the table and the findings are those of the program's own engine.
    #[test]
    fn a_database_answers_as_the_engine_does(
        (ours, theirs) in (typed(), typed()),
        (main, reference) in (main_rows(), reference_rows()),
        plans in prop::collection::vec((plan(), pairs()), 1..3),
        (chains, has_key, orders) in any::<(bool, bool, bool)>(),
        chosen in prop::bool::weighted(0.2),
        corrections in corrections(),
    ) {
        let Some((server, mut client)) = schema("within") else { return Ok(()) };
        let key = if has_key { " primary key" } else { "" };
        let tables = Tables { ours, theirs, main, reference, key, divided: ["", ""], then: "" };
        tables.create(&mut client, "within");
        let plans = plans.into_iter().map(|(plan, pairs)| (plan, tables.aliases(&pairs))).collect();
        let asked = asked(plans, "within", chains, orders);
        let columns = if chosen { Columns::parse("note as Remark, id, *").unwrap() } else { Vec::new() };
        let takes_w = asked[0].plan.take.iter().flatten().any(|one| format!("{one:?}").contains("\"w\""));
        let is_there = |one: &Correction| one.header != "w" || takes_w;
        let corrections = corrections.into_iter().filter(is_there).collect();
        let outcome = compare(&server, "within.main", &Job { asked, columns, corrections, ..Job::default() });
        prop_assert!(outcome.is_ok(), "{}", outcome.unwrap_err());
    }

    /// The same where rows of the reference are joined where they are, in one table or in parts, and whether the server sees to it
    /// that no two have one key or not.
    #[test]
    fn rows_that_stay_answer_as_the_engine_does(
        (ours, theirs, is_one_type) in (typed(), typed(), prop::bool::weighted(0.8)),
        (main, reference) in (main_rows(), reference_rows()),
        plans in prop::collection::vec((plain_plan(), Just(Vec::new())), 1..3),
        chains in any::<bool>(),
        divided in prop::sample::select(vec![
            ["", ""],
            ["", ""],
            ["partition by hash (a)", "partition by hash (k)"],
            ["", "partition by hash (k2)"],
        ]),
        is_unique in any::<bool>(),
    ) {
        let Some((server, mut client)) = schema("staying") else { return Ok(()) };
        let then = if is_unique { "alter table staying.ref add unique (k2)" } else { "" };
        let theirs = if is_one_type { ours.clone() } else { theirs };
        let tables = Tables { ours, theirs, main, reference, key: "", divided, then };
        tables.create(&mut client, "staying");
        let outcome = compare(&server, "staying.main", &asked(plans, "staying", chains, false).into());
        prop_assert!(outcome.is_ok(), "{}", outcome.unwrap_err());
    }
}

/// How many tables are tried.
fn cases() -> u32 {
    std::env::var("CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(60)
}
