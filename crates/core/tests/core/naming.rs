//! Columns that main rows name by their values, and searches for records.

use gather_keys_core::enrich::shown_columns;
use gather_keys_core::findings::Kind;
use gather_keys_core::lookup::{Hits, Wanted};
use gather_keys_core::plan::{On, ReferencePlan, Take};
use gather_keys_core::table::Headers;
use gather_keys_core::template::Template;
use proptest::prelude::*;

use super::memory::{Kept, Memory, Row, enrichment, rows};

/// What each of these values takes of a grid, or the kind of trouble.
fn named(template: &str, headers: &[&str], values: &[&str]) -> Vec<String> {
    let plan = ReferencePlan {
        name: "grid".to_owned(),
        on: On::parse(&["K"]).unwrap(),
        take: Some(Take::parse(&format!("{template} as X, @status")).unwrap()),
        ..ReferencePlan::default()
    };
    let cells: Vec<&str> = ["k"].into_iter().chain(headers[1..].iter().copied()).collect();
    let grid = Memory::new("grid", headers, &rows(&[&cells]), 1);
    let main: Vec<Vec<&str>> = values.iter().map(|value| vec!["k", value]).collect();
    let main: Vec<&[&str]> = main.iter().map(Vec::as_slice).collect();
    let mut main = Memory::new("main", &["K", "M"], &rows(&main), 4);
    let mut enrichment = enrichment(&plan, &main, grid, 1).unwrap();
    let mut kept = Kept::default();
    let found = enrichment.run(&mut main, &mut kept, None, 1).unwrap();
    let samples = found.lookups[0].samples(Kind::NoHeader).iter();
    let near = samples.filter_map(|sample| sample.header.clone());
    let near: Vec<(String, Vec<String>)> = near.collect();
    let reported = |row: &Row| match near.iter().find(|(header, _)| row[1] == *header) {
        Some((_, near)) => format!("near {}", near.join(" ")),
        None => format!("{} {}", row[2], row[3]).trim_start().to_owned(),
    };
    kept.0.iter().map(reported).collect()
}

#[test]
fn a_value_names_a_header_as_a_person_would() {
    let grid = ["K", "May", "June", "size 1", "Size  1", "Twin", "Twin"];
    let cases = [
        ("May", "May matched"),
        ("may ", "May matched"),
        ("JUNE", "June matched"),
        ("size 1", "size 1 matched"),
        ("Twin#2", "Twin matched"),
        ("", "blank key"),
        ("Mai", "near May"),
    ];
    let values = cases.map(|(value, _)| value);
    assert_eq!(named("{M}", &grid, &values), cases.map(|(_, reported)| reported.to_owned()));
    // Of two equal headers, neither is used for a third spelling.
    assert_eq!(named("{M}", &grid, &["SIZE 1"]), ["near size 1 Size  1"]);
    // The key itself can't be named, and what is around the braces belongs to the header.
    assert_eq!(named("{M}", &grid, &["K"]), ["near "]);
    assert_eq!(named("size {M}", &grid, &["1"]), ["size 1 matched"]);
}

#[test]
fn columns_to_show_are_chosen_as_they_are_taken() {
    let headers = Headers::new("t", ["A", "Size 1", "Size 2", "B"]);
    for (take, want) in [
        ("B, A", vec![3, 0]),
        ("Size *", vec![1, 2]),
        ("A .. Size 2", vec![0, 1, 2]),
        ("*", vec![0, 1, 2, 3]),
        ("B, *, @row", vec![3, 0, 1, 2]),
    ] {
        assert_eq!(shown_columns(&Take::parse(take).unwrap(), &headers).unwrap(), want, "{take}");
    }
    assert!(shown_columns(&Take::parse("C").unwrap(), &headers).is_err());
}

fn numbers(hits: &Hits) -> Vec<u64> {
    hits.rows.iter().map(|hit| hit.row).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// A search finds the rows that hold the wanted value; without any, the nearest rows, nearest first.
    #[test]
    fn records_are_found(
        rows in prop::collection::vec(
            prop::collection::vec("(h-0[0-3]|fell(side|moor)?|x|)", 2), 0..12),
        wanted in prop::collection::vec("(h-0[0-5]|fell(side|moor)|x)", 1..3),
        most in 1_usize..4,
    ) {
        let mut table = Memory::new("table", &["A", "B"], &rows, 5);
        let hits = Wanted::anywhere(&wanted).search(&mut table, most).unwrap();
        let holds = |row: &&Row| wanted.iter().all(|value| row.contains(value));
        let held = || (1..).zip(&rows).filter(|(_, row)| holds(row)).map(|(nth, _)| nth);
        prop_assert_eq!(hits.count, held().count() as u64);
        prop_assert_eq!(numbers(&hits), held().take(most).collect::<Vec<u64>>());
        prop_assert!(hits.count == 0 || hits.nearest.is_empty());
        prop_assert!(hits.nearest.windows(2).all(|pair| pair[0].likeness >= pair[1].likeness));

        // By a key, steps go over the value as they go over the cells.
        let part = |text: &str| Template::parse("on", text).unwrap();
        let mut table = Memory::new("table", &["A", "B"], &rows, 5);
        let key = vec![part("A | upper").bind(&table.headers).unwrap()];
        let hits = Wanted::key(key, &wanted[..1]).search(&mut table, 20).unwrap();
        let held = (1..).zip(&rows).filter(|(_, row)| row[0] == wanted[0]).map(|(nth, _)| nth);
        prop_assert_eq!(numbers(&hits), held.collect::<Vec<u64>>());
    }
}
