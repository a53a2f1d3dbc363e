//! Workbooks and tables of databases that are written into: what the program says, what it refuses, and what a person
//! added to them between two runs.

use std::fs;
use std::io::{Cursor, Read, Write};
use std::path::Path;

use super::scene::{Scene, snapshot};

/// The hives that the batches of the workbooks are looked up in.
const REGISTRY: &str = "\
Site code,Tag,Keeper,Since,New price
Fellside,1,Edda Larkhollow,2021-10-03,7.10
Fellside,2,Jorun Elderfield,2020-05-11,7.10
Larkfield,3,Tamsin Oxlip,2020-12-23,6.90
Larkfield,5,Corvin Ashmead,2021-02-01,7.00
Larkfield,5,Aldis Foxmoor,2021-02-01,7.50
Mill Race,1,Brenna Quince,2023-03-03,8.00
";

const ON: &str = "--from registry.csv --on 'Apiary = Site code, Hive = Tag'";

fn fixture(name: &str) -> Vec<u8> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../formats/tests/formats/workbooks");
    fs::read(folder.join(name)).unwrap()
}

/// A folder with the registry, and a workbook that a spreadsheet program made.
fn scene() -> Scene {
    Scene::empty()
        .with("registry.csv", REGISTRY)
        .with("book.xlsx", fixture("in-place-office.xlsx"))
        .with("table.xlsx", fixture("in-place-table.xlsx"))
}

/// The parts of a workbook, each with its text.
fn parts(workbook: &[u8]) -> Vec<(String, Vec<u8>)> {
    let mut archive = zip::ZipArchive::new(Cursor::new(workbook)).unwrap();
    let part = |nth| {
        let mut part = archive.by_index(nth).unwrap();
        let (name, mut text) = (part.name().unwrap().into_owned(), Vec::new());
        part.read_to_end(&mut text).unwrap();
        (name, text)
    };
    (0..zip::ZipArchive::new(Cursor::new(workbook)).unwrap().len()).map(part).collect()
}

fn part(workbook: &[u8], name: &str) -> String {
    let found = parts(workbook).into_iter().find(|(other, _)| other == name);
    String::from_utf8(found.unwrap_or_else(|| panic!("there is no {name}")).1).unwrap()
}

/// What a person does to a workbook: the text of a part is another.
fn change(scene: &Scene, name: &str, changed: &str, change: impl Fn(&str) -> String) {
    let before = fs::read(scene.path(name)).unwrap();
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in parts(&before) {
        let options = zip::write::SimpleFileOptions::default();
        archive.start_file(name.clone(), options).unwrap();
        if name == changed {
            let text = String::from_utf8(bytes).unwrap();
            let new = change(&text);
            assert_ne!(new, text, "{changed} changes");
            archive.write_all(new.as_bytes()).unwrap();
        } else {
            archive.write_all(&bytes).unwrap();
        }
    }
    fs::write(scene.path(name), archive.finish().unwrap().into_inner()).unwrap();
}

/// A text in one line.
fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The last paragraph of what a run says.
fn last_words(err: &str) -> String {
    err.trim_end().rsplit("\n\n").next().unwrap_or_default().to_owned() + "\n"
}

#[test]
fn what_is_written_into_a_workbook_is_said() {
    let mut said = String::new();
    for call in [
        format!(
            "enrich book.xlsx#Harvest {ON} --take 'Keeper, Since' --update 'Price = New price' --in-place"
        ),
        format!(
            "enrich table.xlsx#HarvestTable {ON} --take Keeper --in-place --no-backup --highlight --findings-sheet Trouble"
        ),
        format!(
            "enrich book.xlsx#Harvest {ON} --update 'Price = New price' --replace-formulas --in-place --no-backup"
        ),
        format!(
            "enrich book.xlsx#Harvest {ON} --take '@count as Hives' --append-unused --in-place --no-backup"
        ),
        format!("enrich book.xlsx#Harvest {ON} --take Keeper -o book.xlsx#Result"),
        format!(
            "enrich book.xlsx#Harvest {ON} --take Keeper -o new.xlsx#Result --findings-sheet Trouble"
        ),
    ] {
        let scene = scene();
        let ran = scene.run(&call).ended(0);
        let words = last_words(&ran.err);
        let stamp = words.find("backup-").map(|at| words[at..at + 23].to_owned());
        let words = stamp.map_or(words.clone(), |stamp| words.replace(&stamp, "backup-TIME"));
        said += &format!("$ gather-keys {call}\n{words}\n");
        let backups =
            scene.files().keys().filter(|path| path.to_str().unwrap().contains("backup")).count();
        let has_backup = !call.contains("no-backup") && !call.contains("new.xlsx");
        assert_eq!(backups, usize::from(has_backup), "{call}");
    }
    snapshot("in-place-workbooks", &said);
}

