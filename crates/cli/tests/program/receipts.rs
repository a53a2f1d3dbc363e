//! Receipts: what has moved since the run before, and what was changed by hand.

use super::scene::{HARVEST, HIVES, Ran, Scene, snapshot};

const PLAN: &str = "\
output = \"out.csv\"
receipt = \"run.json\"

[main]
table = \"harvest.csv\"

[[reference]]
table = \"hives.csv\"
on = \"Apiary = Site code, Hive = Tag\"
take = \"Keeper, @status\"
";

/// A folder in which the plan has been run once.
fn scene() -> Scene {
    let scene = Scene::new().with("weekly.toml", PLAN);
    scene.run("enrich weekly.toml").ended(0);
    scene
}

/// What a run says behind what it found.
fn end(ran: &Ran) -> &str {
    let marks = ["Since the run before", "Nothing has moved", "out.csv was"];
    let at = marks.iter().filter_map(|mark| ran.err.find(mark)).min();
    &ran.err[at.unwrap_or(0)..]
}

#[test]
fn the_same_again_is_the_same() {
    let scene = scene();
    let before = scene.files();
    let ran = scene.run("enrich weekly.toml").ended(0);
    assert!(end(&ran).starts_with("Nothing has moved since the run before.\n"), "{}", ran.err);
    assert_eq!(scene.files(), before);
    let ran = scene.run("check weekly.toml").ended(0);
    assert!(end(&ran).starts_with("Nothing has moved"), "{}", ran.err);
    assert_eq!(scene.files(), before);
}

#[test]
fn what_has_moved_is_told() {
    let moves = [
        ("harvest.csv", format!("{HARVEST}B8,Fellside,H-777,\nB9,Fellside,H-777,\n")),
        ("harvest.csv", HARVEST.replace("two buckets", "three buckets")),
        ("hives.csv", format!("{HIVES}Amberline,Edda,H-002,Fellside\n")),
        ("hives.csv", HIVES.replace("Line,", "Queen line,")),
        ("hives.csv", HIVES.replace("Goldsedge,Jorun,H-001,Larkfield\n", "")),
        ("hives.csv", "Tag,Site code,Keeper,Line\nH-001,Fellside,Edda,A\n".to_owned()),
        ("weekly.toml", PLAN.replace("Keeper, @status", "Keeper")),
        ("weekly.toml", format!("# A word more.\n{PLAN}")),
        ("weekly.toml", PLAN.replace("output", "corrections = \"fixes.csv\"\noutput")),
    ];
    let mut told = String::new();
    for (name, content) in moves {
        let scene = scene().with("fixes.csv", "Batch,header,value,note\nB1,Keeper,Me,\n");
        let checked = scene.with(name, &content);
        let ran = checked.run("check weekly.toml").ended(0);
        told += &format!("{name} another\n{}\n", end(&ran));
    }
    snapshot("moved", &told);
}

#[test]
fn changes_made_by_hand_are_never_lost() {
    let out = scene().read("out.csv");
    let edited = out
        .replace("B1,Fellside,H-001,,Edda", "B1,Fellside,H-001,,Edith")
        .replace("B6,Fellside,H-003,,,ambiguous", "B6,Fellside,H-003,see me,Tamsin,ambiguous");
    let mut told = String::new();
    for (what, content) in [
        ("two rows", edited.clone()),
        ("a row gone", out.replace("B4,Larkfield,H-009,,,unmatched\n", "")),
        ("a header", out.replace("Keeper", "Kept by")),
    ] {
        for edits in ["refuse", "keep --corrections fixes.csv"] {
            let scene = scene().with("out.csv", &content);
            let before = scene.files();
            let ran = scene.run(&format!("enrich weekly.toml --edits {edits}"));
            if ran.status == 1 {
                assert_eq!(scene.files(), before, "{what} {edits}");
            } else {
                let ran = ran.ended(0);
                assert!(ran.err.contains("Kept 3 changes made by hand as corrections"));
                let status = content.replace("matched", "corrected");
                assert_eq!(scene.read("out.csv").lines().nth(1), status.lines().nth(1));
                told += &format!("{what}, kept:\n{}\n", scene.read("fixes.csv"));
                // From now on they are corrections, and nothing is another than before.
                let call = "enrich weekly.toml --corrections fixes.csv";
                let ran = scene.run(call).ended(0);
                assert!(end(&ran).starts_with("Nothing has moved"), "{}", ran.err);
                continue;
            }
            told += &format!("{what}, {edits}:\n{}\n", end(&ran));
        }
        let scene = scene().with("out.csv", &content);
        scene.run("enrich weekly.toml --edits discard").ended(0);
        assert_eq!(scene.read("out.csv"), out);
        let is_copy = |kept: &Vec<u8>| *kept == content.as_bytes();
        assert!(scene.files().values().any(is_copy), "{what}: no copy is kept");
    }
    // Where the tables have moved at the same place, it can't be told what was changed.
    let scene = scene().with("out.csv", &edited).with("hives.csv", HIVES.replace("Edda", "Ida"));
    let ran = scene.run("enrich weekly.toml").ended(1);
    told += &format!("two rows, and the tables:\n{}\n", end(&ran));
    snapshot("edits", &told);
}

