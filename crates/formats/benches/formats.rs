//! How fast each format is read, next to the bare reading loop of the library that it is read by.
//!
//!     cargo bench -p gather-keys-formats --bench formats -- [FORMAT …]
//!
//! Each is read by one thread, and by all, as every command reads. All are measured in turns, since a
//! machine that others use as well is fast at one time and slow at another; what counts is the ratio of
//! each round. A server is measured where `GATHER_KEYS_TEST_SERVER` names one.

// A benchmark that can't go on should say so at once.
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

use std::fs::File;
use std::hint::black_box;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::sync::Mutex;
use std::time::Instant;

use arrow_array::RecordBatch;
use arrow_cast::display::{ArrayFormatter, FormatOptions};
use calamine::{Ods, Reader as _, Xlsx};
use gather_keys_core::table::{Block, CellKind, Headers, OutputColumns, Parser, Sink, Source};
use gather_keys_formats::columnar::{Columnar, ColumnarWriter};
use gather_keys_formats::json::JsonWriter;
use gather_keys_formats::postgresql::{ServerAddress, ServerWriter};
use gather_keys_formats::sqlite::DatabaseWriter;
use gather_keys_formats::workbook::{FoundSheet, WorkbookOptions, WorkbookWriter};
use gather_keys_formats::{Address, Chunk, Described, Error, Table, Untapped};
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;

const PLAIN: WorkbookOptions<'_> =
    WorkbookOptions { worksheet: None, findings: None, is_plain: true, threads: 2 };

const ROWS: usize = 200_000;

/// How many the columnar formats have, which are read so fast that it would show what beginning costs.
const COLUMNAR_ROWS: usize = 10 * ROWS;

/// Measures one format on a table that it makes in a folder.
type OfFormat = fn(&Path);

const FORMATS: [(&str, OfFormat); 7] = [
    ("parquet", parquet),
    ("arrow", arrow),
    ("xlsx", xlsx),
    ("ods", ods),
    ("json", json),
    ("sqlite", sqlite),
    ("postgresql", postgresql),
];

/// How often each is measured.
const ROUNDS: usize = 15;

/// Rows of harvest, as any format has them.
fn fill<S: Sink<Error = Error>>(sink: &mut S, rows: usize) {
    let headers = Headers::new("harvest", ["Batch", "Apiary", "Hive", "Kg", "Day", "Frames"]);
    let columns = OutputColumns::from(&headers);
    sink.write_headers(&columns).unwrap();
    let apiaries = ["Fellside", "Nether Moor", "Larkfield", "Bramble End", "Old Quarry"];
    let mut block = Block::new(headers.len());
    for first in (0..rows).step_by(1000) {
        block.reset(headers.len());
        for nth in first..first + 1000 {
            block.push_cell_of(&format!("B{nth:07}"), CellKind::Text);
            block.push_cell_of(apiaries[nth % apiaries.len()], CellKind::Text);
            block.push_cell_of(&format!("H-{:03}", nth % 997), CellKind::Text);
            block.push_cell_of(&format!("{}.{}", nth % 40, 1 + nth % 9), CellKind::Number);
            block.push_cell_of(&format!("2026-0{}-1{}", 1 + nth % 9, nth % 10), CellKind::Date);
            block.push_cell_of(&(nth % 11).to_string(), CellKind::Number);
            block.push_line((nth - first) as u64);
        }
        let every: Vec<usize> = (0..block.rows()).collect();
        sink.write_block(&columns, &block, &every, &Block::new(0)).unwrap();
    }
}

fn read(address: &Address) -> usize {
    let (mut table, _) = Table::open(address, &Described::default(), &Untapped).unwrap();
    let (mut block, mut rows) = (Block::default(), 0);
    while table.read_block(&mut block).unwrap() {
        rows += block.rows();
    }
    rows
}

/// Reads a table by all threads, as every command does: in turns they take a piece, and each makes a block
/// of its own.
fn read_by_all(address: &Address) -> usize {
    let (table, _) = Table::open(address, &Described::default(), &Untapped).unwrap();
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let (parser, table) = (table.parser(), Mutex::new(table));
    let work = || {
        let (mut piece, mut block, mut rows) = (Chunk::default(), Block::default(), 0);
        while table.lock().unwrap().read_chunk(&mut piece).unwrap() {
            parser.parse(&mut piece, &mut block).unwrap();
            rows += black_box(&block).rows();
        }
        rows
    };
    std::thread::scope(|scope| {
        let workers: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        workers.into_iter().map(|worker| worker.join().unwrap()).sum()
    })
}