#[test]
fn what_can_not_be_written_into_is_refused_and_stays() {
    let mut said = String::new();
    for (call, status) in [
        (
            format!(
                "enrich table.xlsx#Locked {} --take Keeper --in-place",
                "--from registry.csv --on 'Hive = Tag'"
            ),
            2,
        ),
        (format!("enrich taken.xlsx#Harvest {ON} --take 'Keeper, Since' --in-place"), 2),
        (
            format!("enrich table.xlsx#HarvestTable {ON} --take Keeper --append-unused --in-place"),
            2,
        ),
        (
            format!("enrich book.xlsx#Harvest {ON} --take Keeper --when-unmatched drop --in-place"),
            2,
        ),
        (
            format!("enrich hives.ods {} --take Keeper --in-place", "--from registry.csv --on Tag"),
            2,
        ),
        (format!("enrich held.xlsx#Harvest {ON} --take Keeper --in-place"), 2),
        (format!("enrich book.xlsx#Harvest {ON} --take Keeper -o held.xlsx#Result"), 2),
        (
            format!(
                "enrich book.xlsx#Harvest {ON} --take Keeper --in-place --findings-sheet Prices"
            ),
            2,
        ),
        (
            format!(
                "enrich book.xlsx#Harvest {ON} --take Keeper --in-place --findings-sheet harvest"
            ),
            2,
        ),
        (format!("enrich book.xlsx#Harvest {ON} --take Keeper -o table.xlsx --overwrite"), 2),
        (format!("enrich book.xlsx#Harvest {ON} --take Keeper -o table.xlsx#Rates"), 2),
        (
            format!("enrich book.xlsx#Harvest {ON} --take Keeper -o book.xlsx#Harvest --overwrite"),
            2,
        ),
        (format!("enrich book.xlsx#Harvest {ON} --take Keeper -o hives.ods#Result"), 2),
        (
            format!(
                "enrich book.xlsx#Harvest {ON} --take Keeper --in-place --require 'unmatched = 0'"
            ),
            1,
        ),
        (format!("enrich book.xlsx#Harvest {ON} --take Keeper --replace-formulas --in-place"), 2),
    ] {
        let scene = scene()
            .with("hives.ods", fixture("hives.ods"))
            .with("taken.xlsx", fixture("in-place-office.xlsx"))
            .with("held.xlsx", fixture("in-place-office.xlsx"))
            .with(".~lock.held.xlsx#", ",edda,barn,30.11.2026 10:00,file:///tmp;");
        change(&scene, "taken.xlsx", "xl/worksheets/sheet1.xml", |text| {
            let row = text.find("<row r=\"9\"").unwrap();
            let end = row + text[row..].find("</row>").unwrap();
            format!("{}<c r=\"I9\"><v>5</v></c>{}", &text[..end], &text[end..])
        });
        let before = scene.files();
        let ran = scene.run(&call).ended(status);
        assert_eq!(scene.files(), before, "{call}");
        said += &format!("$ gather-keys {call}\n{}\n", last_words(&ran.err));
    }
    snapshot("in-place-refused", &said);
}

