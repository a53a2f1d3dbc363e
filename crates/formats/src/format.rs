//! The table of formats, and what a person says of how a table is to be read.
//!
//! # Advice for maintainers
//! A new format is a row of [`FORMATS`], a module that reads and writes it, and a variant where the compiler asks for
//! one: in [`Format`], in the dispatch of `table` and `chunk`, and in that of the program's output.

use std::path::Path;

use crate::columnar::{ARROW, ARROW_STREAM, PARQUET};
use crate::delimited::{Encoding, HeaderRow};
use crate::sqlite;

/// The formats of tables.
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

/// The properties of a format.
#[derive(Debug)]
pub struct FormatInfo {
    /// The format.
    pub format: Format,
    /// The name that a person gives it.
    pub name: &'static str,
    /// The first bytes of its files, which no other format has.
    signatures: &'static [&'static [u8]],
    /// The extensions of its files.
    pub extensions: &'static [&'static str],
    /// The first bytes that suggest it, where neither a signature nor an extension decides.
    hints: &'static [&'static [u8]],
    /// The extensions with which it is written; empty where all are.
    written_as: &'static [&'static str],
    /// Whether its files have parts, such as worksheets or tables.
    pub has_parts: bool,
    /// Whether a file may be compressed as a whole.
    pub is_compressible: bool,
    /// The statements of how it is read that apply to it.
    readings: &'static [Reading],
}

/// Something that a person may say of how a table is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reading {
    /// The character between cells.
    Delimiter,
    /// The encoding of the text.
    Encoding,
    /// The line of the headers.
    HeaderRow,
    /// That there are no headers.
    NoHeader,
    /// How rows are read that have more or fewer cells than there are headers.
    Ragged,
    /// That numbers have a decimal comma.
    DecimalComma,
    /// The columns to order rows by.
    OrderBy,
}

impl Reading {
    /// The key of a plan that says it.
    pub const fn key(self) -> &'static str {
        match self {
            Self::Delimiter => "delimiter",
            Self::Encoding => "encoding",
            Self::HeaderRow => "header_row",
            Self::NoHeader => "no_header",
            Self::Ragged => "ragged",
            Self::DecimalComma => "decimal_comma",
            Self::OrderBy => "order_by",
        }
    }
}

const OF_TEXT: &[Reading] = &[
    Reading::Delimiter,
    Reading::Encoding,
    Reading::HeaderRow,
    Reading::NoHeader,
    Reading::Ragged,
    Reading::DecimalComma,
];

/// Every format.
pub static FORMATS: [FormatInfo; 7] = [
    FormatInfo {
        format: Format::Text,
        name: "text",
        signatures: &[],
        // Any extension that is of no other format.
        extensions: &[],
        hints: &[],
        written_as: &[],
        has_parts: false,
        is_compressible: true,
        readings: OF_TEXT,
    },
    FormatInfo {
        format: Format::Json,
        name: "json",
        signatures: &[],
        extensions: &["json"],
        hints: &[b"[{\"", b"[\n"],
        written_as: &[],
        has_parts: true,
        is_compressible: true,
        readings: &[],
    },
    FormatInfo {
        format: Format::JsonLines,
        name: "json-lines",
        signatures: &[],
        extensions: &["jsonl", "ndjson"],
        hints: &[b"{\""],
        written_as: &[],
        has_parts: false,
        is_compressible: true,
        readings: &[],
    },
    FormatInfo {
        format: Format::Workbook,
        name: "workbook",
        // The first of zip archives, the second of binary files.
        signatures: &[b"PK\x03\x04", b"\xd0\xcf\x11\xe0"],
        extensions: &["xlsx", "xlsm", "xls", "xlsb", "ods", "xltx", "xltm", "xlt", "ots", "fods"],
        hints: &[],
        written_as: &["xlsx"],
        has_parts: true,
        is_compressible: false,
        readings: &[Reading::HeaderRow, Reading::NoHeader],
    },
    FormatInfo {
        format: Format::Database,
        name: "database",
        signatures: &[sqlite::SIGNATURE],
        extensions: &["sqlite", "sqlite3", "db"],
        hints: &[],
        written_as: &[],
        has_parts: true,
        is_compressible: false,
        readings: &[Reading::OrderBy],
    },
    FormatInfo {
        format: Format::Parquet,
        name: "parquet",
        signatures: &[PARQUET],
        extensions: &["parquet"],
        hints: &[],
        written_as: &[],
        has_parts: false,
        is_compressible: false,
        readings: &[],
    },
    FormatInfo {
        format: Format::Arrow,
        name: "arrow",
        signatures: &[ARROW, ARROW_STREAM],
        extensions: &["arrow", "feather", "arrows"],
        hints: &[],
        written_as: &[],
        has_parts: false,
        is_compressible: false,
        readings: &[],
    },
];

