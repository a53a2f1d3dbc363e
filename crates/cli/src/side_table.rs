//! A small table that a person keeps next to the large ones, such as aliases or corrections: read in any format, and
//! written back as delimited text, in the form it has. Rows that don't change keep their bytes.

use std::io::Write as _;
use std::path::{Path, PathBuf};

use gather_keys_formats::{Address, InputFile, SideFile, SideForm, SideWriter, Sum, WholeFile};

use crate::error::Result;

/// The table as it was read, or as it will be written.
#[derive(Debug, Clone)]
pub(crate) struct SideTable {
    path: PathBuf,
    headers: Vec<String>,
    rows: Vec<SideRow>,
    /// The form to write it in; `None` when it is not delimited text.
    form: Option<SideForm>,
    /// Whether columns were added, so that its own header row no longer holds.
    is_widened: bool,
    /// Its size and digest as it was read or last written.
    sum: Sum,
    file: Option<InputFile>,
}

/// A row: its cells, and its bytes as long as these hold.
#[derive(Debug, Clone)]
struct SideRow {
    cells: Vec<String>,
    bytes: Option<Vec<u8>>,
}

impl SideTable {
    /// Reads the table at a path.
    ///
    /// # Errors
    /// When it does not exist or can't be read.
    pub(crate) fn read(path: &Path) -> Result<Self> {
        let table = SideFile::read(&Address::new(path.as_os_str()))?;
        let headers: Vec<String> = table.headers().iter().map(str::to_owned).collect();
        let mut bytes = table.row_bytes();
        let rows = table.rows().map(|row| SideRow {
            cells: (0..headers.len()).map(|column| row.cell(column).to_owned()).collect(),
            bytes: bytes.next().map(<[u8]>::to_vec),
        });
        Ok(Self {
            path: path.to_owned(),
            rows: rows.collect(),
            headers,
            form: table.form().cloned(),
            is_widened: false,
            sum: table.sum().clone(),
            file: table.file().cloned(),
        })
    }

    /// A new one with these headers.
    pub(crate) fn new(path: &Path, headers: Vec<String>) -> Self {
        Self {
            path: path.to_owned(),
            headers,
            rows: Vec::new(),
            form: Some(SideForm::new()),
            is_widened: false,
            sum: Sum::default(),
            file: None,
        }
    }

    /// Its path.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Its headers.
    pub(crate) fn headers(&self) -> &[String] {
        &self.headers
    }

    /// The cells of each row, one for each header.
    pub(crate) fn rows(&self) -> impl ExactSizeIterator<Item = &[String]> {
        self.rows.iter().map(|row| &row.cells[..])
    }

    /// Whether it can be written back.
    pub(crate) fn is_text(&self) -> bool {
        self.form.is_some()
    }

    /// Its size and digest as it was read or last written.
    pub(crate) fn sum(&self) -> &Sum {
        &self.sum
    }

    /// The file that it was read from.
    pub(crate) fn file(&self) -> Option<&InputFile> {
        self.file.as_ref()
    }

    /// The place of the column with a header.
    pub(crate) fn place(&self, header: &str) -> Option<usize> {
        self.headers.iter().position(|other| other == header)
    }

    /// Adds a column at a place, with the same cell in all rows.
    pub(crate) fn insert_column(&mut self, at: usize, header: &str, cell: &str) {
        self.headers.insert(at, header.to_owned());
        for row in &mut self.rows {
            row.cells.insert(at, cell.to_owned());
            row.bytes = None;
        }
        self.is_widened = true;
    }

    /// Adds a row with a cell for each header.
    pub(crate) fn push(&mut self, cells: Vec<String>) {
        self.rows.push(SideRow { cells, bytes: None });
    }

    /// Replaces a row.
    pub(crate) fn replace(&mut self, at: usize, cells: Vec<String>) {
        self.rows[at] = SideRow { cells, bytes: None };
    }

    /// Its content; nothing where it can't be written back.
    ///
    /// # Errors
    /// When its encoding lacks a character.
    pub(crate) fn bytes(&mut self) -> Result<Vec<u8>> {
        let Some(form) = self.form.clone() else { return Ok(Vec::new()) };
        let name = self.path.display().to_string();
        let mut writer = SideWriter::new(name, Vec::new(), form)?;
        let headers = self.headers.iter().map(String::as_str);
        if self.is_widened {
            writer.write(headers)?;
        } else {
            writer.write_header_row(headers)?;
        }
        for row in &self.rows {
            match &row.bytes {
                Some(bytes) => writer.write_raw(bytes)?,
                None => writer.write(row.cells.iter().map(String::as_str))?,
            }
        }
        let bytes = writer.finish()?;
        self.sum = Sum::default();
        self.sum.add(&bytes);
        Ok(bytes)
    }

    /// Writes it to its path, whole or not at all.
    ///
    /// # Errors
    /// When it can't be written.
    pub(crate) fn write(&mut self) -> Result<()> {
        let bytes = self.bytes()?;
        let mut file = WholeFile::create(&self.path, true)?;
        let name = self.path.display().to_string();
        let refused = |cause| gather_keys_formats::Error::Write { name, cause };
        file.write_all(&bytes).map_err(refused)?;
        Ok(file.commit()?)
    }
}
