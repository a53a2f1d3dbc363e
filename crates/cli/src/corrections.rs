//! The file of corrections: a CSV with a row for each cell that was settled by hand.
//!
//! Its last columns are `header`, `value` and `note`; those before them are named like columns of
//! the output, and tell which rows are meant.

use std::fs;
use std::path::{Path, PathBuf};

use gather_keys_core::enrich::{Correction, Corrections};
use gather_keys_core::table::{Block, Headers, Source};
use gather_keys_formats::delimited::HeaderRow;
use gather_keys_formats::{Address, Described, Untapped, WholeFile};

use crate::error::{Error, Result};
use crate::inputs::OpenTable;

/// The last columns of the file.
const LAST: [&str; 3] = ["header", "value", "note"];

/// A file of corrections as it was read.
#[derive(Debug, Clone)]
pub(crate) struct CorrectionsFile {
    path: PathBuf,
    /// The headers of the columns that tell the rows.
    pub(crate) key: Vec<String>,
    delimiter: u8,
    corrections: Vec<Correction>,
}

impl CorrectionsFile {
    /// Reads a file of corrections; `None` when it is not there yet.
    pub(crate) fn read(path: &Path) -> Result<Option<Self>> {
        if !path.exists() {
            return Ok(None);
        }
        let name = path.display().to_string();
        let described = Described { headers: HeaderRow::First, ..Described::default() };
        let address = Address::File(path.to_owned());
        let (mut table, _) = OpenTable::open(&address, &described, &Untapped)?;
        let headers: Vec<String> = table.headers().iter().map(str::to_owned).collect();
        let is = |at: usize, name: &str| headers.get(at).is_some_and(|header| header == name);
        let with_note = headers.len().checked_sub(3).filter(|&at| at > 0 && is(at + 2, LAST[2]));
        let place = with_note.or_else(|| headers.len().checked_sub(2).filter(|&at| at > 0));
        let Some(place) = place.filter(|&at| is(at, LAST[0]) && is(at + 1, LAST[1])) else {
            return Err(Error::NotCorrections { name });
        };
        let mut corrections = Vec::new();
        let mut block = Block::default();
        while table.read_block(&mut block)? {
            for row in 0..block.rows() {
                let cell = |column| block.cell(row, column).to_owned();
                corrections.push(Correction {
                    key: (0..place).map(cell).collect(),
                    header: cell(place),
                    value: cell(place + 1),
                    row: block.row_number(row),
                });
            }
        }
        let key = headers[..place].to_vec();
        let delimiter = table.layout().dialect.delimiter;
        Ok(Some(Self { path: path.to_owned(), key, delimiter, corrections }))
    }

    /// The corrections, with their headers found in those of the output.
    pub(crate) fn placed_in(&self, output: &Headers) -> Result<Corrections> {
        let name = self.path.display().to_string();
        Ok(Corrections::new(&name, &self.key, self.corrections.clone(), output)?)
    }

    /// How many there are.
    pub(crate) fn len(&self) -> usize {
        self.corrections.len()
    }
}

/// Adds corrections to the file at a path, which is made with these key columns if there is none.
/// One that is in it for the same cell gets the new value.
pub(crate) fn add(path: &Path, key: &[String], new: &[Correction], note: &str) -> Result<()> {
    let mut records: Vec<Vec<String>> = Vec::new();
    let there = CorrectionsFile::read(path)?;
    let delimiter = there.as_ref().map_or(b',', |file| file.delimiter);
    let refused = |cause: csv::Error| gather_keys_formats::Error::Write {
        name: path.display().to_string(),
        cause: cause.into(),
    };
    if there.is_some() {
        let text = fs::read(path).map_err(csv::Error::from).map_err(refused)?;
        let mut reader = csv::ReaderBuilder::new();
        let mut reader =
            reader.delimiter(delimiter).has_headers(false).flexible(true).from_reader(&text[..]);
        for record in reader.records() {
            records.push(record.map_err(refused)?.iter().map(str::to_owned).collect());
        }
    } else {
        records.push(key.iter().map(String::as_str).chain(LAST).map(str::to_owned).collect());
    }
    let width = records.first().map_or(0, Vec::len);
    for Correction { key, header, value, .. } in new {
        let mut record = key.clone();
        record.extend([header.clone(), value.clone(), note.to_owned()]);
        record.truncate(width);
        let same = |other: &&mut Vec<String>| other.get(..=key.len()) == record.get(..=key.len());
        match records.iter_mut().skip(1).find(same) {
            Some(other) => *other = record,
            None => records.push(record),
        }
    }
    let mut writer = csv::WriterBuilder::new();
    let writer = writer.delimiter(delimiter).flexible(true);
    let mut writer = writer.from_writer(WholeFile::create(path, true)?);
    for record in &records {
        writer.write_record(record).map_err(refused)?;
    }
    let file = writer.into_inner().map_err(|error| gather_keys_formats::Error::Write {
        name: path.display().to_string(),
        cause: error.error().kind().into(),
    })?;
    Ok(file.commit()?)
}