#[test]
fn what_a_person_added_survives_the_next_run() {
    let scene = scene();
    let call = format!(
        "enrich book.xlsx#Harvest {ON} --take 'Keeper, Since' --in-place --no-backup --receipt run.json"
    );
    scene.run(&call).ended(0);
    // A colour, a width, a comment's worksheet, a column of its own: none is a change of what was written.
    change(&scene, "book.xlsx", "xl/worksheets/sheet1.xml", |text| {
        let text = text.replace("r=\"H18\"", "r=\"H18\" s=\"2\"");
        let row = text.find("<row r=\"3\"").unwrap();
        let end = row + text[row..].find("</row>").unwrap();
        format!(
            "{}<c r=\"K3\" t=\"inlineStr\"><is><t>Mine</t></is></c>{}",
            &text[..end],
            &text[end..]
        )
    });
    let ran = scene.run(&call).ended(0);
    assert!(flat(&ran.err).contains("2 columns (Keeper and Since)"), "{}", ran.err);
    let sheet = part(&fs::read(scene.path("book.xlsx")).unwrap(), "xl/worksheets/sheet1.xml");
    assert!(
        sheet.contains("<c r=\"H18\" s=\"2\" t=\"inlineStr\"><is><t>Jorun Elderfield"),
        "the colour stays"
    );
    assert!(sheet.contains("<t>Mine</t>") && !sheet.contains("Keeper (registry)"));
    // A cell that was changed by hand is found, kept as a correction, or written over.
    let by_hand = |text: &str| text.replace("<t>Jorun Elderfield</t>", "<t>Nobody</t>");
    change(&scene, "book.xlsx", "xl/worksheets/sheet1.xml", by_hand);
    let refused = scene.run(&call).ended(1);
    assert!(
        flat(&refused.err).contains("row 15, Keeper: Jorun Elderfield became Nobody"),
        "{}",
        refused.err
    );
    let kept = scene.run(&format!("{call} --edits keep --corrections settled.csv")).ended(0);
    assert!(flat(&kept.err).contains("Kept 1 change made by hand"), "{}", kept.err);
    assert!(scene.read("settled.csv").contains("Fellside,2,Keeper,Nobody"));
    let sheet = part(&fs::read(scene.path("book.xlsx")).unwrap(), "xl/worksheets/sheet1.xml");
    assert!(sheet.contains("<t>Nobody</t>"));
    // A row that somebody adds below is a row of the next run.
    change(&scene, "book.xlsx", "xl/worksheets/sheet1.xml", |text| {
        let cell = |place: &str, text: &str| {
            format!("<c r=\"{place}\" t=\"inlineStr\"><is><t>{text}</t></is></c>")
        };
        let row = [cell("A28", "B900"), cell("B28", "Fellside"), cell("C28", "1")].concat();
        text.replacen("</sheetData>", &format!("<row r=\"28\">{row}</row></sheetData>"), 1)
    });
    let ran = scene.run(&format!("{call} --corrections settled.csv")).ended(0);
    assert!(flat(&ran.err).contains("in 25 rows"), "{}", ran.err);
    let sheet = part(&fs::read(scene.path("book.xlsx")).unwrap(), "xl/worksheets/sheet1.xml");
    assert!(sheet.contains("<c r=\"H28\" t=\"inlineStr\"><is><t>Edda Larkhollow"));
}

