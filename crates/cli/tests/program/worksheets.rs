//! Worksheets as their owners keep them: cover pages, titles, notes at the side, merged groups, totals, a worksheet for
//! each month, and files that are no workbooks.

use std::io::{Cursor, Write};

use calamine::Reader as _;
use rust_xlsxwriter::{Format, Formula, Workbook, Worksheet};

use super::scene::{Scene, snapshot};

const MAIN: &str = "Apiary,Hive\nFellside,7\nLarkfield,9\nMill Race,1\n";

/// Fills a worksheet with rows of texts from a place on; cells that look like numbers are numbers.
fn fill(sheet: &mut Worksheet, (row, column): (u32, u16), rows: &[&str]) {
    for (row, cells) in (row..).zip(rows) {
        for (column, cell) in (column..).zip(cells.split('|')) {
            match cell.parse::<f64>() {
                Ok(number) => drop_ok(sheet.write(row, column, number)),
                Err(_) if cell.is_empty() => {}
                Err(_) => drop_ok(sheet.write(row, column, cell)),
            }
        }
    }
}

fn drop_ok<T, E: std::fmt::Debug>(result: Result<T, E>) {
    let _ = result.unwrap();
}

/// A workbook with a cover page, the hives below a title with a date and next to notes, and their keepers.
fn registry(scene: &Scene) {
    let mut workbook = Workbook::new();
    fill(
        workbook.add_worksheet().set_name("Cover").unwrap(),
        (1, 1),
        &["Highmeadow", "Registry of 2026"],
    );
    let hives = workbook.add_worksheet().set_name("Hives").unwrap();
    fill(hives, (0, 1), &["Registry|2026-11-30", "Co-op"]);
    fill(hives, (3, 1), &["Site code|Tag|Kg", "Fellside|7|12.5", "Larkfield|9|41.560199999999995"]);
    fill(hives, (4, 6), &["ask Edda", "", "moved in May"]);
    fill(hives, (6, 1), &["Mill Race|1"]);
    fill(
        workbook.add_worksheet().set_name("Keepers").unwrap(),
        (0, 0),
        &["Site code|Keeper", "Fellside|Edda"],
    );
    fill(
        workbook.add_worksheet().set_name("No #1").unwrap(),
        (0, 0),
        &["Site code|Old", "Fellside|yes"],
    );
    workbook.save(scene.path("registry.xlsx")).unwrap();
}

fn reported(scene: &Scene, calls: &[(i32, &str)]) -> String {
    let report = |(status, call): &(i32, &str)| {
        let ran = scene.run(call).ended(*status);
        format!("$ gather-keys {call}\n{}{}\n", ran.err, ran.out)
    };
    calls.iter().map(report).collect()
}

#[test]
fn the_table_is_found_by_the_headers_that_are_asked_for() {
    let scene = Scene::empty().with("m.csv", MAIN);
    registry(&scene);
    let titled = "Harvest,2026-11-30\nCo-op,\n\"Apiary\"|Hive\nFellside|7\n";
    let scene = scene
        .with("titled.txt", titled)
        .with("sep.csv", "sep=;\nHarvest;x\nApiary;Hive\nFellside;7\n");
    let on = "--on 'Apiary = Site code'";
    snapshot(
        "worksheets_found",
        &reported(
            &scene,
            &[
                (0, &format!("enrich m.csv --from registry.xlsx {on} --on 'Hive = Tag' --take Kg")),
                (0, &format!("enrich m.csv --from registry.xlsx {on} --take Keeper -q")),
                (2, &format!("enrich m.csv --from registry.xlsx {on} --take 'Site code as Site'")),
                (2, &format!("enrich m.csv --from registry.xlsx#Hives {on} --take Keeper")),
                (2, &format!("enrich m.csv --from registry.xlsx {on} --take 'Keper'")),
                (0, &format!("enrich titled.txt --from registry.xlsx#Hives {on} --take Kg -q")),
                (0, &format!("enrich sep.csv --from registry.xlsx#Hives {on} --take Kg -q")),
            ],
        ),
    );
}

#[test]
fn parts_are_ranges_patterns_and_names() {
    let scene = Scene::empty().with("m.csv", MAIN);
    registry(&scene);
    let mut workbook = Workbook::new();
    for (month, row) in
        [("2026-05", "Fellside|15"), ("2026-06", "Larkfield|16"), ("Notes", "Mill Race|17")]
    {
        let sheet = workbook.add_worksheet().set_name(month).unwrap();
        fill(sheet, (0, 0), &["Site code|Kg", row]);
    }
    workbook.save(scene.path("months.xlsx")).unwrap();
    let on = "--on 'Apiary = Site code'";
    snapshot(
        "worksheets_parts",
        &reported(
            &scene,
            &[
                (0, &format!("enrich m.csv --from 'registry.xlsx#Hives!B4:D5' {on} --take Kg -q")),
                (0, &format!("enrich m.csv --from registry.xlsx#hives {on} --take Kg -q")),
                (0, &format!("enrich m.csv --from 'months.xlsx#*' {on} --take 'Kg, @table' -q")),
                (0, &format!("check m.csv --from 'months.xlsx#2026-*' {on}")),
                (2, &format!("check m.csv --from 'months.xlsx#2025-*' {on}")),
                (2, &format!("check m.csv --from months.xlsx {on}")),
                (2, &format!("check m.csv --from 'registry.xlsx#*' {on}")),
            ],
        ),
    );
}

