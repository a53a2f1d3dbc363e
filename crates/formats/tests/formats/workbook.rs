//! Tables as worksheets and back.

use gather_keys_core::table::{
    Block, CellKind, Headers, OutputColumns, Overlay, Renderer, Sink, Source,
};
use gather_keys_formats::workbook::{FoundSheet, SheetRows, WorkbookOptions, WorkbookWriter};
use gather_keys_formats::{Address, Described, Table, Untapped};

const PLAIN: WorkbookOptions<'_> =
    WorkbookOptions { worksheet: None, findings: None, is_plain: true, threads: 2 };

/// What comes back of cells that were written as a worksheet, each with its kind.
fn back(cells: &[(&str, CellKind)]) -> Vec<(String, CellKind)> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("out.xlsx");
    let mut writer = WorkbookWriter::new("out.xlsx", WorkbookOptions::default()).unwrap();
    let main = Headers::new("t", ["Id"]);
    let columns = OutputColumns::all(&main, &["Cell".to_owned()], Overlay::default());
    writer.write_headers(&columns).unwrap();
    for (nth, (cell, kind)) in cells.iter().enumerate() {
        let main = Block::of_rows(1, &[[nth.to_string()]]);
        let mut added = Block::new(1);
        added.push_cell_of(cell, *kind);
        let mut rendered = SheetRows::default();
        writer.renderer(&columns).render(&main, &[0], &added, &mut rendered);
        writer.write(&mut rendered).unwrap();
    }
    writer.finish(&FoundSheet::default(), std::fs::File::create(&path).unwrap()).unwrap();
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
    let columns = OutputColumns::from(&Headers::new("t", ["Note"]));
    writer.write_headers(&columns).unwrap();
    let main = Block::of_rows(1, &[["x".repeat(40_000)]]);
    let mut rendered = SheetRows::default();
    writer.renderer(&columns).render(&main, &[0], &Block::new(0), &mut rendered);
    let error = writer.write(&mut rendered).unwrap_err().to_string();
    assert!(error.starts_with("out.xlsx, row 1, column `Note`: the text is longer"), "{error}");
    for (headers, want) in [
        (vec!["h"; 16_385], "16385 columns are more than the 16384 of a worksheet"),
        (vec![&"h".repeat(32_768)[..]], "the text is longer than the 32767"),
    ] {
        let mut writer = WorkbookWriter::new("out.xlsx", PLAIN).unwrap();
        let columns = OutputColumns::from(&Headers::new("t", headers));
        let error = writer.write_headers(&columns).unwrap_err().to_string();
        assert!(error.contains(want), "{error}");
    }
    assert!(
        WorkbookWriter::new("out.xlsx", WorkbookOptions { worksheet: Some("a/b"), ..PLAIN })
            .is_err()
    );
}

/// The kind of value that a number format shows.
#[derive(Clone, Copy)]
enum Shows {
    Number,
    Day,
    Span,
}

/// Number formats, each with what it shows.
const CODES: [(&str, Shows); 16] = [
    ("General", Shows::Number),
    ("0", Shows::Number),
    ("#,##0.00", Shows::Number),
    ("0%", Shows::Number),
    ("0.00E+00", Shows::Number),
    ("# ?/?", Shows::Number),
    ("_($* #,##0.00_);_($* (#,##0.00);_(@_)", Shows::Number),
    ("[Red]0.0 \"days\"", Shows::Number),
    ("@", Shows::Number),
    ("mm-dd-yy", Shows::Day),
    ("d. mmmm yyyy", Shows::Day),
    ("[$-407]dddd, d. mmmm yyyy;@", Shows::Day),
    ("yyyy-mm-dd\\Thh:mm", Shows::Day),
    ("m/d/yy h:mm", Shows::Day),
    ("[h]:mm:ss", Shows::Span),
    ("[mm]:ss.000", Shows::Span),
];

/// The text of a number of thousandths of a day, counted by hand.
fn shown(shows: Shows, thousandths: i64) -> String {
    let (days, rest) = (thousandths / 1000, thousandths % 1000);
    let date = jiff::civil::date(1899, 12, 30).checked_add(jiff::Span::new().days(days)).unwrap();
    match shows {
        Shows::Number => (thousandths as f64 / 1000.0).to_string(),
        Shows::Span => clock(thousandths * 86_400),
        Shows::Day if rest == 0 => date.to_string(),
        Shows::Day => format!("{date}T{}", clock(rest * 86_400)),
    }
}

