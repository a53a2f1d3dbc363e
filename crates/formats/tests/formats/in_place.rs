//! Workbooks of other programs that are written into: what is not named stays, byte for byte, and in the worksheet
//! nothing differs but the written cells and what follows from them.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::{Cursor, Read, Write};
use std::path::{Path, PathBuf};

use gather_keys_core::enrich::EnrichmentBuilder;
use gather_keys_core::plan::{On, ReferencePlan, Take, Update};
use gather_keys_core::table::{Block, MemoryTable, Source};
use gather_keys_formats::workbook::{EditOptions, Edited, FoundSheet, SheetEditor};
use gather_keys_formats::{Address, Described, Table, Untapped};
use quick_xml::events::Event;
use zip::ZipArchive;

fn fixture(name: &str) -> Vec<u8> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/formats/workbooks");
    fs::read(folder.join(name)).unwrap()
}

/// The hives that batches are looked up in.
fn hives() -> MemoryTable {
    let rows = [
        ["Fellside", "1", "Edda <E>", "2021-10-03", "7.10"],
        ["Fellside", "2", "Jorun Elderfield", "2020-05-11", "7.10"],
        ["Larkfield", "5", "Tamsin Oxlip", "2020-12-23", "6.90"],
        ["Fellside", "7", "Brenna Quince", "2022-11-02", "8"],
        ["Mill Race", "3", "Corvin Ashmead", "2024-04-04", "9.50"],
    ];
    MemoryTable::new("hives", ["Site code", "Tag", "Keeper", "Since", "New price"], rows)
}

/// Writes keepers and prices into a workbook; columns in `without` were added before.
fn written(
    workbook: &[u8],
    options: EditOptions,
    without: &[&str],
    prepare: impl FnOnce(&mut SheetEditor),
) -> (Vec<u8>, Edited) {
    let folder = tempfile::tempdir().unwrap();
    let path: PathBuf = folder.path().join("book.xlsx");
    fs::write(&path, workbook).unwrap();
    let address = Address::Part(path, "Harvest".to_owned());
    let without = without.iter().map(|&header| header.to_owned()).collect();
    let described = Described { without, ..Described::default() };
    let (mut main, _) = Table::open(&address, &described, &Untapped).unwrap();
    let plan = ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&["Apiary = Site code, Hive = Tag"]).unwrap(),
        take: Some(Take::parse("Keeper, Since").unwrap()),
        update: Update::parse("Price = New price").unwrap(),
        append_unused: options.appends,
        ..ReferencePlan::default()
    };
    let mut builder = EnrichmentBuilder::new(main.headers(), [1, 2, 3, 4]);
    builder.reference(&plan, &mut hives(), 1).unwrap();
    let mut enrichment = builder.finish();
    let mut editor = SheetEditor::new("book.xlsx", main.sheet_place().unwrap(), options);
    editor.set_columns(main.number_formats(), main.widths());
    editor.set_added([2].into_iter());
    prepare(&mut editor);
    enrichment.run(&mut main, &mut editor, None, 2).unwrap();
    let mut out = Vec::new();
    let edited = editor.finish(&FoundSheet::default(), &mut out).unwrap();
    (out, edited)
}

/// The parts of a workbook in order, each with what its archive says of it, and packed and unpacked bytes.
fn parts(workbook: &[u8]) -> Vec<(String, String, Vec<u8>, Vec<u8>)> {
    let mut archive = ZipArchive::new(Cursor::new(workbook)).unwrap();
    let part = |nth: usize| {
        let (mut packed, mut text) = (Vec::new(), Vec::new());
        let mut raw = archive.by_index_raw(nth).unwrap();
        raw.read_to_end(&mut packed).unwrap();
        let facts =
            format!("{:?} {:?} {:?}", raw.last_modified(), raw.unix_mode(), raw.compression());
        let name = raw.name().unwrap().into_owned();
        drop(raw);
        archive.by_index(nth).unwrap().read_to_end(&mut text).unwrap();
        (name, facts, packed, text)
    };
    (0..ZipArchive::new(Cursor::new(workbook)).unwrap().len()).map(part).collect()
}