#[test]
fn a_worksheet_is_added_and_replaced_alone() {
    let scene = scene();
    let call =
        format!("enrich book.xlsx#Harvest {ON} --take Keeper -o book.xlsx#Result --no-backup -q");
    let before = fs::read(scene.path("book.xlsx")).unwrap();
    scene.run(&call).ended(0);
    let first = fs::read(scene.path("book.xlsx")).unwrap();
    // Only what lists its parts, names and styles is another, and the worksheet is new.
    let lists =
        ["[Content_Types].xml", "xl/workbook.xml", "xl/_rels/workbook.xml.rels", "xl/styles.xml"];
    for (name, text) in parts(&before) {
        let now = parts(&first).into_iter().find(|(other, _)| *other == name).unwrap().1;
        assert_eq!(now == text, !lists.contains(&&name[..]), "{name}");
    }
    assert_eq!(parts(&first).len(), parts(&before).len() + 1);
    // A formula elsewhere points to it.
    change(&scene, "book.xlsx", "xl/worksheets/sheet2.xml", |text| {
        text.replacen("SUM(", "SUM(Result!E2:E9)+SUM(", 1)
    });
    let listed = |book: &[u8]| {
        let text = part(book, "xl/workbook.xml");
        let sheet = text.find("name=\"Result\"").unwrap();
        text[sheet..sheet + 40].to_owned()
    };
    let again = scene.run(&call).ended(2);
    assert!(flat(&again.err).contains("it has a worksheet `Result`"), "{}", again.err);
    for _ in 0..3 {
        scene.run(&format!("{call} --overwrite")).ended(0);
    }
    let last = fs::read(scene.path("book.xlsx")).unwrap();
    assert_eq!(listed(&last), listed(&first));
    assert!(part(&last, "xl/worksheets/sheet2.xml").contains("SUM(Result!E2:E9)"));
    assert_eq!(part(&last, "xl/worksheets/sheet4.xml"), part(&first, "xl/worksheets/sheet4.xml"));
    assert_eq!(parts(&last).len(), parts(&first).len());
    assert_eq!(part(&last, "xl/styles.xml"), part(&first, "xl/styles.xml"));
    // It comes back as the table that it is.
    let back = scene.run("find book.xlsx#Result B015").ended(0).out;
    assert!(back.contains("Keeper     Jorun Elderfield"), "{back}");
    assert!(back.contains("Picked on  2026-05-16"), "{back}");
    // What belonged to a worksheet alone goes with it: the pivot table of another one.
    scene.run(&format!("enrich book.xlsx#Harvest {ON} --take Keeper -o book.xlsx#Pivot --no-backup -q --overwrite")).ended(0);
    let without = fs::read(scene.path("book.xlsx")).unwrap();
    assert!(parts(&without).iter().all(|(name, _)| !name.contains("pivotTables")));
    scene.run("find book.xlsx#Pivot B015").ended(0);
}

#[test]
fn findings_are_in_the_workbook() {
    let scene = scene();
    let call = format!(
        "enrich book.xlsx#Harvest {ON} --take Keeper --in-place --no-backup -q --findings-sheet Trouble --receipt r.json"
    );
    for _ in 0..2 {
        scene.run(&call).ended(0);
        let found = scene.run("enrich book.xlsx#Trouble!A15:J40 --from registry.csv --on 'key = Site code, key 2 = Tag' --take @count -q").ended(0).out;
        let rows: Vec<&str> = found.lines().collect();
        assert_eq!(
            rows[0],
            "reference,finding,row,rows,key,key 2,reason,reference rows,nearest,nearest 2,registry count"
        );
        let ambiguous = "registry,ambiguous,4,1,Larkfield,5,several rows hold the key and disagree,\"4, 5\",,,2";
        assert_eq!(rows.last(), Some(&ambiguous), "{found}");
        let sheet = part(&fs::read(scene.path("book.xlsx")).unwrap(), "xl/worksheets/sheet4.xml");
        // Its links lead to lines of the worksheet: row 4 is on line 7.
        assert!(sheet.contains("location=\"'Harvest'!A7\""), "{sheet}");
    }
}

/// Other worksheets of the workbook, and other tables of the database, may be looked up in and written to.
#[test]
fn tables_of_one_file_are_inputs_and_outputs() {
    let scene = scene();
    let database = rusqlite::Connection::open(scene.path("co-op.sqlite")).unwrap();
    let tables = "create table keepers(id integer primary key, name); insert into keepers values(1, 'Edda'); \
                  create table rounds(id, round); insert into rounds values(1, 'north')";
    database.execute_batch(tables).unwrap();
    let call = "enrich table.xlsx#HarvestTable --from table.xlsx#Locked --on Batch --take 'Hive as Second'";
    let ran = scene.run(&format!("{call} --in-place --no-backup")).ended(0);
    assert!(flat(&ran.err).contains("1 column (Second) in 24 rows"), "{}", ran.err);
    scene.run(&format!("{call} -o table.xlsx#Result -q")).ended(0);
    let ran = scene.run(&format!("{call} -o table.xlsx#Locked --overwrite -q")).ended(2);
    assert!(flat(&ran.err).contains("table.xlsx#Locked is an input"), "{}", ran.err);
    let call =
        "enrich co-op.sqlite#keepers --from co-op.sqlite#rounds --on 'id = id' --take round -q";
    scene.run(&format!("{call} --in-place")).ended(0);
    scene
        .run(&format!("{} -o co-op.sqlite#new", call.replace("round -q", "'round as Now' -q")))
        .ended(0);
    let rows: String = database
        .query_row("select id || name || round || \"Now\" from new", [], |row| row.get(0))
        .unwrap();
    assert_eq!(rows, "1Eddanorthnorth");
    let ran = scene.run(&format!("{call} -o co-op.sqlite#ROUNDS --overwrite")).ended(2);
    assert!(flat(&ran.err).contains("is an input"), "{}", ran.err);
    // A key column goes into text only.
    let ran = scene.run("key make registry.csv '{Tag}' -o keys.xlsx").ended(2);
    assert!(flat(&ran.err).contains("`key` writes delimited text"), "{}", ran.err);
}

