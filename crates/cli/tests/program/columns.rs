//! The columns of the output: chosen, put in order, renamed and left out, in every format.

use super::scene::{ON_HIVES, Scene, snapshot};

const CHOSEN: &str =
    "--take 'Keeper, Line' --columns 'Batch, Keeper as Beekeeper, Hive, *' --drop Note";

#[test]
fn columns_go_out_as_chosen_with_their_bytes() {
    let scene = Scene::new();
    let ran = scene.run(&format!("enrich harvest.csv {ON_HIVES} {CHOSEN}")).ended(0);
    snapshot("columns-chosen", &format!("{}\n{}", ran.out, ran.err));
    // Rows keep their bytes where the main table's columns come first; others keep those of each cell.
    let first = "--take 'Keeper, Line' --columns 'Batch .. Note, Line' --drop Keeper -q";
    let ran = scene.run(&format!("enrich harvest.csv {ON_HIVES} {first}")).ended(0);
    assert!(ran.out.contains("B2,\"Fellside\",H-002,\"two buckets:\none open\",Duskveil\n"));
    // Also where some of them come once more.
    let again =
        "--take Line --columns 'Batch, Apiary, Hive, Note, Line, Hive as Again, Note as Last' -q";
    let ran = scene.run(&format!("enrich harvest.csv {ON_HIVES} {again}")).ended(0);
    let want = "B2,\"Fellside\",H-002,\"two buckets:\none open\",Duskveil,H-002,\"two buckets:\none open\"\n";
    assert!(ran.out.contains(want), "{}", ran.out);
    let run_again =
        "--take Line --columns 'Batch,Apiary,Hive,Note,Apiary as A,Hive as H,Note as N' -q";
    let ran = scene.run(&format!("enrich harvest.csv {ON_HIVES} {run_again}")).ended(0);
    let row = "B2,\"Fellside\",H-002,\"two buckets:\none open\"";
    let want = format!("{row},{}\n", row.strip_prefix("B2,").unwrap());
    assert!(ran.out.contains(&want), "{}", ran.out);
    let ran = scene.run(&format!("enrich harvest.csv {ON_HIVES} --take Line --columns Line -q"));
    assert_eq!(
        ran.ended(0).out,
        "Line\nAmberline\nDuskveil\nGoldsedge\n\"\"\n\"\"\nAmberline\nAmberline\n"
    );
}

/// Whatever the format, the table that comes back is the one that text has, with the types of its columns.
#[test]
fn every_format_has_the_same_columns() {
    let scene = Scene::empty()
        .with("m.csv", "Id,Day,Kg,Note\nK1,2026-05-19,15.2,a\nK2,2026-05-20,7,b\n")
        .with("r.csv", "Id,Since,Round\nK2,2021-10-03,4\nK1,2020-01-01,9\n");
    let chosen = "--from r.csv --on Id --take 'Since, Round' --update 'Note = Round' \
                  --columns 'Since, Note as No, Kg, *' --drop Day -q";
    let want = "Since,No,Kg,Id,Round\n2020-01-01,9,15.2,K1,9\n2021-10-03,4,7,K2,4\n";
    let out =
        |main: &str, more: &str| scene.run(&format!("enrich {main} {chosen} {more}")).ended(0).out;
    assert_eq!(out("m.csv", ""), want);
    for name in ["o.xlsx", "o.json", "o.jsonl", "o.sqlite#o", "o.parquet", "o.arrow", "o.csv.gz"] {
        out("m.csv", &format!("-o {name}"));
        let back = "--from r.csv --on Id --take 'Since as S' --drop S -q";
        assert_eq!(scene.run(&format!("enrich {name} {back}")).ended(0).out, want, "{name}");
        // The same from a main table of the format.
        let main = format!("m-{name}");
        let call = "enrich m.csv --from r.csv --on Id --take 'Since as S' --drop S -q";
        scene.run(&format!("{call} -o {main}")).ended(0);
        assert_eq!(out(&main, ""), want, "{main}");
    }
}

#[test]
fn corrections_and_edits_know_the_columns_of_the_output() {
    let scene = Scene::new().with("c.csv", "Batch,header,value,note\nB4,Beekeeper,Jorun,phoned\n");
    let call = format!(
        "enrich harvest.csv {ON_HIVES} {CHOSEN} --corrections c.csv --receipt r.json -o out.csv"
    );
    scene.run(&call).ended(0);
    let written = scene.read("out.csv");
    assert!(written.contains("B4,Jorun,H-009,Larkfield,\n"), "{written}");
    let edited = written.replace("B1,Edda,", "B1,Orla,");
    let scene = scene.with("out.csv", edited);
    let ran = scene.run(&call).ended(1);
    assert!(ran.err.contains("Beekeeper"), "{}", ran.err);
    let ran = scene.run(&format!("{call} --edits keep")).ended(0);
    assert!(ran.err.contains("Kept 1 change made by hand"), "{}", ran.err);
    assert!(scene.read("c.csv").contains("B1,Beekeeper,Orla,kept from out.csv"));
    assert!(scene.read("out.csv").contains("B1,Orla,H-001"));
}

#[test]
fn a_plan_has_the_keys_and_errors_show_their_place() {
    let plan = "columns = 'Line, Batsh'\ndrop = 'Note'\n[main]\ntable = 'harvest.csv'\n\
                [[reference]]\ntable = 'hives.csv'\non = 'Apiary = Site code, Hive = Tag'\ntake = 'Line'\n";
    let scene = Scene::new().with("p.toml", plan).with("q.toml", plan.replace("Batsh", "Batch"));
    let misspelt = scene.run("enrich p.toml").ended(2).err;
    let ran = scene.run("enrich q.toml -q").ended(0);
    assert!(ran.out.starts_with("Line,Batch\nAmberline,B1\n"), "{}", ran.out);
    let ran = scene.run("enrich q.toml -q --columns Batch").ended(0);
    assert!(ran.out.starts_with("Batch\nB1\n"), "{}", ran.out);
    let in_place = scene.run("enrich q.toml --in-place").ended(2).err;
    let both = scene.run("enrich q.toml --drop Batch").ended(2).err;
    let none = scene.run("enrich q.toml --columns '*' --drop '*'").ended(2).err;
    let twice = scene.run("enrich q.toml --columns 'Batch, Line as Batch'").ended(2).err;
    snapshot("columns-refused", &[misspelt, in_place, both, none, twice].concat());
}

/// A table without headers gives its columns names of their own.
#[test]
fn a_table_without_headers_is_put_in_order_too() {
    let scene = Scene::empty().with("m.csv", "K1;a\nK2;b\n").with("r.csv", "Id,V\nK1,x\n");
    let call = "enrich m.csv --no-header --from r.csv --on 'column 1 = Id' --take V -q";
    let ran = scene.run(&format!("{call} --columns 'V, *'")).ended(0);
    assert_eq!(ran.out, "x;K1;a\n;K2;b\n");
}