/// The tree of a part: each element by its path, in which cells and rows go by their place, with its attributes and text.
fn tree(xml: &[u8]) -> BTreeMap<String, String> {
    let mut reader = quick_xml::Reader::from_reader(xml);
    reader.config_mut().expand_empty_elements = true;
    let (mut all, mut path, mut counts) = (BTreeMap::new(), Vec::new(), BTreeMap::new());
    loop {
        match reader.read_event().unwrap() {
            Event::Start(element) => {
                let name = element.local_name().as_ref().to_owned();
                let attributes: BTreeMap<String, String> = element
                    .attributes()
                    .map(|one| one.unwrap())
                    .map(|one| (one.key.local_name().as_ref().to_owned(), one.value.into_owned()))
                    .collect();
                let place = attributes.get("r").filter(|_| name == "c" || name == "row");
                let own = format!("{name}:{}", place.map_or("", |place| place));
                let parent: String = path.concat();
                let nth = counts.entry(format!("{parent}/{own}")).or_insert(0);
                *nth += 1;
                path.push(format!(
                    "/{own}{}",
                    if *nth > 1 { nth.to_string() } else { String::new() }
                ));
                let attributes: Vec<String> =
                    attributes.iter().map(|(name, value)| format!("{name}={value}")).collect();
                all.insert(path.concat(), attributes.join(" "));
            }
            Event::End(_) => drop(path.pop()),
            Event::Text(text) => {
                let text = text.xml10_content().into_owned();
                if !text.trim().is_empty() {
                    all.entry(path.concat()).or_default().push_str(&format!(" {text}"));
                }
            }
            Event::GeneralRef(name) => {
                all.entry(path.concat()).or_default().push_str(&format!("&{};", &*name));
            }
            Event::Eof => return all,
            _ => {}
        }
    }
}

/// The paths of a part that differ.
fn differing(before: &[u8], after: &[u8]) -> Vec<String> {
    let (before, after) = (tree(before), tree(after));
    let paths: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let differ = |path: &&String| before.get(*path) != after.get(*path);
    paths.into_iter().filter(differ).cloned().collect()
}

/// The fixtures, each with the line of its headers.
const FIXTURES: [(&str, u64); 3] =
    [("in-place-office.xlsx", 3), ("in-place-table.xlsx", 1), ("in-place-macros.xlsm", 1)];

#[test]
fn nothing_changes_but_the_cells_and_what_follows_from_them() {
    for (name, header) in FIXTURES {
        let before = fixture(name);
        let (after, edited) =
            written(&before, EditOptions { threads: 2, ..EditOptions::default() }, &[], |_| {});
        let (before, after) = (parts(&before), parts(&after));
        let names = |parts: &[(String, String, Vec<u8>, Vec<u8>)]| {
            parts.iter().map(|(name, ..)| name.clone()).collect::<Vec<_>>()
        };
        assert_eq!(names(&before), names(&after), "{name}");
        let mut touched = BTreeSet::new();
        for (old, new) in before.iter().zip(&after) {
            if old.3 == new.3 {
                // Its packed bytes too, and what the archive says of it.
                assert_eq!((&old.1, &old.2), (&new.1, &new.2), "{name}: {}", old.0);
                continue;
            }
            touched.insert(old.0.clone());
            for path in differing(&old.3, &new.3) {
                let is_expected = match &old.0[..] {
                    "xl/worksheets/sheet1.xml" => {
                        let cell =
                            path.rsplit("/c:").next().and_then(|rest| rest.split('/').next());
                        let cell = cell.unwrap_or_default();
                        // The added columns, prices, the used range, widths, and columns of rows.
                        path.contains("/c:") && cell.starts_with(['F', 'H', 'I'])
                            || ["dimension:", "/cols:", "/autoFilter:"]
                                .iter()
                                .any(|one| path.contains(one))
                            || path.contains("/row:")
                                && !path.contains("/c:")
                                && name.ends_with("xlsm")
                    }
                    "xl/workbook.xml" => {
                        path.contains("/calcPr:") || path.contains("/definedName:")
                    }
                    "xl/styles.xml" => {
                        ["/numFmts:", "/cellXfs:"].iter().any(|one| path.contains(one))
                    }
                    "xl/tables/table1.xml" => true,
                    _ => false,
                };
                assert!(is_expected, "{name}, {}: {path}", old.0);
            }
        }
        assert!(
            touched.contains("xl/worksheets/sheet1.xml") && touched.contains("xl/workbook.xml")
        );
        let sheet = &after.iter().find(|(one, ..)| one == "xl/worksheets/sheet1.xml").unwrap().3;
        let sheet = tree(sheet);
        let row = |line: u64| format!("/worksheet:/sheetData:/row:{line}");
        let cell = |column: &str, line: u64, rest: &str| {
            sheet.get(&format!("{}/c:{column}{line}{rest}", row(line))).cloned()
        };
        // Batch 15 is of hive 2 in Fellside.
        let line = header + 15;
        assert_eq!(cell("H", line, "/is:/t:").as_deref(), Some(" Jorun Elderfield"), "{name}");
        assert_eq!(cell("I", line, "/v:").as_deref(), Some(" 43962"), "{name}");
        assert_eq!(cell("F", line, "/v:").as_deref(), Some(" 7.10"), "{name}");
        // A header looks like its neighbour.
        let style = |text: Option<String>| {
            text.and_then(|text| {
                text.split(' ').find(|one| one.starts_with("s=")).map(str::to_owned)
            })
        };
        assert_eq!(style(cell("H", header, "")), style(cell("G", header, "")), "{name}");
        assert!(edited.has_formulas);
        // The price of hive 5 in Larkfield, or 7 in Fellside, may be a formula, which stays.
        let kept = u64::from(name != "in-place-macros.xlsm");
        assert_eq!(edited.left.map_or(0, |(count, _)| count), kept, "{name}");
    }
}

