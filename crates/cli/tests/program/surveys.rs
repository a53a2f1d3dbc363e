//! `survey` and `suggest` on the demo's tables.

use std::fs;
use std::path::Path;

use super::scene::{Scene, snapshot};

/// The folder with the demo's tables.
fn demo() -> Scene {
    let folder = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo"));
    let mut scene = Scene::empty();
    for entry in fs::read_dir(folder).unwrap().flatten().filter(|entry| entry.path().is_file()) {
        let name = entry.file_name().into_string().unwrap();
        scene = scene.with(&name, fs::read(entry.path()).unwrap());
    }
    scene
}

#[test]
fn tables_are_surveyed() {
    let ran = demo().run("survey hives.csv notebook.csv 'co-op.sqlite#members'").ended(0);
    assert_eq!(ran.err, "");
    snapshot("survey", &ran.out);
}

/// The demo's keys are found without being named.
#[test]
fn every_key_of_the_demo_is_proposed() {
    let scene = demo();
    scene
        .run(
            "enrich orders.csv --from jars.csv --on 'Code = any(125 g .. 5 kg)' \
             --take 'Line, @column as Size' -o lines.csv -q",
        )
        .ended(0);
    let mut reported = String::new();
    for tables in [
        "harvest.csv hives.csv",
        "notebook.csv hives.csv",
        "harvest.csv bloom.csv",
        "harvest.csv sites.csv",
        "harvest.csv weather.jsonl",
        "orders.csv jars.csv",
        "lines.csv prices-*.csv",
        "labels.csv hives.csv",
        "keepers.csv new-rounds.csv",
    ] {
        let ran = scene.run(&format!("suggest {tables}")).ended(0);
        reported += &format!("=== {tables}\n{}", ran.out);
    }
    snapshot("suggest", &reported);
}

/// What is proposed does what it says.
#[test]
fn a_proposal_runs() {
    let scene = demo();
    let ran = scene.run("suggest notebook.csv hives.csv --save-plan plan.toml").ended(0);
    assert!(ran.out.contains("matches 49 of 49 rows"), "{}", ran.out);
    let ran = scene.run("enrich plan.toml").ended(0);
    assert!(ran.err.contains("all 49 rows are matched on"), "{}", ran.err);
    let command = scene.run("suggest notebook.csv hives.csv").out;
    let (_, command) = command.split_once("Ready to run\n\n").unwrap();
    scene.shell(&format!("{} --overwrite", command.trim_end())).ended(0);
}

#[test]
fn what_can_t_be_proposed_is_said() {
    let scene = demo();
    let ran = scene.run("suggest scale.csv keepers.csv").ended(1);
    assert!(ran.out.starts_with("No columns of scale.csv and keepers.csv hold the same"));
    let ran = scene.run("suggest - hives.csv").ended(2);
    assert!(ran.err.contains("standard input"), "{}", ran.err);
    let before = scene.files();
    scene.run("suggest harvest.csv hives.csv --save-plan hives.csv").ended(2);
    assert_eq!(scene.files(), before);
}

/// Tables that have little in them, or something odd.
#[test]
fn odd_tables_are_surveyed() {
    let scene = Scene::empty()
        .with("headers.csv", "Tag,Keeper\n")
        .with("one.csv", "Tag,Keeper\nH-1,\n")
        .with("twice.csv", "Tag,Tag,Note\n1,a,\n1,b,\n1,a,\n")
        .with("three.csv", "Valley,Site,No,Kg\nA,x,1,1.5\nA,x,2,1.5\nA,y,1,2.5\nB,x,1,2.5\nB,y,1,1.5\nB,y,2,2.5\n")
        .with("wide.csv", "A header that is longer than there is room for it,B\nsome text that is longer than there is room for it in a line of its own,1\n");
    let mut reported = String::new();
    for table in ["headers.csv", "one.csv", "twice.csv", "three.csv", "wide.csv"] {
        reported += &scene.run(&format!("survey {table}")).ended(0).out;
        reported.push('\n');
    }
    snapshot("survey-odd", &reported);
    for line in reported.lines() {
        assert!(line.chars().count() <= 80, "{line}");
    }
    // Some of the columns, in the order in which they are named.
    let some = scene.run("survey three.csv --columns 'No, V*, Site .. No'").ended(0).out;
    assert!(some.starts_with("three.csv: 6 rows, 3 columns\n\n  No      number"), "{some}");
    assert!(
        some.contains("Valley, Site, No: distinguishes every row")
            || some.contains("No, Valley, Site"),
        "{some}"
    );
    let piped = scene.shell("cat one.csv | gather-keys survey -").ended(0).out;
    assert!(piped.starts_with("standard input: 1 row, 2 columns"), "{piped}");
    // What is found does not depend on the number of threads.
    let with = |threads| scene.run(&format!("survey three.csv --threads {threads}")).ended(0).out;
    assert_eq!(with(1), with(3));
    for (call, said) in [
        ("survey missing.csv", "missing.csv"),
        ("survey headers.csv --header-row 9", "headers.csv"),
        ("survey three.csv --columns Tag", "has no header `Tag`"),
        ("survey three.csv --columns 'Tag *'", "no header of three.csv matches `Tag *`"),
        ("suggest missing.csv one.csv", "missing.csv"),
        ("suggest one.csv 'none-*.csv'", "none-*.csv"),
    ] {
        let ran = scene.run(call).ended(2);
        assert!(ran.err.contains(said) && ran.out.is_empty(), "{call}: {}", ran.err);
    }
}

/// Many columns are shown together, what may be wrong first.
#[test]
fn many_columns_are_surveyed() {
    let mut headers = vec!["Card".to_owned(), "Site".into(), "Keeper".into(), "Seen on".into()];
    headers.extend((1..=30).map(|n| format!("Frame {n} brood")));
    headers.extend((1..=8).map(|n| format!("Week {n} state")));
    headers.extend(["Smoke".into(), "Roof".into(), "Spare 1".into(), "Spare 2".into()]);
    let mut table = headers.join(",") + "\n";
    for n in 0..60 {
        let mut row =
            vec![format!("C-{n:03}"), ["Fellside", "Larkfield ", "fellside"][n % 3].into()];
        row.extend([["Edda Larkhollow", "Tamsin Oxlip"][n % 2].to_owned()]);
        row.push(if n == 7 { "8.6.2026".into() } else { format!("2026-05-{:02}", n % 28 + 1) });
        row.extend((1..=30).map(|frame| match (n, frame) {
            (9, 4) => "n/a".to_owned(),
            _ => (n * frame % 17).to_string(),
        }));
        row.extend((1..=8).map(|week| ["drawn", "capped", ""][(n + week) % 3].to_owned()));
        row.extend(["yes".to_owned(), ["tin", "felt"][n % 2].into(), String::new(), String::new()]);
        table += &(row.join(",") + "\n");
    }
    let scene = Scene::empty().with("cards.csv", &table);
    let ran = scene.run("survey cards.csv").ended(0);
    snapshot("survey-many", &ran.out);
    assert!(ran.out.lines().all(|line| line.chars().count() <= 80), "{}", ran.out);
    let all = scene.run("survey cards.csv --columns '*'").ended(0).out;
    assert!(all.contains("  Frame 17 brood  number"), "{all}");
}
