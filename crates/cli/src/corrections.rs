//! The file of corrections: a table with a row for each cell that was settled by hand.
//!
//! Its last columns are `header`, `value` and `note`. The columns before them are named like columns of the output
//! and identify the rows; `*` in one of them means every value. It is read in any format; delimited text is written
//! back in the form it has.

use std::path::Path;

use gather_keys_core::enrich::{ANY, Corrections, EnrichmentBuilder};
use gather_keys_core::findings::Correction;
use gather_keys_formats::{InputFile, Sum};

use crate::error::{Error, Result};
use crate::side_table::SideTable;

/// The last columns of the file.
const LAST: [&str; 3] = ["header", "value", "note"];

/// A file of corrections as it was read, or as it will be written.
#[derive(Debug, Clone)]
pub(crate) struct CorrectionsFile {
    table: SideTable,
    /// The headers of the columns that identify the rows.
    pub(crate) key: Vec<String>,
    corrections: Vec<Correction>,
}

impl CorrectionsFile {
    /// Reads a file of corrections.
    ///
    /// # Errors
    /// When it does not exist, can't be read, or is not a table of corrections.
    pub(crate) fn read(path: &Path) -> Result<Self> {
        let table = SideTable::read(path)?;
        let headers = table.headers();
        let is = |at: usize, name: &str| headers.get(at).is_some_and(|header| header == name);
        let with_note = headers.len().checked_sub(3).filter(|&at| at > 0 && is(at + 2, LAST[2]));
        let place = with_note.or_else(|| headers.len().checked_sub(2).filter(|&at| at > 0));
        let Some(place) = place.filter(|&at| is(at, LAST[0]) && is(at + 1, LAST[1])) else {
            return Err(Error::NotCorrections { name: path.display().to_string() });
        };
        let corrections = table.rows().zip(1..).map(|(cells, row)| Correction {
            key: cells[..place].to_vec(),
            header: cells[place].clone(),
            value: cells[place + 1].clone(),
            row,
        });
        let (corrections, key) = (corrections.collect(), headers[..place].to_vec());
        Ok(Self { table, key, corrections })
    }

    /// A new one, whose rows these columns identify.
    pub(crate) fn new(path: &Path, key: &[String]) -> Self {
        let headers = key.iter().cloned().chain(LAST.map(str::to_owned));
        let table = SideTable::new(path, headers.collect());
        Self { table, key: key.to_vec(), corrections: Vec::new() }
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
        file.add(new, note)?;
        let bytes = file.table.bytes()?;
        Ok((file, bytes))
    }

    /// Adds corrections. One of the same cell gets the new value.
    ///
    /// # Errors
    /// When it is not delimited text.
    pub(crate) fn add(&mut self, new: &[Correction], note: &str) -> Result<()> {
        if !self.table.is_text() {
            return Err(Error::CorrectionsNotText { name: self.path().display().to_string() });
        }
        for correction in new {
            let Correction { key, header, value, .. } = correction;
            let cells = key.iter().map(String::as_str).chain([&header[..], value, note]);
            let cells = cells.take(self.table.headers().len()).map(str::to_owned).collect();
            let is_same = |other: &Correction| other.key == *key && other.header == *header;
            if let Some(at) = self.corrections.iter().position(is_same) {
                self.table.replace(at, cells);
                self.corrections[at].value.clone_from(value);
            } else {
                self.table.push(cells);
                let row = self.table.rows().len() as u64;
                self.corrections.push(Correction { row, ..correction.clone() });
            }
        }
        Ok(())
    }

    /// Has these columns identify rows too, where they don't; the corrections that are there hold whatever their values.
    pub(crate) fn identify_by(&mut self, headers: &[String]) {
        for header in headers {
            if !self.key.contains(header) {
                self.table.insert_column(self.key.len(), header, ANY);
                self.key.push(header.clone());
                self.corrections.iter_mut().for_each(|one| one.key.push(ANY.to_owned()));
            }
        }
    }

    /// Writes it to its path, whole or not at all.
    ///
    /// # Errors
    /// When it can't be written.
    pub(crate) fn write(&mut self) -> Result<()> {
        self.table.write()
    }

    /// The corrections, with their headers found in the output.
    pub(crate) fn placed_in(&self, builder: &EnrichmentBuilder) -> Result<Corrections> {
        let name = self.path().display().to_string();
        let find = |header: &str| builder.find_output(header);
        Ok(Corrections::new(&name, &self.key, self.corrections.clone(), find)?)
    }

    /// The corrections, in order.
    pub(crate) fn corrections(&self) -> &[Correction] {
        &self.corrections
    }

    /// How many there are.
    pub(crate) fn len(&self) -> usize {
        self.corrections.len()
    }

    /// Its path.
    pub(crate) fn path(&self) -> &Path {
        self.table.path()
    }

    /// Its size and digest.
    pub(crate) fn sum(&self) -> &Sum {
        self.table.sum()
    }

    /// The file that it was read from.
    pub(crate) fn file(&self) -> Option<&InputFile> {
        self.table.file()
    }
}
