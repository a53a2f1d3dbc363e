//! Tables as worksheets and back.

use gather_keys_core::table::{Block, CellKind, Headers, Overlay, Renderer, Sink, Source};
use gather_keys_formats::workbook::{WorkbookOptions, WorkbookWriter};
use gather_keys_formats::{Address, Described, Table, Untapped};

const PLAIN: WorkbookOptions<'_> = WorkbookOptions { worksheet: None, is_plain: true, threads: 2 };

/// What comes back of cells that were written as a worksheet, each with its kind.
fn back(cells: &[(&str, CellKind)]) -> Vec<(String, CellKind)> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("out.xlsx");
    let mut writer = WorkbookWriter::new("out.xlsx", WorkbookOptions::default()).unwrap();
    writer.write_headers(&Headers::new("t", ["Id"]), &["Cell".to_owned()]).unwrap();
    for (nth, (cell, kind)) in cells.iter().enumerate() {
        let main = Block::of_rows(1, &[[nth.to_string()]]);
        let mut added = Block::new(1);
        added.push_cell_of(cell, *kind);
        let mut rendered = Default::default();
        writer.renderer(Overlay::default()).render(&main, &[0], &added, &mut rendered);
        writer.write(&mut rendered).unwrap();
    }
    writer.finish(&[], std::fs::File::create(&path).unwrap()).unwrap();
    let (mut table, _) =
        Table::open(&Address::File(path), &Described::default(), &Untapped).unwrap();
    let (mut block, mut all) = (Block::default(), Vec::new());
    while table.read_block(&mut block).unwrap() {
        for row in 0..block.rows() {
            assert_eq!(block.cell(row, 0), all.len().to_string());
            all.push((block.cell(row, 1).to_owned(), block.kind(row, 1)));
        }
    }
    all
}

/// What goes in comes out, text and kind; of what says no kind, at least the text does.
#[test]
fn cells_come_back_as_they_were() {
    use CellKind::{Date, Number, Text, Time, Truth, Untyped};
    let same = [
        ("042", Text),
        ("42", Text),
        ("42", Number),
        ("+44", Text),
        ("12345678901234567", Text),
        ("0.1", Number),
        ("0.0000001", Number),
        ("-12.5", Number),
        ("123456789012345", Number),
        ("2026-05-19", Date),
        ("2026-05-19", Text),
        ("1900-01-01", Date),
        ("1900-02-28", Date),
        ("1900-03-01", Date),
        ("9999-12-31", Date),
        ("2026-05-19T10:20:00", Date),
        ("2026-05-19T23:59:59", Date),
        ("07:30:00", Time),
        ("26:30:00", Time),
        ("true", Truth),
        ("true", Text),
        ("two\nlines", Text),
        (" spaces ", Text),
        ("", Untyped),
    ];
    for ((text, kind), came) in same.iter().zip(back(&same)) {
        assert_eq!((*text, *kind), (&came.0[..], came.1));
    }
    // Of cells that say no kind.
    let unsaid = [
        ("042", "042", Text),
        ("42", "42", Number),
        ("3.40", "3.4", Number),
        ("12345678901234567", "12345678901234567", Text),
        ("2026-05-19", "2026-05-19", Date),
        ("+44", "+44", Text),
        ("1e-7", "1e-7", Text),
        ("true", "true", Text),
        ("26:30:00", "26:30:00", Text),
    ];
    let cells = unsaid.map(|(text, ..)| (text, Untyped));
    for ((_, text, kind), came) in unsaid.iter().zip(back(&cells)) {
        assert_eq!((*text, *kind), (&came.0[..], came.1));
    }
    // A number that a workbook can't hold is text there.
    assert_eq!(back(&[("12345678901234567", Number)]), [("12345678901234567".to_owned(), Text)]);
}

#[test]
fn what_a_worksheet_does_not_hold_is_an_error() {
    let mut writer = WorkbookWriter::new("out.xlsx", PLAIN).unwrap();
    writer.write_headers(&Headers::new("t", ["Note"]), &[]).unwrap();
    let main = Block::of_rows(1, &[["x".repeat(40_000)]]);
    let mut rendered = Default::default();
    writer.renderer(Overlay::default()).render(&main, &[0], &Block::new(0), &mut rendered);
    let error = writer.write(&mut rendered).unwrap_err().to_string();
    assert!(error.starts_with("out.xlsx, row 1, column `Note`: the text is longer"), "{error}");
    assert!(
        WorkbookWriter::new("out.xlsx", WorkbookOptions { worksheet: Some("a/b"), ..PLAIN })
            .is_err()
    );
}
