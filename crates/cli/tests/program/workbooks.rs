//! Workbooks as tables: worksheets, titles, kinds of cells, and what is wrong with one.

use std::path::Path;

use rust_xlsxwriter::{ExcelDateTime, Format, Formula, Workbook};

use super::scene::{Scene, snapshot};

/// A registry after a title, in columns B to G, with a worksheet of notes after it.
fn registry(scene: &Scene) {
    let mut workbook = Workbook::new();
    let (day, time) =
        (Format::new().set_num_format("yyyy-mm-dd"), Format::new().set_num_format("[h]:mm"));
    let sheet = workbook.add_worksheet();
    sheet.set_name("Hives").unwrap();
    sheet.write(0, 1, "Hives of the co-op").unwrap();
    for (column, header) in (1..).zip(["Site code", "Tag", "Since", "Kg", "Active", "Span"]) {
        sheet.write(2, column, header).unwrap();
    }
    let date = |year, month, day| ExcelDateTime::from_ymd(year, month, day).unwrap();
    let rows = [("Fellside", "007", 12.0), ("Fellside", "8", 0.1), ("Larkfield", "+44", 1e-7)];
    for (row, (site, tag, kg)) in (3..).zip(rows) {
        sheet.write(row, 1, site).unwrap();
        sheet.write(row, 2, tag).unwrap();
        sheet.write_datetime_with_format(row, 3, date(2026, 5, 16 + row as u8), &day).unwrap();
        sheet.write(row, 4, kg).unwrap();
        sheet.write(row, 5, row == 3).unwrap();
    }
    // A number where the others have text, a blank row, an error, and more than a day.
    sheet.write(7, 1, "Mill Race").unwrap();
    sheet.write(7, 2, 42).unwrap();
    sheet
        .write_datetime_with_format(7, 3, date(2026, 5, 19).and_hms(10, 20, 0).unwrap(), &day)
        .unwrap();
    sheet.write_formula(7, 4, Formula::new("=1/0").set_result("#DIV/0!")).unwrap();
    sheet.write_number_with_format(7, 6, 1.104_166_666_666_666_7, &time).unwrap();
    let notes = workbook.add_worksheet();
    notes.set_name("Notes").unwrap();
    notes.write(0, 0, "Note").unwrap();
    notes.write(1, 0, "stray").unwrap();
    notes.write(1, 2, "no header here").unwrap();
    workbook.save(scene.path("registry.xlsx")).unwrap();
}

const MAIN: &str =
    "Apiary,Hive\nFellside,007\nFellside,8\nLarkfield,+44\nMill Race,42\nFellside,7\n";
const TAKE: &str = "--on 'Apiary = Site code, Hive = Tag' --take 'Since, Kg, Active, Span, @row'";

#[test]
fn worksheets_are_tables() {
    let scene = Scene::empty().with("m.csv", MAIN);
    registry(&scene);
    let ran = scene.run(&format!("enrich m.csv --from registry.xlsx {TAKE}")).ended(0);
    let mut reported = format!("{}\n{}", ran.err, ran.out);
    for part in ["Hives", "1"] {
        let call = format!("enrich m.csv --from registry.xlsx#{part} {TAKE} -q");
        assert_eq!(
            scene.run(&call).ended(0).out.lines().skip(1).collect::<Vec<_>>(),
            ran.out.lines().skip(1).collect::<Vec<_>>()
        );
    }
    // As the main table it comes out as text.
    let call = "enrich registry.xlsx --from m.csv --on 'Site code = Apiary, Tag = Hive' --take @row \
                --receipt run.json -o out.csv";
    scene.run(call).ended(0);
    reported += &format!("\n{}", scene.read("out.csv"));
    let again = scene.run(call).ended(0);
    assert!(again.err.contains("Nothing has changed since the last run."), "{}", again.err);
    // A row is known by its row of the worksheet.
    let why = scene.run("why registry.xlsx --row 4 --from m.csv --on 'Tag = Hive'").ended(0);
    assert!(why.out.starts_with("Row 4 (line 8) of registry.xlsx"), "{}", why.out);
    for call in [
        "check m.csv --from registry.xlsx#Nope --on 'Apiary = Site code'",
        "check m.csv --from registry.xlsx --header-row 2 --on 'Apiary = Site code'",
        "check m.csv --from cut.xlsx --on 'Apiary = Site code'",
        "enrich m.csv --from registry.xlsx --on 'Apiary = Site code' --take Kg -o out.ods",
    ] {
        let whole = std::fs::read(scene.path("registry.xlsx")).unwrap();
        std::fs::write(scene.path("cut.xlsx"), &whole[..whole.len() / 2]).unwrap();
        reported += &format!("\n$ gather-keys {call}\n{}", scene.run(call).ended(2).err);
        assert_eq!(std::fs::read(scene.path("registry.xlsx")).unwrap(), whole);
        assert!(!scene.path("out.ods").exists());
    }
    snapshot("workbooks", &reported);
}

