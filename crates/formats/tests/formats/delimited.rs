//! Delimited text: what the csv crate reads is what we read, and every row keeps its bytes.

use std::io::{self, Read};

use gather_keys_core::table::{Block, OutputColumns, Overlay, Parser, Renderer, Sink, Source};
use gather_keys_formats::Error;
use gather_keys_formats::delimited::{HeaderRow, ReadOptions, Reader, Writer};
use proptest::prelude::*;

/// Gives its bytes out one at a time, as a slow pipe does.
struct Trickle<'a>(&'a [u8]);

impl Read for Trickle<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let upto = buffer.len().min(1);
        self.0.read(&mut buffer[..upto])
    }
}

/// The headers and rows of a table, and the rows' own bytes put together again.
#[derive(Debug, PartialEq)]
struct Whole {
    headers: Vec<String>,
    rows: Vec<Vec<String>>,
    lines: Vec<u64>,
    rewritten: Vec<u8>,
}

fn read(text: &[u8], piece: usize) -> Result<Whole, Error> {
    read_with(text, b',', piece)
}

fn read_with(text: &[u8], delimiter: u8, piece: usize) -> Result<Whole, Error> {
    let options = ReadOptions {
        delimiter: Some(delimiter),
        piece,
        headers: HeaderRow::First,
        ..ReadOptions::default()
    };
    let mut reader = Reader::new("table", Trickle(text), options)?;
    let headers: Vec<String> = reader.headers().iter().map(str::to_owned).collect();
    let mut writer = Writer::new("out", Vec::new(), reader.layout().clone());
    let columns = OutputColumns::from(reader.headers());
    writer.write_headers(&columns)?;
    let (mut rows, mut lines) = (Vec::new(), Vec::new());
    let mut block = Block::default();
    while reader.read_block(&mut block)? {
        for row in 0..block.rows() {
            assert_eq!(block.row_number(row), rows.len() as u64 + 1);
            rows.push(
                (0..headers.len()).map(|column| block.cell(row, column).to_owned()).collect(),
            );
            lines.push(block.line(row));
        }
        let every: Vec<usize> = (0..block.rows()).collect();
        writer.write_block(&columns, &block, &every, &Block::new(0))?;
    }
    Ok(Whole { headers, rows, lines, rewritten: writer.finish()? })
}

/// What the csv crate makes of the text; `None` when rows differ in length.
fn by_csv(text: &[u8], delimiter: u8) -> Option<(Vec<Vec<String>>, Vec<u64>)> {
    let mut reader = csv::ReaderBuilder::new();
    let mut reader = reader.has_headers(false).delimiter(delimiter).from_reader(text);
    let (mut rows, mut lines) = (Vec::new(), Vec::new());
    for record in reader.records() {
        let record = record.ok()?;
        lines.push(record.position().map_or(0, csv::Position::line));
        rows.push(record.iter().map(str::to_owned).collect());
    }
    Some((rows, lines))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    /// On any text, cut into pieces of any size, we read what the csv crate reads. The one thing
    /// we do not accept is a quote that is never closed.
    #[test]
    fn the_csv_crate_is_the_definition(
        // A bar is in no text, so that with it all rows have one cell.
        delimiter in prop::sample::select(vec![b',', b'|']),
        text in "[ab,\"\r\n\u{feff}é]{0,40}|([abcde]{1,9}|[,\"\r\n é]|\"\"|\r\n){0,120}",
        piece in 1_usize..150,
    ) {
        let ours = read_with(text.as_bytes(), delimiter, piece);
        let whole = read_with(text.as_bytes(), delimiter, 1 << 16);
        prop_assert_eq!(ours.as_ref().map_err(ToString::to_string), whole.as_ref().map_err(ToString::to_string));
        match (ours, by_csv(text.as_bytes(), delimiter)) {
            (Ok(ours), theirs) => {
                let Some((mut rows, _)) = theirs else {
                    return Err(TestCaseError::fail("the csv crate refuses it"));
                };
                prop_assert_eq!(&ours.headers, &rows.remove(0));
                prop_assert_eq!(&ours.rows, &rows);
            }
            (Err(Error::Empty { .. }), Some((rows, _))) => prop_assert!(rows.is_empty()),
            (Err(Error::Ragged { .. }), None) | (Err(Error::OpenQuote { .. }), _) => {}
            (Err(error), theirs) => {
                return Err(TestCaseError::fail(format!("{error} against {theirs:?}")));
            }
        }
    }

    /// A table that we accept is written back byte for byte, but for empty lines.
    #[test]
    fn rows_keep_their_bytes(
        rows in prop::collection::vec(
            ("(a|\"\"|\"x,y\"|\"q\"\"\r\n\"| b )", "(|é|\"\"|\"\n\n\")", "(\n|\r\n|\r|\n\n\r\n)"), 1..8),
        mark in any::<bool>(),
        cut_last in any::<bool>(),
        piece in 1_usize..40,
    ) {
        let mark = if mark { "\u{feff}" } else { "" };
        let mut lines: Vec<[String; 2]> = rows
            .into_iter()
            .map(|(a, b, end)| [format!("{a},{b}"), end])
            .collect();
        if cut_last && let Some(last) = lines.last_mut() {
            last[1].clear();
        }
        let text = mark.to_owned() + &lines.concat().concat();
        let kept: Vec<String> = lines
            .iter()
            .map(|[row, end]| row.clone() + if end == "\n\n\r\n" { "\n" } else { end })
            .collect();
        let whole = read(text.as_bytes(), piece).map_err(|e| TestCaseError::fail(e.to_string()))?;
        let want = mark.to_owned() + &kept.concat();
        prop_assert_eq!(String::from_utf8_lossy(&whole.rewritten).into_owned(), want);
    }
}

