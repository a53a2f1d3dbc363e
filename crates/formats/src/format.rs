//! The formats of tables, and what a person says of how one is to be read.

use std::path::Path;

use crate::columnar::{self, Columnar};
use crate::delimited::{Encoding, HeaderRow};
use crate::{json, sqlite};

/// How workbooks begin: those of today, and those of before.
const WORKBOOKS: [&[u8]; 2] = [b"PK\x03\x04", b"\xd0\xcf\x11\xe0"];

/// The formats that are read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Delimited text.
    Text,
    /// A JSON document.
    Json,
    /// JSON, a row on each line.
    JsonLines,
    /// A workbook.
    Workbook,
    /// A database.
    Database,
    /// A Parquet file.
    Parquet,
    /// An Arrow file.
    Arrow,
}

impl Format {
    /// Every format with the name that a person gives it.
    pub const ALL: [(&str, Self); 7] = [
        ("text", Self::Text),
        ("json", Self::Json),
        ("json-lines", Self::JsonLines),
        ("workbook", Self::Workbook),
        ("database", Self::Database),
        ("parquet", Self::Parquet),
        ("arrow", Self::Arrow),
    ];

    pub(crate) fn name(self) -> &'static str {
        Self::ALL.into_iter().find(|(_, format)| *format == self).map_or("text", |(name, _)| name)
    }

    /// The format of a name.
    pub fn named(name: &str) -> Option<Self> {
        let name = name.trim();
        Self::ALL.into_iter().find(|(other, _)| *other == name).map(|(_, format)| format)
    }

    /// What a file is, by how it begins, and where that does not tell by its ending.
    pub(crate) fn of(path: Option<&Path>, first: &[u8]) -> Self {
        if WORKBOOKS.iter().any(|begin| first.starts_with(begin)) {
            return Self::Workbook;
        }
        if first.starts_with(sqlite::BEGINS) {
            return Self::Database;
        }
        match columnar::begins(first) {
            Some(Columnar::Parquet) => return Self::Parquet,
            Some(Columnar::Arrow | Columnar::ArrowStream) => return Self::Arrow,
            None => {}
        }
        match json::has_lines(path, first) {
            Some(true) => Self::JsonLines,
            Some(false) => Self::Json,
            None => Self::Text,
        }
    }
}

/// What a person said of how a table is to be read; what is not said is found.
#[derive(Debug, Clone, Default)]
pub struct Described {
    /// The format.
    pub format: Option<Format>,
    /// The byte between cells, in delimited text.
    pub delimiter: Option<u8>,
    /// The encoding of text.
    pub encoding: Option<Encoding>,
    /// Where the headers are.
    pub headers: HeaderRow,
    /// Whether rows of another number of cells than there are headers are padded.
    pub pads: bool,
    /// Of a table of a database: the headers of the columns whose order its rows are read in.
    pub order_by: Vec<String>,
}

impl Described {
    /// What is said that means nothing in a format.
    pub(crate) fn unfit(&self, format: Format) -> Option<&'static str> {
        let is_text = format == Format::Text;
        let has_header_row = is_text || format == Format::Workbook;
        [
            (self.delimiter.is_some() && !is_text, "--delimiter"),
            (self.encoding.is_some() && !is_text, "--encoding"),
            (self.pads && !is_text, "--ragged"),
            (!self.order_by.is_empty() && format != Format::Database, "--order-by"),
            (self.headers == HeaderRow::Absent && !has_header_row, "--no-header"),
            (matches!(self.headers, HeaderRow::Line(_)) && !has_header_row, "--header-row"),
        ]
        .into_iter()
        .find_map(|(is_unfit, option)| is_unfit.then_some(option))
    }
}