#[test]
fn other_workbooks_are_read_alike() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../formats/tests/formats/workbooks");
    for name in ["hives.ods", "hives.xls", "hives.xlsb"] {
        let scene = Scene::empty()
            .with("m.csv", "Tag\nH-001\n042\n42\n")
            .with(name, std::fs::read(folder.join(name)).unwrap());
        let call = format!("enrich m.csv --from {name} --on Tag --take 'Since .. Active' -q");
        let want =
            "Tag,Since,Kg,Active\nH-001,2026-05-19,12,true\n042,1900-02-28,0.1,false\n42,,,\n";
        assert_eq!(scene.run(&call).ended(0).out, want, "{name}");
    }
}

/// Many rows come in blocks, each in its place.
#[test]
fn a_long_worksheet_is_read_in_order() {
    let scene = Scene::empty().with("m.csv", "Id\n1\n2500\n4999\n");
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet();
    sheet.write(0, 0, "Id").unwrap();
    for row in 1..5000 {
        sheet.write(row, 0, row).unwrap();
    }
    workbook.save(scene.path("long.xlsx")).unwrap();
    let ran = scene.run("enrich m.csv --from long.xlsx --on Id --take @row -q").ended(0);
    assert_eq!(ran.out, "Id,long row\n1,1\n2500,2500\n4999,4999\n");
    let back = scene.run("enrich long.xlsx --from m.csv --on Id --take @row -q").ended(0);
    assert_eq!(back.out.lines().nth(2500), Some("2500,2"));
    assert_eq!(back.out.lines().count(), 5000);
}

/// A table that goes into a workbook comes out of it as it was, and is the same file each time.
#[test]
fn tables_are_written_as_worksheets() {
    let scene = Scene::empty().with("m.csv", MAIN);
    registry(&scene);
    let call = format!("enrich m.csv --from registry.xlsx {TAKE} -q");
    let text = scene.run(&call).ended(0).out;
    let to = format!("{call} -o out.xlsx#Enriched --receipt run.json");
    scene.run(&to).ended(0);
    let first = std::fs::read(scene.path("out.xlsx")).unwrap();
    let again = scene.run(&to.replace(" -q", "")).ended(0);
    assert!(again.err.contains("Nothing has changed since the last run."), "{}", again.err);
    assert_eq!(std::fs::read(scene.path("out.xlsx")).unwrap(), first);
    // Also the rows of another table all its cells are read back.
    let back = "enrich out.xlsx#Enriched --from m.csv --on 'Hive' --take @row -q";
    let back = scene.run(back).ended(0).out;
    let rows = back.lines().map(|line| line.rsplit_once(',').unwrap().0);
    assert_eq!(rows.collect::<Vec<_>>(), text.lines().collect::<Vec<_>>());
    // Changes made there by hand are noticed, cell by cell.
    let mut edited = Workbook::new();
    let sheet = edited.add_worksheet();
    sheet.set_name("Enriched").unwrap();
    for (row, line) in text.lines().enumerate() {
        for (column, cell) in line.split(',').enumerate() {
            let cell = if cell == "0.1" { "0.2" } else { cell };
            sheet.write(row as u32, column as u16, cell).unwrap();
        }
    }
    edited.save(scene.path("out.xlsx")).unwrap();
    let ran = scene.run(&to).ended(1);
    assert!(ran.err.contains("row 2, Kg: 0.1 became 0.2"), "{}", ran.err);
    // A plain one has nothing but the cells.
    scene.run(&format!("{call} -o plain.xlsx --plain")).ended(0);
    let ran = scene.run("check m.csv --from plain.xlsx#2 --on Hive").ended(2);
    assert!(ran.err.contains("has no worksheet `2`; it has `Table`"), "{}", ran.err);
}