#[test]
fn rows_know_their_lines() {
    let text = b"a,b\n1,2\n\n\"x\ny\",2\r\n\"\r\n\r\n\",3\r4,5";
    for piece in [1, 2, 3, 7, 1 << 16] {
        assert_eq!(read(text, piece).unwrap().lines, [2, 4, 6, 9], "{piece}");
    }
}

#[test]
fn what_is_wrong_is_named_with_its_place() {
    for (text, want) in [
        (&b""[..], "table is empty: a table begins with a row of headers"),
        (b"\n\r\n", "table is empty: a table begins with a row of headers"),
        (
            b"a,b\n1,2\n\n3\n",
            "table, row 2 (line 4): 1 cell, but the table has 2 headers; put a cell that holds a \
             line break in double quotes, or add the missing delimiters",
        ),
        (
            b"a,b\n\"x\ny\",1,2\n",
            "table, row 1 (line 2): 3 cells, but the table has 2 headers; put a cell that holds \
             the delimiter in double quotes",
        ),
        (
            b"a,b\n1,2\n\"x\ny\",\"z\n3,4\n",
            "table, row 2 (line 4), column `b`: the double quote that opens here is never closed; \
             close it, or write a quote within a cell twice",
        ),
        (
            b"a,\"b\n1,2\n",
            "table, the header row (line 1): the double quote that opens here is never closed; \
             close it, or write a quote within a cell twice",
        ),
        (
            b"a,b\n1,2\n1,caf\xe9\n",
            "table, row 2 (line 3), column `b`: the text is not UTF-8; state its encoding, such as \
             windows-1252",
        ),
        (
            b"a,\xe9\n1,2\n",
            "table, the header row (line 1): the text is not UTF-8; state its encoding, such as \
             windows-1252",
        ),
        (
            b"PK\x03\x04rest",
            "table seems to be a workbook, not delimited text: name its file, since a workbook can't \
             be read from a stream",
        ),
    ] {
        for piece in [1, 5, 1 << 16] {
            assert_eq!(read(text, piece).unwrap_err().to_string(), want);
        }
    }
}

#[test]
fn added_cells_are_quoted_where_they_must_be() {
    let mut reader = Reader::new("t", &b"a\n\"1\"\r\n2"[..], ReadOptions::default()).unwrap();
    let mut writer = Writer::new("out", Vec::new(), reader.layout().clone());
    let mut block = Block::default();
    assert!(reader.read_block(&mut block).unwrap());
    let added = Block::of_rows(3, &[["plain", "a,b", ""], ["say \"x\"", "two\nlines", " é "]]);
    let names = ["x".into(), "y,z".into(), "w".into()];
    let columns = OutputColumns::all(reader.headers(), &names, Overlay::default());
    writer.write_headers(&columns).unwrap();
    writer.write_block(&columns, &block, &[0, 1], &added).unwrap();
    let want = "a,x,\"y,z\",w\n\"1\",plain,\"a,b\",\r\n2,\"say \"\"x\"\"\",\"two\nlines\", é ";
    assert_eq!(String::from_utf8(writer.finish().unwrap()).unwrap(), want);
}

