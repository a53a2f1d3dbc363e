//! Tables that are neither text nor workbooks: JSON and databases.

use rusqlite::Connection;

use super::scene::{Scene, snapshot};

const MAIN: &str = "Apiary,Hive\nFellside,007\nFellside,12345678901234567\nLarkfield,+44\n";

const LINES: &str = r#"{"Site": "Fellside", "Tag": "007", "Queen": {"line": "Goldsedge", "year": 2024}, "Kg": 12.0}

{"Tag": 12345678901234567, "Site": "Fellside", "Marks": ["red", 2], "Kg": 1e-7, "Active": true}
{"Site": "Larkfield", "Tag": "+44", "Queen": {"line": null}, "Kg": 0.10}
"#;

const TAKE: &str = "--on 'Apiary = Site, Hive = Tag'";

#[test]
fn json_is_a_table() {
    let document = format!(
        "[{}]",
        LINES.split('\n').filter(|line| !line.is_empty()).collect::<Vec<_>>().join(",")
    );
    let scene = Scene::empty()
        .with("m.csv", MAIN)
        .with("hives.jsonl", LINES)
        .with("hives.json", &document)
        .with("export.json", format!("{{\"made\": 2026, \"data\": {{\"hives\": {document}}}}}"))
        .with("bad.jsonl", "{\"a\": 1}\n{\"a\": \n")
        .with("list.jsonl", "[1, 2]\n")
        .with("none.json", "{\"a\": {\"b/c\": [1]}, \"d\": []}")
        .with("deep.json", "[".repeat(100_000));
    let take = "--take 'Queen.line .. Kg, Marks, Active, @row'";
    let first = scene.run(&format!("enrich m.csv --from hives.jsonl {TAKE} {take}")).ended(0);
    for table in ["hives.json", "export.json#/data/hives"] {
        let call = format!("enrich m.csv --from {table} --name hives {TAKE} {take} -q");
        assert_eq!(scene.run(&call).ended(0).out, first.out, "{table}");
    }
    let mut reported = first.out;
    let call = "enrich hives.jsonl --from m.csv --on 'Site = Apiary, Tag = Hive' --take @row -q";
    reported += &scene.run(call).ended(0).out;
    for table in ["bad.jsonl", "list.jsonl", "none.json", "deep.json", "export.json#/data"] {
        let ran = scene.run(&format!("check m.csv --from {table} --on Hive=a"));
        reported += &format!("\n{}", ran.ended(2).err);
    }
    snapshot("json", &reported);
}

#[test]
fn a_database_is_a_table() {
    let scene = Scene::empty().with("m.csv", MAIN);
    let database = Connection::open(scene.path("co-op.sqlite")).unwrap();
    database
        .execute_batch(
            "create table \"Hive list\" (Site text, Tag, Kg real, Seen blob);
             insert into \"Hive list\" values ('Fellside', '007', 12.0, x'00ff'),
                 ('Fellside', 12345678901234567, 0.1, null), ('Larkfield', '+44', 1e-7, 'x');
             create view heavy as select Site, Tag from \"Hive list\" where Kg > 1;",
        )
        .unwrap();
    drop(database);
    let call = format!("enrich m.csv --from co-op.sqlite {TAKE} --take 'Kg, Seen, @row'");
    let ran = scene.run(&call).ended(0);
    let mut reported = format!("{}\n{}", ran.err, ran.out);
    let call = format!("enrich m.csv --from co-op.sqlite#heavy {TAKE} --take '@row' -q");
    reported += &scene.run(&call).ended(0).out;
    reported += &scene.run("check m.csv --from co-op.sqlite#nope --on Hive=a").ended(2).err;
    let whole = std::fs::read(scene.path("co-op.sqlite")).unwrap();
    let scene = scene.with("cut.sqlite", &whole[..whole.len() / 3]);
    reported += &scene.run("check m.csv --from cut.sqlite --on Hive=a").ended(2).err;
    snapshot("database", &reported);
    assert_eq!(std::fs::read(scene.path("co-op.sqlite")).unwrap(), whole);
}

