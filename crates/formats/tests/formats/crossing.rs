//! Cells cross from every format to every other unharmed.

use std::fs::File;
use std::path::Path;

use gather_keys_core::table::{Block, CellKind, Headers, OutputColumns, Sink, Source};
use gather_keys_formats::columnar::ColumnarWriter;
use gather_keys_formats::delimited::{Layout, Writer};
use gather_keys_formats::json::JsonWriter;
use gather_keys_formats::postgresql::ServerWriter;
use gather_keys_formats::sqlite::DatabaseWriter;
use gather_keys_formats::workbook::{FoundSheet, WorkbookOptions, WorkbookWriter};
use gather_keys_formats::{Address, Described, Error, Table, Untapped};
use proptest::prelude::*;

const PLAIN: WorkbookOptions<'_> =
    WorkbookOptions { worksheet: None, findings: None, is_plain: true, threads: 2 };

/// The formats that are written to files, by their extensions.
const FORMATS: [&str; 8] = ["csv", "jsonl", "json", "xlsx", "sqlite", "parquet", "arrow", "arrows"];

/// What usually comes to harm on the way, with its kind.
const CELLS: [(&str, CellKind); 20] = [
    ("12345678901234567", CellKind::Text),
    ("12345678901234567", CellKind::Untyped),
    ("99999999999999999999", CellKind::Untyped),
    ("0.1", CellKind::Number),
    ("0.0000001", CellKind::Number),
    ("-12.5", CellKind::Untyped),
    ("42", CellKind::Number),
    ("42", CellKind::Text),
    ("1900-02-28", CellKind::Date),
    ("2026-05-19", CellKind::Untyped),
    ("2026-05-19T23:59:59", CellKind::Date),
    ("26:30:00", CellKind::Time),
    ("007", CellKind::Text),
    ("007", CellKind::Untyped),
    ("+44 20 7946", CellKind::Untyped),
    ("+44", CellKind::Text),
    ("true", CellKind::Truth),
    ("Zoë, \"two\nlines\"", CellKind::Text),
    ("=1+1", CellKind::Untyped),
    ("H-007", CellKind::Untyped),
];

type Cells = Vec<Vec<(String, CellKind)>>;

fn fill<S: Sink<Error = Error>>(sink: &mut S, headers: &Headers, rows: &Cells) {
    let columns = OutputColumns::from(headers);
    sink.write_headers(&columns).unwrap();
    let mut block = Block::new(headers.len());
    for (nth, row) in rows.iter().enumerate() {
        for (cell, kind) in row {
            block.push_cell_of(cell, *kind);
        }
        block.push_line(nth as u64);
    }
    let every: Vec<usize> = (0..rows.len()).collect();
    sink.write_block(&columns, &block, &every, &Block::new(0)).unwrap();
}

/// The formats, and a server where there is one.
fn formats() -> Vec<&'static str> {
    let server = std::env::var("GATHER_KEYS_TEST_SERVER").is_ok();
    FORMATS.into_iter().chain(server.then_some("server")).collect()
}

/// Where a path is that ends like a format.
fn address(path: &Path) -> Address {
    if path.extension().unwrap() == "server" {
        let table = format!("crossing {}", path.file_stem().unwrap().to_str().unwrap());
        let server = std::env::var("GATHER_KEYS_TEST_SERVER").unwrap();
        return Address::new(format!("{server}#{table}").as_ref());
    }
    Address::File(path.to_owned())
}

fn write(path: &Path, headers: &Headers, rows: &Cells) {
    let ending = path.extension().unwrap().to_str().unwrap();
    let create = || File::create(path).unwrap();
    match ending {
        "csv" => {
            let mut writer = Writer::new("t", create(), Layout::usual(headers));
            fill(&mut writer, headers, rows);
            writer.finish().unwrap();
        }
        "jsonl" | "json" => {
            let mut writer = JsonWriter::new("t", create(), ending == "jsonl");
            fill(&mut writer, headers, rows);
            writer.finish().unwrap();
        }
        "xlsx" => {
            let mut writer = WorkbookWriter::new("t", PLAIN).unwrap();
            fill(&mut writer, headers, rows);
            writer.finish(&FoundSheet::default(), create()).unwrap();
        }
        "parquet" | "arrow" | "arrows" => {
            let kind = Address::File(path.to_owned()).columnar().unwrap();
            let mut writer = ColumnarWriter::new("t", kind, Vec::new());
            fill(&mut writer, headers, rows);
            writer.finish(create()).unwrap();
        }
        "server" => {
            let Address::Server(server) = address(path) else { panic!("no server") };
            let mut writer = ServerWriter::begin(&server, true).unwrap();
            fill(&mut writer, headers, rows);
            writer.send().unwrap();
            writer.commit().unwrap();
        }
        _ => {
            let mut writer = DatabaseWriter::begin("t", path, "t", false).unwrap();
            fill(&mut writer, headers, rows);
            writer.commit().unwrap();
        }
    }
}

