//! Delimited text is read as the csv crate reads it: any text, in any dialect, in chunks of any size.
//!
//! The first byte chooses the delimiter, the second the size of a chunk; the rest is the text.

use gather_keys_core::table::{Block, Source};
use gather_keys_formats::Error;
use gather_keys_formats::delimited::{HeaderRow, ReadOptions, Reader};

/// Reads an input both ways, and panics where they differ.
pub(crate) fn run(bytes: &[u8]) {
    let [delimiter, piece, text @ ..] = bytes else { return };
    let delimiter = [b',', b';', b'\t', b'|', b'a'][usize::from(*delimiter) % 5];
    let options = ReadOptions {
        delimiter: Some(delimiter),
        piece: usize::from(*piece) + 1,
        headers: HeaderRow::First,
        ..ReadOptions::default()
    };
    // Other formats are refused before a byte of them is read.
    let ours = match Reader::new("table", text, options) {
        Err(Error::OtherFormat { .. }) => return,
        read => read.and_then(rows),
    };
    let theirs = by_csv(text, delimiter);
    match (ours, theirs) {
        (Ok(ours), Some(theirs)) => assert_eq!(ours, theirs),
        (Ok(ours), None) => panic!("the csv crate refuses what we read as {ours:?}"),
        (Err(Error::Empty { .. }), Some(theirs)) => assert!(theirs.is_empty()),
        (Err(Error::OpenQuote { .. }), _)
        | (Err(Error::Ragged { .. } | Error::NotText { .. }), None) => {}
        // Taking quotes away may join two halves of a character; the file is no text all the same.
        (Err(Error::NotText { .. }), _) => assert!(std::str::from_utf8(text).is_err()),
        (Err(error), theirs) => panic!("{error}, but the csv crate reads {theirs:?}"),
    }
}

fn rows(mut reader: Reader<&[u8]>) -> Result<Vec<Vec<String>>, Error> {
    let mut rows = vec![reader.headers().iter().map(str::to_owned).collect()];
    let mut block = Block::default();
    while reader.read_block(&mut block)? {
        for row in 0..block.rows() {
            let cells = (0..block.columns()).map(|column| block.cell(row, column).to_owned());
            rows.push(cells.collect());
        }
    }
    Ok(rows)
}

fn by_csv(text: &[u8], delimiter: u8) -> Option<Vec<Vec<String>>> {
    let mut reader = csv::ReaderBuilder::new();
    let mut reader = reader.has_headers(false).delimiter(delimiter).from_reader(text);
    let row = |record: Result<csv::StringRecord, csv::Error>| {
        Some(record.ok()?.iter().map(str::to_owned).collect())
    };
    reader.records().map(row).collect()
}