/// A workbook with a table, named ranges and merged headers.
fn plan_of_hives(scene: &Scene) {
    use rust_xlsxwriter::{Table, TableColumn};
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet();
    sheet.set_name("All hives").unwrap();
    sheet.write(0, 0, "Seen in spring").unwrap();
    let rows = [("Fellside", "007", 4.5), ("Fellside", "8", 7.0), ("Larkfield", "+44", 1.25)];
    for (row, (site, tag, kg)) in (3..).zip(rows) {
        sheet.write(row, 2, site).unwrap();
        sheet.write(row, 3, tag).unwrap();
        sheet.write(row, 4, kg).unwrap();
        sheet.write(row, 6, "beside it").unwrap();
    }
    let header = |name: &str| TableColumn::new().set_header(name);
    let columns = [
        header("Site"),
        header("Tag"),
        header("Kg").set_total_function(rust_xlsxwriter::TableFunction::Sum),
    ];
    let table = Table::new().set_name("Hive_list").set_columns(&columns).set_total_row(true);
    sheet.add_table(2, 2, 6, 4, &table).unwrap();
    let sheet = workbook.add_worksheet();
    sheet.set_name("By year").unwrap();
    let format = Format::new();
    sheet.merge_range(0, 0, 0, 5, "Harvest", &format).unwrap();
    sheet.merge_range(1, 0, 2, 0, "Site", &format).unwrap();
    sheet.merge_range(1, 1, 2, 1, "Tag", &format).unwrap();
    sheet.merge_range(1, 2, 1, 3, "2025", &format).unwrap();
    sheet.merge_range(1, 4, 1, 5, "2026", &format).unwrap();
    for (column, text) in (2..).zip(["Kg", "Jars", "Kg", "Jars"]) {
        sheet.write(2, column, text).unwrap();
    }
    for (row, (site, tag, kg)) in (3..).zip(rows) {
        sheet.write(row, 0, site).unwrap();
        sheet.write(row, 1, tag).unwrap();
        for (column, more) in (2..).zip([0.0, 1.0, 2.0, 3.0]) {
            sheet.write(row, column, kg + more).unwrap();
        }
    }
    workbook.define_name("Spring", "='All hives'!$C$3:$D$5").unwrap();
    workbook.define_name("Rate", "=0.25").unwrap();
    workbook.save(scene.path("plan.xlsx")).unwrap();
}

#[test]
fn parts_have_names_and_headers_are_merged() {
    let scene = Scene::empty().with("main.csv", MAIN);
    plan_of_hives(&scene);
    let on = "--on 'Apiary = Site, Hive = Tag'";
    let mut reported = String::new();
    for (part, take) in [
        ("Hive_list", "Kg, @row"),
        ("hive_LIST", "Kg, @row"),
        ("Spring", "@row"),
        ("2", "'2025 Kg', '2026 Jars'"),
    ] {
        let take = take.replace('\'', "\"");
        let call = format!("enrich main.csv --from plan.xlsx#{part} {on} --take '{take}' -v");
        let ran = scene.run(&call).ended(0);
        let said = ran.err.lines().take_while(|line| !line.contains(" rows with "));
        reported += &format!("{part}\n{}\n{}\n", said.collect::<Vec<_>>().join("\n"), ran.out);
    }
    reported += &scene.run(&format!("check main.csv --from plan.xlsx#Autumn {on}")).ended(2).err;
    snapshot("parts", &reported);
}

/// A column that is kept or taken shows its numbers as it did in its workbook, and a text that looks like a number
/// stays one.
#[test]
fn number_formats_travel() {
    const CODES: [&str; 4] = ["0.0%", "#,##0.00 [$€-407]", "dd.mm.yyyy", "[h]:mm"];
    let scene = Scene::empty().with("m.csv", "Tag,Kg\n042,3.40\nH-001,1\n");
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet();
    for (column, header) in (0..).zip(["Tag", "Share", "Price", "Since", "Span"]) {
        sheet.write(0, column, header).unwrap();
    }
    for (row, tag) in (1..).zip(["042", "H-001"]) {
        sheet.write(row, 0, tag).unwrap();
        for (column, code) in (1..).zip(CODES) {
            let format = Format::new().set_num_format(code);
            sheet.write_with_format(row, column, 1.25 + f64::from(row), &format).unwrap();
        }
    }
    workbook.save(scene.path("prices.xlsx")).unwrap();
    let taken = "enrich m.csv --from prices.xlsx --on Tag --take 'Share .. Span' -o taken.xlsx -q";
    let kept = "enrich prices.xlsx --from m.csv --on Tag --take Kg -o kept.xlsx -q";
    for (call, name) in [(taken, "taken.xlsx"), (kept, "kept.xlsx")] {
        scene.run(call).ended(0);
        let file = std::fs::File::open(scene.path(name)).unwrap();
        let mut archive = zip::ZipArchive::new(file).unwrap();
        let styles = std::io::read_to_string(archive.by_name("xl/styles.xml").unwrap()).unwrap();
        for code in CODES {
            assert!(styles.contains(&format!("formatCode=\"{code}\"")), "{name}: {code} {styles}");
        }
        let cells = scene.run(&format!("find {name} 042")).ended(0).out;
        assert!(cells.contains("2.25") && cells.contains("1900-01-02"), "{cells}");
    }
}

