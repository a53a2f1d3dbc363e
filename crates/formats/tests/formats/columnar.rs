//! Columnar files: what each type reads as, which types columns keep, and files that are damaged.

use std::fs::{self, File};
use std::path::Path;
use std::sync::Arc;

use CellKind::{Date, Number, Text, Time, Truth};
use arrow_array::builder::{ListBuilder, MapBuilder, StringBuilder, UInt8Builder};
use arrow_array::types::{Int8Type, TimestampMillisecondType};
use arrow_array::{
    ArrayRef, BinaryArray, BooleanArray, Date32Array, Date64Array, Decimal128Array,
    DictionaryArray, DurationSecondArray, Float32Array, Float64Array, Int64Array, NullArray,
    PrimitiveArray, RecordBatch, StringArray, StringViewArray, StructArray, Time64MicrosecondArray,
    TimestampMicrosecondArray, TimestampNanosecondArray, UInt64Array,
};
use arrow_ipc::writer::{FileWriter, StreamWriter};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use gather_keys_core::table::{Block, CellKind, OutputColumns, Parser, Sink, Source};
use gather_keys_formats::columnar::{Columnar, ColumnarWriter};
use gather_keys_formats::{Address, Chunk, Described, Format, Table, Untapped};
use parquet::arrow::ArrowWriter;
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;

// A line for each type.
#[allow(clippy::too_many_lines)]
/// A value of each type, the row after it blank, with what it reads as.
fn values() -> Vec<(&'static str, ArrayRef, &'static str, CellKind)> {
    fn dictionary(value: &str) -> ArrayRef {
        let array: DictionaryArray<Int8Type> = [Some(value), None].into_iter().collect();
        Arc::new(array)
    }
    let moment = 1_779_186_000_123;
    let zoned = PrimitiveArray::<TimestampMillisecondType>::from(vec![Some(moment), None]);
    let decimal = |value: i128, precision, scale| -> ArrayRef {
        let array = Decimal128Array::from(vec![Some(value), None]);
        Arc::new(array.with_precision_and_scale(precision, scale).unwrap())
    };
    let mut marks = ListBuilder::new(StringBuilder::new());
    marks.append_value([Some("red"), None]);
    marks.append_null();
    let mut counts = MapBuilder::new(None, StringBuilder::new(), UInt8Builder::new());
    counts.keys().append_value("frames");
    counts.values().append_value(9);
    counts.append(true).unwrap();
    counts.append(false).unwrap();
    let line: ArrayRef = Arc::new(StringArray::from(vec!["Goldsedge", "none"]));
    let queen = StructArray::try_new(
        vec![Field::new("line", DataType::Utf8, true)].into(),
        vec![line],
        Some(vec![true, false].into()),
    );
    vec![
        (
            "id",
            Arc::new(Int64Array::from(vec![Some(12_345_678_901_234_567), None])),
            "12345678901234567",
            Number,
        ),
        (
            "most",
            Arc::new(UInt64Array::from(vec![Some(u64::MAX), None])),
            "18446744073709551615",
            Number,
        ),
        ("real", Arc::new(Float64Array::from(vec![Some(1e-7), None])), "0.0000001", Number),
        ("short", Arc::new(Float32Array::from(vec![Some(0.1), None])), "0.1", Number),
        ("whole", Arc::new(Float64Array::from(vec![Some(42.0), None])), "42", Number),
        ("zero", Arc::new(Float64Array::from(vec![Some(-0.0), None])), "0", Number),
        ("no number", Arc::new(Float64Array::from(vec![Some(f64::NAN), None])), "NaN", Text),
        ("price", decimal(1250, 9, 2), "12.5", Number),
        ("small", decimal(-5, 9, 3), "-0.005", Number),
        ("none", decimal(0, 9, 2), "0", Number),
        (
            "large",
            decimal(10i128.pow(37) + 1, 38, 1),
            "1000000000000000000000000000000000000.1",
            Number,
        ),
        ("truth", Arc::new(BooleanArray::from(vec![Some(true), None])), "true", Truth),
        ("text", Arc::new(StringArray::from(vec![Some("007"), None])), "007", Text),
        (
            "view",
            Arc::new(StringViewArray::from(vec![Some("a text of more than twelve bytes"), None])),
            "a text of more than twelve bytes",
            Text,
        ),
        ("kind", dictionary("heather"), "heather", Text),
        ("day", Arc::new(Date32Array::from(vec![Some(-25_509), None])), "1900-02-28", Date),
        ("day ms", Arc::new(Date64Array::from(vec![Some(-86_400_000), None])), "1969-12-31", Date),
        (
            "moment",
            Arc::new(TimestampMicrosecondArray::from(vec![Some(-1), None])),
            "1969-12-31T23:59:59.999999",
            Date,
        ),
        (
            "nano",
            Arc::new(TimestampNanosecondArray::from(vec![Some(1), None])),
            "1970-01-01T00:00:00.000000001",
            Date,
        ),
        (
            "midnight",
            Arc::new(TimestampMicrosecondArray::from(vec![Some(0), None])),
            "1970-01-01T00:00:00",
            Date,
        ),
        (
            "zoned",
            Arc::new(zoned.clone().with_timezone("Europe/Oslo")),
            "2026-05-19T10:20:00.123Z",
            Date,
        ),
        ("offset", Arc::new(zoned.with_timezone("+02:00")), "2026-05-19T10:20:00.123Z", Date),
        (
            "time",
            Arc::new(Time64MicrosecondArray::from(vec![Some(37_200_500_000), None])),
            "10:20:00.5",
            Time,
        ),
        ("took", Arc::new(DurationSecondArray::from(vec![Some(95_400), None])), "26:30:00", Time),
        (
            "bytes",
            Arc::new(BinaryArray::from_opt_vec(vec![Some(&[0, 255][..]), None])),
            "00ff",
            Text,
        ),
        ("marks", Arc::new(marks.finish()), "[\"red\",null]", Text),
        ("counts", Arc::new(counts.finish()), "{\"frames\":9}", Text),
        ("queen", Arc::new(queen.unwrap()), "Goldsedge", Text),
        ("nothing", Arc::new(NullArray::new(2)), "", CellKind::Untyped),
    ]
}