/// A table of each format in one run.
#[test]
fn all_formats_meet() {
    let scene = Scene::empty()
        .with("m.csv", MAIN)
        .with("kg.jsonl", LINES)
        .with("names.csv", b"Ort;K\xfcrzel\nFellside;F\nLarkfield;L\n");
    let database = Connection::open(scene.path("co-op.db")).unwrap();
    database.execute_batch("create table hives (Tag, Keeper); insert into hives values ('007', 'Edda'), (12345678901234567, 'Jorun');").unwrap();
    drop(database);
    let mut workbook = rust_xlsxwriter::Workbook::new();
    let sheet = workbook.add_worksheet();
    for (row, cells) in
        [["Keeper", "Round"], ["Edda", "north"], ["Jorun", "west"]].iter().enumerate()
    {
        sheet.write_row(row as u32, 0, *cells).unwrap();
    }
    workbook.save(scene.path("rounds.xlsx")).unwrap();
    let call = "enrich m.csv --from kg.jsonl --on 'Hive = Tag' --take Kg \
                --from co-op.db --on 'Hive = Tag' --take Keeper --from rounds.xlsx --on Keeper --take Round \
                --from names.csv --on 'Apiary = Ort' --take Kürzel -q";
    let want = "Apiary,Hive,Kg,Keeper,Round,Kürzel\nFellside,007,12,Edda,north,F\n\
                Fellside,12345678901234567,0.0000001,Jorun,west,F\nLarkfield,+44,0.1,,,L\n";
    assert_eq!(scene.run(&call.replace('\n', " ")).ended(0).out, want);
}

/// What is written as JSON is the same table when it is read again, kinds included.
#[test]
fn json_is_written_too() {
    let scene =
        Scene::empty().with("m.csv", "Id,Code,Note\n1,007,\n2,12.50,\"say \"\"x\"\"\ny\"\n3,1,\n");
    let scene = scene.with(
        "t.jsonl",
        "{\"Id\": \"1\", \"Kg\": 12345678901234567, \"On\": true}\n{\"Id\": 2, \"Kg\": \"7\"}\n",
    );
    let call = "enrich m.csv --from t.jsonl --on Id --take 'Kg, On, @row' -q";
    scene.run(&format!("{call} -o out.jsonl")).ended(0);
    scene.run(&format!("{call} -o out.json")).ended(0);
    scene.run(&format!("{call} -o out.jsonl.gz")).ended(0);
    let lines = scene.read("out.jsonl");
    snapshot("json-written", &format!("{lines}\n{}", scene.read("out.json")));
    let text = scene.run(call).ended(0).out;
    for (table, n) in [("out.jsonl", 0), ("out.json", 1), ("out.jsonl.gz", 2)] {
        let to = format!("back-{n}.csv");
        let back = format!("enrich {table} --from m.csv --on Id --take Note -o {to} -q");
        scene.run(&back).ended(0);
        let back = scene.read(&to);
        let rows: Vec<&str> = text.lines().collect();
        assert!(back.starts_with(&format!("{},Note (m)\n", rows[0])), "{back}");
        assert!(back.contains("1,007,,12345678901234567,true,1,"), "{back}");
    }
    // An empty table is an empty array.
    let none = scene.with("m.csv", "Id\n");
    none.run("enrich m.csv --from t.jsonl --on Id --take Kg -o none.json -q").ended(0);
    assert_eq!(none.read("none.json"), "[]\n");
}

