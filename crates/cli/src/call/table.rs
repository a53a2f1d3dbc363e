//! A table as the call names it: its address, and how its file is to be read.

use std::ffi::OsStr;

use gather_keys_core::plan::parse_headers;
use gather_keys_formats::delimited::{Dialect, HeaderRow};
use gather_keys_formats::{Address, Described, FORMATS, Format};

use super::encoding;
use crate::arguments::Form;
use crate::error::{Error, Result};
use crate::wording::joined;

/// The delimiter that a person named.
pub(super) fn delimiter(value: &str) -> Result<u8> {
    let none = || Error::BadDelimiter { value: value.to_owned() };
    Dialect::delimiter_of(value).ok_or_else(none)
}

/// A table to be read.
#[derive(Debug, Clone)]
pub(crate) struct Table {
    pub(crate) address: Address,
    /// Files of the same headers that are read as one table with it.
    pub(crate) others: Vec<Address>,
    /// Its name in messages when there are several.
    pub(crate) together: String,
    /// How to read it, as far as that was said.
    pub(crate) described: Described,
    /// The texts that count as blank in its keys.
    pub(crate) blanks: Vec<String>,
    /// For a reference, the file of aliases.
    pub(crate) aliases: Option<Address>,
}

impl Table {
    /// The table at an address, with nothing said of how to read it.
    pub(crate) fn new(address: &OsStr) -> Self {
        let address = Address::new(address);
        let together = address.to_string();
        let described = Described::default();
        let (others, blanks) = (Vec::new(), Vec::new());
        Self { address, others, together, described, blanks, aliases: None }
    }

    /// The table at an address, to be read as was said.
    pub(crate) fn formed(address: &OsStr, form: &Form) -> Result<Self> {
        let mut table = Self::new(address);
        form.delimiter.as_deref().map_or(Ok(()), |value| table.set_delimiter(value))?;
        form.encoding.as_deref().map_or(Ok(()), |value| table.set_encoding(value))?;
        form.ragged.as_deref().map_or(Ok(()), |value| table.set_ragged(value))?;
        table.set_headers(form.header_row, form.no_header)?;
        if let Some(columns) = &form.fill_down {
            table.described.fill_down = parse_headers("fill-down", columns)?;
        }
        table.described.skip_last = form.skip_last;
        table.described.decimal_comma = form.decimal_comma;
        Ok(table)
    }

    /// The tables that are like an address, as one.
    pub(crate) fn all(text: &OsStr) -> Result<Self> {
        let mut addresses = Address::all(text)?.into_iter();
        let mut table = Self::new(text);
        if let Some(first) = addresses.next() {
            table.address = first;
        }
        table.others = addresses.collect();
        Ok(table)
    }

    /// Every file that it is read from.
    pub(crate) fn addresses(&self) -> impl Iterator<Item = &Address> {
        [&self.address].into_iter().chain(&self.others)
    }

    /// Sets the format that a person named.
    pub(crate) fn set_format(&mut self, value: &str) -> Result<()> {
        let format = Format::named(value).ok_or_else(|| Error::NotOneOf {
            key: "format",
            value: value.to_owned(),
            all: joined(&FORMATS.iter().map(|info| info.name.to_owned()).collect::<Vec<_>>(), "or"),
        })?;
        self.described.format = Some(format);
        Ok(())
    }

    /// Sets the delimiter that a person named.
    pub(crate) fn set_delimiter(&mut self, value: &str) -> Result<()> {
        self.described.delimiter = Some(delimiter(value)?);
        Ok(())
    }

    /// Sets the encoding that a person named.
    pub(crate) fn set_encoding(&mut self, value: &str) -> Result<()> {
        self.described.encoding = Some(encoding(value)?);
        Ok(())
    }

    /// Sets where the headers are, as a person said it.
    pub(crate) fn set_headers(&mut self, line: Option<u64>, absent: bool) -> Result<()> {
        self.described.headers = match (line, absent) {
            (Some(_), true) => return Err(Error::HeaderRowTwice { table: self.together.clone() }),
            (Some(line), false) => HeaderRow::Line(line),
            (None, true) => HeaderRow::Absent,
            (None, false) => HeaderRow::Found,
        };
        Ok(())
    }

    /// Sets what becomes of rows of another number of cells than there are headers.
    pub(crate) fn set_ragged(&mut self, value: &str) -> Result<()> {
        self.described.pads = match value.trim() {
            "refuse" => false,
            "pad" => true,
            _ => {
                let value = value.to_owned();
                return Err(Error::NotOneOf {
                    key: "ragged",
                    value,
                    all: "refuse or pad".to_owned(),
                });
            }
        };
        Ok(())
    }
}
