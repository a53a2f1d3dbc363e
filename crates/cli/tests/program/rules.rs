//! What is taken, and the rules for keys that several rows hold, or none.

use super::scene::{ON_HIVES, Scene};

/// The main rows of the output, without the columns that they came with.
fn added(scene: &Scene, options: &str) -> Vec<String> {
    let ran = scene.run(&format!("enrich main.csv {options} -q")).ended(0);
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(ran.out.as_bytes());
    let records = reader.records().map(Result::unwrap);
    records.map(|record| record.iter().skip(1).collect::<Vec<_>>().join("|")).collect()
}

fn scene() -> Scene {
    Scene::empty().with("main.csv", "Hive\n1\n2\n3\n4\n\"\"\n").with(
        "seen.csv",
        "Hive,Keeper,Since,Frames\n1,Edda,2025-05-01,8\n2,Corvin,2024-03-01,9\n\
             2,Jorun,2026-03-01,10\n2,Corvin,2025-03-01,10\n3,Orla,,7\n3,Tamsin,2020-01-01,7\n\
             ,Nobody,,0\n",
    )
}

const ON: &str = "--from seen.csv --on Hive --take Keeper";

#[test]
fn a_rule_settles_keys_whose_rows_disagree() {
    for (rule, want) in [
        ("report", ["Edda", "", "", "", ""]),
        ("first", ["Edda", "Corvin", "Orla", "", ""]),
        ("last", ["Edda", "Corvin", "Tamsin", "", ""]),
        ("list", ["Edda", "Corvin; Jorun", "Orla; Tamsin", "", ""]),
        // A blank can't be ranked, so nothing is chosen for hive 3.
        ("highest Since", ["Edda", "Jorun", "", "", ""]),
        ("lowest Since", ["Edda", "Corvin", "", "", ""]),
        // 10 is more than 9, and two keepers have 10.
        ("highest Frames", ["Edda", "", "", "", ""]),
        ("lowest Frames", ["Edda", "Corvin", "", "", ""]),
        ("highest Since | or \"1900-01-01\"", ["Edda", "Jorun", "Tamsin", "", ""]),
    ] {
        let rows = added(&scene(), &format!("{ON} --when-duplicate '{rule}'"));
        assert_eq!(rows[1..], want, "{rule}");
    }
}

#[test]
fn every_repeats_the_main_row() {
    let scene = scene().with("tags.csv", "Hive,Tag\n2,x\n2,x\n1,y\n");
    let ran = scene.run(&format!(
        "enrich main.csv {ON} --when-duplicate every --from tags.csv --on Hive \
         --take 'Tag, @row' --when-duplicate every --when-unmatched drop"
    ));
    let ran = ran.ended(0);
    assert_eq!(
        ran.out,
        "Hive,Keeper,Tag,tags row\n1,Edda,y,3\n2,Corvin,x,1\n2,Corvin,x,2\n2,Jorun,x,1\n\
         2,Jorun,x,2\n2,Corvin,x,1\n2,Corvin,x,2\n\"\",,,\n"
    );
    assert!(ran.err.contains("Wrote 8 rows from 5 main rows to standard output"), "{}", ran.err);
}

#[test]
fn a_rule_decides_on_rows_that_nothing_answers() {
    for (rule, want) in [
        ("blank", &["Edda|matched", "|ambiguous", "|ambiguous", "|unmatched", "|blank key"][..]),
        ("drop", &["Edda|matched", "|ambiguous", "|ambiguous", "|blank key"]),
        ("only", &["|unmatched"]),
        ("fill n/a", &["Edda|matched", "|ambiguous", "|ambiguous", "n/a|unmatched", "|blank key"]),
    ] {
        let rows = added(&scene(), &format!("{ON} --take @status --when-unmatched '{rule}'"));
        assert_eq!(rows[1..], *want, "{rule}");
    }
}

#[test]
fn stop_ends_the_run_without_a_table() {
    for (rule, gate) in [
        ("--when-duplicate stop", "gate `seen.ambiguous = 0` does not hold"),
        ("--when-unmatched stop", "gate `seen.unmatched = 0` does not hold"),
    ] {
        let scene = scene();
        let ran = scene.run(&format!("enrich main.csv {ON} {rule} -o out.csv")).ended(1);
        assert!(ran.err.contains(gate), "{}", ran.err);
        assert!(!scene.path("out.csv").exists());
    }
}

#[test]
fn blanks_match_only_when_asked() {
    let with = |option: &str| added(&scene(), &format!("{ON} {option}")).pop().unwrap();
    assert_eq!((with(""), with("--match-blanks")), (String::new(), "Nobody".to_owned()));
}

#[test]
fn columns_are_taken_in_every_way() {
    let scene = Scene::empty()
        .with("main.csv", "K\n1\n2\n")
        .with("wide.csv", "K,Size 250 g,Size 1 kg,Note,Twin,Twin,K2\n1,a,b,c,d,e,f\n");
    for (take, want) in [
        ("--take 'Size *'", "Size 250 g|Size 1 kg"),
        ("--take '*'", "Size 250 g|Size 1 kg|Note|Twin|Twin (wide)|K2"),
        ("--take '*' --leave 'Note, Twin#1, S*'", "Twin|K2"),
        ("--take '*2*, *e'", "Size 250 g|K2|Note"),
        ("--take 'Size 1 kg .. Twin#1' --leave Note", "Size 1 kg|Twin"),
        ("--take 'Note as First, *' --leave 'T*'", "First|Size 250 g|Size 1 kg|K2"),
        ("--take 'K2, *' --leave 'T*, Size *, Note'", "K2"),
        (
            "--take '@status, @row as R, @table, @count, @key'",
            "wide status|R|wide table|wide count|wide key",
        ),
    ] {
        let rows = added(&scene, &format!("--from wide.csv --on K {take}"));
        assert_eq!(rows[0], want, "{take}");
        if take.contains('@') {
            assert_eq!(rows[1..], ["matched|1|wide.csv|1|1", "unmatched|||0|2"]);
        }
    }
}

#[test]
fn chosen_rows_are_told_and_listed() {
    let scene = Scene::new();
    let ran = scene.run(&format!(
        "enrich harvest.csv {ON_HIVES} --take Keeper --when-duplicate last --lists lists -o out.csv"
    ));
    let ran = ran.ended(0);
    assert!(ran.err.contains("1 of\n  them by the rule `last`.\n"), "{}", ran.err);
    assert_eq!(
        scene.read("lists/chosen.csv"),
        "reference,table,row,line,Apiary,Hive,reference rows,chosen row\nhives,harvest.csv,6,8,Fellside,H-003,5; 6,6\n"
    );
    assert!(scene.read("out.csv").contains("B6,Fellside,H-003,,Tamsin\n"));
    let ran = scene.run(&format!("why harvest.csv --row 6 {ON_HIVES} --when-duplicate last"));
    assert!(ran.ended(0).out.contains("disagree on Keeper; the rule chose row 6"));
}