/// The name of a worksheet may hold what separates it from the file.
#[test]
fn a_worksheet_is_named_in_quotes() {
    let scene = Scene::empty().with("m.csv", MAIN);
    registry(&scene);
    let line = "gather-keys enrich m.csv --from \"registry.xlsx#'No #1'\" --on 'Apiary = Site code' --take Old \
                -q -o \"out.xlsx#'Hives #2'\" && gather-keys find out.xlsx Fellside";
    let ran = scene.shell(line).ended(0);
    assert!(ran.out.contains("yes"), "{}", ran.out);
    let names = calamine::open_workbook_auto(scene.path("out.xlsx")).unwrap().sheet_names();
    assert_eq!(names, ["Hives #2", "Findings"]);
}

/// The table may have the name that the worksheet of findings usually has.
#[test]
fn a_table_may_be_called_findings() {
    let scene = Scene::empty().with("m.csv", MAIN);
    registry(&scene);
    let call = "enrich m.csv --from registry.xlsx#Hives --on 'Apiary = Site code' --take Kg -q -o out.xlsx#findings";
    scene.run(call).ended(0);
    let names = calamine::open_workbook_auto(scene.path("out.xlsx")).unwrap().sheet_names();
    assert_eq!(names, ["findings", "Findings of the run"]);
}