/// The same run makes the same bytes, on any number of threads, from a file or a pipe.
#[test]
fn a_workbook_has_the_same_bytes_every_time() {
    let rows: String =
        (0..6000).map(|row| format!("H-{},\"note {row}\",{}.5\n", row % 50, row % 97)).collect();
    let scene = Scene::empty()
        .with("m.csv", format!("Tag,Note,Kg\n{rows}"))
        .with("r.csv", "Tag,Keeper\nH-1,Edda\nH-2,Jorun\nH-3,\nH-4,Edda\nH-4,Jorun\n");
    let options = "--from r.csv --on Tag --take Keeper --update 'Note = Keeper' -q";
    scene.run(&format!("enrich m.csv {options} --threads 1 -o one.xlsx")).ended(0);
    let one = std::fs::read(scene.path("one.xlsx")).unwrap();
    for threads in [2, 5] {
        let name = format!("{threads}.xlsx");
        scene.run(&format!("enrich m.csv {options} --threads {threads} -o {name}")).ended(0);
        assert!(std::fs::read(scene.path(&name)).unwrap() == one, "{threads} threads");
    }
    scene.shell(&format!("cat m.csv | gather-keys enrich - {options} -o piped.xlsx")).ended(0);
    assert!(std::fs::read(scene.path("piped.xlsx")).unwrap() == one, "from a pipe");
    // What was written is read again, row by row.
    let again =
        scene.run("enrich one.xlsx --from r.csv --on Tag --take 'Keeper as Again' -q").ended(0);
    assert_eq!(again.out.lines().count(), 6001);
}

/// What a colleague gets: a page set-up, headers as their columns, wrapped lines, reasons by colour, rows with links.
#[test]
fn a_workbook_is_fit_to_be_handed_over() {
    let scene = Scene::empty()
        .with("m.csv", "Tag,Kg,Note\nH-1,3.40,\"two\nlines\"\nH-2,4,\nH-9,1,x\n,2,y\n")
        .with("r.csv", "Tag,Keeper\nH-1,Edda\nH-2,Edda\nH-2,Jorun\n");
    scene.run("enrich m.csv --from r.csv --on Tag --take Keeper -o out.xlsx -q").ended(0);
    let file = std::fs::File::open(scene.path("out.xlsx")).unwrap();
    let mut archive = zip::ZipArchive::new(file).unwrap();
    let mut part = |name: &str| std::io::read_to_string(archive.by_name(name).unwrap()).unwrap();
    let (sheet, findings) = (part("xl/worksheets/sheet1.xml"), part("xl/worksheets/sheet2.xml"));
    let (styles, book) = (part("xl/styles.xml"), part("xl/workbook.xml"));
    for want in [
        "orientation=\"landscape\"",
        "fitToHeight=\"0\"",
        "<autoFilter ref=\"A1:D5\"/>",
        "state=\"frozen\"",
    ] {
        assert!(sheet.contains(want), "{want}: {sheet}");
    }
    assert!(book.contains("_xlnm.Print_Titles"), "{book}");
    assert!(findings.contains("location=\"'Table'!A4\""), "{findings}");
    // The style of a cell: its attributes in the list of styles.
    let lists = styles.split("<cellXfs").nth(1).unwrap();
    let lists: Vec<&str> = lists.split("<xf ").skip(1).collect();
    let style = |place: &str| {
        let cell = sheet.split(&format!("<c r=\"{place}\" s=\"")).nth(1).unwrap_or_default();
        cell.split('"').next().unwrap().parse::<usize>().map_or("", |number| lists[number])
    };
    assert!(style("B1").contains("horizontal=\"right\"") && !style("A1").contains("horizontal"));
    assert!(style("C2").contains("wrapText=\"1\""), "{}", style("C2"));
    // Matched, ambiguous, unmatched and blank keys are each on a ground of their own, blank cells too.
    let fill = |place: &str| {
        let fill = style(place).split("fillId=\"").nth(1).unwrap_or_default();
        fill.split('"').next().unwrap_or_default().to_owned()
    };
    let mut fills = ["D2", "D3", "D4", "D5"].map(fill);
    fills.sort();
    assert!(fills.windows(2).all(|two| two[0] != two[1] && !two[0].is_empty()), "{fills:?}");
}