/// An added column looks as it does in a reference that is a workbook.
#[test]
fn formats_and_widths_come_along() {
    let mut workbook = rust_xlsxwriter::Workbook::new();
    let sheet = workbook.add_worksheet();
    let day = rust_xlsxwriter::Format::new().set_num_format("d mmmm yyyy");
    sheet.write_row(0, 0, ["Site code", "Tag", "Since"]).unwrap();
    sheet.write(1, 0, "Fellside").unwrap();
    sheet.write(1, 1, 2).unwrap();
    sheet.write_with_format(1, 2, 43_962, &day).unwrap();
    sheet.set_column_width(2, 33).unwrap();
    let scene = scene().with("hives.xlsx", workbook.save_to_buffer().unwrap());
    let on = "--from hives.xlsx --on 'Apiary = Site code, Hive = Tag' --take Since";
    scene.run(&format!("enrich book.xlsx#Harvest {on} --in-place --no-backup -q")).ended(0);
    let book = fs::read(scene.path("book.xlsx")).unwrap();
    let sheet = part(&book, "xl/worksheets/sheet1.xml");
    assert!(sheet.contains("<col min=\"8\" max=\"8\" width=\"33.7"), "{sheet}");
    assert!(sheet.contains("<c r=\"H18\" s=\"15\"><v>43962</v></c>"), "{sheet}");
    assert!(part(&book, "xl/styles.xml").contains("formatCode=\"d mmmm yyyy\""));
}

