//! The beginning of a worksheet: which one is meant, and where its headers are.
//!
//! In go the names in a workbook and then its first rows, out comes a [`Begun`]: the headers, the columns that
//! have them, and the rows after them.

use std::ops::Range;

use gather_keys_core::table::Headers;

use super::headers::{Head, Line, Merged, find};
use super::part::{Area, Meant, Named, meant};
use super::row::Row;
use super::size::MOST_COLUMNS;
use crate::delimited::HeaderRow;
use crate::{Error, Result};

/// How many rows are looked at to find the headers, and how many bytes of text.
const LOOKED_AT: usize = 100;
const LOOKED_AT_TEXT: usize = MOST_TEXT;

/// How many bytes of text a row may have. A tiny workbook may tell the same long text for every column.
pub(super) const MOST_TEXT: usize = if cfg!(test) { 1 << 20 } else { 64 << 20 };

/// How many merged cells are kept to find the headers.
const MOST_MERGED: usize = 1 << 16;

/// The state of a worksheet once its headers are found.
pub(super) struct Begun {
    pub(super) headers: Headers,
    /// The row of the worksheet that they are in, from 1; 0 when there are none.
    pub(super) header_line: u64,
    /// The part that was chosen.
    pub(super) part: String,
    /// The worksheets of the workbook.
    pub(super) worksheets: Vec<String>,
    /// Whether it is the one of several worksheets that holds the headers that are asked for.
    pub(super) is_found_by_headers: bool,
    pub(super) title_rows: usize,
    pub(super) header_rows: usize,
    /// The columns of the worksheet that the table has.
    pub(super) columns: Range<usize>,
}

/// What is looked for in a workbook.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Sought<'a> {
    /// The place of the headers.
    pub(crate) headers: HeaderRow,
    /// The headers that are asked for.
    pub(crate) asked: &'a [String],
    /// The headers of columns that are not read.
    pub(crate) without: &'a [String],
}

/// A worksheet whose headers are being looked for.
pub(super) struct Beginning {
    name: String,
    part: Option<String>,
    headers: HeaderRow,
    /// The headers that are asked for.
    asked: Vec<String>,
    /// The meaning of the part, once it is found.
    meant: Option<Meant>,
    worksheets: Vec<String>,
    /// Cells that are known to be merged.
    merged: Vec<Merged>,
    /// Rows that came before it is settled where the headers are, and how many bytes of text they have.
    waiting: Vec<Line>,
    waiting_text: usize,
}

impl Beginning {
    /// The worksheet of the workbook called `name` that `part` asks for, or else the first.
    pub(super) fn new(name: &str, part: Option<&str>, sought: &Sought<'_>) -> Self {
        Self {
            name: name.to_owned(),
            part: part.map(str::to_owned),
            headers: sought.headers,
            asked: sought.asked.to_vec(),
            meant: None,
            worksheets: Vec::new(),
            merged: Vec::new(),
            waiting: Vec::new(),
            waiting_text: 0,
        }
    }

    /// The name of the workbook in messages.
    pub(super) fn name(&self) -> &str {
        &self.name
    }

    /// Finds what is meant, and gives its worksheet.
    pub(super) fn chosen(
        &mut self,
        worksheets: &[String],
        named: impl FnOnce() -> Vec<Named>,
    ) -> Result<String> {
        let meant = meant(&self.name, self.part.as_deref(), worksheets, named)?;
        if self.headers == HeaderRow::Found {
            self.headers = match meant.has_headers {
                None => HeaderRow::Found,
                Some(true) => HeaderRow::First,
                Some(false) => HeaderRow::Absent,
            };
        }
        let worksheet = meant.worksheet.clone();
        self.worksheets = worksheets.to_vec();
        self.meant = Some(meant);
        Ok(worksheet)
    }

    /// The cells that are meant, where these are not all of the worksheet.
    pub(super) fn area(&self) -> Option<&Area> {
        self.meant.as_ref()?.area.as_ref()
    }

