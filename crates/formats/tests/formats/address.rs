//! Addresses: what a person writes, and which tables it means.

use std::ffi::OsStr;
use std::fs;

use gather_keys_formats::columnar::Columnar;
use gather_keys_formats::{Address, Error, Format};

#[test]
fn texts_mean_files_parts_and_streams() {
    let reported = |text: &str| match Address::new(OsStr::new(text)) {
        Address::Standard => "-".to_owned(),
        Address::File(path) => format!("file {}", path.display()),
        Address::Part(path, part) => format!("part {part} of {}", path.display()),
        Address::Server(server) => format!("server {server} {}", server.table().unwrap_or("-")),
    };
    for (text, want) in [
        ("-", "-"),
        ("hives.csv", "file hives.csv"),
        ("a#b.csv", "file a#b.csv"),
        ("hives.csv#1", "file hives.csv#1"),
        ("book.XLSX#Hives 2", "part Hives 2 of book.XLSX"),
        ("a#b.xlsx#c#d.xlsx#e", "part c#d.xlsx#e of a#b.xlsx"),
        ("book.xlsx#", "part  of book.xlsx"),
        ("data.json#/rows/0", "part /rows/0 of data.json"),
        ("co-op.db#hives", "part hives of co-op.db"),
        ("postgres://db/co-op", "server postgres://db/co-op -"),
        (
            "postgresql://edda:s@c:r/et?@db:5433/co-op?sslmode=disable#own.hives",
            "server postgresql://edda@db:5433/co-op?sslmode=disable#own.hives own.hives",
        ),
        ("postgres://edda:s#c@db/co-op#own#1", "server postgres://edda@db/co-op#own#1 own#1"),
        ("postgres://db:5433/co-op#a@b", "server postgres://db:5433/co-op#a@b a@b"),
        (
            "postgres://db/co-op?user=edda&password=secret#hives",
            "server postgres://db/co-op?user=edda#hives hives",
        ),
    ] {
        assert_eq!(reported(text), want);
    }
}

#[test]
fn tables_are_called_by_their_stem() {
    for (text, want) in [
        ("data/hives.csv", "hives"),
        ("hives.csv.gz", "hives"),
        ("hives.jsonl.zst", "hives"),
        ("book.xlsx#Hives", "Hives"),
        ("book.xlsx#2", "book"),
        ("export.json#/data/hives", "hives"),
        ("-", "input"),
        ("hives-*.csv", "hives"),
        ("*/2026-[0-9].csv", "2026"),
        ("*", "input"),
    ] {
        assert_eq!(Address::stem_of_any(OsStr::new(text)), want, "{text}");
    }
}

#[test]
fn extensions_decide_the_format() {
    use Format::{Arrow, Database, Json, JsonLines, Parquet, Text, Workbook};
    let found = |text: &str| {
        let address = Address::new(OsStr::new(text));
        (address.format(), address.is_written(), address.columnar())
    };
    for (text, want) in [
        ("out.csv", (Text, true, None)),
        ("out", (Text, true, None)),
        ("-", (Text, true, None)),
        ("out.tsv.gz", (Text, true, None)),
        ("out.xlsx#Table", (Workbook, true, None)),
        ("out.xlsx.gz", (Workbook, false, None)),
        ("out.ods", (Workbook, false, None)),
        ("out.JSONL", (JsonLines, true, None)),
        ("out.json.zst", (Json, true, None)),
        ("out.db", (Database, true, None)),
        ("out.sqlite.gz", (Database, false, None)),
        ("out.parquet", (Parquet, true, Some(Columnar::Parquet))),
        ("out.parquet.gz", (Parquet, false, None)),
        ("out.Feather", (Arrow, true, Some(Columnar::Arrow))),
        ("out.arrows", (Arrow, true, Some(Columnar::ArrowStream))),
    ] {
        assert_eq!(found(text), want, "{text}");
    }
}

#[test]
fn a_pattern_means_the_files_that_are_there() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    for name in ["b-2.csv", "b-1.csv", "c.csv", "b-[x].csv", "book-1.xlsx", "book-2.xlsx"] {
        fs::write(path(name), "A\n1\n").unwrap();
    }
    let all = |name: &str| {
        let found = Address::all(path(name).as_os_str());
        found.map(|all| {
            let names =
                all.iter().map(|one| one.to_string().replace(folder.path().to_str().unwrap(), ""));
            names.collect::<Vec<_>>().join(" ")
        })
    };
    assert_eq!(all("b-?.csv").unwrap(), "/b-1.csv /b-2.csv");
    // A file of this very name is meant before others that are like it.
    assert_eq!(all("b-[x].csv").unwrap(), "/b-[x].csv");
    assert_eq!(all("book-*.xlsx#Hives").unwrap(), "/book-1.xlsx#Hives /book-2.xlsx#Hives");
    assert!(matches!(all("d-*.csv"), Err(Error::NothingLike { .. })));
    assert!(matches!(all("b-[.csv"), Err(Error::BadGlob { .. })));
    assert!(matches!(
        Address::File(path("b-3.csv")).open(),
        Err(Error::Missing { nearest: Some(_), .. })
    ));
    fs::write(path("latin.toml"), b"a\nb\xe9\n").unwrap();
    let error = Address::File(path("latin.toml")).read_to_string().unwrap_err().to_string();
    assert!(error.contains("line 2"), "{error}");
}

/// Each table that a folder, a pattern or a database has is meant by itself.
#[test]
fn every_table_is_meant_by_itself() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    for name in ["b.csv", "a.tsv.gz", "c.json", ".hidden.csv", "notes.md", "~$book.xlsx"] {
        fs::write(path(name), "Hive\nH-001\n").unwrap();
    }
    fs::create_dir(path("inner.csv")).unwrap();
    let database = rusqlite::Connection::open(path("co-op.db")).unwrap();
    database.execute_batch("create table hives (tag); create table members (name);").unwrap();
    drop(database);
    let every = |name: &str| -> Result<Vec<String>, String> {
        let all = Address::every(path(name).as_os_str()).map_err(|error| error.to_string())?;
        let name = |text: &std::ffi::OsString| {
            let text = text.to_str().unwrap();
            text.rsplit('/').next().unwrap().to_owned()
        };
        Ok(all.iter().map(name).collect())
    };
    for (name, tables) in [
        ("", &["a.tsv.gz", "b.csv", "c.json", "co-op.db#hives", "co-op.db#members"][..]),
        ("b.csv", &["b.csv"]),
        ("b*.csv", &["b.csv"]),
        ("co-op.db", &["co-op.db#hives", "co-op.db#members"]),
        ("co-op.db#hives", &["co-op.db#hives"]),
        ("co-op.db#m*", &["co-op.db#members"]),
        ("none.csv", &["none.csv"]),
    ] {
        assert_eq!(every(name).unwrap(), tables, "{name}");
    }
    let table = "postgres://edda@db.example/co-op?sslmode=disable#hives";
    assert_eq!(Address::every(table.as_ref()).unwrap(), [table]);
    assert!(every("none-*.csv").unwrap_err().contains("none-*.csv"));
    assert!(every("co-op.db#x*").unwrap_err().contains("hives"));
}
