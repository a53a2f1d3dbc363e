//! Columns of few values, of which each is stored once: what is taken is what is in the table.

use super::memory::{Kept, Memory, Row, enrichments_by};
use gather_keys_core::findings::Kind;
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate};
use gather_keys_core::table::CellKind;

/// How many rows the reference has; the last thousand hold the keys of the first once more.
const ROWS: usize = 10_000;
const KEYS: usize = 9000;

/// The cells of a row: its key, one of few long values, a value of its own, one of few that come late,
/// and a short one.
fn held(nth: usize) -> Row {
    let line = ["Amberline of the upper valley", "", "Duskveil"][nth % 3].repeat(1 + nth % 100);
    let late = if nth < 6000 { "early bird".to_owned() } else { format!("late {}", nth % 70) };
    let flag = ["y", "n"][nth % 2].to_owned();
    vec![format!("H-{}", nth % KEYS), line, format!("Keeper {nth}"), late, flag]
}

#[test]
fn what_is_taken_stands_in_the_table() {
    let rows: Vec<Row> = (0..ROWS).map(held).collect();
    let plain: usize = rows.iter().flatten().map(String::len).sum();
    let kind = |cell: &str| if cell.is_empty() { CellKind::Untyped } else { CellKind::Text };
    let hives = Memory::new("hives", &["Tag", "Line", "Keeper", "Late", "Flag"], &rows, 700);
    let asked: Vec<usize> = (0..3000).map(|nth| nth * 7919 % (KEYS + 500)).collect();
    let main: Vec<Row> = asked.iter().map(|key| vec![format!("H-{key}")]).collect();
    let main = Memory::new("harvest", &["Hive"], &main, 100).saying(kind);
    for (threads, said) in [(1, false), (2, false), (2, true)] {
        let hives = || if said { hives.again().saying(kind) } else { hives.again() };
        for (take, columns) in
            [("Line, Keeper, Late, Flag", [1, 2, 3, 4]), ("Late, Flag, Line, Keeper", [3, 4, 1, 2])]
        {
            let plan = ReferencePlan {
                name: "hives".to_owned(),
                on: On::parse(&["Hive = Tag"]).unwrap(),
                take: Some(Take::parse(take).unwrap()),
                when_duplicate: WhenDuplicate::parse("last").unwrap(),
                ..ReferencePlan::default()
            };
            let mut made =
                enrichments_by(vec![(&plan, vec![hives()])], &main, threads, |_, _, builder| {
                    builder.dictionaries_from(1 << 21)
                })
                .unwrap();
            let mut kept = Kept::default();
            let found = made.run(&mut main.again(), &mut kept, None, threads).unwrap();
            for (key, row) in asked.iter().zip(&kept.0) {
                let last = if key + KEYS < ROWS { key + KEYS } else { *key };
                let cells = held(last);
                let taken = |&column: &usize| {
                    if *key < KEYS { cells[column].clone() } else { String::new() }
                };
                let expected: Row =
                    [format!("H-{key}")].into_iter().chain(columns.iter().map(taken)).collect();
                assert_eq!(*row, expected);
            }
            // Rows of one key disagree at least on their keeper, whatever is stored once.
            assert_eq!(found.lookups[0].counts.of(Kind::Conflicting), (ROWS - KEYS) as u64);
            // Several threads may have taken in more before the first rows are there to tell.
            let cost = made.lookups().next().unwrap().reference().cost();
            assert!(threads > 1 || cost < plain as u64 / 2, "{cost} of {plain}");
        }
    }
}

#[test]
fn rows_agree_by_their_texts() {
    // The first rows hold texts, those after them numbers of the same texts.
    let rows = |other: &str| -> Vec<Row> {
        let row = |nth: usize| {
            let value = if nth == ROWS - 1 { other } else { "Larkfield" };
            vec![format!("H-{}", nth % KEYS), value.to_owned()]
        };
        (0..ROWS).map(row).collect()
    };
    let main = Memory::new("harvest", &["Hive"], &[], 100);
    for (other, conflicting) in [("Larkfield", 0), ("Fellside", 1)] {
        let plan = ReferencePlan {
            name: "hives".to_owned(),
            on: On::parse(&["Hive = Tag"]).unwrap(),
            take: Some(Take::parse("Site").unwrap()),
            ..ReferencePlan::default()
        };
        let hives = Memory::new("hives", &["Tag", "Site"], &rows(other), 500);
        let mut made = enrichments_by(vec![(&plan, vec![hives])], &main, 2, |_, _, builder| {
            builder.dictionaries_from(1 << 14)
        })
        .unwrap();
        let found = made.run(&mut main.again(), &mut Kept::default(), None, 1).unwrap();
        let counts = &found.lookups[0].counts;
        let reported = (counts.of(Kind::Conflicting), counts.of(Kind::Duplicate));
        assert_eq!(reported, (conflicting, (ROWS - KEYS) as u64 - conflicting));
    }
}