fn batch() -> RecordBatch {
    let columns = values().into_iter().map(|(name, array, ..)| (name, array, true));
    RecordBatch::try_from_iter_with_nullable(columns).unwrap()
}

/// Writes batches as each kind of file that can hold them.
fn write(folder: &Path, kind: Columnar, batches: &[RecordBatch]) -> Address {
    let (name, schema) = (format!("{kind:?}"), batches[0].schema());
    let path = folder.join(name);
    let file = File::create(&path).unwrap();
    match kind {
        Columnar::Parquet => {
            let mut writer = ArrowWriter::try_new(file, schema, None).unwrap();
            for batch in batches {
                writer.write(batch).unwrap();
            }
            writer.close().unwrap();
        }
        Columnar::Arrow => {
            let mut writer = FileWriter::try_new(file, &schema).unwrap();
            for batch in batches {
                writer.write(batch).unwrap();
            }
            writer.finish().unwrap();
        }
        Columnar::ArrowStream => {
            let mut writer = StreamWriter::try_new(file, &schema).unwrap();
            for batch in batches {
                writer.write(batch).unwrap();
            }
            writer.finish().unwrap();
        }
    }
    Address::File(path)
}

fn open(address: &Address) -> Table {
    Table::open(address, &Described::default(), &Untapped).unwrap().0
}

const KINDS: [Columnar; 3] = [Columnar::Parquet, Columnar::Arrow, Columnar::ArrowStream];

