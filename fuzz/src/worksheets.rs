//! Worksheets are read as the library of the other workbook formats reads them: any text of rows.
//!
//! The input is what is between the tags of the rows, after a row of headers. Where both read it, they read the same
//! cells. The library refuses less than a spreadsheet program does, and more in other places: that one of them refuses
//! an input says nothing.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{Cursor, Write};

use calamine::{Data, DataRef, Reader, Xlsx};
use gather_keys_core::table::{Block, OutputColumns, Overlay, Renderer, Sink, Source};
use gather_keys_core::value::number::push_spreadsheet_number;
use gather_keys_formats::workbook::{CellEdits, EditOptions, FoundSheet, SheetEditor};
use gather_keys_formats::{Address, Described, Table, Untapped};
use quick_xml::events::Event;

/// How many columns have headers.
pub(crate) const COLUMNS: usize = 8;

/// The codes of number formats, by the number of their style.
pub(crate) const FORMATS: [&str; 6] =
    ["General", "0.00", "yyyy-mm-dd", "yyyy-mm-dd hh:mm", "[h]:mm:ss", "\"day \"0"];

/// The texts that cells share.
pub(crate) const SHARED: [&str; 4] = ["Fellside", "", " a &amp; b ", "_x000D__x005F_x000D_"];

/// A cell: its line, its column and its text.
pub(crate) type Found = (u64, usize, String);

/// Reads an input both ways, and panics where they differ. The library reads XML that is none too.
pub(crate) fn run(rows: &str) {
    if !is_well_formed(rows) {
        return;
    }
    let workbook = workbook(rows, "", false);
    let read = ours(&workbook);
    if let (Ok(ours), Some(theirs)) = (&read, theirs(&workbook)) {
        assert_eq!(*ours, theirs);
    }
    if let (Ok(before), Some(written)) = (read, written_into(&workbook)) {
        let after = ours(&written).unwrap();
        let is_there = |(_, column, _): &&Found| *column != UPDATED && *column < COLUMNS;
        assert_eq!(
            before.iter().filter(is_there).collect::<Vec<_>>(),
            after.iter().filter(is_there).collect::<Vec<_>>()
        );
        // Each row has its new cells, whatever was in the column before.
        let lines = |found: &[Found]| found.iter().map(|(line, ..)| *line).collect::<BTreeSet<_>>();
        let new = |column, text: &str| {
            let is_new = |(_, of, is): &&Found| *of == column && is == text;
            lines(&after.iter().filter(is_new).cloned().collect::<Vec<_>>())
        };
        assert_eq!((new(UPDATED, "7"), new(COLUMNS, "new")), (lines(&before), lines(&before)));
    }
}

/// The column that is written into.
const UPDATED: usize = 1;

/// The workbook with a column updated and one added, in place; `None` where it is refused or a formula stays.
fn written_into(workbook: &[u8]) -> Option<Vec<u8>> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("hives.xlsx");
    File::create(&path).and_then(|mut file| file.write_all(workbook)).unwrap();
    let (mut table, _) =
        Table::open(&Address::File(path), &Described::default(), &Untapped).ok()?;
    let options = EditOptions { threads: 1, ..EditOptions::default() };
    let mut editor = SheetEditor::new("hives.xlsx", table.sheet_place()?, options);
    editor.set_replaced_formulas(vec![UPDATED]);
    let overlay = Overlay::of([UPDATED]);
    let columns = OutputColumns::all(table.headers(), &["h".to_owned()], overlay);
    editor.write_headers(&columns).ok()?;
    let renderer = editor.renderer(&columns);
    let (mut block, mut edits) = (Block::default(), CellEdits::default());
    while table.read_block(&mut block).ok()? {
        let rows: Vec<usize> = (0..block.rows()).collect();
        let added = Block::of_rows(2, &vec![["7", "new"]; rows.len()]);
        renderer.render(&block, &rows, &added, &mut edits);
        editor.write_at(block.line(0), &mut edits).ok()?;
    }
    let mut out = Vec::new();
    let edited = editor.finish(&FoundSheet::default(), &mut out).ok()?;
    edited.left.is_none().then_some(out)
}

/// Whether these rows are well-formed XML.
fn is_well_formed(rows: &str) -> bool {
    let rows = format!("<rows>{rows}</rows>");
    let mut reader = quick_xml::Reader::from_str(&rows);
    let mut depth = 0;
    loop {
        match reader.read_event() {
            Ok(Event::Start(_)) => depth += 1,
            Ok(Event::End(_)) => depth -= 1,
            Ok(Event::Eof) => return depth == 0,
            Ok(_) => {}
            Err(_) => return false,
        }
    }
}