/// In a workbook whose days are counted from 1904, a written day is the day that it was.
#[test]
fn days_are_those_of_the_workbook() {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, _, _, text) in parts(&fixture("in-place-office.xlsx")) {
        archive.start_file(name.clone(), zip::write::SimpleFileOptions::default()).unwrap();
        let text = match &name[..] {
            "xl/workbook.xml" => String::from_utf8(text)
                .unwrap()
                .replace("date1904=\"false\"", "date1904=\"true\"")
                .into_bytes(),
            _ => text,
        };
        archive.write_all(&text).unwrap();
    }
    let book = archive.finish().unwrap().into_inner();
    let (after, _) =
        written(&book, EditOptions { threads: 1, ..EditOptions::default() }, &[], |_| {});
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("book.xlsx");
    fs::write(&path, after).unwrap();
    let address = Address::Part(path, "Harvest".to_owned());
    let (mut table, _) = Table::open(&address, &Described::default(), &Untapped).unwrap();
    let (mut block, column) = (Block::default(), table.headers().find("Since").unwrap().column);
    assert!(table.read_block(&mut block).unwrap());
    assert_eq!((block.cell(14, 0), block.cell(14, column)), ("B015", "2020-05-11"));
}

#[test]
fn ten_runs_leave_what_one_does() {
    for (name, _) in FIXTURES {
        let options = EditOptions { threads: 2, highlights: true, ..EditOptions::default() };
        let (first, _) = written(&fixture(name), options, &[], |_| {});
        let mut last = first.clone();
        for _ in 1..10 {
            last = written(&last, options, &["Keeper", "Since"], |_| {}).0;
        }
        let (first, last) = (parts(&first), parts(&last));
        assert_eq!(first.len(), last.len(), "{name}");
        for (old, new) in first.iter().zip(&last) {
            let is_xml = new.3.starts_with(b"<?xml") && !old.0.contains("vml");
            if is_xml {
                assert_eq!(differing(&old.3, &new.3), [""; 0], "{name}, {}", old.0);
            } else {
                assert_eq!(old.3, new.3, "{name}, {}", old.0);
            }
        }
    }
}

/// The workbook with an order of calculation, as some programs store one.
fn with_calculation_chain(workbook: &[u8], chain: &str) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    for (name, _, _, text) in parts(workbook) {
        let text = String::from_utf8(text).unwrap_or_default();
        let text = match &name[..] {
            "xl/_rels/workbook.xml.rels" => text.replace(
                "</Relationships>",
                "<Relationship Id=\"chain\" Type=\"http://schemas.openxmlformats.org/officeDocument/2006/\
                 relationships/calcChain\" Target=\"calcChain.xml\"/></Relationships>",
            ),
            "[Content_Types].xml" => text.replace(
                "</Types>",
                "<Override PartName=\"/xl/calcChain.xml\" ContentType=\"application/vnd.\
                 openxmlformats-officedocument.spreadsheetml.calcChain+xml\"/></Types>",
            ),
            _ => text,
        };
        archive.start_file(name, options).unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    archive.start_file("xl/calcChain.xml", options).unwrap();
    archive.write_all(format!("<calcChain>{chain}</calcChain>").as_bytes()).unwrap();
    archive.finish().unwrap().into_inner()
}