#[test]
fn each_type_has_its_text() {
    let folder = tempfile::tempdir().unwrap();
    for kind in KINDS {
        // Parquet has no spans of time; the library keeps them by what it notes next to them.
        let mut table = open(&write(folder.path(), kind, &[batch()]));
        let mut block = Block::default();
        assert!(table.read_block(&mut block).unwrap());
        for (column, (name, _, text, kind_of)) in values().into_iter().enumerate() {
            let header = if name == "queen" { "queen.line" } else { name };
            assert_eq!(table.headers().name(column), header, "{kind:?}");
            assert_eq!(
                (block.cell(0, column), block.kind(0, column)),
                (text, kind_of),
                "{name} in {kind:?}"
            );
            assert_eq!(block.cell(1, column), "", "{name} in {kind:?}");
        }
        assert!(!table.read_block(&mut block).unwrap());
    }
}

/// Copies a table cell by cell, with a change to each cell if wanted. Returns the types of the new
/// columns, and the headers of those of several kinds.
fn passed_on(
    table: &mut Table,
    kind: Columnar,
    change: impl Fn(usize, usize, &str) -> Option<String>,
) -> (Schema, Vec<String>) {
    let folder = tempfile::tempdir().unwrap();
    passed_on_to(&folder.path().join("out"), table, kind, change)
}

/// The same, to a file that stays.
fn passed_on_to(
    path: &Path,
    table: &mut Table,
    kind: Columnar,
    change: impl Fn(usize, usize, &str) -> Option<String>,
) -> (Schema, Vec<String>) {
    let mut writer = ColumnarWriter::new("out", kind, table.stored_types());
    let columns = OutputColumns::from(table.headers());
    writer.write_headers(&columns).unwrap();
    let (mut block, mut nth) = (Block::default(), 0);
    while table.read_block(&mut block).unwrap() {
        let mut other = Block::new(block.columns());
        for row in 0..block.rows() {
            for column in 0..block.columns() {
                let cell = block.cell(row, column);
                match change(nth, column, cell) {
                    Some(cell) => other.push_cell(&cell),
                    None => other.push_cell_of(cell, block.kind(row, column)),
                }
            }
            other.push_line(row as u64);
            nth += 1;
        }
        let rows: Vec<usize> = (0..other.rows()).collect();
        writer.write_block(&columns, &other, &rows, &Block::new(0)).unwrap();
    }
    let mixed = writer.finish(File::create(path).unwrap()).unwrap();
    let file = File::open(path).unwrap();
    let schema = match kind {
        Columnar::Parquet => {
            ParquetRecordBatchReaderBuilder::try_new(file).unwrap().schema().clone()
        }
        Columnar::Arrow => arrow_ipc::reader::FileReader::try_new(file, None).unwrap().schema(),
        Columnar::ArrowStream => {
            arrow_ipc::reader::StreamReader::try_new(file, None).unwrap().schema()
        }
    };
    (schema.as_ref().clone(), mixed)
}

/// Types are kept, except for nested ones, durations and bytes.
#[test]
fn types_are_kept() {
    let folder = tempfile::tempdir().unwrap();
    let mut table = open(&write(folder.path(), Columnar::Arrow, &[batch()]));
    let (schema, mixed) = passed_on(&mut table, Columnar::Arrow, |_, _, _| None);
    for ((name, array, ..), field) in values().into_iter().zip(schema.fields()) {
        let want = match name {
            "took" | "bytes" | "marks" | "counts" | "queen" | "nothing" => &DataType::Utf8,
            "day ms" => &DataType::Date32,
            _ => array.data_type(),
        };
        assert_eq!(field.data_type(), want, "{name}");
    }
    assert_eq!(mixed, ["took"]);
}

