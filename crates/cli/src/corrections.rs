//! The file of corrections: a table with a row for each cell that was settled by hand.
//!
//! Its last columns are `header`, `value` and `note`; those before them are named like columns of the output, and
//! tell which rows are meant. It is read in any format, and rewritten in the form that it has.

use std::io::Write;
use std::path::{Path, PathBuf};

use gather_keys_core::enrich::Corrections;
use gather_keys_core::findings::Correction;
use gather_keys_core::table::{Block, Headers, Source};
use gather_keys_formats::delimited::{Encoded, HeaderRow, Layout};
use gather_keys_formats::{Address, Described, InputFile, Sum, Untapped};

use crate::error::{Error, Result};
use crate::inputs::OpenTable;

/// The last columns of the file.
const LAST: [&str; 3] = ["header", "value", "note"];

/// A file of corrections as it was read, or as it is to be.
#[derive(Debug, Clone)]
pub(crate) struct CorrectionsFile {
    path: PathBuf,
    /// The headers of the columns that tell the rows.
    pub(crate) key: Vec<String>,
    corrections: Vec<Correction>,
    /// Its rows as they are in the file, without line ends; nothing where it is no delimited text.
    rows: Option<Vec<Vec<u8>>>,
    /// How many columns it has.
    columns: usize,
    layout: Layout,
    sum: Sum,
    /// The file that it was read from.
    file: Option<InputFile>,
}

impl CorrectionsFile {
    /// Reads a file of corrections.
    ///
    /// # Errors
    /// When it is not there, can't be read, or is no table of corrections.
    pub(crate) fn read(path: &Path) -> Result<Self> {
        let name = path.display().to_string();
        let described = Described { headers: HeaderRow::First, ..Described::default() };
        let address = Address::new(path.as_os_str());
        let (mut table, _) = OpenTable::open(&address, &described, &Untapped)?;
        let headers: Vec<String> = table.headers().iter().map(str::to_owned).collect();
        let is = |at: usize, name: &str| headers.get(at).is_some_and(|header| header == name);
        let with_note = headers.len().checked_sub(3).filter(|&at| at > 0 && is(at + 2, LAST[2]));
        let place = with_note.or_else(|| headers.len().checked_sub(2).filter(|&at| at > 0));
        let Some(place) = place.filter(|&at| is(at, LAST[0]) && is(at + 1, LAST[1])) else {
            return Err(Error::NotCorrections { name });
        };
        let mut corrections = Vec::new();
        let mut rows = table.is_text().then(Vec::new);
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
                if let (Some(rows), Some((bytes, _))) = (&mut rows, block.row_bytes(row)) {
                    rows.push(bytes.to_vec());
                }
            }
        }
        let sum = match table.file() {
            Some(file) => Sum::of_reader(&mut file.reader(), &name)?,
            None => Sum::default(),
        };
        Ok(Self {
            path: path.to_owned(),
            key: headers[..place].to_vec(),
            corrections,
            rows,
            columns: headers.len(),
            layout: table.layout(),
            sum,
            file: table.file().cloned(),
        })
    }

    /// A new one, whose rows these columns identify.
    fn new(path: &Path, key: &[String]) -> Self {
        let headers: Vec<&str> = key.iter().map(String::as_str).chain(LAST).collect();
        Self {
            path: path.to_owned(),
            key: key.to_vec(),
            corrections: Vec::new(),
            rows: Some(Vec::new()),
            columns: headers.len(),
            layout: Layout::usual(&Headers::new(path.display().to_string(), headers)),
            sum: Sum::default(),
            file: None,
        }
    }

    /// The file with more corrections, and its new content. A correction of the same cell gets the new
    /// value.
    ///
    /// # Errors
    /// When it is no delimited text, which is all that is rewritten.
    pub(crate) fn with(
        there: Option<&Self>,
        path: &Path,
        key: &[String],
        new: &[Correction],
        note: &str,
    ) -> Result<(Self, Vec<u8>)> {
        let mut file = there.cloned().unwrap_or_else(|| Self::new(path, key));
        let name = path.display().to_string();
        let delimiter = file.layout.dialect.delimiter;
        let Some(rows) = &mut file.rows else {
            return Err(Error::CorrectionsNotText { name });
        };
        for correction in new {
            let Correction { key, header, value, .. } = correction;
            let cells = key.iter().map(String::as_str).chain([&header[..], value, note]);
            let row = as_row(cells.take(file.columns), delimiter);
            let is_same = |other: &Correction| other.key == *key && other.header == *header;
            if let Some(at) = file.corrections.iter().position(is_same) {
                rows[at] = row;
                file.corrections[at].value.clone_from(value);
            } else {
                rows.push(row);
                let row = rows.len() as u64;
                file.corrections.push(Correction { row, ..correction.clone() });
            }
        }
        let line_end = match &file.layout.line_end[..] {
            [] => b"\n",
            own => own,
        };
        let mut text = Vec::new();
        let header_row = file.layout.header_row.clone().unwrap_or_default();
        for row in [&header_row].into_iter().chain(rows.iter()) {
            text.extend_from_slice(row);
            text.extend_from_slice(line_end);
        }
        let refused = |cause| gather_keys_formats::Error::Write { name: name.clone(), cause };
        let dialect = file.layout.dialect;
        let mut encoded = Encoded::new(Vec::new(), dialect.encoding);
        if dialect.byte_order_mark {
            encoded.write_all("\u{feff}".as_bytes()).map_err(refused)?;
        }
        encoded.write_all(&text).map_err(refused)?;
        encoded.flush().map_err(refused)?;
        let bytes = encoded.into_inner();
        file.sum = Sum::default();
        file.sum.add(&bytes);
        Ok((file, bytes))
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

    /// Its path.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Its size and digest.
    pub(crate) fn sum(&self) -> &Sum {
        &self.sum
    }

    /// The file that it was read from.
    pub(crate) fn file(&self) -> Option<&InputFile> {
        self.file.as_ref()
    }
}

/// A row of delimited text, quoted where it has to be.
fn as_row<'c>(cells: impl Iterator<Item = &'c str>, delimiter: u8) -> Vec<u8> {
    let mut row = Vec::new();
    for (nth, cell) in cells.enumerate() {
        if nth > 0 {
            row.push(delimiter);
        }
        let needs_quotes =
            cell.bytes().any(|byte| byte == delimiter || matches!(byte, b'"' | b'\n' | b'\r'));
        if needs_quotes {
            row.push(b'"');
            row.extend_from_slice(cell.replace('"', "\"\"").as_bytes());
            row.push(b'"');
        } else {
            row.extend_from_slice(cell.as_bytes());
        }
    }
    row
}
