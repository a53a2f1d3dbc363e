//! Small promises about what is typed, written and reported, each of which was broken once.

use super::scene::{ON_HIVES, Scene};

fn scene() -> Scene {
    Scene::new()
}

#[test]
fn a_gate_that_does_not_hold_reports_that_nothing_was_written() {
    let scene = scene();
    let call = format!("enrich harvest.csv {ON_HIVES} --take Keeper -o out.csv --report r.json");
    scene.run(&format!("{call} --require 'unmatched = 0'")).ended(1);
    let report: serde_json::Value = serde_json::from_str(&scene.read("r.json")).unwrap();
    assert_eq!(report["written"]["appeared"], false);
    assert_eq!(report["written"]["rows"], 0);
    assert!(!scene.path("out.csv").exists());
}

#[test]
fn advice_names_the_columns_that_are_blank() {
    // Of the two columns of the key only the apiary is blank in a row.
    let ran = scene().run(&format!("check harvest.csv {ON_HIVES}")).ended(0);
    assert!(ran.out.contains("\n      fill in Apiary where blank in harvest.csv."), "{}", ran.out);
    let scene =
        scene().with("two.csv", "A,B,C\n,x,1\n  ,x,2\nx,y,3\n").with("r.csv", "A,B,C\nx,y,3\n");
    let ran = scene.run("check two.csv --from r.csv --on 'A, B, C'").ended(0);
    assert!(ran.out.contains("fill in A where blank"), "{}", ran.out);
    // A text that counts as blank, and a blank that a step makes.
    let ran =
        scene.run("check two.csv --blank y --from r.csv --on 'A, B, C | after \"9\"'").ended(0);
    assert!(ran.out.contains("fill in A, B and C where blank"), "{}", ran.out);
}

#[test]
fn what_is_printed_can_be_typed() {
    let rows = "B,Fellside,H-001,\n".repeat(1_800);
    let scene = scene().with("harvest.csv", format!("Batch,Apiary,Hive,Note\n{rows}"));
    let why = scene.run(&format!("why harvest.csv --row 1,753 {ON_HIVES}")).ended(0);
    assert_eq!(why.out, scene.run(&format!("why harvest.csv --row 1753 {ON_HIVES}")).ended(0).out);
    for row in ["1,75", "x", "", ",123", "1.753"] {
        let ran = scene.run(&format!("why harvest.csv --row '{row}' {ON_HIVES}"));
        assert_eq!(ran.status, 2, "{row}");
    }
}

#[test]
fn options_and_parts_that_say_too_much_are_refused() {
    let scene = scene().with("book.csv", "x\n");
    let call = format!("enrich harvest.csv {ON_HIVES} --take Keeper");
    for (arguments, said) in [
        (
            "enrich harvest.csv --header-row 1 --header-row 2 --from hives.csv --on Hive=Tag",
            "a second --header-row",
        ),
        (
            "enrich harvest.csv --from hives.csv --on Hive=Tag --header-row 1 --header-row 1",
            "a second --header-row",
        ),
        (&format!("{call} -o o.xlsx#")[..], "o.xlsx# names no part that can be written"),
        (&format!("{call} -o x.sqlite#a#b"), "x.sqlite#a#b names no part that can be written"),
        (&format!("{call} --format excel"), "workbook, database, parquet or arrow"),
        (
            "enrich x.xlsx#a#b --from hives.csv --on Hive=Tag --take Keeper",
            "the file x.xlsx#a#b does not exist",
        ),
    ] {
        let before = scene.files();
        let ran = scene.run(arguments).ended(2);
        assert!(ran.err.replace("\n       ", " ").contains(said), "{arguments}: {}", ran.err);
        assert_eq!(scene.files(), before, "{arguments}");
    }
}

#[test]
fn headers_of_lists_come_from_the_key_itself() {
    let scene = Scene::empty().with("m.csv", "Code\nx\n").with("r.csv", "\"a = b\",c\ny,x\nz,z\n");
    scene.run("check m.csv --from r.csv --on 'Code = any(\"a = b\", c)' --lists l").ended(0);
    let headers = scene.read("l/unused.csv").lines().next().unwrap().to_owned();
    assert!(headers.contains("any(\"\"a = b\"\", c) (compared)"), "{headers}");
}