/// The text of each cell, as the library gives it.
fn texts_of(batches: impl Iterator<Item = RecordBatch>) -> usize {
    let (options, mut text) = (FormatOptions::default(), String::new());
    let rows = batches.map(|batch| {
        let columns = batch.columns().iter();
        let columns: Vec<ArrayFormatter<'_>> =
            columns.map(|column| ArrayFormatter::try_new(column, &options).unwrap()).collect();
        for (row, column) in
            (0..batch.num_rows()).flat_map(|row| columns.iter().map(move |c| (row, c)))
        {
            text.clear();
            column.value(row).write(&mut text).unwrap();
            black_box(&text);
        }
        batch.num_rows()
    });
    rows.sum()
}

fn write_columnar(path: &Path, kind: Columnar) {
    let mut writer = ColumnarWriter::new("t", kind, Vec::new());
    fill(&mut writer, COLUMNAR_ROWS);
    writer.finish(File::create(path).unwrap()).unwrap();
}

/// The same rows as an ODS file, which nothing here writes.
fn write_ods(path: &Path) {
    let text = |text: &str| {
        format!(
            "<table:table-cell office:value-type=\"string\" calcext:value-type=\"string\"><text:p>{text}\
             </text:p></table:table-cell>"
        )
    };
    let of = |kind: &str, name: &str, value: &str| {
        format!(
            "<table:table-cell office:value-type=\"{kind}\" office:{name}=\"{value}\" \
             calcext:value-type=\"{kind}\"><text:p>{value}</text:p></table:table-cell>"
        )
    };
    let apiaries = ["Fellside", "Nether Moor", "Larkfield", "Bramble End", "Old Quarry"];
    let mut archive = zip::ZipWriter::new(File::create(path).unwrap());
    for (part, text) in [
        ("mimetype", "application/vnd.oasis.opendocument.spreadsheet"),
        ("META-INF/manifest.xml", "<manifest/>"),
    ] {
        archive.start_file(part, zip::write::SimpleFileOptions::default()).unwrap();
        write!(archive, "{text}").unwrap();
    }
    archive.start_file("content.xml", zip::write::SimpleFileOptions::default()).unwrap();
    let head = ["Batch", "Apiary", "Hive", "Kg", "Day", "Frames"].map(text).concat();
    write!(
        archive,
        "<office:document-content><office:body><office:spreadsheet><table:table table:name=\"Harvest\">\
         <table:table-row>{head}</table:table-row>"
    )
    .unwrap();
    for nth in 0..ROWS {
        let cells = [
            text(&format!("B{nth:07}")),
            text(apiaries[nth % apiaries.len()]),
            text(&format!("H-{:03}", nth % 997)),
            of("float", "value", &format!("{}.{}", nth % 40, 1 + nth % 9)),
            of("date", "date-value", &format!("2026-0{}-1{}", 1 + nth % 9, nth % 10)),
            of("float", "value", &(nth % 11).to_string()),
        ];
        write!(archive, "<table:table-row>{}</table:table-row>", cells.concat()).unwrap();
    }
    let end = "</table:table></office:spreadsheet></office:body></office:document-content>";
    write!(archive, "{end}").unwrap();
    archive.finish().unwrap();
}

/// Measures a reading of a table by us, and by the library alone.
fn measure(name: &str, address: &Address, bare: &dyn Fn() -> usize) {
    let ways: [&dyn Fn() -> usize; 3] = [&|| read(address), &|| read_by_all(address), bare];
    let rows = bare();
    assert_eq!(ways.map(|way| way()), [rows; 3], "{name}");
    let time = |way: &dyn Fn() -> usize| {
        let began = Instant::now();
        black_box(way());
        began.elapsed().as_secs_f64() * 1e3
    };
    let rounds: Vec<[f64; 3]> = (0..ROUNDS).map(|_| ways.map(time)).collect();
    let middle = |of: &dyn Fn(&[f64; 3]) -> f64| {
        let mut all: Vec<f64> = rounds.iter().map(of).collect();
        all.sort_by(f64::total_cmp);
        all[ROUNDS / 2]
    };
    println!(
        "{name:<20} ours {:>7.1} ms, by all threads {:>7.1}, library {:>7.1}; library by ours {:.2}, by all threads {:.2}",
        middle(&|times| times[0]),
        middle(&|times| times[1]),
        middle(&|times| times[2]),
        middle(&|times| times[2] / times[0]),
        middle(&|times| times[2] / times[1]),
    );
}