/// A plan that writes into its own main table is not run again by what it writes.
#[test]
fn a_watched_plan_writes_into_its_workbook_once() {
    let scene = scene().with(
        "weekly.toml",
        "in_place = true\nno_backup = true\nreceipt = 'run.json'\n[main]\ntable = 'book.xlsx#Harvest'\n\
         [[reference]]\ntable = 'registry.csv'\non = 'Apiary = Site code, Hive = Tag'\ntake = 'Keeper'\n",
    );
    let log = fs::File::create(scene.path("log")).unwrap();
    let mut program = scene.program();
    let mut watching = program.args(["watch", "weekly.toml"]).stderr(log).spawn().unwrap();
    let wait_for = |runs: usize| {
        for _ in 0..200 {
            if scene.read("log").matches("Watching ").count() >= runs {
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        panic!("{}", scene.read("log"));
    };
    wait_for(1);
    std::thread::sleep(std::time::Duration::from_millis(1500));
    assert_eq!(
        scene.read("log").matches("running weekly.toml").count(),
        1,
        "{}",
        scene.read("log")
    );
    fs::write(scene.path("registry.csv"), REGISTRY.replace("Jorun Elderfield", "Tamsin Oxlip"))
        .unwrap();
    wait_for(2);
    watching.kill().unwrap();
    watching.wait().unwrap();
    let sheet = part(&fs::read(scene.path("book.xlsx")).unwrap(), "xl/worksheets/sheet1.xml");
    assert!(sheet.contains("<c r=\"H18\" t=\"inlineStr\"><is><t>Tamsin Oxlip"));
    assert!(!sheet.contains("Keeper (registry)"));
}

#[test]
fn a_full_disk_leaves_the_workbook() {
    let scene = scene();
    let rows: String = (0..30_000).map(|n| format!("B{n},Fellside,{},{n}\n", n % 9)).collect();
    let scene = scene.with("many.csv", format!("Batch,Apiary,Hive,Kg\n{rows}"));
    scene.run(&format!("enrich many.csv {ON} --take Since -q -o many.xlsx#Harvest")).ended(0);
    let before = scene.files();
    for blocks in [16, 256, 700] {
        let call = format!("gather-keys enrich many.xlsx#Harvest {ON} --take Keeper --in-place -q");
        let ran = scene.shell(&format!("trap '' XFSZ; ulimit -f {blocks}; {call}"));
        assert_eq!(ran.status, 2, "{blocks}: {}", ran.err);
        assert_eq!(scene.files(), before, "{blocks}");
    }
}

#[test]
fn a_table_of_a_database_is_written_into() {
    let scene = Scene::empty().with(
        "rounds.csv",
        "Id,Name,Round,Post to,Code\n1,Edda,east,box 1,x2\n2,Brenna,south,box 2,\n9,Aldis,west,box 9,007\n",
    );
    let database = rusqlite::Connection::open(scene.path("co-op.sqlite")).unwrap();
    let tables = "create table keepers(id integer primary key, name text not null, round text, paid default 5, code); \
        create index by_name on keepers(name); create view names as select name from keepers; \
        insert into keepers values(1, 'Edda', 'north', 7.0, '007'), (2, 'Brenna', 'south', '7.10', 12), \
            (3, 'Corvin', '', 3, null); \
        create table bare(id, name); insert into bare values(1, 'Edda'); \
        create table fixed(id integer primary key, kg integer) strict; insert into fixed values(1, 3);";
    database.execute_batch(tables).unwrap();
    let rows = || -> Vec<String> {
        let mut query = database
            .prepare("select id, name, quote(round), quote(paid), quote(code), quote(\"Post to\") from keepers")
            .unwrap();
        let row = |row: &rusqlite::Row<'_>| {
            let text = |nth| row.get::<_, String>(nth);
            Ok(format!(
                "{} {} {} {} {} {}",
                row.get::<_, i64>(0)?,
                text(1)?,
                text(2)?,
                text(3)?,
                text(4)?,
                text(5)?
            ))
        };
        query.query_map([], row).unwrap().map(Result::unwrap).collect()
    };
    let on = "--from rounds.csv --on 'id = Id'";
    let mut said = String::new();
    for (call, status) in [
        (
            format!(
                "enrich co-op.sqlite#keepers {on} --take 'Post to' --update 'name = Name, round = Round' --append-unused --in-place"
            ),
            0,
        ),
        (format!("enrich co-op.sqlite#keepers {on} --update 'code = Code' --in-place"), 0),
        (format!("enrich co-op.sqlite#bare {on} --take Round --in-place"), 2),
        (
            format!(
                "enrich co-op.sqlite#names {} --take Round --in-place",
                "--from rounds.csv --on 'name = Name'"
            ),
            2,
        ),
        (
            format!(
                "enrich co-op.sqlite#keepers {} --update 'id = Id' --in-place",
                "--from rounds.csv --on 'name = Name'"
            ),
            2,
        ),
        (format!("enrich co-op.sqlite#keepers {on} --take Code --in-place --receipt r.json"), 2),
        (format!("enrich co-op.sqlite#fixed {on} --take 'Post to' --in-place"), 0),
        (format!("enrich co-op.sqlite#fixed {on} --update 'kg = Code' --in-place"), 2),
    ] {
        let ran = scene.run(&call).ended(status);
        said += &format!("$ gather-keys {call}\n{}\n", last_words(&ran.err));
    }
    for row in rows() {
        said += &row;
        said.push('\n');
    }
    let made: String = database
        .query_row(
            "select group_concat(sql, char(10)) from sqlite_master where type <> 'view'",
            [],
            |row| row.get(0),
        )
        .unwrap();
    said += &made;
    snapshot("in-place-sqlite", &said);
}