/// A cell that a column's type does not hold gives the column another, which holds all.
#[test]
fn a_type_gives_way_to_cells() {
    let folder = tempfile::tempdir().unwrap();
    let address = write(folder.path(), Columnar::Parquet, &[batch(), batch()]);
    let changed = |column: &'static str, cell: &'static str| {
        let mut table = open(&address);
        let at = (0..values().len()).find(|&at| table.headers().name(at) == column).unwrap();
        let change = |nth, column, _: &str| (nth == 2 && column == at).then(|| cell.to_owned());
        let (schema, mixed) = passed_on(&mut table, Columnar::Parquet, change);
        (schema.field(at).data_type().clone(), mixed.iter().any(|header| header == column))
    };
    let micro =
        |zone: Option<&str>| DataType::Timestamp(TimeUnit::Microsecond, zone.map(Into::into));
    for (column, cell, want, is_mixed) in [
        ("id", "4", DataType::Int64, false),
        ("id", "0.5", DataType::Decimal128(18, 1), false),
        ("whole", "0.5", DataType::Float64, false),
        ("most", "-4", DataType::Decimal128(20, 0), false),
        ("id", "unknown", DataType::Utf8, true),
        ("price", "0.125", DataType::Float64, false),
        ("large", "0.5", DataType::Decimal128(38, 1), false),
        ("large", "0.125", DataType::Utf8, true),
        ("text", "8", DataType::Utf8, false),
        ("day", "2026-02-30", DataType::Utf8, true),
        ("day", "2026-02-28", DataType::Date32, false),
        ("nano", "2026-02-28T10:00:00", DataType::Timestamp(TimeUnit::Nanosecond, None), false),
        ("moment", "2026-02-28T10:00:00.5Z", DataType::Utf8, true),
        ("zoned", "2026-02-28T10:00:00.000001Z", micro(Some("UTC")), false),
        ("truth", "true", DataType::Boolean, false),
        ("truth", "yes", DataType::Utf8, true),
        ("time", "24:00:01", DataType::Utf8, true),
    ] {
        assert_eq!(changed(column, cell), (want, is_mixed), "{cell} in {column}");
    }
}

/// A column has one dictionary in a file, whatever parts of the table have in theirs, and keys that are
/// enough for all values.
#[test]
fn dictionaries_grow_together() {
    let folder = tempfile::tempdir().unwrap();
    let lines = |first: usize, distinct: usize| -> RecordBatch {
        let lines = (0..9000).map(|nth| format!("Line {}", first + nth % distinct));
        let lines: Vec<Option<String>> =
            lines.enumerate().map(|(nth, line)| (nth % 5 > 0).then_some(line)).collect();
        let lines: DictionaryArray<Int8Type> = lines.iter().map(Option::as_deref).collect();
        RecordBatch::try_from_iter_with_nullable([("line", Arc::new(lines) as ArrayRef, true)])
            .unwrap()
    };
    let rows = |address: &Address| -> Vec<(String, CellKind)> {
        let (mut table, mut block, mut all) = (open(address), Block::default(), Vec::new());
        while table.read_block(&mut block).unwrap() {
            let rows = 0..block.rows();
            all.extend(rows.map(|row| (block.cell(row, 0).to_owned(), block.kind(row, 0))));
        }
        all
    };
    for (second, key) in [(10, DataType::Int8), (100, DataType::Int32)] {
        let batches = [lines(0, 100), lines(second, 90)];
        let main = write(folder.path(), Columnar::ArrowStream, &batches);
        let line = |nth: usize| (rows(&main)[nth].0.clone(), rows(&main)[nth + 9000].0.clone());
        assert_eq!(line(101), ("Line 1".to_owned(), format!("Line {}", second + 11)));
        for kind in KINDS {
            let path = folder.path().join("out");
            let (schema, mixed) = passed_on_to(&path, &mut open(&main), kind, |_, _, _| None);
            let want = DataType::Dictionary(Box::new(key.clone()), Box::new(DataType::Utf8));
            assert_eq!((schema.field(0).data_type(), mixed.len()), (&want, 0), "{kind:?}");
            if kind == Columnar::Arrow {
                // Not one for each piece in which the rows came.
                let file = File::open(&path).unwrap();
                let read = arrow_ipc::reader::FileReader::try_new(file, None).unwrap();
                assert_eq!(read.num_batches(), 2);
            }
            assert_eq!(rows(&Address::File(path)), rows(&main), "{kind:?}");
        }
    }
}