/// Formulas that no program has calculated are counted by column.
#[test]
fn formulas_without_a_value_are_counted() {
    let scene = Scene::empty().with("m.csv", MAIN);
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet();
    fill(sheet, (0, 0), &["Site code|Kg|Total", "Fellside|2", "Larkfield|3", "Mill Race|4"]);
    for row in 1..4 {
        sheet.write_formula(row, 2, Formula::new("=B2*2").set_result("40")).unwrap();
    }
    workbook.save(scene.path("whole.xlsx")).unwrap();
    let mut whole =
        zip::ZipArchive::new(std::fs::File::open(scene.path("whole.xlsx")).unwrap()).unwrap();
    let mut archive =
        zip::ZipWriter::new(std::fs::File::create(scene.path("totals.xlsx")).unwrap());
    for nth in 0..whole.len() {
        let mut part = whole.by_index(nth).unwrap();
        let name = part.name().unwrap().into_owned();
        let text =
            std::io::read_to_string(&mut part).unwrap().replacen("<v>40</v></c><", "</c><", 2);
        archive.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    archive.finish().unwrap();
    let ran = scene
        .run("enrich m.csv --from totals.xlsx --on 'Apiary = Site code' --take Total")
        .ended(0);
    assert_eq!(ran.out, "Apiary,Hive,Total\nFellside,7,\nLarkfield,9,\nMill Race,1,40\n");
    let said = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    let want = "2 formulas of column `Total` of totals.xlsx have no stored value and count as blank: open the workbook \
                in a spreadsheet program and save it once.";
    assert!(said.contains(want), "{said}");
}

#[test]
fn cells_are_filled_from_above_and_last_rows_left_out() {
    let scene = Scene::empty().with("m.csv", MAIN).with(
        "grouped.csv",
        "Region;Site code;Kg\nUpper Wend;Fellside;15\n;Larkfield;16\nHollow Dale;Mill Race;17\n;;48\n",
    );
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet();
    fill(sheet, (0, 0), &["Region|Site code|Kg"]);
    sheet.merge_range(1, 0, 2, 0, "Upper Wend", &Format::new()).unwrap();
    fill(sheet, (1, 1), &["Fellside|15", "Larkfield|16"]);
    fill(sheet, (3, 0), &["Total||31"]);
    workbook.save(scene.path("grouped.xlsx")).unwrap();
    let form = "--fill-down Region --skip-last 1";
    snapshot(
        "worksheets_filled",
        &reported(
            &scene,
            &[
                (
                    0,
                    &format!(
                        "enrich m.csv --from grouped.xlsx {form} --on 'Apiary = Site code' --take 'Region, Kg, @row' -q"
                    ),
                ),
                (
                    0,
                    &format!(
                        "enrich grouped.csv {form} --from m.csv --on 'Site code = Apiary' --take Hive -q"
                    ),
                ),
                (
                    0,
                    &format!(
                        "enrich grouped.xlsx {form} --from m.csv --on 'Site code = Apiary' --take Hive -q"
                    ),
                ),
                (2, "check grouped.xlsx --fill-down Valley --from m.csv --on 'Site code = Apiary'"),
                (
                    0,
                    "enrich grouped.csv --skip-last 99 --from m.csv --on 'Site code = Apiary' --take Hive -q",
                ),
                (
                    2,
                    "enrich grouped.csv --skip-last 1 --from m.csv --on 'Site code = Apiary' --update Kg=Hive --in-place",
                ),
                (0, &format!("survey grouped.xlsx {form}")),
            ],
        ),
    );
}

/// Merged cells, totals and calculated columns are pointed out where they matter.
#[test]
fn what_a_worksheet_hides_is_pointed_out() {
    let scene =
        Scene::empty().with("regions.csv", "Region,Valley,Kg\nUpper Wend,east,2\nMoor,west,3\n");
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet();
    fill(sheet, (0, 0), &["Region|Site|Kg|Twice"]);
    sheet.merge_range(1, 0, 2, 0, "Upper Wend", &Format::new()).unwrap();
    fill(sheet, (1, 1), &["Fellside|15", "Larkfield|16"]);
    fill(sheet, (3, 0), &["Moor|Mill Race|17", "Total||48"]);
    for row in 1..5 {
        let formula = Formula::new(format!("=C{}*2", row + 1)).set_result("30");
        sheet.write_formula(row, 3, formula).unwrap();
    }
    workbook.save(scene.path("grouped.xlsx")).unwrap();
    let sentences = |ran: &str| {
        let at = ran
            .find("Cells of")
            .or_else(|| ran.find("`Twice`"))
            .or_else(|| ran.find("The last row"));
        at.map_or_else(|| ran.to_owned(), |at| ran[at..].to_owned())
    };
    let mut reported = String::new();
    for call in [
        "enrich grouped.xlsx --from regions.csv --on Region --take Valley --update Kg -o out.csv",
        "enrich grouped.xlsx --fill-down Region --skip-last 1 --from regions.csv --on Region --take Valley -o b.csv",
        "enrich regions.csv --from grouped.xlsx --on Region --take Site -o c.csv",
    ] {
        let ran = scene.run(call).ended(0);
        reported += &format!("$ {call}\n{}\n", sentences(&ran.err));
    }
    snapshot("worksheets_hints", &reported);
}

/// A file that holds an encrypted package, as a spreadsheet program saves it.
fn encrypted() -> Vec<u8> {
    let mut compound = cfb::CompoundFile::create(Cursor::new(Vec::new())).unwrap();
    compound.create_stream("/EncryptedPackage").unwrap().write_all(&[0; 64]).unwrap();
    compound.flush().unwrap();
    compound.into_inner().into_inner()
}

#[test]
fn what_is_no_workbook_is_said_in_a_users_words() {
    let scene = Scene::empty().with("m.csv", MAIN);
    registry(&scene);
    let whole = std::fs::read(scene.path("registry.xlsx")).unwrap();
    let scene = scene
        .with("locked.xlsx", encrypted())
        .with("cut.xlsx", &whole[..whole.len() / 2])
        .with("page.xls", "\n<html><body><table><tr><td>Site code</td></tr></table></body></html>")
        .with("book.xls", "<?xml version=\"1.0\"?><Workbook xmlns=\"urn:schemas-microsoft-com:office:spreadsheet\"/>")
        .with("other.xlsx", "<?xml version=\"1.0\"?><hives/>")
        .with("damaged.xlsx", [&whole[..200], &[0; 900], &whole[1100..]].concat());
    let on = "--on 'Apiary = Site code'";
    let read = ["locked.xlsx", "cut.xlsx", "page.xls", "book.xls", "other.xlsx", "damaged.xlsx"];
    let mut calls: Vec<(i32, String)> =
        read.iter().map(|name| (2, format!("check m.csv --from {name} {on}"))).collect();
    for output in [
        "'out.xlsx#a/b'",
        "'out.xlsx#History of every hive since 1998'",
        "out.ods",
        "out.xltx",
        "out.xlsm",
    ] {
        calls.push((
            2,
            format!("enrich m.csv --from registry.xlsx#Hives {on} --take Kg -o {output}"),
        ));
    }
    let calls: Vec<(i32, &str)> = calls.iter().map(|(status, call)| (*status, &call[..])).collect();
    snapshot("worksheets_refused", &reported(&scene, &calls));
    let left: Vec<_> = std::fs::read_dir(scene.path("."))
        .unwrap()
        .flatten()
        .map(|file| file.file_name())
        .collect();
    assert!(left.iter().all(|name| !name.to_string_lossy().starts_with("out")), "{left:?}");
}
