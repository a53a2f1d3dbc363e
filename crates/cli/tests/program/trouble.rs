//! What is wrong with a call or an input: each error names the place and the fix, ends with
//! status 2, and nothing is written.

use std::fmt::Write;

use super::scene::{HARVEST, ON_HIVES, Scene, snapshot};

fn scene() -> Scene {
    let scene = Scene::new()
        .with("twice.csv", "Tag,Keeper,Tag\n1,Edda,2\n")
        .with("empty.csv", "")
        .with("ragged.csv", "Batch,Hive\n1,2\n\"a\nb\",2\n3\n")
        .with("quote.csv", "Batch,Hive\n1,2\n2,\"H-001\n3,4\n")
        .with("latin.csv", b"Batch,Hive\n1,2\n\xe9,2\n")
        .with("book.xlsx", b"PK\x03\x04rest");
    std::fs::create_dir(scene.path("folder")).unwrap();
    scene
}

/// Runs each call and records its result; a call that leaves any file fails.
fn reported(calls: &[&str]) -> String {
    let scene = scene();
    let before = scene.files();
    let mut text = String::new();
    for call in calls {
        let call = call.replace("HIVES", ON_HIVES);
        let ran = scene.run(&call);
        writeln!(text, "$ gather-keys {call}\n{}", ran.err).unwrap();
        assert_eq!((ran.status, ran.out.as_str()), (2, ""), "{call}");
        assert_eq!(scene.files(), before, "{call}");
        assert!(!scene.path("found").exists(), "{call}");
    }
    text
}

#[test]
fn in_the_call() {
    snapshot(
        "call",
        &reported(&[
            "enrich harvest.csv -o out.csv",
            "enrich harvest.csv --take Keeper HIVES -o out.csv",
            "enrich harvest.csv --from hives.csv --take Keeper -o out.csv",
            "enrich harvest.csv HIVES -o out.csv",
            "enrich harvest.csv --from hives.csv --on 'Apiary = , Hive' --take Keeper -o out.csv",
            "enrich harvest.csv --from hives.csv --on 'Apiary = Site code = Tag' --take Keeper",
            "enrich harvest.csv HIVES --take 'Keeper as' -o out.csv",
            "enrich harvest.csv HIVES --take 'Keeper, \"Line' -o out.csv",
            "enrich harvest.csv HIVES --take Keeper --require 'unmatched under 1%'",
            "enrich harvest.csv HIVES --take Keeper --require 'hive.unmatched = 0'",
            "enrich harvest.csv HIVES --take Keeper --require 'unmatched = few'",
            "enrich harvest.csv HIVES --take Keeper --delimiter ab",
            "enrich harvest.csv HIVES --take Keeper --name a --name b",
            "enrich harvest.csv HIVES --take Keeper HIVES --name hives --take Keeper",
            "enrich harvest.csv HIVES --take Keeper --table hives.csv",
            "enrich - --from - --on Hive --take Keeper",
            "enrich harvest.csv HIVES --take Keeper -q -v",
        ]),
    );
}

#[test]
fn in_the_templates() {
    snapshot(
        "templates",
        &reported(&[
            "enrich harvest.csv --from hives.csv --on 'Hive | numbr = Tag' --take Keeper",
            "enrich harvest.csv --from hives.csv --on '{Apiary}-{Hive = Tag' --take Keeper",
            "enrich harvest.csv --from hives.csv --on 'Hive | last = Tag' --take Keeper",
            "enrich harvest.csv --from hives.csv --on 'Hive | date \"%H:%M\" = Tag' --take Keeper",
            "enrich harvest.csv HIVES --clean 'tidy, fold' --take Keeper",
            "enrich harvest.csv HIVES --clean tidy --clean fold --take Keeper",
            "enrich harvest.csv --blank 'NA,' HIVES --take Keeper",
            "enrich harvest.csv --clean tidy HIVES --take Keeper",
            "why harvest.csv HIVES",
            "why harvest.csv --row 8 HIVES",
            "why harvest.csv --row 0 HIVES",
            "why harvest.csv --key Fellside HIVES",
            "key make harvest.csv '{Hives}' -o out.csv",
            "key make harvest.csv '{Hive' -o out.csv",
            "key make harvest.csv Hive -o harvest.csv --overwrite",
            "key split harvest.csv '{A}/{B}' --column Plaice -o out.csv",
            "key test harvest.csv Hive --require 'unmatched = 0'",
            "key test harvest.csv Hive --require 'hives.repeated = 0'",
            "key test harvest.csv",
        ]),
    );
}