/// Hours, minutes and seconds of a number of milliseconds.
fn clock(milliseconds: i64) -> String {
    let (seconds, rest) = (milliseconds / 1000, milliseconds % 1000);
    let whole = format!("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    let fraction = format!(".{rest:03}");
    if rest == 0 { whole } else { whole + fraction.trim_end_matches('0') }
}

/// What another program wrote is read, cell by cell, with texts in either place, of every kind and number format.
#[test]
fn what_was_written_is_read() {
    use rust_xlsxwriter::{Format, Workbook};
    const ROWS: u32 = 320;
    let folder = tempfile::tempdir().unwrap();
    for shares_texts in [true, false] {
        let mut workbook = Workbook::new();
        let sheet = if shares_texts {
            workbook.add_worksheet_with_low_memory().unwrap()
        } else {
            workbook.add_worksheet_with_constant_memory().unwrap()
        };
        let bold = Format::new().set_bold();
        let formats = CODES.map(|(code, _)| Format::new().set_num_format(code));
        for column in 0..20 {
            sheet.write(0, column, format!("h{column}")).unwrap();
        }
        let mut want = Vec::new();
        for row in 1..=ROWS {
            let thousandths = i64::from(row) * 7919 % 60_000_000 + 61_000;
            let number = thousandths as f64 / 1000.0;
            for (column, (format, (_, shows))) in (0..).zip(formats.iter().zip(CODES)) {
                sheet.write_number_with_format(row, column, number, format).unwrap();
                want.push(shown(shows, thousandths));
            }
            let text = format!("{row} <é> & \"_x0041_\"\n\u{1f41d}");
            sheet.write_string(row, 16, &text).unwrap();
            sheet.write_rich_string(row, 17, &[(&bold, "La"), (&Format::new(), " rk ")]).unwrap();
            sheet.write_boolean(row, 18, row % 2 == 0).unwrap();
            sheet
                .write_formula(row, 19, rust_xlsxwriter::Formula::new("=1+1").set_result("x&y"))
                .unwrap();
            want.extend([text, "La rk ".to_owned(), (row % 2 == 0).to_string(), "x&y".to_owned()]);
        }
        let path = folder.path().join("written.xlsx");
        workbook.save(&path).unwrap();
        let (mut table, _) =
            Table::open(&Address::File(path), &Described::default(), &Untapped).unwrap();
        let (mut block, mut read) = (Block::default(), Vec::new());
        while table.read_block(&mut block).unwrap() {
            let cells = (0..block.rows()).flat_map(|row| (0..20).map(move |column| (row, column)));
            read.extend(cells.map(|(row, column)| block.cell(row, column).to_owned()));
        }
        assert_eq!(read.len(), 20 * ROWS as usize);
        for (nth, (read, want)) in read.iter().zip(&want).enumerate() {
            assert_eq!(read, want, "row {}, column {}", nth / 20 + 1, nth % 20);
        }
    }
}

/// The sum over a column that is written is the sum over the column that was read, computed prices included.
#[test]
fn sums_stay_the_same() {
    let prices: Vec<f64> = (1..400).map(|jars| f64::from(jars) * 1.19 * 3.49).collect();
    let texts: Vec<String> = prices.iter().map(f64::to_string).collect();
    assert!(texts.iter().any(|text| text.len() > 17), "{texts:?}");
    let cells: Vec<(&str, CellKind)> =
        texts.iter().map(|text| (&text[..], CellKind::Number)).collect();
    let read = back(&cells);
    assert!(read.iter().all(|(_, kind)| *kind == CellKind::Number));
    let total: f64 = read.iter().map(|(text, _)| text.parse::<f64>().unwrap()).sum();
    assert!((total - prices.iter().sum::<f64>()).abs() < 1e-8, "{total}");
    // Written once more, the cells are what they were.
    let cells: Vec<(&str, CellKind)> = read.iter().map(|(text, kind)| (&text[..], *kind)).collect();
    assert_eq!(back(&cells), read);
}