impl Format {
    /// The properties of the format.
    pub fn info(self) -> &'static FormatInfo {
        &FORMATS[self as usize]
    }

    /// The format with a name that a person gives.
    pub fn named(name: &str) -> Option<Self> {
        let found = FORMATS.iter().find(|info| info.name == name.trim());
        found.map(|info| info.format)
    }

    /// The format of an extension in lower case; delimited text where no other format has it.
    pub(crate) fn of_extension(extension: &str) -> Self {
        let found = FORMATS.iter().find(|info| info.extensions.contains(&extension));
        found.map_or(Self::Text, |info| info.format)
    }

    /// The format of a file, by its first bytes or, where these do not decide, by its extension.
    pub(crate) fn of(path: Option<&Path>, first: &[u8]) -> Self {
        let begins = |with: &[&[u8]]| with.iter().any(|begin| first.starts_with(begin));
        if let Some(info) = FORMATS.iter().find(|info| begins(info.signatures)) {
            return info.format;
        }
        let by_name = path.and_then(crate::address::extension).map(|one| Self::of_extension(&one));
        // Web pages and XML are saved under names of workbooks; what they are is said where they are opened.
        let is_markup = first.trim_ascii_start().first() == Some(&b'<');
        match by_name {
            Some(format @ (Self::Json | Self::JsonLines)) => format,
            Some(Self::Workbook) if is_markup => Self::Workbook,
            _ => {
                let hinted = FORMATS.iter().find(|info| begins(info.hints));
                hinted.map_or(Self::Text, |info| info.format)
            }
        }
    }
}

impl FormatInfo {
    /// Whether files with an extension of the format are written.
    pub(crate) fn is_written_as(&self, extension: &str) -> bool {
        self.written_as.is_empty() || self.written_as.contains(&extension)
    }
}

/// A person's description of how a table is to be read; anything else is detected.
#[derive(Debug, Clone, Default)]
pub struct Described {
    /// The format.
    pub format: Option<Format>,
    /// The byte between cells, in delimited text.
    pub delimiter: Option<u8>,
    /// The encoding of text.
    pub encoding: Option<Encoding>,
    /// The place of the headers.
    pub headers: HeaderRow,
    /// Whether rows with fewer cells than there are headers are padded, and surplus blank cells dropped.
    pub pads: bool,
    /// Whether numbers are written with a decimal comma.
    pub decimal_comma: bool,
    /// For a table of a database, the headers of the columns to order its rows by.
    pub order_by: Vec<String>,
    /// The headers of columns whose blank cells take the value above them.
    pub fill_down: Vec<String>,
    /// How many rows are left out at the end.
    pub skip_last: u64,
    /// The headers that are asked for: the row that holds them all is the header row, and the worksheet that does is
    /// the one that is read, unless others are named.
    pub asked: Vec<String>,
    /// In a worksheet, the headers of columns that are not read: those that an earlier run added, when they are
    /// written anew.
    pub without: Vec<String>,
}

impl Described {
    /// Asks for the headers of the columns that are filled, too.
    pub fn ask_for_filled(&mut self) {
        self.asked.extend(self.fill_down.iter().cloned());
    }

    /// The first statement that does not apply to a format.
    pub(crate) fn unfit(&self, format: Format) -> Option<Reading> {
        let said = [
            (self.delimiter.is_some(), Reading::Delimiter),
            (self.encoding.is_some(), Reading::Encoding),
            (self.pads, Reading::Ragged),
            (self.decimal_comma, Reading::DecimalComma),
            (!self.order_by.is_empty(), Reading::OrderBy),
            (self.headers == HeaderRow::Absent, Reading::NoHeader),
            (matches!(self.headers, HeaderRow::Line(_)), Reading::HeaderRow),
        ];
        let unfit = |(is_said, reading): &(bool, Reading)| {
            *is_said && !format.info().readings.contains(reading)
        };
        said.into_iter().find(unfit).map(|(_, reading)| reading)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every format has its row, and no two share a name, an extension or a signature.
    #[test]
    fn rows_are_complete_and_distinct() {
        for (nth, info) in FORMATS.iter().enumerate() {
            assert_eq!(info.format as usize, nth, "{}", info.name);
            assert_eq!(Format::named(info.name), Some(info.format));
            assert!(info.written_as.iter().all(|one| info.extensions.contains(one)));
            for extension in info.extensions {
                assert_eq!(Format::of_extension(extension), info.format, "{extension}");
            }
            for signature in info.signatures {
                let file = [*signature, b"more"].concat();
                assert_eq!(Format::of(None, &file), info.format, "{}", info.name);
            }
            let others = FORMATS.iter().filter(|other| other.format != info.format);
            assert!(others.clone().all(|other| other.name != info.name));
        }
    }
}
