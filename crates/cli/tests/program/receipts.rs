//! Receipts: what has changed since the run before, and what was changed by hand.

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

/// What a run says after what it found.
fn end(ran: &Ran) -> &str {
    let marks = ["Since the last run", "Nothing has changed", "out.csv was"];
    // A check says it on standard output.
    let said = if ran.err.is_empty() { &ran.out } else { &ran.err };
    let at = marks.iter().filter_map(|mark| said.find(mark)).min();
    &said[at.unwrap_or(0)..]
}

#[test]
fn the_same_again_is_the_same() {
    let scene = scene();
    let before = scene.files();
    let ran = scene.run("enrich weekly.toml").ended(0);
    assert!(end(&ran).starts_with("Nothing has changed since the last run.\n"), "{}", ran.err);
    assert_eq!(scene.files(), before);
    let ran = scene.run("check weekly.toml").ended(0);
    assert!(end(&ran).starts_with("Nothing has changed"), "{}", ran.err);
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
    let mut reported = String::new();
    for (name, content) in moves {
        let scene = scene().with("fixes.csv", "Batch,header,value,note\nB1,Keeper,Me,\n");
        let checked = scene.with(name, &content);
        let ran = checked.run("check weekly.toml").ended(0);
        reported += &format!("{name} another\n{}\n", end(&ran));
    }
    snapshot("moved", &reported);
}

#[test]
fn changes_made_by_hand_are_never_lost() {
    let out = scene().read("out.csv");
    let edited = out
        .replace("B1,Fellside,H-001,,Edda", "B1,Fellside,H-001,,Edith")
        .replace("B6,Fellside,H-003,,,ambiguous", "B6,Fellside,H-003,see me,Tamsin,ambiguous");
    let mut reported = String::new();
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
            } else if what == "a row gone" {
                // A row that is gone has no cell to keep; what the file was is kept.
                assert!(
                    ran.err.replace("\n  ", " ").contains("there is nothing to keep"),
                    "{}",
                    ran.err
                );
                assert_eq!(scene.read("out.csv"), out);
                assert!(scene.files().values().any(|kept| *kept == content.as_bytes()));
                continue;
            } else {
                let ran = ran.ended(0);
                assert!(ran.err.contains("Kept 3 changes made by hand as corrections"));
                let status = content.replace("matched", "corrected");
                assert_eq!(scene.read("out.csv").lines().nth(1), status.lines().nth(1));
                reported += &format!("{what}, kept:\n{}\n", scene.read("fixes.csv"));
                // From now on they are corrections, and nothing is another than before.
                let call = "enrich weekly.toml --corrections fixes.csv";
                let ran = scene.run(call).ended(0);
                assert!(end(&ran).starts_with("Nothing has changed"), "{}", ran.err);
                continue;
            }
            reported += &format!("{what}, {edits}:\n{}\n", end(&ran));
        }
        let scene = scene().with("out.csv", &content);
        scene.run("enrich weekly.toml --edits discard").ended(0);
        assert_eq!(scene.read("out.csv"), out);
        let is_copy = |kept: &Vec<u8>| *kept == content.as_bytes();
        assert!(scene.files().values().any(is_copy), "{what}: no copy is kept");
    }
    // Where the tables have moved at the same place, it can't be known what was changed.
    let scene = scene().with("out.csv", &edited).with("hives.csv", HIVES.replace("Edda", "Ida"));
    let ran = scene.run("enrich weekly.toml").ended(1);
    reported += &format!("two rows, and the tables:\n{}\n", end(&ran));
    snapshot("edits", &reported);
}

#[test]
fn another_form_is_no_change() {
    let written = scene().read("out.csv");
    assert!(!written.contains([';', '\t']));
    let forms = [
        written.replace("B4,Larkfield,", "\"B4\",\"Larkfield\","),
        format!("\u{feff}{}", written.replace(',', ";")),
        written.replace(',', "\t"),
    ];
    for form in forms {
        let scene = scene().with("out.csv", form);
        let ran = scene.run("enrich weekly.toml").ended(0);
        let said = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
        let want = "out.csv was saved in another form after the last run, but no cell was changed.";
        assert!(said.contains(want), "{said}");
        assert_eq!(scene.read("out.csv"), written);
    }
}