/// A database gets the table when the run holds, keeps its others, and is no output of a receipt.
#[test]
fn a_table_is_written_into_a_database() {
    let hives = "Site,Tag,Queen\nFellside,007,Goldsedge\nLarkfield,+44,Duskveil\n";
    let scene = Scene::empty().with("m.csv", MAIN).with("hives.csv", hives);
    let enrich = format!("enrich m.csv --from hives.csv {TAKE} --take Queen");
    let new = scene.run(&format!("{enrich} -o new.sqlite")).ended(0);
    assert!(new.err.contains("Wrote 3 rows to new.sqlite"), "{}", new.err);
    let rows = |file: &str, table: &str| -> Vec<(String, String, Option<String>)> {
        let database = Connection::open(scene.path(file)).unwrap();
        let mut all = database.prepare(&format!("select * from \"{table}\"")).unwrap();
        let row = |row: &rusqlite::Row<'_>| Ok((row.get(0)?, row.get(1)?, row.get(2)?));
        all.query_map([], row).unwrap().map(|row| row.unwrap()).collect()
    };
    let want = [
        ("Fellside".to_owned(), "007".to_owned(), Some("Goldsedge".to_owned())),
        ("Fellside".to_owned(), "12345678901234567".to_owned(), None),
        ("Larkfield".to_owned(), "+44".to_owned(), Some("Duskveil".to_owned())),
    ];
    assert_eq!(rows("new.sqlite", "new"), want);
    scene.run(&format!("{enrich} -o new.sqlite#other")).ended(0);
    assert_eq!((rows("new.sqlite", "new").len(), rows("new.sqlite", "other").len()), (3, 3));
    let before = scene.files();
    for (more, status, said) in [
        ("-o new.sqlite#other", 2, "already has a table `other`"),
        ("-o new.sqlite#third --require 'unmatched = 0'", 1, "new.sqlite was not written"),
        ("-o fourth.sqlite --require 'unmatched = 0'", 1, "fourth.sqlite was not written"),
        ("-o new.sqlite#third --receipt r.json", 2, "a receipt records a file"),
    ] {
        let ran = scene.run(&format!("{enrich} {more}"));
        assert_eq!((ran.status, ran.err.contains(said)), (status, true), "{more}: {}", ran.err);
    }
    assert_eq!(scene.files(), before);
    scene.run(&format!("{enrich} -o new.sqlite#other --overwrite --when-unmatched drop")).ended(0);
    assert_eq!(rows("new.sqlite", "other").len(), 2);
    // A table that is read is not written to; another one of its database may be.
    let call = format!("enrich new.sqlite#new --from hives.csv {TAKE} --take @row -q --overwrite");
    assert!(scene.run(&format!("{call} -o new.sqlite#new")).ended(2).err.contains("is an input"));
    scene.run(&format!("{call} -o new.sqlite#x")).ended(0);
    assert_eq!((rows("new.sqlite", "new"), rows("new.sqlite", "x").len()), (want.to_vec(), 3));
}

/// Other tables come out of a pipe too, and their format can be said.
#[test]
fn other_tables_come_out_of_a_pipe() {
    let hives = "Site,Tag,Queen\nFellside,007,Goldsedge\n";
    let scene = Scene::empty()
        .with("m.csv", MAIN)
        .with("hives.csv", hives)
        .with(
            "hives.jsonl",
            "{\"Site\": \"Fellside\", \"Tag\": \"007\", \"Queen\": \"Goldsedge\"}\n",
        )
        .with(
            "hives.json",
            "[ {\"Site\": \"Fellside\", \"Tag\": \"007\", \"Queen\": \"Goldsedge\"}]",
        );
    let enrich = "gather-keys enrich m.csv -q";
    let take = "--on 'Apiary = Site, Hive = Tag' --take Queen";
    let want = scene.shell(&format!("{enrich} --from hives.csv {take}")).ended(0).out;
    assert!(want.contains("Fellside,007,Goldsedge\n"));
    for ending in ["xlsx", "sqlite"] {
        scene
            .shell(&format!(
                "gather-keys enrich hives.csv --from m.csv --on Site=Apiary --when-duplicate first \
                              --take @status -q -o hives.{ending}"
            ))
            .ended(0);
    }
    for (file, format) in [
        ("hives.jsonl", ""),
        ("hives.json", "--format json"),
        ("hives.xlsx", ""),
        ("hives.sqlite", "--format database"),
        ("hives.csv", "--format text"),
    ] {
        let line = format!("cat {file} | {enrich} --from - {format} {take}");
        assert_eq!(scene.shell(&line).ended(0).out, want, "{file}");
    }
    let reported =
        scene.shell(&format!("cat hives.csv | {enrich} --from - --format workbook {take}"));
    assert!(reported.err.contains("standard input"), "{}", reported.err);
    reported.ended(2);
    let reported =
        scene.shell(&format!("{enrich} --from hives.csv --format sheet {take}")).ended(2);
    assert!(
        reported.err.contains("use text, json, json-lines, workbook, database,"),
        "{}",
        reported.err
    );
}