/// Cells of other tables are shown by a spreadsheet, and not run, when that is asked for.
#[test]
fn formulas_from_other_tables_can_be_guarded() {
    let scene = Scene::empty()
        .with("m.csv", "K,Own,Old\na,=1+1,x\nb,,y\n")
        .with("r.csv", "K,V,W\na,=cmd(),-5\nb,@sum,-x\nc,\"+1,5\",+44\n");
    let call = "enrich m.csv --from r.csv --on K --take 'V, W' --update 'Old = V' --append-unused";
    let plain =
        "K,Own,Old,V,W\na,=1+1,=cmd(),=cmd(),-5\nb,,@sum,@sum,-x\nc,,\"+1,5\",\"+1,5\",+44\n";
    assert_eq!(scene.run(&format!("{call} -q")).ended(0).out, plain);
    let guarded = "K,Own,Old,V,W\na,=1+1,'=cmd(),'=cmd(),-5\nb,,'@sum,'@sum,'-x\nc,,\"'+1,5\",\"'+1,5\",+44\n";
    assert_eq!(scene.run(&format!("{call} -q --guard-formulas")).ended(0).out, guarded);
    let simple =
        scene.run("enrich m.csv --from r.csv --on K --take V -q --guard-formulas").ended(0);
    assert_eq!(simple.out, "K,Own,Old,V\na,=1+1,x,'=cmd()\nb,,y,'@sum\n");
}

/// Rows that the next run would add once more are reported.
#[test]
fn appended_keys_that_are_lost_again_are_reported() {
    let scene = Scene::empty().with("m.csv", "Hive\nH-1\n").with("r.csv", "Tag\n1\n2\n");
    let call =
        "enrich m.csv --from r.csv --on 'Hive | after \"-\" = Tag' --append-unused -o out.csv";
    let ran = scene.run(call).ended(0);
    assert!(
        ran.err.contains("1 of them has a key that the main table's steps would change"),
        "{}",
        ran.err
    );
    let ran = scene.run(&call.replace("Hive | after \"-\"", "Hive | digits | number")).ended(2);
    assert!(ran.err.contains("already exists"));
    let ran = scene
        .run("enrich m.csv --from r.csv --on 'Hive | digits = Tag' --append-unused -o o2.csv")
        .ended(0);
    assert!(!ran.err.contains("of them"), "{}", ran.err);
}

#[test]
fn tables_are_named_the_same_from_every_folder() {
    let scene = Scene::empty()
        .with("m.csv", "K\na\nb\n")
        .with("r-1.csv", "K,V\na,1\n")
        .with("r-2.csv", "K,V\nb,2\n");
    std::fs::create_dir(scene.path("sub")).unwrap();
    let plan = "[main]\ntable = \"m.csv\"\n[[reference]]\ntable = \"r-*.csv\"\non = \"K\"\ntake = \"@table\"\n";
    let scene = scene.with("plan.toml", plan);
    let here = scene.run("enrich plan.toml -q").ended(0).out;
    assert_eq!(here, "K,r table\na,r-1.csv\nb,r-2.csv\n");
    assert_eq!(scene.shell("cd sub && gather-keys enrich ../plan.toml -q").ended(0).out, here);
}

/// What a fix promises comes true where blank parts match too, and pairs that are proposed can be approved.
#[test]
fn fixes_and_pairs_hold_with_blank_parts() {
    let scene = Scene::empty()
        .with("m.csv", "A,B\n,x1\nq,Y2\n,zzzzz9\n")
        .with("r.csv", "A,B,V\n,X1,1\nq,y2,2\n,zzzzy9,3\n");
    let call = "enrich m.csv --from r.csv --on A --on B --take V --match-blanks";
    let ran = scene.run(&format!("{call} --lists l -o o.csv")).ended(0);
    assert!(
        ran.err.contains("2 of 3 unmatched rows") || ran.err.contains("2 of 3 rows would match"),
        "{}",
        ran.err
    );
    let ran = scene.run(&call.replace("--on B", "--on 'B | fold'")).ended(0);
    assert_eq!(ran.out, "A,B,V\n,x1,1\nq,Y2,2\n,zzzzz9,\n");
    let nearest = scene.read("l/nearest.csv");
    let row = nearest.lines().find(|line| line.contains("zzzzz9")).unwrap();
    // Approved in a spreadsheet that separates cells by semicolons.
    let approved = nearest.replace(row, &format!("{row}yes")).replace(',', ";");
    let scene = scene.with("pairs.csv", &approved);
    let ran = scene.run(&format!("{call} --aliases pairs.csv")).ended(0);
    assert!(ran.out.ends_with(",zzzzz9,3\n"), "{}\n{}", ran.out, ran.err);
    // The next list keeps the approval, and the form.
    std::fs::write(scene.path("l/nearest.csv"), &approved).unwrap();
    scene.run(&format!("{call} --lists l -o o.csv --overwrite -q")).ended(0);
    assert_eq!(scene.read("l/nearest.csv"), approved);
}
