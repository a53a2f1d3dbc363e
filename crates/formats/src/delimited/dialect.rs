//! The ways in which delimited text is written.

use gather_keys_core::table::{Headers, RawForm, RawRowForm};

use super::Encoding;
use super::byte_classifier::QUOTE;

/// How a file separates its cells and lines.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dialect {
    /// The byte between cells; ASCII.
    pub delimiter: u8,
    /// Whether the file begins with a byte-order mark.
    pub byte_order_mark: bool,
    /// The encoding of its text.
    pub encoding: Encoding,
}

/// The form of the main table, in which the output is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    /// The dialect.
    pub dialect: Dialect,
    /// Whether cells from other tables that a spreadsheet would run as a formula get an apostrophe before them.
    pub guards_formulas: bool,
    /// Whether numbers from other tables are written with a decimal comma.
    pub decimal_comma: bool,
    /// Whether rows are written anew, since their own bytes are of another form.
    pub rewrites_rows: bool,
    /// The bytes before the header row, such as the lines of a title. They belong to the file only.
    pub preamble: Vec<u8>,
    /// The header row's own bytes, without its line end; `None` when the file has none.
    pub header_row: Option<Vec<u8>>,
    /// The header row's line end; empty when the file ends with it.
    pub line_end: Vec<u8>,
}

impl Dialect {
    /// How added cells are written in it.
    pub fn raw_form(self) -> Option<RawForm> {
        RawForm::new(self.delimiter, [self.delimiter, QUOTE, b'\r', b'\n'])
    }

    /// How cells are in rows that are written in it.
    pub(super) fn raw_row_form(self) -> Option<RawRowForm> {
        self.raw_form().map(|raw_form| RawRowForm { raw_form, quote: QUOTE })
    }
}

impl Layout {
    /// How added cells are written in it, where they can be written as they are.
    pub fn raw_form(&self) -> Option<RawForm> {
        let changes = self.guards_formulas || self.decimal_comma || self.rewrites_rows;
        self.dialect.raw_form().filter(|_| !changes)
    }

    /// The form with another delimiter, or with other decimal marks: rows are written anew then.
    pub fn with(&mut self, headers: &Headers, delimiter: Option<u8>, decimal_comma: bool) {
        let delimiter = delimiter.unwrap_or(self.dialect.delimiter);
        if delimiter == self.dialect.delimiter && decimal_comma == self.decimal_comma {
            return;
        }
        (self.dialect.delimiter, self.decimal_comma) = (delimiter, decimal_comma);
        self.rewrites_rows = true;
        if self.header_row.is_some() {
            self.header_row = Some(super::writer::joined(headers.iter(), delimiter));
        }
    }

    /// The form of a table that is no delimited text: commas, and UTF-8.
    pub fn usual(headers: &Headers) -> Self {
        let dialect =
            Dialect { delimiter: b',', byte_order_mark: false, encoding: Encoding::UTF_8 };
        let header_row = super::writer::joined(headers.iter(), dialect.delimiter);
        let line_end = b"\n".to_vec();
        let guards_formulas = false;
        Self {
            dialect,
            guards_formulas,
            decimal_comma: false,
            rewrites_rows: false,
            preamble: Vec::new(),
            header_row: Some(header_row),
            line_end,
        }
    }
}

impl Dialect {
    /// The delimiter in words.
    pub fn delimiter_name(self) -> String {
        match self.delimiter {
            b',' => "comma".to_owned(),
            b';' => "semicolon".to_owned(),
            b'\t' => "tab".to_owned(),
            b'|' => "bar".to_owned(),
            other => format!("`{}`", char::from(other)),
        }
    }

    /// The delimiter that a person names: a word of [`Dialect::delimiter_name`], or the character itself.
    /// `None` when it is neither, or can't be a delimiter.
    pub fn delimiter_of(text: &str) -> Option<u8> {
        match text {
            "comma" => Some(b','),
            "semicolon" => Some(b';'),
            "tab" => Some(b'\t'),
            "bar" => Some(b'|'),
            _ => match text.as_bytes() {
                [sign] if sign.is_ascii() && !b"\"\r\n\0".contains(sign) => Some(*sign),
                _ => None,
            },
        }
    }
}
