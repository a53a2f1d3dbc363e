//! What a file is, by its content, its ending, and what a person says of it.

use std::fs;
use std::io::Write;
use std::path::Path;

use gather_keys_core::table::{Block, Source};
use gather_keys_formats::delimited::{Encoding, HeaderRow};
use gather_keys_formats::{Address, Described, Format, Table, Untapped};

/// How a table was read and what it holds; or the error.
fn read(address: &Address, described: &Described) -> Result<(String, Vec<Vec<String>>), String> {
    let opened = Table::open(address, described, &Untapped);
    let (mut table, _) = opened.map_err(|error| error.to_string())?;
    let format = table.read_as().format.to_owned();
    let width = table.headers().len();
    let mut rows = vec![table.headers().iter().map(str::to_owned).collect::<Vec<_>>()];
    let mut block = Block::default();
    while table.read_block(&mut block).map_err(|error| error.to_string())? {
        for row in 0..block.rows() {
            rows.push((0..width).map(|column| block.cell(row, column).to_owned()).collect());
        }
    }
    Ok((format, rows))
}

fn database(path: &Path) {
    let database = rusqlite::Connection::open(path).unwrap();
    database
        .execute_batch("create table hives (Tag, Kg); insert into hives values ('007', 1.5)")
        .unwrap();
}

fn workbook(path: &Path) {
    let mut workbook = rust_xlsxwriter::Workbook::new();
    let sheet = workbook.add_worksheet();
    sheet.write_row(0, 0, ["Tag", "Kg"]).unwrap();
    sheet.write(1, 0, "007").unwrap();
    sheet.write(1, 1, 1.5).unwrap();
    workbook.save(path).unwrap();
}

const LINES: &str = "{\"Tag\": \"007\", \"Kg\": 1.5}\n";
const TEXT: &str = "Tag,Kg\n007,1.5\n";

/// Each content under each ending, with the format that it is.
#[test]
fn the_format_is_found() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, kind: &str| {
        let path = folder.path().join(name);
        match kind {
            "database" => database(&path),
            "workbook" => workbook(&path),
            "lines" => fs::write(&path, LINES).unwrap(),
            "document" => fs::write(&path, format!("[{LINES}]")).unwrap(),
            _ => fs::write(&path, TEXT).unwrap(),
        }
        Address::new(path.as_os_str())
    };
    for (name, kind, format) in [
        ("a.csv", "text", "delimited text"),
        ("a.tsv", "text", "delimited text"),
        ("a", "text", "delimited text"),
        ("b.csv", "lines", "JSON"),
        ("b", "lines", "JSON"),
        ("b.jsonl", "lines", "JSON"),
        ("b.json", "document", "JSON"),
        ("b2", "document", "JSON"),
        ("c.xlsx", "workbook", "workbook"),
        ("c.csv", "workbook", "workbook"),
        ("d.sqlite", "database", "database"),
        ("d.csv", "database", "database"),
    ] {
        let (found, rows) = read(&write(name, kind), &Described::default()).unwrap();
        assert_eq!(found, format, "{name} with {kind}");
        assert_eq!(rows, [["Tag", "Kg"], ["007", "1.5"]], "{name} with {kind}");
    }
}

/// What a person says counts, and is reported when it is not so.
#[test]
fn the_format_can_be_said() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("hives.data");
    let address = Address::File(path.clone());
    let said = |format: &str| Described { format: Format::named(format), ..Described::default() };
    fs::write(&path, LINES).unwrap();
    let (format, rows) = read(&address, &said("text")).unwrap();
    assert_eq!((&format[..], rows.len()), ("delimited text", 1));
    assert_eq!(read(&address, &said("json-lines")).unwrap().1[1], ["007", "1.5"]);
    // A document may be one object, which is no array of rows.
    let error = read(&address, &said("json")).unwrap_err();
    assert!(error.contains("hives.data"), "{error}");
    fs::write(&path, TEXT).unwrap();
    for format in ["json", "json-lines", "workbook", "database"] {
        let error = read(&address, &said(format)).unwrap_err();
        assert!(error.contains("hives.data"), "{format}: {error}");
    }
    assert_eq!(Format::named(" workbook "), Some(Format::Workbook));
    assert_eq!(Format::named("sheet"), None);
}