/// Columnar files keep the types of their columns; a damaged file gives a sentence.
#[test]
fn columnar_files_are_tables() {
    let scene = Scene::empty()
        .with("m.csv", "Batch,Day,Kg,Hive,Code\nB1,2026-05-19,4.5,1,007\nB2,2026-05-20,7,2,8\n")
        .with(
            "t.jsonl",
            "{\"Hive\": 1, \"Frames\": 9, \"Seen\": \"x\"}\n{\"Hive\": 2, \"Frames\": \"few\"}\n",
        );
    let call = "enrich m.csv --from t.jsonl --on Hive --take 'Frames, Seen'";
    let reported = ["out.parquet", "out.arrow", "out.arrows"].map(|output| {
        let reported =
            scene.run(&format!("{call} -o {output}")).ended(0).err.replace(output, "OUT");
        let back = format!("enrich {output} --from m.csv --on Batch --take Code -o {output}.jsonl");
        scene.run(&format!("{back} -q")).ended(0);
        reported + &scene.read(&format!("{output}.jsonl"))
    });
    snapshot("columnar", &reported[0]);
    // Where a line is broken depends on the length of the name.
    let flat = reported.each_ref().map(|reported| reported.split_whitespace().collect::<Vec<_>>());
    assert!(flat.iter().all(|other| *other == flat[0]), "{reported:?}");
    // Several threads make the same of many batches, and a reference reads what it needs.
    let call = "enrich out.arrow --from out.parquet --on Batch --take 'Kg as Again, Day as On'";
    let one = scene.run(&format!("{call} --threads 1 -q")).ended(0).out;
    assert_eq!(one, scene.run(&format!("{call} --threads 3 -q")).ended(0).out);
    assert!(one.ends_with("7,2,8,few,,7,2026-05-20\n"), "{one}");
    let whole = std::fs::read(scene.path("out.parquet")).unwrap();
    let scene = scene.with("cut.parquet", &whole[..whole.len() / 2]);
    let ran = scene.run("check m.csv --from cut.parquet --on Batch").ended(2);
    assert!(
        ran.err.contains("cut.parquet can't be read: as a Parquet file it is damaged"),
        "{}",
        ran.err
    );
    let ran = scene.run("check m.csv --from m.csv --format parquet --on Batch").ended(2);
    assert!(ran.err.contains("as a Parquet file it is damaged"), "{}", ran.err);
}

/// Temporary files are in the stated folder, and are gone when the program is.
#[cfg(unix)]
#[test]
fn temporary_files_have_their_folder() {
    let scene = Scene::empty().with("m.csv", MAIN).with("t.jsonl", LINES);
    std::fs::create_dir(scene.path("there")).unwrap();
    let call =
        format!("enrich m.csv --from - --format json-lines {TAKE} --take Kg -q -o out.parquet");
    // A system's folder that is none shows which one is used.
    let run = |more: &str| {
        scene.shell(&format!("TMPDIR=/nowhere gather-keys {call} {more} --overwrite < t.jsonl"))
    };
    assert_eq!(run("--temp-dir there").ended(0).err, "");
    assert_eq!(std::fs::read_dir(scene.path("there")).unwrap().count(), 0);
    let refused = run("").ended(2).err;
    assert!(refused.contains("can't be read"), "{refused}");
    let none = run("--temp-dir nowhere").ended(2).err;
    assert!(none.contains("the folder nowhere for temporary files does not exist"), "{none}");
}