fn read(path: &Path) -> (Headers, Cells) {
    let (mut table, _) = Table::open(&address(path), &Described::default(), &Untapped).unwrap();
    let headers = table.headers().clone();
    let (mut block, mut rows) = (Block::default(), Vec::new());
    while table.read_block(&mut block).unwrap() {
        for row in 0..block.rows() {
            let cell = |column| (block.cell(row, column).to_owned(), block.kind(row, column));
            rows.push((0..headers.len()).map(cell).collect());
        }
    }
    (headers, rows)
}

fn texts(rows: &Cells) -> Vec<Vec<&str>> {
    rows.iter().map(|row| row.iter().map(|(cell, _)| &cell[..]).collect()).collect()
}

#[test]
fn cells_cross_every_pair_of_formats() {
    let folder = tempfile::tempdir().unwrap();
    let headers = Headers::new("t", ["Nth", "Cell"]);
    let rows: Cells = CELLS
        .iter()
        .enumerate()
        .map(|(nth, (cell, kind))| {
            vec![(format!("n{nth}"), CellKind::Text), ((*cell).to_owned(), *kind)]
        })
        .collect();
    // All in one column, where they are of every kind, and each in a column of its own.
    let wide = Headers::new("t", (0..CELLS.len()).map(|nth| format!("Cell {nth}")));
    let row = CELLS.iter().map(|(cell, kind)| ((*cell).to_owned(), *kind)).collect();
    for (headers, rows) in [(headers, rows), (wide, vec![row])] {
        for from in formats() {
            let first = folder.path().join(format!("{from}-first.{from}"));
            let _ = std::fs::remove_file(&first);
            write(&first, &headers, &rows);
            let (found, came) = read(&first);
            assert_eq!(texts(&came), texts(&rows), "{from}");
            for to in formats() {
                let second = folder.path().join(format!("{from}-to.{to}"));
                let _ = std::fs::remove_file(&second);
                write(&second, &found, &came);
                let (again, crossed) = read(&second);
                assert!(again.iter().eq(headers.iter()), "{from} to {to}");
                assert_eq!(texts(&crossed), texts(&rows), "{from} to {to}");
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Whatever text a cell holds, it comes back from each format, but for a number's needless zeros.
    #[test]
    fn texts_come_back(
        cells in prop::collection::vec("[ -~éЖ蜂]{1,12}|[0-9]{1,20}|-?[0-9]{1,4}\\.[0-9]{0,3}", 1..8),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let headers = Headers::new("t", ["Nth", "Cell"]);
        let said: Cells = cells
            .iter()
            .map(|cell| vec![("n".to_owned(), CellKind::Text), (cell.clone(), CellKind::Text)])
            .collect();
        for format in formats().into_iter().filter(|format| *format != "csv") {
            let path = folder.path().join(format!("t.{format}"));
            write(&path, &headers, &said);
            let (_, back) = read(&path);
            prop_assert_eq!(&back, &said, "{}", format);
        }
    }
}

/// A database that is there gets another table, and loses none; until it is finished, nobody sees it.
#[test]
fn a_database_keeps_its_other_tables() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("co-op.sqlite");
    let headers = Headers::new("t", ["Tag", "tag", "Kg"]);
    let rows: Cells = vec![vec![
        ("1".to_owned(), CellKind::Number),
        (String::new(), CellKind::Untyped),
        ("1.50".to_owned(), CellKind::Untyped),
    ]];
    let database = || rusqlite::Connection::open(&path).unwrap();
    database().execute_batch("create table a (x); create view v as select * from a").unwrap();
    let tables = || -> Vec<String> {
        let database = database();
        let mut names = database.prepare("select name from sqlite_master order by name").unwrap();
        names.query_map([], |row| row.get(0)).unwrap().map(|name| name.unwrap()).collect()
    };
    // An unfinished output leaves nothing.
    let mut writer = DatabaseWriter::begin("co-op.sqlite", &path, "b", false).unwrap();
    fill(&mut writer, &headers, &rows);
    drop(writer);
    assert_eq!(tables(), ["a", "v"]);
    let mut writer = DatabaseWriter::begin("co-op.sqlite", &path, "b", false).unwrap();
    fill(&mut writer, &headers, &rows);
    writer.commit().unwrap();
    assert_eq!(tables(), ["a", "b", "v"]);
    let refused = |table: &str, overwrite| {
        let writer = DatabaseWriter::begin("co-op.sqlite", &path, table, overwrite);
        writer.map(|_| ()).unwrap_err().to_string()
    };
    assert!(refused("B", false).contains("already has a table `B`"));
    assert!(refused("v", true).contains("has a view `v`, which is not replaced"));
    let mut writer = DatabaseWriter::begin("co-op.sqlite", &path, "b", true).unwrap();
    fill(&mut writer, &headers, &vec![rows[0].clone(); 3]);
    writer.commit().unwrap();
    let reported: (i64, i64, f64, String) = database()
        .query_row(
            "select count(*), count([tag (column)]), max([Kg]), typeof([Tag]) from b",
            [],
            |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?)),
        )
        .unwrap();
    assert_eq!(reported, (3, 0, 1.5, "integer".to_owned()));
    // Of a new one nothing is next to it while it is written.
    let new = folder.path().join("new.sqlite");
    let mut writer = DatabaseWriter::begin("new.sqlite", &new, "b", false).unwrap();
    fill(&mut writer, &headers, &vec![rows[0].clone(); 50_000]);
    let names = std::fs::read_dir(folder.path()).unwrap().flatten();
    let beside: Vec<_> = names.map(|name| name.file_name().into_string().unwrap()).collect();
    assert!(!beside.iter().any(|name| name.starts_with("new.sqlite-")), "{beside:?}");
    writer.commit().unwrap();
    // What is no database is refused, and left as it is.
    let other = folder.path().join("no.sqlite");
    std::fs::write(&other, "just text, and more of it than a database begins with").unwrap();
    assert!(DatabaseWriter::begin("no.sqlite", &other, "b", true).is_err());
    assert!(std::fs::read_to_string(&other).unwrap().starts_with("just text"));
}