/// An updated cell is in place of the one that was there; whatever else a row holds keeps its bytes.
#[test]
fn updated_cells_leave_the_others_as_they_stand() {
    let cases = [
        ("a,b,c", ["x", "c"], "x,b,c"),
        ("a,\"b\",c", ["a", "x"], "a,\"b\",x"),
        ("\"a\",b\"b,c", ["x", "c"], "x,b\"b,c"),
        ("a\"x,b,c", ["a\"x", "y,z"], "a\"x,b,\"y,z\""),
        ("a,b,\"c\"\"\"", ["a", "c\"\""], "a,b,\"c\"\"\"\"\""),
        ("\"\",b,", ["x", ""], "x,b,"),
        ("a,b,", ["", "x"], ",b,x"),
        ("\"a\",b,\"c\"", ["a", "c"], "\"a\",b,\"c\""),
    ];
    for (row, updated, want) in cases {
        let text = format!("A,B,C\n{row}\n");
        let mut reader = Reader::new("t", text.as_bytes(), ReadOptions::default()).unwrap();
        let mut writer = Writer::new("out", Vec::new(), reader.layout().clone());
        let mut block = Block::default();
        assert!(reader.read_block(&mut block).unwrap());
        let (added, mut rendered) = (Block::of_rows(2, &[updated]), Vec::new());
        let columns = OutputColumns::all(reader.headers(), &[], Overlay::of([0, 2]));
        writer.renderer(&columns).render(&block, &[0], &added, &mut rendered);
        writer.write(&mut rendered).unwrap();
        let written = String::from_utf8(writer.finish().unwrap()).unwrap();
        assert_eq!(written, format!("{want}\n"), "{row}");
    }
}

/// A row that is short, or long by blank cells, is made one of as many as there are headers.
#[test]
fn rows_are_padded_when_asked() {
    let text = "a,b,c\n1,2,3\n4\n\"5,\"\"x\"\"\",6,7,,\n,\n8,9,0";
    for wanted in [vec![0, 1, 2], vec![1], vec![]] {
        for piece in [4, 1000] {
            let options = ReadOptions { pads: true, piece, ..ReadOptions::default() };
            let mut reader = Reader::new("t.csv", text.as_bytes(), options).unwrap();
            let mut parser = reader.parser();
            parser.want(&wanted);
            let mut writer = Writer::new("out", Vec::new(), reader.layout().clone());
            let columns = OutputColumns::from(reader.headers());
            writer.write_headers(&columns).unwrap();
            let (mut piece, mut block, mut seen) = (Vec::new(), Block::default(), Vec::new());
            while reader.read_chunk(&mut piece).unwrap() {
                parser.parse(&mut piece, &mut block).unwrap();
                let rows: Vec<usize> = (0..block.rows()).collect();
                for &row in &rows {
                    let cells = wanted.iter().map(|&column| block.cell(row, column).to_owned());
                    seen.push(cells.collect::<Vec<_>>());
                }
                writer.write_block(&columns, &block, &rows, &Block::new(0)).unwrap();
            }
            let all = [
                ["1", "2", "3"],
                ["4", "", ""],
                ["5,\"x\"", "6", "7"],
                ["", "", ""],
                ["8", "9", "0"],
            ];
            let want: Vec<Vec<&str>> =
                all.iter().map(|row| wanted.iter().map(|&column| row[column]).collect()).collect();
            assert_eq!(seen, want);
            let out = String::from_utf8(writer.finish().unwrap()).unwrap();
            assert_eq!(out, "a,b,c\n1,2,3\n4,,\n\"5,\"\"x\"\"\",6,7\n,,\n8,9,0");
        }
    }
    let options = ReadOptions { pads: true, ..ReadOptions::default() };
    let mut reader = Reader::new("t.csv", "a\n1\n2,3\n".as_bytes(), options).unwrap();
    let error = reader.read_block(&mut Block::default()).unwrap_err();
    assert!(error.to_string().starts_with("t.csv, row 2 (line 3): 2 cells"), "{error}");
}

#[test]
fn headers_are_where_they_are_said_to_be() {
    let read = |text: &str, headers| {
        let options = ReadOptions { headers, ..ReadOptions::default() };
        Reader::new("t.csv", text.as_bytes(), options).map(|mut reader| {
            let names: Vec<String> = reader.headers().iter().map(str::to_owned).collect();
            let mut block = Block::default();
            let cell = reader.read_block(&mut block).unwrap().then(|| block.cell(0, 0).to_owned());
            let line = cell.as_ref().map_or(0, |_| block.line(0));
            (names.join("|"), cell.unwrap_or_default(), line)
        })
    };
    let reported = |names: &str, cell: &str, line| (names.to_owned(), cell.to_owned(), line);
    let titled = "Harvest of 2026\n\nBatch;Kg\nB1;2,5\nB2;3\n";
    assert_eq!(read(titled, HeaderRow::Found).unwrap(), reported("Batch|Kg", "B1", 4));
    assert_eq!(read(titled, HeaderRow::Line(3)).unwrap(), reported("Batch|Kg", "B1", 4));
    let bare = "1;2\r\n3;4\r\n";
    assert_eq!(read(bare, HeaderRow::Absent).unwrap(), reported("Column 1|Column 2", "1", 1));
    assert_eq!(read(bare, HeaderRow::Line(2)).unwrap(), reported("3|4", "", 0));
    for line in [2, 9] {
        let error = read(titled, HeaderRow::Line(line)).unwrap_err().to_string();
        assert!(error.starts_with(&format!("t.csv has no row that begins on line {line}")));
    }
}