#[test]
fn in_the_rules() {
    snapshot(
        "rules",
        &reported(&[
            "enrich harvest.csv HIVES --take Keeper --when-duplicate newest",
            "enrich harvest.csv HIVES --take Keeper --when-duplicate 'highest Seen'",
            "enrich harvest.csv HIVES --take Keeper --when-duplicate first --when-duplicate last",
            "enrich harvest.csv HIVES --take Keeper --when-unmatched 'drop it'",
            "enrich harvest.csv --match-blanks HIVES --take Keeper",
            "enrich harvest.csv HIVES --take 'Keeper, @colour'",
            "enrich harvest.csv HIVES --take 'Size *'",
            "enrich harvest.csv HIVES --take 'Tag .. Line'",
            "enrich harvest.csv HIVES --take '*' --leave Kepper",
        ]),
    );
}

#[test]
fn in_the_lookups() {
    let calls = &[
        "enrich harvest.csv --from hives.csv --on 'Hive = any(Tag, Tags)' --take Keeper",
        "enrich harvest.csv --from hives.csv --on 'Hive = any(Size *)' --take Keeper",
        "enrich harvest.csv --from hives.csv --on 'Hive = any()' --take Keeper",
        "enrich harvest.csv --from hives.csv --on 'any(Tag)' --take Keeper",
        "enrich harvest.csv HIVES --take 'Keeper, @column'",
        "enrich harvest.csv HIVES --take 'Month {Note}'",
        "enrich harvest.csv HIVES --take '{Nota} as X'",
        "enrich harvest.csv HIVES --take Keeper --within 'Note in Line'",
        "enrich harvest.csv HIVES --take Keeper --within 'Note in Line .. '",
        "enrich harvest.csv HIVES --take Keeper --within 'Note in From .. To'",
        "enrich harvest.csv HIVES --take Keeper --within 'Note in Keeper ..' -o out.csv",
        "enrich harvest.csv HIVES --take Keeper --within 'Note in Tag | after \"-\" ..' --reach '2 days' -o out.csv",
        "enrich harvest.csv HIVES --take Keeper --within 'Note in Tag .. Line' --reach 2",
        "enrich harvest.csv HIVES --take Keeper --reach '2 months'",
        "enrich harvest.csv --from hives.csv --on @row --within 'Note in Tag ..' --take Keeper",
        "enrich harvest.csv --from hives.csv --on '@row, Hive' --take Keeper",
        "enrich harvest.csv --from 'hive-*.csv' --on Hive --take Keeper",
        "enrich harvest.csv --from '[hives.csv' --on Hive --take Keeper",
        "enrich harvest.csv --from '[hr]*.csv' --on Hive --take Keeper",
        "find hives.csv H-001 Fellside --on Tag",
        "find hives.csv H-001 --on 'x = any(Tag)'",
        "find hives.csv H-001 --on Tags",
    ];
    snapshot("lookups", &reported(calls));
}

#[test]
fn in_the_headers() {
    snapshot(
        "headers",
        &reported(&[
            "enrich harvest.csv --from hives.csv --on 'Hives = Tag' --take Keeper -o out.csv",
            "enrich harvest.csv --from hives.csv --on 'Hive = Label' --take Keeper -o out.csv",
            "enrich harvest.csv --from hives.csv --on 'Hive = Tag' --take 'Kepeer' --lists found",
            "enrich harvest.csv --from twice.csv --on 'Hive = Tag' --take Keeper -o out.csv",
            "enrich harvest.csv --from twice.csv --on 'Hive = Tag#3' --take Keeper -o out.csv",
        ]),
    );
}