    /// Whether no row from this line on is wanted.
    pub(super) fn is_past(&self, line: u64) -> bool {
        self.area().is_some_and(|area| area.last < line)
    }

    /// Takes that cells are merged.
    pub(super) fn merge(&mut self, merged: impl IntoIterator<Item = Merged>) {
        let room = MOST_MERGED.saturating_sub(self.merged.len());
        self.merged.extend(merged.into_iter().take(room));
    }

    /// Leaves of a row what is meant; whether that is a row.
    pub(super) fn clip(&self, line: u64, row: &mut Row) -> bool {
        if let Some(area) = self.area() {
            if !(area.first..=area.last).contains(&line) {
                return false;
            }
            row.keep(&area.columns);
        }
        !row.is_blank()
    }

    /// Takes the next row; whether it is settled where the headers are.
    pub(super) fn wait(&mut self, line: u64, row: &Row) -> bool {
        self.waiting_text += row.text_length();
        self.waiting.push((line, row.cells()));
        match self.headers {
            HeaderRow::Line(wanted) => line >= wanted,
            HeaderRow::First | HeaderRow::Absent => true,
            HeaderRow::Found => {
                self.waiting.len() == LOOKED_AT || self.waiting_text > LOOKED_AT_TEXT
            }
        }
    }

    /// Decides where the headers are, and returns the rows after them too. `merged` is asked for more merged cells
    /// if something in the headers looks like some.
    pub(super) fn begin(
        &mut self,
        merged: impl FnOnce() -> Vec<Merged>,
    ) -> Result<(Begun, Vec<Line>)> {
        let mut waiting = std::mem::take(&mut self.waiting);
        if waiting.is_empty() {
            return Err(Error::Empty { name: self.name.clone() });
        }
        let none = || match self.headers {
            HeaderRow::Line(line) => Error::NoHeaderLine { name: self.name.clone(), line },
            _ => Error::Empty { name: self.name.clone() },
        };
        let known = std::mem::take(&mut self.merged);
        let is_within = |merged: &Merged| merged.columns.end <= MOST_COLUMNS;
        let merged = || known.into_iter().chain(merged()).filter(is_within).collect();
        let head = find(self.headers, &self.asked, &waiting, merged).ok_or_else(none)?;
        let Head { before, rows, columns, headers } = head;
        let is_absent = self.headers == HeaderRow::Absent;
        let headers = if is_absent {
            (1..=columns.len()).map(|nth| format!("Column {nth}")).collect()
        } else {
            headers
        };
        let rows_before = if is_absent { before } else { before + rows };
        let header_line = if is_absent { 0 } else { waiting[rows_before - 1].0 };
        let part = self.meant.as_ref().map(|meant| meant.name.clone());
        let begun = Begun {
            headers: Headers::new(&self.name, headers),
            header_line,
            part: part.unwrap_or_default(),
            worksheets: std::mem::take(&mut self.worksheets),
            is_found_by_headers: false,
            title_rows: if self.headers == HeaderRow::Found { before } else { 0 },
            header_rows: if is_absent { 0 } else { rows },
            columns,
        };
        Ok((begun, waiting.split_off(rows_before)))
    }

    /// That the workbook can't be read, as `said`.
    pub(super) fn unread(&self, said: impl Into<String>) -> Error {
        let fix = "open it and save it again as XLSX";
        Error::Unread { name: self.name.clone(), said: said.into(), fix }
    }

    /// That the workbook is not read since it would fill the memory, as `said`.
    pub(super) fn too_large(&self, said: impl Into<String>) -> Error {
        let fix = "save the worksheet as CSV";
        Error::Unread { name: self.name.clone(), said: said.into(), fix }
    }

    /// That the workbook is locked.
    pub(super) fn locked(&self) -> Error {
        super::reader::locked(&self.name)
    }
}
