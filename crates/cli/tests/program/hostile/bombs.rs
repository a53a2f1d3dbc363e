//! Files of a few megabytes that claim or unpack to far more, and files that once broke a reader.

use std::io::{Cursor, Write};

use super::super::scene::Scene;
use super::{Ended, measured};

const MIB: usize = 1 << 20;

/// Something that is written piece by piece, since it is far larger than its file.
type Content<'a> = &'a dyn Fn(&mut dyn Write);

fn gzip(content: Content<'_>) -> Vec<u8> {
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    content(&mut packed);
    packed.finish().unwrap()
}

/// A workbook of one worksheet, perhaps with texts that its cells share, and `more` empty parts.
fn xlsx(sheet: Content<'_>, shared: Option<Content<'_>>, more: usize) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let options =
        || zip::write::SimpleFileOptions::default().compression_level(Some(1)).large_file(true);
    let kind = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
    let relation = |what: &str, part: &str| {
        format!("<Relationship Id=\"{what}\" Type=\"{kind}/{what}\" Target=\"{part}.xml\"/>")
    };
    let root = relation("officeDocument", "xl/workbook");
    let own = relation("worksheet", "worksheets/sheet1")
        + &shared.map(|_| relation("sharedStrings", "sharedStrings")).unwrap_or_default();
    let workbook = "<workbook><sheets><sheet name=\"Hives\" sheetId=\"1\" r:id=\"worksheet\"/></sheets></workbook>";
    for (name, text) in [
        ("_rels/.rels", format!("<Relationships>{root}</Relationships>")),
        ("xl/workbook.xml", workbook.to_owned()),
        ("xl/_rels/workbook.xml.rels", format!("<Relationships>{own}</Relationships>")),
    ] {
        archive.start_file(name, options()).unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    for (name, content) in
        [("xl/worksheets/sheet1.xml", Some(sheet)), ("xl/sharedStrings.xml", shared)]
    {
        if let Some(content) = content {
            archive.start_file(name, options()).unwrap();
            content(&mut archive);
        }
    }
    for nth in 0..more {
        archive.start_file(format!("x/{nth}"), options()).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

/// Writes `mib` MiB of one letter.
fn letters(out: &mut dyn Write, mib: usize) {
    let some = vec![b'q'; MIB];
    (0..mib).for_each(|_| out.write_all(&some).unwrap());
}

fn text(out: &mut dyn Write, text: &str) {
    out.write_all(text.as_bytes()).unwrap();
}

const HEAD: &str =
    "<worksheet><sheetData><row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>Tag</t></is></c></row>";
const TAIL: &str = "</sheetData></worksheet>";
const VIEW: &str = "with recursive n(i) as (select 1 union all select i + 1 from n) select";

fn database(view: &str) -> Vec<u8> {
    let scene = Scene::empty();
    let path = scene.path("made.sqlite");
    rusqlite::Connection::open(&path)
        .unwrap()
        .execute_batch(&format!("create view hives as {VIEW} {view}"))
        .unwrap();
    std::fs::read(path).unwrap()
}

/// Each file with a word of what is said of it.
fn bombs() -> Vec<(&'static str, Vec<u8>, &'static str)> {
    let rows_of_one: String = (2..30_000)
        .map(|row| format!("<row r=\"{row}\"><c r=\"A{row}\" t=\"s\"><v>0</v></c></row>"))
        .collect();
    let one_row = "<row r=\"2\"><c r=\"A2\" t=\"s\"><v>0</v></c></row>";
    let around = |before: String, after: &'static str| {
        move |out: &mut dyn Write| {
            text(out, &before);
            letters(out, 300);
            text(out, after);
        }
    };
    let sheet = |rows: String| move |out: &mut dyn Write| text(out, &format!("{HEAD}{rows}{TAIL}"));
    vec![
        ("attribute.xlsx", xlsx(&around(format!("{HEAD}<row r=\"2\" x=\""), "\"/></sheetData></worksheet>"), None, 0), "a single row of it unpacks to"),
        ("text.xlsx", xlsx(&around(format!("{HEAD}<row r=\"2\"><c r=\"A2\" t=\"inlineStr\"><is><t>"), "</t></is></c></row></sheetData></worksheet>"), None, 0), "a single row of it unpacks to"),
        ("shared-attribute.xlsx", xlsx(&sheet(one_row.to_owned()), Some(&around("<sst><si x=\"".to_owned(), "\"><t>b</t></si></sst>")), 0), "share unpacks to 300 MiB"),
        ("shared.xlsx", xlsx(&sheet(rows_of_one), Some(&|out: &mut dyn Write| {
            text(out, "<sst><si><t>");
            letters(out, 1);
            text(out, "</t></si></sst>");
        }), 0), "too much for its size"),
        ("parts.xlsx", xlsx(&sheet(one_row.replace(" t=\"s\"", "")), None, 20_000), "more than 10,000 parts"),
        ("document.json.gz", gzip(&around("[{\"Tag\": \"".to_owned(), "\"}]")), "it unpacks to more than"),
        ("line.jsonl.gz", gzip(&around("{\"Tag\": \"".to_owned(), "\"}\n")), "longer than 64 MiB"),
        ("header.csv.gz", gzip(&around("Tag,".to_owned(), "\n")), "goes on for more than"),
        ("quote.csv.gz", gzip(&around("Tag,Keeper\n\"".to_owned(), "\n")), "close the double quote"),
        ("rows.sqlite", database("i as Tag from n"), "too much for its size"),
        ("cells.sqlite", database("printf('%.*c', 900000000, 'x') as Tag from n"), ""),
        ("deep.json", format!("{}{}", "[".repeat(MIB), "]".repeat(MIB)).into_bytes(), "row 1"),
        ("deep.jsonl", format!("{{\"Tag\":{}1{}}}\n", "{\"a\":".repeat(20_000), "}".repeat(20_000)).into_bytes(), "too deep"),
        ("deep.toml", format!("a={}", "[".repeat(MIB)).into_bytes(), "recurse"),
        ("deep-table.toml", format!("a={}", "{b=".repeat(MIB / 3)).into_bytes(), "recurse"),
        ("deep-steps.toml", format!("[main]\ntable = \"main.csv\"\n[[reference]]\ntable = \"main.csv\"\non = \"Tag{}\"\ntake = \"Kg\"\n", " | trim".repeat(100_000)).into_bytes(), ""),
        ("deep-regex.toml", format!("[main]\ntable = \"main.csv\"\n[[reference]]\ntable = \"main.csv\"\non = 'Tag | replace \"{}\" \"x\"'\ntake = \"Kg\"\n", "(a{1000}){1000}").into_bytes(), "regular expression"),
    ]
}

const ENRICHED: &str = "--from main.csv --on Tag --take Kg -o out.csv --overwrite";

// The figures are worth a look.
#[allow(clippy::print_stdout)]
#[test]
fn small_files_that_are_large_inside_end_in_a_sentence() {
    let scene = Scene::empty().with("main.csv", "Tag,Kg\nH-001,1\nH-002,2\n");
    let mut faults = Vec::new();
    for (name, content, want) in bombs() {
        assert!(content.len() < 10 * MIB, "{name}: {}", content.len());
        std::fs::write(scene.path(name), content).unwrap();
        let calls = match name.rsplit('.').next() {
            Some("toml") => vec![format!("check {name}")],
            _ => vec![format!("survey {name}"), format!("enrich {name} {ENRICHED}")],
        };
        // Where all that a file may hold is read, once is enough.
        let is_long = ["shared.xlsx", "rows.sqlite"].contains(&name);
        for call in calls.into_iter().skip(usize::from(is_long)) {
            let Ended { status, err, peak, took } = &measured(&scene, &call);
            println!("{call}: {status:?}, {} MiB, {took:.1?}", peak >> 20);
            let err = err.split_whitespace().collect::<Vec<_>>().join(" ");
            let is_said = err.contains(want) && err.contains(name);
            // What is built for tests takes several times as long.
            let is_fine = peak >> 30 == 0 && took.as_secs() < 60 && !err.contains("panicked");
            if !is_fine || !(*status == Some(2) && is_said || want.is_empty() && status.is_some()) {
                faults.push(format!("{call}: {status:?} {} MiB {took:?} {err:.300}", peak >> 20));
            }
        }
        std::fs::remove_file(scene.path(name)).unwrap();
    }
    assert!(faults.is_empty(), "{}", faults.join("\n"));
}

/// Files of which each once ended the program in another way; every one is a small sound file with a few changed bytes.
#[test]
fn files_that_once_broke_a_reader_end_in_a_sentence() {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/program/hostile/broken");
    let mut count = 0;
    for entry in std::fs::read_dir(folder).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        let scene = Scene::new().with(&name, std::fs::read(format!("{folder}/{name}")).unwrap());
        for call in [format!("survey {name}"), format!("find {name} H-001")] {
            let ended = measured(&scene, &call);
            assert_eq!((ended.fault(), ended.status), (None, Some(2)), "{call}: {ended:?}");
            assert!(ended.err.contains(&name), "{call}: {}", ended.err);
        }
        count += 1;
    }
    assert_eq!(count, 5);
}

/// What is said where the system has no memory left names the file.
#[test]
#[cfg(target_os = "linux")]
fn no_memory_left_is_a_sentence() {
    let rows: String = (0..1_000_000).map(|nth| format!("H-{nth},keeper of {nth}\n")).collect();
    let scene = Scene::new().with("large.csv", format!("Tag,Keeper\n{rows}"));
    let call =
        "enrich large.csv --from large.csv --on Tag --take 'Keeper as K' -o out.csv --threads 1";
    let ran = scene.shell(&format!("ulimit -v 90000; gather-keys {call}")).ended(2);
    let err = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(err.contains("error: no memory is left to read large.csv"), "{err}");
    assert!(!err.contains("backtrace") && !err.contains("memory allocation of"), "{err}");
    assert!(!scene.path("out.csv").exists());
}