/// A loop over batches looks at nothing in them; one that gives the text of each cell does, as ours.
fn parquet(folder: &Path) {
    let path = folder.join("t.parquet");
    write_columnar(&path, Columnar::Parquet);
    let batches = || {
        let builder = ParquetRecordBatchReaderBuilder::try_new(File::open(&path).unwrap());
        builder.unwrap().with_batch_size(4096).build().unwrap().map(Result::unwrap)
    };
    measure("parquet by batches", &Address::File(path.clone()), &|| {
        batches().map(|batch| black_box(batch).num_rows()).sum()
    });
    measure("parquet by cells", &Address::File(path.clone()), &|| texts_of(batches()));
    measure("parquet by rows", &Address::File(path.clone()), &|| {
        use parquet::file::reader::FileReader;
        let file = File::open(&path).unwrap();
        let reader = parquet::file::reader::SerializedFileReader::new(file).unwrap();
        reader.get_row_iter(None).unwrap().fold(0, |rows, row| {
            black_box(row.unwrap());
            rows + 1
        })
    });
}

fn arrow(folder: &Path) {
    let path = folder.join("t.arrow");
    write_columnar(&path, Columnar::Arrow);
    let batches = || {
        let file = File::open(&path).unwrap();
        let reader = arrow_ipc::reader::FileReader::try_new_buffered(file, None);
        reader.unwrap().map(Result::unwrap)
    };
    measure("arrow by batches", &Address::File(path.clone()), &|| {
        batches().map(|batch| black_box(batch).num_rows()).sum()
    });
    measure("arrow by cells", &Address::File(path.clone()), &|| texts_of(batches()));
}

fn xlsx(folder: &Path) {
    let path = folder.join("t.xlsx");
    let mut writer = WorkbookWriter::new("t", PLAIN).unwrap();
    fill(&mut writer, ROWS);
    writer.finish(&FoundSheet::default(), File::create(&path).unwrap()).unwrap();
    measure("xlsx", &Address::File(path.clone()), &|| {
        let mut xlsx: Xlsx<_> = calamine::open_workbook(&path).unwrap();
        let name = xlsx.sheet_names()[0].clone();
        let mut cells = xlsx.worksheet_cells_reader(&name).unwrap();
        let mut rows = 0;
        while let Some(cell) = cells.next_cell().unwrap() {
            rows = rows.max(black_box(cell).get_position().0 as usize);
        }
        rows
    });
}

fn ods(folder: &Path) {
    let path = folder.join("t.ods");
    write_ods(&path);
    measure("ods", &Address::File(path.clone()), &|| {
        let mut workbook: Ods<_> = calamine::open_workbook(&path).unwrap();
        let name = workbook.sheet_names()[0].clone();
        workbook.worksheet_range(&name).unwrap().rows().map(black_box).count() - 1
    });
}

fn json(folder: &Path) {
    let path = folder.join("t.jsonl");
    let mut writer = JsonWriter::new("t", File::create(&path).unwrap(), true);
    fill(&mut writer, ROWS);
    writer.finish().unwrap();
    measure("json lines", &Address::File(path.clone()), &|| {
        let lines = BufReader::new(File::open(&path).unwrap()).lines();
        let row = |line: String| black_box(serde_json::from_str::<serde_json::Value>(&line));
        lines.filter(|line| row(line.as_ref().unwrap().clone()).is_ok()).count()
    });
}

fn sqlite(folder: &Path) {
    let path = folder.join("t.sqlite");
    let mut writer = DatabaseWriter::begin("t", &path, "t", false).unwrap();
    fill(&mut writer, ROWS);
    writer.commit().unwrap();
    measure("sqlite", &Address::File(path.clone()), &|| {
        let database = rusqlite::Connection::open(&path).unwrap();
        let mut statement = database.prepare("select * from t").unwrap();
        let (mut rows, mut count) = (statement.query([]).unwrap(), 0);
        while let Some(row) = rows.next().unwrap() {
            (0..6).for_each(|column| drop(black_box(row.get_ref(column))));
            count += 1;
        }
        count
    });
}

fn postgresql(_: &Path) {
    let Ok(server) = std::env::var("GATHER_KEYS_TEST_SERVER") else { return };
    let table = format!("{server}#bench");
    let address = ServerAddress::of(&table).unwrap();
    let mut writer = ServerWriter::begin(&address, true).unwrap();
    fill(&mut writer, ROWS);
    writer.send().unwrap();
    writer.commit().unwrap();
    measure("postgresql", &Address::Server(address), &|| {
        use postgres::fallible_iterator::FallibleIterator;
        let mut client = postgres::Client::connect(&server, postgres::NoTls).unwrap();
        let rows = client.query_raw("select * from bench", &[] as &[&str]).unwrap();
        rows.map(|row| Ok(black_box(row))).count().unwrap()
    });
}

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let asked: Vec<String> = std::env::args().skip(1).filter(|arg| !arg.starts_with('-')).collect();
    let is_asked = |name: &str| asked.is_empty() || asked.iter().any(|asked| asked == name);
    for (name, of_format) in FORMATS {
        if is_asked(name) {
            of_format(folder.path());
        }
    }
}