#[test]
fn a_table_that_is_gone_is_looked_for() {
    let mut reported = String::new();
    for change in ["", "Amberline,Edda,H-009,Fellside\n"] {
        let scene = scene();
        std::fs::create_dir(scene.path("archive")).unwrap();
        std::fs::rename(scene.path("hives.csv"), scene.path("archive/2026.csv")).unwrap();
        let content = scene.read("archive/2026.csv") + change;
        let scene = scene.with("archive/2026.csv", content);
        reported += &scene.run("enrich weekly.toml").ended(2).err;
    }
    let scene = scene();
    std::fs::remove_file(scene.path("hives.csv")).unwrap();
    reported += &scene.run("enrich weekly.toml").ended(2).err;
    let squeezed = reported.split_whitespace().collect::<Vec<_>>().join(" ");
    // When a file was last written to differs from run to run.
    let parts = squeezed.split("last written ").enumerate();
    let reported: String =
        parts.map(|(nth, part)| if nth == 0 { part } else { &part[20..] }).collect();
    let squeezed = reported.replace(" error:", "\nerror:");
    snapshot("lost", &squeezed);
}

#[test]
fn a_receipt_of_a_large_table_is_small() {
    let rows = (0..60_000).map(|n| format!("B{n},Fellside,H-{n}\n")).collect::<Vec<_>>().concat();
    let scene = scene().with("harvest.csv", format!("Batch,Apiary,Hive\n{rows}"));
    scene.run("enrich weekly.toml").ended(0);
    let size = scene.read("run.json").len();
    assert!(size < 64 << 10, "{size} bytes");
    // Of 59,996 new unmatched keys, those that are kept are compared.
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

/// Hand edits stay with their rows when other rows change, go or come, are sorted or filtered.
#[test]
fn edits_are_paired_by_key() {
    let hives = |keepers: [&str; 5]| {
        let rows = (1..).zip(keepers).map(|(n, keeper)| format!("H{n},{keeper}\n"));
        format!("Hive,Keeper\n{}", rows.collect::<String>())
    };
    let main = |batches: &[u8]| {
        let rows = batches.iter().map(|n| format!("B{n},H{n},note {n}\n"));
        format!("Batch,Hive,Note\n{}", rows.collect::<String>())
    };
    let plan = "output = \"out.csv\"\nreceipt = \"run.json\"\ncorrections = \"fixes.csv\"\nquiet = true\n\
                edits = \"keep\"\n[main]\ntable = \"m.csv\"\n[[reference]]\ntable = \"r.csv\"\non = \"Hive\"\n\
                take = \"Keeper\"\n";
    let keepers = ["Edda", "Ida", "Jorun", "Corvin", "Brenna"];
    let scene = || {
        let scene = Scene::empty()
            .with("plan.toml", plan)
            .with("m.csv", main(&[1, 2, 3, 4, 5]))
            .with("r.csv", hives(keepers));
        scene.run("enrich plan.toml").ended(0);
        let out = scene.read("out.csv");
        let edited =
            out.replace("note 2", "two").replace("note 3", "three").replace("note 4", "four");
        scene.with("out.csv", edited)
    };
    // A keeper is renamed meanwhile: its row is unclear, so nothing is written.
    let ran = scene().with("r.csv", hives(["Edda", "Ida", "Tamsin", "Corvin", "Brenna"]));
    let before = ran.files();
    let reported = ran.run("enrich plan.toml").ended(1);
    assert!(
        reported.err.contains("row 3: changed, and this run would write another value too"),
        "{}",
        reported.err
    );
    assert_eq!(ran.files(), before);
    // A batch is gone meanwhile, and another row's keeper renamed: the other edits hold.
    let scene_now = scene()
        .with("m.csv", main(&[1, 2, 4, 5]))
        .with("r.csv", hives(["Ana", "Ida", "Jorun", "Corvin", "Brenna"]));
    let out = scene_now.read("out.csv").replace("B3,H3,three,Jorun\n", "B3,H3,note 3,Jorun\n");
    let scene_now = scene_now.with("out.csv", out);
    scene_now.run("enrich plan.toml").ended(0);
    assert_eq!(
        scene_now.read("out.csv"),
        "Batch,Hive,Note,Keeper\nB1,H1,note 1,Ana\nB2,H2,two,Ida\nB4,H4,four,Corvin\nB5,H5,note 5,Brenna\n"
    );
    assert_eq!(scene_now.read("fixes.csv").lines().count(), 3);
    // Sorted and filtered, with one edit.
    let scene_now = scene().with(
        "out.csv",
        "Batch,Hive,Note,Keeper\nB5,H5,note 5,Brenna\nB3,H3,three,Jorun\nB1,H1,note 1,Edda\n",
    );
    scene_now.run("enrich plan.toml").ended(0);
    assert!(
        scene_now.read("fixes.csv").ends_with("H3,Note,three,kept from out.csv\n"),
        "{}",
        scene_now.read("fixes.csv")
    );
    // A key itself is no correction.
    let scene_now = scene();
    let out = scene_now.read("out.csv").replace("B5,H5,", "B5,H1,");
    let reported = scene_now.with("out.csv", out).run("enrich plan.toml").ended(2);
    assert!(
        reported.err.contains("the change of `Hive` in row 5 can't be kept"),
        "{}",
        reported.err
    );
}

/// Changes that are kept hold in the next run, since the plan names them then; all else in it stays.
#[test]
fn kept_changes_are_entered_into_the_plan() {
    let plan = format!("# Weekly.\n{PLAN}");
    for (options, file, line) in [
        ("--edits keep", "weekly-corrections.csv", "corrections = \"weekly-corrections.csv\"\n"),
        ("--edits keep --corrections my.csv", "my.csv", "corrections = \"my.csv\"\n"),
    ] {
        let scene = scene().with("weekly.toml", &plan);
        let edited =
            scene.read("out.csv").replace("B1,Fellside,H-001,,Edda", "B1,Fellside,H-001,,Ida");
        let scene = scene.with("out.csv", &edited);
        let ran = scene.run(&format!("enrich weekly.toml {options}")).ended(0);
        let said = ran.err.replace("\n  ", " ");
        assert!(said.contains(&format!("as corrections in {file}.")), "{said}");
        assert!(said.contains("Entered them into weekly.toml"), "{said}");
        assert!(scene.read(file).contains("B1,Keeper,Ida,kept from out.csv"), "{options}");
        let now = scene.read("weekly.toml");
        assert_eq!(now.replacen(line, "", 1), plan, "{now}");
        // The next run needs no option, and finds nothing changed.
        let ran = scene.run("enrich weekly.toml").ended(0);
        assert!(ran.err.contains("Nothing has changed"), "{}", ran.err);
        assert!(scene.read("out.csv").contains("B1,Fellside,H-001,,Ida"));
    }
    // A run that does not end well enters nothing.
    let scene = scene().with("weekly.toml", &plan);
    let edited = scene.read("out.csv").replace("Keeper", "Kept by");
    let scene = scene.with("out.csv", &edited);
    scene.run("enrich weekly.toml --edits keep").ended(1);
    assert_eq!(scene.read("weekly.toml"), plan);
}

/// An output that a person left in pieces is named with what is wrong in it, and there is a way past it.
#[test]
fn an_output_that_is_no_table_any_more_can_be_replaced() {
    let call = "enrich m.csv --from r.csv --on Hive --take Keeper -o out.csv --receipt run.json -q";
    let scene =
        Scene::empty().with("m.csv", "Batch,Hive\nB1,H1\n").with("r.csv", "Hive,Keeper\nH1,Edda\n");
    scene.run(call).ended(0);
    let (written, broken) = (scene.read("out.csv"), "Batch,Hive,Keeper\nB1\n");
    let scene = scene.with("out.csv", broken);
    for edits in ["", " --edits keep --corrections fixes.csv"] {
        let reported = scene.run(&format!("{call}{edits}")).ended(2);
        assert!(reported.err.contains("--edits discard"), "{}", reported.err);
        assert!(reported.err.contains("row 1 (line 2)"), "{}", reported.err);
        assert_eq!(scene.read("out.csv"), broken);
    }
    scene.run(&format!("{call} --edits discard")).ended(0);
    assert_eq!(scene.read("out.csv"), written);
    assert!(scene.files().values().any(|content| content == broken.as_bytes()), "no copy was kept");
}

#[test]
fn an_output_that_was_sorted_or_filtered_is_recognised() {
    for rows in [12, 9_000] {
        let row = |n: usize| format!("B{n},H{},{}\n", n % 7, n * 37 % 1000);
        let main =
            |rows: usize| format!("Batch,Hive,Kg\n{}", (0..rows).map(row).collect::<String>());
        let scene = Scene::empty()
            .with("m.csv", main(rows))
            .with("r.csv", "Hive,Keeper\nH1,Edda\nH2,Ida\n");
        let call =
            "enrich m.csv --from r.csv --on Hive --take Keeper -o out.csv --receipt run.json";
        scene.run(&format!("{call} -q")).ended(0);
        let out = scene.read("out.csv");
        let mut lines: Vec<&str> = out.lines().skip(1).collect();
        lines.sort_by_key(|line| line.split(',').nth(2).map(str::to_owned));
        lines.reverse();
        lines.truncate(rows - 2);
        let sorted = format!("Batch,Hive,Kg,Keeper\n{}\n", lines.join("\n"));
        let scene = scene.with("out.csv", &sorted);
        let ran = scene.run(call).ended(1);
        assert!(ran.err.contains("2 rows are gone"), "{}", ran.err);
        assert!(ran.err.contains("the rows are in another order"), "{}", ran.err);
        assert_eq!(scene.read("out.csv"), sorted);
        let ran = scene.run(&format!("{call} --edits keep --corrections fixes.csv")).ended(0);
        assert!(ran.err.contains("was sorted or filtered after the last run"), "{}", ran.err);
        assert!(!scene.path("fixes.csv").exists());
        assert_eq!(scene.read("out.csv"), out);
        assert!(scene.files().values().any(|kept| kept == sorted.as_bytes()), "no copy is kept");
        // An edit in a large table is found where nothing else has moved.
        let edited = out.replace(&format!("B5,H5,{}", 5 * 37), "B5,H5,1000");
        let scene = scene.with("out.csv", edited);
        scene.run(&format!("{call} --edits keep --corrections fixes.csv -q")).ended(0);
        assert_eq!(
            scene.read("fixes.csv"),
            "Batch,header,value,note\nB5,Kg,1000,kept from out.csv\n"
        );
    }
}

/// Corrections keep the form that a spreadsheet has saved them in.
#[test]
fn corrections_keep_their_form() {
    let scene = scene();
    let fixes = "Batch;header;value;note\r\n\"B7\";Keeper;M\u{fc}ller;\"said; so\"\r\n";
    let bytes: Vec<u8> = fixes.chars().map(|one| one as u8).collect();
    let scene = scene.with("fixes.csv", &bytes);
    let call = "enrich weekly.toml --corrections fixes.csv -q";
    scene.run(call).ended(0);
    let out = scene.read("out.csv");
    assert!(out.contains("M\u{fc}ller"));
    let scene = scene
        .with("out.csv", out.replace("B1,Fellside,H-001,,Edda", "B1,Fellside,H-001,,\u{d6}zil"));
    scene.run(&format!("{call} --edits keep")).ended(0);
    let kept = std::fs::read(scene.path("fixes.csv")).unwrap();
    let mut want = bytes;
    want.extend(b"B1;Keeper;\xd6zil;kept from out.csv\r\n");
    assert_eq!(kept, want);
}

/// The columns that runs and globs bring are recorded, and named when they change.
#[test]
fn columns_that_come_or_go_are_named_and_gated() {
    let plan = "output = \"out.csv\"\nreceipt = \"run.json\"\n[main]\ntable = \"m.csv\"\n[[reference]]\n\
                table = \"r.csv\"\non = \"K\"\ntake = \"A .. C, Size *\"\n";
    let scene = || {
        let scene = Scene::empty()
            .with("plan.toml", plan)
            .with("m.csv", "K\nx\n")
            .with("r.csv", "K,A,B,C,Size 1,Z\nx,1,2,3,4,5\n");
        scene.run("enrich plan.toml --require 'columns = same'").ended(0);
        scene
    };
    let mut reported = String::new();
    for headers in [
        "K,A,B,C,Size 1,Z",
        "K,A,Z,C,Size 1,B",
        "K,A,B,Size 1,C,Z",
        "K,B,A,C,Size 1,Z",
        "K,A,B,C,Size 1,Size 2",
    ] {
        let scene = scene().with("r.csv", format!("{headers}\nx,1,2,3,4,5\n"));
        let before = scene.read("out.csv");
        let ran = scene.run("enrich plan.toml --require 'r.columns = same'");
        assert_eq!(ran.status, i32::from(headers != "K,A,B,C,Size 1,Z"), "{headers}");
        assert!(ran.status == 0 || scene.read("out.csv") == before);
        let at = ran
            .err
            .find("Since the run")
            .or_else(|| ran.err.find("Nothing has changed"))
            .unwrap_or(0);
        reported += &format!("{headers}\n{}\n", &ran.err[at..]);
    }
    for (gate, said) in [
        ("columns = other", "columns can't be `other`"),
        ("x.columns = same", "the plan has no reference `x`"),
    ] {
        let ran = scene().run(&format!("enrich plan.toml --require '{gate}'")).ended(2);
        assert!(ran.err.contains(said), "{}", ran.err);
    }
    let ran = scene().run("check m.csv --from r.csv --on K --require 'columns = same'").ended(2);
    assert!(
        ran.err.contains("add\n       --receipt FILE") || ran.err.contains("--receipt FILE"),
        "{}",
        ran.err
    );
    snapshot("columns-moved", &reported);
}