/// Only the wanted columns of a reference are decoded, and a batch of any size is read in chunks.
#[test]
fn only_wanted_columns_are_read() {
    let folder = tempfile::tempdir().unwrap();
    for (kind, count) in KINDS.into_iter().flat_map(|kind| [(kind, 10_000), (kind, 40_000)]) {
        let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(0..count));
        let texts = StringArray::from_iter_values((0..count).map(|nth| format!("n{nth}")));
        let batch = RecordBatch::try_from_iter([("number", numbers), ("text", Arc::new(texts))]);
        let mut table = open(&write(folder.path(), kind, &[batch.unwrap()]));
        table.want(&[1]);
        let mut parser = table.parser();
        Parser::want(&mut parser, &[1]);
        let (mut piece, mut block, mut seen) = (Chunk::default(), Block::default(), 0);
        while table.read_chunk(&mut piece).unwrap() {
            let Ok(rows) = Parser::parse(&parser, &mut piece, &mut block) else {
                panic!("a batch has no faults");
            };
            assert!(rows <= 16_384);
            for row in 0..block.rows() {
                assert_eq!(block.cell(row, 1), format!("n{seen}"));
                seen += 1;
            }
        }
        assert_eq!(seen, count, "{kind:?}");
    }
}

/// A file that is cut anywhere, or whose bytes are others, is reported as damaged or read; it never ends
/// the program.
#[test]
fn damaged_files_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let read = |path: &Path, kind: Columnar| -> Result<u64, String> {
        let format = if kind == Columnar::Parquet { Format::Parquet } else { Format::Arrow };
        let described = Described { format: Some(format), ..Described::default() };
        let address = Address::File(path.to_owned());
        let (mut table, _) =
            Table::open(&address, &described, &Untapped).map_err(|error| error.to_string())?;
        let (mut block, mut rows) = (Block::default(), 0);
        while table.read_block(&mut block).map_err(|error| error.to_string())? {
            rows += block.rows() as u64;
        }
        Ok(rows)
    };
    let mut reported = 0;
    for kind in KINDS {
        let whole = fs::read(write(folder.path(), kind, &[batch()]).path().unwrap()).unwrap();
        let path = folder.path().join("damaged");
        for nth in 1..40 {
            let mut bytes = whole[..whole.len() * nth / 40].to_vec();
            fs::write(&path, &bytes).unwrap();
            let cut = read(&path, kind);
            assert!(
                cut.clone().map_or_else(|error| error.contains("damaged"), |rows| rows <= 2),
                "{cut:?}"
            );
            bytes = whole.clone();
            let at = whole.len() * nth / 40;
            bytes[at] ^= 0x55;
            fs::write(&path, &bytes).unwrap();
            reported += u32::from(read(&path, kind).is_err()) + u32::from(cut.is_err());
        }
    }
    assert!(reported > 100, "{reported}");
}

/// Of a type that has no cells the file says so.
#[test]
fn types_without_cells_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let spans: ArrayRef = Arc::new(arrow_array::IntervalYearMonthArray::from(vec![Some(3)]));
    let batch = RecordBatch::try_from_iter([("Since", spans)]).unwrap();
    let none = RecordBatch::new_empty(Arc::new(Schema::empty()));
    for (batch, said) in [
        (batch, "cells can't be made of `Since`, which is Interval"),
        (none, "is empty: a table begins with a row of headers"),
    ] {
        let address = write(folder.path(), Columnar::Arrow, &[batch]);
        let opened = Table::open(&address, &Described::default(), &Untapped);
        let error = opened.map(|_| ()).unwrap_err().to_string();
        assert!(error.contains(said), "{error}");
    }
}
