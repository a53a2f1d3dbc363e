//! Templates and steps on the command line, the `key` commands, and `why`.

use super::scene::{ON_HIVES, Scene, snapshot};

const NOTEBOOK: &str = "\
Page,Site,No,Weight
1, fellside ,h-1,\"1,5\"
2,FELLSIDE,2,7
3,Larkfield,?,7
4,Larkfield,H-O01,7
5,n/a,H-001,7
";

const ON_NOTEBOOK: &str = "--from hives.csv --clean 'tidy | fold' \
    --on 'Site = Site code, No | after \"-\" | or \"2\" | number = Tag | after \"-\" | number'";

fn scene() -> Scene {
    Scene::new().with("notebook.csv", NOTEBOOK)
}

#[test]
fn steps_make_messy_keys_match_and_malformed_ones_a_finding() {
    let scene = scene();
    let ran = scene.run(&format!(
        "enrich --blank 'n/a, ?' notebook.csv {ON_NOTEBOOK} --take Line -o out.csv --lists lists"
    ));
    snapshot("steps-summary", &ran.ended(0).err);
    assert_eq!(
        scene.read("out.csv"),
        "Page,Site,No,Weight,Line\n1, fellside ,h-1,\"1,5\",Amberline\n2,FELLSIDE,2,7,Duskveil\n\
         3,Larkfield,?,7,\n4,Larkfield,H-O01,7,\n5,n/a,H-001,7,\n"
    );
    let mut lists = String::new();
    for name in ["unmatched", "blank-key", "malformed", "duplicate", "unused"] {
        lists += &format!("--- {name}\n{}", scene.read(&format!("lists/{name}.csv")));
    }
    snapshot("steps-lists", &lists);
}

#[test]
fn collapsed_keys_and_malformed_reference_rows_are_told() {
    let scene = Scene::empty().with("main.csv", "Hive\n1\n2\n").with(
        "other.csv",
        "Tag,Line\nH-1,Amberline\nh-001,Amberline\nH-x,Duskveil\nH-2,Duskveil\n",
    );
    let on = "--from other.csv --on 'Hive = Tag | after \"-\" | number' --take Line";
    let ran = scene.run(&format!("check main.csv {on} --lists lists --require 'collapsed = 0'"));
    let ran = ran.ended(1);
    assert!(
        ran.out.contains("collapsed       1 key       rows 1, 2: H-1 | h-001\n"),
        "{}",
        ran.out
    );
    assert!(ran.out.contains("1 row of other has a malformed key"), "{}", ran.out);
    assert!(ran.out.contains("does not hold: other: 1 of 2 keys collapsed (50.0%)"));
    assert_eq!(
        scene.read("lists/collapsed.csv"),
        "reference,table,row,line,Tag,\"Tag | after \"\"-\"\" | number (compared)\",Line\n\
         other,other.csv,1,2,H-1,1,Amberline\nother,other.csv,2,3,h-001,1,Amberline\n"
    );
    assert_eq!(
        scene.read("lists/malformed.csv"),
        "reference,table,row,line,column,step,value\nother,other.csv,3,4,Tag,number,x\n"
    );
}

#[test]
fn columns_on_one_side_match_a_code_on_the_other() {
    let scene =
        Scene::new().with("labels.csv", "Label,Jar\nFellside-Am01,250 g\nLarkfield-Go01,1 kg\n");
    let ran = scene.run(
        "enrich hives.csv --from labels.csv \
         --on '{Site code}-{Line | first 2}{Tag | last 2} = Label' --take Jar -q",
    );
    let out = ran.ended(0).out;
    let jars: Vec<&str> = out.lines().skip(1).map(|row| row.rsplit(',').next().unwrap()).collect();
    assert_eq!(jars, ["250 g", "", "1 kg", "1 kg", "", "", "", ""]);
}

#[test]
fn every_header_is_reached() {
    let headers = ["a\nb", "say \"x\"", "a, b", "{x}", "🐝 = | #", "as", "Twin", "Twin", " Lone "];
    let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
    let row = |cells: &[String]| cells.join(",") + "\n";
    let names: Vec<String> = headers.iter().map(|name| quoted(name)).collect();
    let values: Vec<String> = (0..headers.len()).map(|nth| format!("v{nth}")).collect();
    let scene = Scene::empty()
        .with("main.csv", row(&names) + &row(&values))
        .with("other.csv", row(&names) + &row(&values));
    for (nth, name) in headers.iter().enumerate() {
        let name = match nth {
            6 => "Twin#1".to_owned(),
            7 => "Twin#2".to_owned(),
            8 => "lone".to_owned(),
            _ => quoted(name),
        };
        for on in [name.clone(), format!("{{{name} | trim}} = {name}")] {
            let mut program = scene.program();
            let take = format!("{name} as New");
            program.args([
                "enrich",
                "main.csv",
                "--from",
                "other.csv",
                "--on",
                &on,
                "--take",
                &take,
            ]);
            let output = program.output().unwrap();
            let out = String::from_utf8(output.stdout).unwrap();
            assert!(out.ends_with(&format!(",v{nth}\n")), "{name}: {out}");
        }
    }
}

#[test]
fn why_explains_each_outcome() {
    let scene = scene();
    let mut reported = String::new();
    for call in [
        format!("why harvest.csv --row 1 {ON_HIVES} --take 'Keeper, Line'"),
        format!("why harvest.csv --row 4 {ON_HIVES} --take Keeper"),
        format!("why harvest.csv --row 5 {ON_HIVES} --take Keeper"),
        format!("why harvest.csv --row 6 {ON_HIVES}"),
        format!("why harvest.csv --key Larkfield H-001 {ON_HIVES}"),
        format!("why --blank '?' notebook.csv --row 4 {ON_NOTEBOOK}"),
        format!("why --blank '?' notebook.csv --row 3 {ON_NOTEBOOK}"),
        "why notebook.csv --row 2 --from hives.csv --on '{Site | upper}/{No} = {Site code}/{Tag}'"
            .to_owned(),
    ] {
        let ran = scene.run(&call).ended(0);
        reported += &format!("$ gather-keys {call}\n{}{}", ran.err, ran.out);
    }
    snapshot("why", &reported);
}

#[test]
fn key_commands_tell_what_they_did() {
    let scene = scene().with("joined.csv", "Id,Place\n1,a/b\n2,a/b/c\n3,ab\n4,\n5,é/ñ\n");
    let mut reported = String::new();
    for (call, status) in [
        ("key test hives.csv 'Site code' Tag", 0),
        (
            "key test hives.csv '{Site code}/{Tag}/{Keeper}' --require 'repeated = 0' --blank Tamsin",
            1,
        ),
        ("key test notebook.csv Page", 0),
        ("key test notebook.csv Page -q --require 'repeated = 0' --require 'malformed = 0'", 0),
        ("key test notebook.csv 'No | number' Site --clean tidy", 0),
        ("key make hives.csv '{Site code}/{Tag | last 3}' --as Line -o made.csv", 0),
        ("key make notebook.csv '{Weight | number \",\"},{Page}' -o commas.csv", 0),
        ("key split joined.csv '{Place}/{Part}' --column place -o parts.csv", 0),
    ] {
        let ran = scene.run(call).ended(status);
        reported += &format!("$ gather-keys {call}\n{}{}\n", ran.err, ran.out);
    }
    for name in ["made.csv", "commas.csv", "parts.csv"] {
        reported += &format!("--- {name}\n{}", scene.read(name));
    }
    snapshot("key", &reported);
}