#[test]
fn another_form_is_no_change() {
    let scene = scene();
    let quoted = scene.read("out.csv").replace("B4,Larkfield,", "\"B4\",\"Larkfield\",");
    let scene = scene.with("out.csv", quoted);
    let ran = scene.run("enrich weekly.toml").ended(0);
    assert!(ran.err.contains("out.csv was saved in another form since, but no cell was changed."));
}

#[test]
fn a_table_that_is_gone_is_looked_for() {
    let mut told = String::new();
    for change in ["", "Amberline,Edda,H-009,Fellside\n"] {
        let scene = scene();
        std::fs::create_dir(scene.path("archive")).unwrap();
        std::fs::rename(scene.path("hives.csv"), scene.path("archive/2026.csv")).unwrap();
        let content = scene.read("archive/2026.csv") + change;
        let scene = scene.with("archive/2026.csv", content);
        told += &scene.run("enrich weekly.toml").ended(2).err;
    }
    let scene = scene();
    std::fs::remove_file(scene.path("hives.csv")).unwrap();
    told += &scene.run("enrich weekly.toml").ended(2).err;
    let squeezed = told.split_whitespace().collect::<Vec<_>>().join(" ");
    // When a file was last written to differs from run to run.
    let parts = squeezed.split("last written ").enumerate();
    let told: String = parts.map(|(nth, part)| if nth == 0 { part } else { &part[20..] }).collect();
    let squeezed = told.replace(" error:", "\nerror:");
    snapshot("lost", &squeezed);
}

#[test]
fn a_receipt_of_a_large_table_is_small() {
    let rows = (0..60_000).map(|n| format!("B{n},Fellside,H-{n}\n")).collect::<Vec<_>>().concat();
    let scene = scene().with("harvest.csv", format!("Batch,Apiary,Hive\n{rows}"));
    scene.run("enrich weekly.toml").ended(0);
    let size = scene.read("run.json").len();
    assert!(size < 64 << 10, "{size} bytes");
    // Of 59,996 new unmatched keys those that are kept are compared.
    let ran = scene.with("harvest.csv", format!("Batch,Apiary,Hive\n{rows}B,Fellside,new\n"));
    let ran = ran.run("enrich weekly.toml").ended(0);
    assert!(end(&ran).contains("harvest.csv has 1 more row, 60,001 in all"), "{}", ran.err);
}

/// A table without headers is noticed cell by cell too.
#[test]
fn changes_in_a_table_without_headers_are_told() {
    let scene = Scene::empty().with("m.csv", "a,1\nb,2\n").with("r.csv", "K,V\na,x\nb,y\n");
    let call = "enrich m.csv --no-header --from r.csv --on 'Column 1 = K' --take V -o out.csv \
                --receipt run.json";
    scene.run(call).ended(0);
    assert_eq!(scene.read("out.csv"), "a,1,x\nb,2,y\n");
    let scene = scene.with("out.csv", "a,1,x\nb,2,z\n");
    let ran = scene.run(call).ended(1);
    assert!(ran.err.contains("row 2, V: y became z"), "{}", ran.err);
}