#[test]
fn a_replaced_formula_leaves_the_order_of_calculation_sound() {
    // The price of batch 6 is a formula, and it is of hive 7 in Fellside.
    let options = EditOptions { threads: 1, ..EditOptions::default() };
    let replaced = |chain: &str| {
        let book = with_calculation_chain(&fixture("in-place-office.xlsx"), chain);
        let (after, edited) =
            written(&book, options, &[], |editor| editor.set_replaced_formulas(vec![5]));
        assert_eq!(edited.left, None);
        parts(&after)
    };
    let of = |parts: &[(String, String, Vec<u8>, Vec<u8>)], name: &str| {
        let found = parts.iter().find(|(one, ..)| one == name);
        found.map(|(.., text)| String::from_utf8(text.clone()).unwrap())
    };
    let after =
        replaced("<c r=\"F9\" i=\"1\"/><c r=\"G9\"/><c r=\"F15\" l=\"1\"/><c r=\"B4\" i=\"2\"/>");
    let sheet = tree(of(&after, "xl/worksheets/sheet1.xml").unwrap().as_bytes());
    assert_eq!(sheet.get("/worksheet:/sheetData:/row:9/c:F9/v:").map(String::as_str), Some(" 8"));
    assert!(!sheet.contains_key("/worksheet:/sheetData:/row:9/c:F9/f:"));
    let chain = of(&after, "xl/calcChain.xml").unwrap();
    assert!(
        chain.ends_with(
            "<c i=\"1\" r=\"G9\"/><c r=\"F15\" l=\"1\"/><c r=\"B4\" i=\"2\"/></calcChain>"
        ),
        "{chain}"
    );
    // A chain of nothing else is none.
    let after = replaced("<c r=\"F9\" i=\"1\"/>");
    assert_eq!(of(&after, "xl/calcChain.xml"), None);
    for name in ["xl/_rels/workbook.xml.rels", "[Content_Types].xml"] {
        assert!(!of(&after, name).unwrap().contains("calcChain"), "{name}");
    }
}

#[test]
fn rows_are_appended_below_the_table_and_look_like_it() {
    let options = EditOptions { threads: 1, appends: true, ..EditOptions::default() };
    let (after, _) = written(&fixture("in-place-macros.xlsm"), options, &[], |_| {});
    let parts = parts(&after);
    let part = |name: &str| tree(&parts.iter().find(|(one, ..)| one == name).unwrap().3);
    let (sheet, book) = (part("xl/worksheets/sheet1.xml"), part("xl/workbook.xml"));
    let cell =
        |place: &str| sheet.get(&format!("/worksheet:/sheetData:/row:26/c:{place}")).cloned();
    let text = |place: &str| {
        sheet.get(&format!("/worksheet:/sheetData:/row:26/c:{place}/is:/t:")).cloned()
    };
    // No main row asks for the hive of Mill Race; its price looks as that of the row above.
    assert_eq!(text("B26").as_deref(), Some(" Mill Race"));
    assert_eq!(text("H26").as_deref(), Some(" Corvin Ashmead"));
    assert_eq!(cell("F26").as_deref(), Some("r=F26 s=3"));
    assert_eq!(sheet["/worksheet:/sheetData:/row:25/c:F25"], "r=F25 s=3");
    assert_eq!(sheet["/worksheet:/autoFilter:"], "ref=A1:I26");
    assert_eq!(sheet["/worksheet:/dimension:"], "ref=A1:I26");
    assert!(book.values().any(|text| text.ends_with("Harvest!$A$1:$I$26")), "{book:?}");
}

#[test]
fn rows_are_not_appended_over_totals() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("book.xlsx");
    fs::write(&path, fixture("in-place-table.xlsx")).unwrap();
    // The table's own part leaves its totals out.
    let address = Address::Part(path, "HarvestTable".to_owned());
    let (mut main, _) = Table::open(&address, &Described::default(), &Untapped).unwrap();
    let plan = ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&["Apiary = Site code, Hive = Tag"]).unwrap(),
        take: Some(Take::parse("Keeper").unwrap()),
        append_unused: true,
        ..ReferencePlan::default()
    };
    let mut builder = EnrichmentBuilder::new(main.headers(), [1, 2, 3, 4]);
    builder.reference(&plan, &mut hives(), 1).unwrap();
    let mut enrichment = builder.finish();
    let options = EditOptions { appends: true, threads: 1, ..EditOptions::default() };
    let mut editor = SheetEditor::new("book.xlsx", main.sheet_place().unwrap(), options);
    let said = enrichment
        .run(&mut main, &mut editor, None, 2)
        .and_then(|_| editor.finish(&FoundSheet::default(), &mut Vec::new()));
    let said = said.unwrap_err().to_string();
    assert!(said.contains("worksheet `Harvest`") && said.contains("A26"), "{said}");
}