/// What is said of a table and means nothing in its format is refused, not passed over.
#[test]
fn what_a_format_does_not_know_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    database(&at("hives.sqlite"));
    workbook(&at("hives.xlsx"));
    fs::write(at("hives.jsonl"), LINES).unwrap();
    fs::write(at("hives.json"), format!("[{LINES}]")).unwrap();
    let said = || Described::default();
    let all = [
        ("delimiter", Described { delimiter: Some(b';'), ..said() }),
        ("encoding", Described { encoding: Encoding::named("utf-8"), ..said() }),
        ("ragged", Described { pads: true, ..said() }),
        ("no_header", Described { headers: HeaderRow::Absent, ..said() }),
        ("header_row", Described { headers: HeaderRow::Line(1), ..said() }),
    ];
    for (name, format, knows) in [
        ("hives.sqlite", "database", &[][..]),
        ("hives.jsonl", "json-lines", &[]),
        ("hives.json", "json", &[]),
        ("hives.xlsx", "workbook", &["no_header", "header_row"]),
    ] {
        let address = Address::new(at(name).as_os_str());
        for (option, described) in &all {
            let came = read(&address, described).map(|(format, _)| format);
            if knows.contains(option) {
                assert_eq!(came, Ok(format.to_owned()), "{name} {option}");
            } else {
                let reported =
                    format!("`{option}` does not apply to {address}, whose format is {format}: ");
                assert!(came.is_err_and(|error| error.starts_with(&reported)), "{name} {option}");
            }
        }
    }
}

/// A pipe is read once, whatever comes out of it.
#[cfg(unix)]
#[test]
fn a_pipe_holds_any_table() {
    let folder = tempfile::tempdir().unwrap();
    let source = folder.path().join("source");
    for (kind, format) in [
        ("database", "database"),
        ("workbook", "workbook"),
        ("lines", "JSON"),
        ("text", "delimited text"),
    ] {
        let _ = fs::remove_file(&source);
        match kind {
            "database" => database(&source),
            "workbook" => workbook(&source),
            "lines" => fs::write(&source, LINES).unwrap(),
            _ => fs::write(&source, TEXT).unwrap(),
        }
        let bytes = fs::read(&source).unwrap();
        let pipe = folder.path().join(format!("pipe-{kind}"));
        assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
        let place = pipe.clone();
        let writer = std::thread::spawn(move || {
            fs::File::options().write(true).open(place).unwrap().write_all(&bytes).unwrap();
        });
        let (found, rows) = read(&Address::File(pipe), &Described::default()).unwrap();
        writer.join().unwrap();
        assert_eq!(
            (&found[..], rows),
            (
                format,
                vec![
                    vec!["Tag".to_owned(), "Kg".to_owned()],
                    vec!["007".to_owned(), "1.5".to_owned()],
                ]
            ),
            "{kind}"
        );
    }
}

/// Nothing of a table is read that is not there.
#[test]
fn empty_and_cut_files_are_told() {
    let folder = tempfile::tempdir().unwrap();
    for (name, content, said) in [
        ("empty.csv", &b""[..], "empty"),
        ("empty.json", b"", "empty.json"),
        ("cut.xlsx", b"PK\x03\x04 and no more", "cut.xlsx"),
        ("cut.sqlite", b"SQLite format 3\0 and no more", "cut.sqlite"),
        ("cut.json", b"[{\"Tag\": 1}, {\"Ta", "cut.json"),
    ] {
        let path = folder.path().join(name);
        fs::write(&path, content).unwrap();
        let error = read(&Address::File(path), &Described::default()).unwrap_err();
        assert!(error.contains(said), "{name}: {error}");
    }
    let missing = Address::File(folder.path().join("missing.csv"));
    assert!(read(&missing, &Described::default()).unwrap_err().contains("missing.csv"));
}

/// Of a database no more than the wanted columns are asked for, whatever they are called.
#[test]
fn wanted_columns_of_a_database_are_read() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("hives.sqlite");
    let database = rusqlite::Connection::open(&path).unwrap();
    database
        .execute_batch(
            "create table hives (Tag, \"Kg \"\"net\"\"\", Seen); \
             insert into hives values ('007', 1.5, x'00ff'), (8, null, -0.0), \
                 ('\u{e9}', 1e300, 12345678901234567); \
             create view doubled as select Tag, Seen as Tag, Tag as Last from hives",
        )
        .unwrap();
    drop(database);
    for (table, wanted, want) in [
        ("hives", &[0, 1, 2][..], "007|1.5|00ff/8||0/é|1e300|12345678901234567"),
        ("hives", &[1], "1.5//1e300"),
        ("hives", &[2, 0], "00ff|007/0|8/12345678901234567|é"),
        ("hives", &[], "//"),
        ("doubled", &[1], "00ff/0/12345678901234567"),
        ("doubled", &[2, 1], "007|00ff/8|0/é|12345678901234567"),
    ] {
        let address = Address::Part(path.clone(), table.to_owned());
        let (mut table, _) = Table::open(&address, &Described::default(), &Untapped).unwrap();
        table.want(wanted);
        let mut block = Block::default();
        assert!(table.read_block(&mut block).unwrap());
        let row = |row| -> String {
            let cells: Vec<&str> = wanted.iter().map(|&column| block.cell(row, column)).collect();
            cells.join("|")
        };
        let rows: Vec<String> = (0..block.rows()).map(row).collect();
        let large = format!("1{}", "0".repeat(300));
        assert_eq!(rows.join("/"), want.replace("1e300", &large));
    }
}