/// A table without rows has its headers still, where the format can hold them; where it can't, that is
/// said when it is read.
#[test]
fn a_table_without_rows_has_its_headers() {
    let folder = tempfile::tempdir().unwrap();
    let headers = Headers::new("t", ["Tag", "Kg", "Tag"]);
    for format in formats() {
        let path = folder.path().join(format!("none.{format}"));
        write(&path, &headers, &Vec::new());
        if format.starts_with("json") {
            let address = Address::File(path);
            let opened = Table::open(&address, &Described::default(), &Untapped);
            let error = opened.map(|_| ()).unwrap_err().to_string();
            assert!(error.contains("none.json"), "{error}");
            continue;
        }
        let (found, rows) = read(&path);
        assert!(rows.is_empty(), "{format}");
        assert_eq!(found.len(), 3, "{format}");
        assert_eq!(found.name(1), "Kg", "{format}");
    }
}

/// Where the docs tell what becomes of kinds.
const TOLD: &str = include_str!("../../../../docs/formats.md");

/// What a kind looks like, for the docs, and what is written as that.
const KINDS: [(&str, &str, CellKind); 10] = [
    ("text", "007", CellKind::Text),
    ("whole number", "42", CellKind::Number),
    ("number", "0.1", CellKind::Number),
    ("number of 17 digits", "12345678901234567", CellKind::Number),
    ("date", "1900-02-28", CellKind::Date),
    ("date and time", "2026-05-19T23:59:59", CellKind::Date),
    ("the same in UTC", "2026-05-19T23:59:59Z", CellKind::Date),
    ("time", "10:20:00", CellKind::Time),
    ("span of time", "26:30:00", CellKind::Time),
    ("true or false", "true", CellKind::Truth),
];

/// The table in the docs is what becomes of a cell of each kind in each format.
#[test]
fn the_docs_tell_what_becomes_of_kinds() {
    let folder = tempfile::tempdir().unwrap();
    let headers = Headers::new("t", KINDS.map(|(name, ..)| name));
    let rows = vec![KINDS.map(|(_, cell, kind)| (cell.to_owned(), kind)).to_vec()];
    let shown = [
        ("delimited text", "csv"),
        ("JSON", "jsonl"),
        ("workbook", "xlsx"),
        ("SQLite", "sqlite"),
        ("Parquet, Arrow", "parquet"),
        ("PostgreSQL", "server"),
    ];
    let reported: Vec<Vec<&str>> = TOLD
        .lines()
        .skip_while(|line| !line.starts_with("| kind |"))
        .take_while(|line| line.starts_with('|'))
        .map(|line| line.split('|').map(str::trim).collect())
        .collect();
    assert_eq!(reported.len(), KINDS.len() + 2);
    for (place, (name, format)) in (3..).zip(shown) {
        assert_eq!(reported[0][place], name);
        if !formats().contains(&format) {
            continue;
        }
        let path = folder.path().join(format!("kinds.{format}"));
        write(&path, &headers, &rows);
        let (_, back) = read(&path);
        for (nth, (kind, cell, said)) in KINDS.into_iter().enumerate() {
            let (text, is) = &back[0][nth];
            assert_eq!(text, cell, "{kind} in {name}");
            let what = match is {
                is if *is == said => "kept",
                CellKind::Untyped => "-",
                CellKind::Text => "text",
                _ => "other",
            };
            let row = &reported[nth + 2];
            assert_eq!((row[1], row[2]), (kind, &format!("`{cell}`")[..]));
            assert_eq!(row[place], what, "{kind} in {name}");
        }
    }
}