#[test]
fn in_the_files() {
    snapshot(
        "files",
        &reported(&[
            "enrich harvst.csv HIVES --take Keeper -o out.csv",
            "enrich harvest.csv --from no/such/registry.csv --on Hive --take Keeper -o out.csv",
            "enrich folder HIVES --take Keeper -o out.csv",
            "enrich empty.csv HIVES --take Keeper -o out.csv",
            "enrich harvest.csv --from empty.csv --on Hive --take Keeper -o out.csv",
            "enrich ragged.csv --from hives.csv --on 'Hive = Tag' --take Keeper -o out.csv --lists found",
            "check harvest.csv --from ragged.csv --on Hive",
            "enrich quote.csv --from hives.csv --on 'Hive = Tag' --take Keeper -o out.csv",
            "enrich latin.csv --encoding utf-8 --from hives.csv --on 'Hive = Tag' --take Keeper -o out.csv",
            "enrich book.xlsx --from hives.csv --on 'Hive = Tag' --take Keeper -o out.csv",
        ]),
    );
}

#[test]
fn in_the_output() {
    snapshot(
        "output",
        &reported(&[
            "enrich harvest.csv HIVES --take Keeper -o hives.csv",
            "enrich harvest.csv HIVES --take Keeper -o hives.csv --overwrite",
            "enrich harvest.csv HIVES --take Keeper -o folder/../harvest.csv --overwrite",
            "enrich harvest.csv HIVES --take Keeper -o no/such/out.csv",
            "enrich harvest.csv HIVES --take Keeper -o folder",
            "enrich harvest.csv HIVES --take Keeper -o harvest.csv/out.csv",
            "check harvest.csv HIVES --take Keeper --lists harvest.csv",
            "enrich harvest.csv HIVES --take Keeper -o folder/unused.csv --lists folder/../folder",
            "enrich harvest.csv HIVES --take Keeper -o /proc/out.csv",
        ]),
    );
}

/// A list can't replace an input either, and standard output can't lead into one.
#[cfg(unix)]
#[test]
fn an_input_is_never_written_to() {
    let scene = Scene::new().with("unmatched.csv", HARVEST);
    let before = scene.files();
    for line in [
        format!("gather-keys check unmatched.csv {ON_HIVES} --lists . --overwrite"),
        format!("gather-keys enrich harvest.csv {ON_HIVES} --take Keeper >> harvest.csv"),
        format!("gather-keys enrich harvest.csv {ON_HIVES} --take Keeper >> hives.csv"),
        format!(
            "ln harvest.csv other.csv; gather-keys enrich harvest.csv {ON_HIVES} --take Keeper \
             -o other.csv --overwrite; status=$?; rm other.csv; exit $status"
        ),
    ] {
        let ran = scene.shell(&line).ended(2);
        assert!(ran.err.contains("is an input of this run and is never written to"), "{}", ran.err);
        assert_eq!(scene.files(), before, "{line}");
    }
}

/// A full disk leaves no half file.
#[cfg(target_os = "linux")]
#[test]
fn a_full_disk_is_said() {
    let scene = Scene::new();
    let before = scene.files();
    let args = format!("harvest.csv {ON_HIVES} --take Keeper");
    for line in [
        format!("gather-keys enrich {args} -o /dev/full"),
        format!("gather-keys enrich {args} > /dev/full"),
        format!("gather-keys enrich {args} --require 'unmatched = 1' > /dev/full"),
    ] {
        let ran = scene.shell(&line).ended(2);
        assert!(
            ran.err.contains("can't be written: the disk is full; free some space"),
            "{}",
            ran.err
        );
        assert_eq!(scene.files(), before);
    }
    assert!(std::fs::metadata("/dev/full").is_ok_and(|facts| !facts.is_file()));
}
