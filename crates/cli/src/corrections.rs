//! The file of corrections: a table with a row for each cell that was settled by hand.
//!
//! Its last columns are `header`, `value` and `note`. The columns before them are named like columns of the output
//! and identify the rows. It is read in any format; delimited text is written back in the form it has.

use std::path::{Path, PathBuf};

use gather_keys_core::enrich::{Corrections, EnrichmentBuilder};
use gather_keys_core::findings::Correction;
use gather_keys_formats::{Address, InputFile, SideFile, SideForm, SideWriter, Sum};

use crate::error::{Error, Result};

/// The last columns of the file.
const LAST: [&str; 3] = ["header", "value", "note"];

/// A file of corrections as it was read, or as it will be written.
#[derive(Debug, Clone)]
pub(crate) struct CorrectionsFile {
    path: PathBuf,
    /// The headers of the columns that identify the rows.
    pub(crate) key: Vec<String>,
    corrections: Vec<Correction>,
    /// The bytes of its rows, without line ends.
    rows: Vec<Vec<u8>>,
    /// How many columns it has.
    columns: usize,
    /// The form to write it in; `None` when it is not delimited text.
    form: Option<SideForm>,
    sum: Sum,
    /// The file that it was read from.
    file: Option<InputFile>,
}

impl CorrectionsFile {
    /// Reads a file of corrections.
    ///
    /// # Errors
    /// When it does not exist, can't be read, or is not a table of corrections.
    pub(crate) fn read(path: &Path) -> Result<Self> {
        let table = SideFile::read(&Address::new(path.as_os_str()))?;
        let headers: Vec<String> = table.headers().iter().map(str::to_owned).collect();
        let is = |at: usize, name: &str| headers.get(at).is_some_and(|header| header == name);
        let with_note = headers.len().checked_sub(3).filter(|&at| at > 0 && is(at + 2, LAST[2]));
        let place = with_note.or_else(|| headers.len().checked_sub(2).filter(|&at| at > 0));
        let Some(place) = place.filter(|&at| is(at, LAST[0]) && is(at + 1, LAST[1])) else {
            return Err(Error::NotCorrections { name: path.display().to_string() });
        };
        let corrections = table.rows().map(|row| Correction {
            key: (0..place).map(|column| row.cell(column).to_owned()).collect(),
            header: row.cell(place).to_owned(),
            value: row.cell(place + 1).to_owned(),
            row: row.number(),
        });
        Ok(Self {
            path: path.to_owned(),
            key: headers[..place].to_vec(),
            corrections: corrections.collect(),
            rows: table.row_bytes().map(<[u8]>::to_vec).collect(),
            columns: headers.len(),
            form: table.form().cloned(),
            sum: table.sum().clone(),
            file: table.file().cloned(),
        })
    }

    /// A new one, whose rows these columns identify.
    fn new(path: &Path, key: &[String]) -> Self {
        Self {
            path: path.to_owned(),
            key: key.to_vec(),
            corrections: Vec::new(),
            rows: Vec::new(),
            columns: key.len() + LAST.len(),
            form: Some(SideForm::new()),
            sum: Sum::default(),
            file: None,
        }
    }

    /// The file with more corrections, and its new content. A correction of the same cell gets the new
    /// value.
    ///
    /// # Errors
    /// When it is not delimited text, the only format that is written back.
    pub(crate) fn with(
        there: Option<&Self>,
        path: &Path,
        key: &[String],
        new: &[Correction],
        note: &str,
    ) -> Result<(Self, Vec<u8>)> {
        let mut file = there.cloned().unwrap_or_else(|| Self::new(path, key));
        let name = path.display().to_string();
        let Some(form) = file.form.clone() else {
            return Err(Error::CorrectionsNotText { name });
        };
        for correction in new {
            let Correction { key, header, value, .. } = correction;
            let cells = key.iter().map(String::as_str).chain([&header[..], value, note]);
            let row = form.row(cells.take(file.columns));
            let is_same = |other: &Correction| other.key == *key && other.header == *header;
            if let Some(at) = file.corrections.iter().position(is_same) {
                file.rows[at] = row;
                file.corrections[at].value.clone_from(value);
            } else {
                file.rows.push(row);
                let row = file.rows.len() as u64;
                file.corrections.push(Correction { row, ..correction.clone() });
            }
        }
        let mut writer = SideWriter::new(name, Vec::new(), form)?;
        writer.write_header_row(file.key.iter().map(String::as_str).chain(LAST))?;
        for row in &file.rows {
            writer.write_raw(row)?;
        }
        let bytes = writer.finish()?;
        file.sum = Sum::default();
        file.sum.add(&bytes);
        Ok((file, bytes))
    }

    /// The corrections, with their headers found in the output.
    pub(crate) fn placed_in(&self, builder: &EnrichmentBuilder) -> Result<Corrections> {
        let name = self.path.display().to_string();
        let find = |header: &str| builder.find_output(header);
        Ok(Corrections::new(&name, &self.key, self.corrections.clone(), find)?)
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