/// A workbook with these rows, and a prefix before the name of each element of its worksheet.
pub(crate) fn workbook(rows: &str, prefix: &str, is_1904: bool) -> Vec<u8> {
    let header = |column: usize| {
        let letter = char::from(b'A' + column as u8);
        format!("<{prefix}c r=\"{letter}1\" t=\"str\"><{prefix}v>h{column}</{prefix}v></{prefix}c>")
    };
    let headers: String = (0..COLUMNS).map(header).collect();
    let sheet = format!(
        "<{prefix}worksheet><{prefix}sheetData><{prefix}row r=\"1\">{headers}</{prefix}row>{rows}</{prefix}sheetData>\
         </{prefix}worksheet>"
    );
    let kind = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
    let relations = |all: &[(&str, &str)]| {
        let one = |(what, part): &(&str, &str)| {
            format!("<Relationship Id=\"{what}\" Type=\"{kind}/{what}\" Target=\"{part}.xml\"/>")
        };
        format!("<Relationships>{}</Relationships>", all.iter().map(one).collect::<String>())
    };
    let code = |(nth, code): (usize, &&str)| {
        format!(
            "<numFmt numFmtId=\"{}\" formatCode=\"{}\"/>",
            170 + nth,
            code.replace('"', "&quot;")
        )
    };
    let codes: String = FORMATS.iter().enumerate().map(code).collect();
    let styles = (0..FORMATS.len())
        .map(|nth| format!("<xf numFmtId=\"{}\"/>", 170 + nth))
        .collect::<Vec<_>>();
    let styles = styles.concat();
    let texts: Vec<_> = SHARED.iter().map(|text| format!("<si><t>{text}</t></si>")).collect();
    let texts = texts.concat();
    let parts = [
        ("_rels/.rels", relations(&[("officeDocument", "xl/workbook")])),
        (
            "xl/workbook.xml",
            format!(
                "<workbook><workbookPr date1904=\"{is_1904}\"/><sheets><sheet name=\"Hives\" r:id=\"worksheet\"/>\
                 </sheets></workbook>"
            ),
        ),
        (
            "xl/_rels/workbook.xml.rels",
            relations(&[
                ("worksheet", "worksheets/sheet1"),
                ("sharedStrings", "sharedStrings"),
                ("styles", "styles"),
            ]),
        ),
        (
            "xl/styles.xml",
            format!(
                "<styleSheet><numFmts>{codes}</numFmts><cellXfs>{styles}</cellXfs></styleSheet>"
            ),
        ),
        ("xl/sharedStrings.xml", format!("<sst>{texts}</sst>")),
        ("xl/worksheets/sheet1.xml", sheet),
    ];
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, text) in parts {
        archive.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

/// The cells below the headers, as this crate reads them.
pub(crate) fn ours(workbook: &[u8]) -> Result<Vec<Found>, gather_keys_formats::Error> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("hives.xlsx");
    File::create(&path).and_then(|mut file| file.write_all(workbook)).unwrap();
    let (mut table, _) = Table::open(&Address::File(path), &Described::default(), &Untapped)?;
    let (mut block, mut all) = (Block::default(), Vec::new());
    while table.read_block(&mut block)? {
        for row in 0..block.rows() {
            for column in 0..block.columns() {
                let text = block.cell(row, column);
                if !text.is_empty() {
                    all.push((block.line(row), column, text.to_owned()));
                }
            }
        }
    }
    Ok(all)
}

/// The same, as the library reads them.
pub(crate) fn theirs(workbook: &[u8]) -> Option<Vec<Found>> {
    let mut workbook: Xlsx<_> = Xlsx::new(Cursor::new(workbook)).ok()?;
    let mut cells = workbook.worksheet_cells_reader("Hives").ok()?;
    let mut all = Vec::new();
    while let Some(cell) = cells.next_cell().ok()? {
        let (row, column) = cell.get_position();
        let text = text(cell.get_value());
        if !text.is_empty() && row > 0 && (column as usize) < COLUMNS {
            all.push((u64::from(row) + 1, column as usize, text));
        }
    }
    Some(all)
}

/// The text of a cell.
fn text(cell: &DataRef<'_>) -> String {
    match cell {
        DataRef::Float(number) => {
            let mut text = String::new();
            push_spreadsheet_number(*number, &mut text);
            text
        }
        DataRef::DateTime(moment) => {
            let milliseconds = (moment.as_f64() * 86_400_000.0).round() as i64;
            let seconds = milliseconds / 1000;
            let clock =
                |hours: i64| format!("{hours:02}:{:02}:{:02}", seconds / 60 % 60, seconds % 60);
            if moment.is_duration() || (0..86_400).contains(&seconds) {
                return clock(seconds / 3600);
            }
            let (year, month, day, ..) = moment.to_ymd_hms_milli();
            let date = format!("{year:04}-{month:02}-{day:02}");
            if seconds % 86_400 == 0 {
                date
            } else {
                format!("{date}T{}", clock(seconds / 3600 % 24))
            }
        }
        DataRef::Error(_) => String::new(),
        DataRef::DateTimeIso(text) => text.clone(),
        other => Data::from(other.clone()).to_string(),
    }
}
