//! Receipts: what one run read and wrote, so that the next one can tell what has moved.
//!
//! A receipt holds of each table its size, digest, rows and headers, the counts of every reference,
//! and marks of keys and rows by which new ones and changed ones are noticed. It stays small
//! however large the tables are, and two runs of one plan on the same tables make the same receipt.

mod key_marks;
mod moved;
mod row_marks;

pub(crate) use key_marks::MARK_BYTES;
pub use key_marks::{KeyMarks, KeysSeen, MARKS};
pub use moved::{Moved, NewKeys, moved};
pub use row_marks::{RowMarker, RowMarks};

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::findings::{Counts, Kind};
use crate::lookup::Reference;
use crate::{Error, Result};

/// The form of receipts that is written and read.
const FORM: u32 = 1;

/// A record of one run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Receipt {
    /// The form of this file.
    pub receipt: u32,
    /// The version of the program.
    pub gather_keys: String,
    /// The digest of what was asked for: the plan's text.
    pub plan: String,
    /// The tables that were read, the main table first.
    pub inputs: Vec<Input>,
    /// The table that was written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub output: Option<Output>,
    /// Files that were written next to it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lists: Vec<File>,
    /// The records of each reference.
    pub references: Vec<Found>,
}

/// A file as it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct File {
    /// Its path, relative to the receipt; `-` for a standard stream.
    pub path: String,
    /// Its size.
    pub bytes: u64,
    /// Its digest in hexadecimal, after `sha256:` for bytes and after `rows:` for the rows of a table in a database.
    pub digest: String,
}

/// A table that was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Input {
    /// Its role: `main`, `corrections`, or the name of a reference.
    pub role: String,
    /// The file.
    #[serde(flatten)]
    pub file: File,
    /// When it was last written to, where that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub modified: Option<String>,
    /// How many rows it has.
    pub rows: u64,
    /// Its headers.
    pub headers: Vec<String>,
}

/// The table that was written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Output {
    /// The file.
    #[serde(flatten)]
    pub file: File,
    /// How many rows it has.
    pub rows: u64,
    /// Its headers.
    pub headers: Vec<String>,
    /// The headers that were added to a table that was written into: the next run writes these columns anew.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub added: Vec<String>,
    /// The headers of the columns that the marks of rows are of, where these are not all: keys, and what was written.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub marked: Vec<String>,
    /// Marks of its rows; none where it went to a standard stream.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub row_marks: Option<RowMarks>,
}

/// The record of a reference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Found {
    /// Its name.
    pub name: String,
    /// The columns that are read of it, next to its key, in order: those that runs, globs and `*`
    /// brought.
    #[serde(default)]
    pub columns: Vec<String>,
    /// How often each kind of finding occurred.
    pub counts: BTreeMap<String, u64>,
    /// Marks of the keys that no reference row holds.
    pub unmatched: KeyMarks,
    /// Marks of the keys that several reference rows hold.
    pub duplicate: KeyMarks,
}

impl Receipt {
    /// An empty receipt of a run of this version of the program, of a plan with this text.
    pub fn new(version: &str, plan: &str) -> Self {
        Self {
            receipt: FORM,
            gather_keys: version.to_owned(),
            plan: digest(plan.as_bytes()),
            inputs: Vec::new(),
            output: None,
            lists: Vec::new(),
            references: Vec::new(),
        }
    }

    /// Reads the receipt called `name` in messages.
    ///
    /// # Errors
    /// [`Error::ReceiptUnread`] when it is none, or of another form.
    pub fn read(name: &str, text: &str) -> Result<Self> {
        let unread = |said: String| Error::ReceiptUnread { receipt: name.to_owned(), said };
        let receipt: Self =
            serde_json::from_str(text).map_err(|error| unread(error.to_string()))?;
        match receipt.receipt {
            FORM => Ok(receipt),
            other => Err(unread(format!("it has the form {other}, and this program knows {FORM}"))),
        }
    }

    /// The receipt as JSON.
    pub fn write(&self) -> String {
        // Nothing in a receipt is without a form in JSON.
        serde_json::to_string_pretty(self).unwrap_or_default() + "\n"
    }
}

impl Output {
    /// The headers of the columns that the marks of rows are of.
    pub fn marked_headers(&self) -> &[String] {
        if self.marked.is_empty() { &self.headers } else { &self.marked }
    }
}

impl Found {
    /// The columns taken and the counts of the reference called `name`, and the marks of its keys.
    pub fn new(
        name: &str,
        columns: Vec<String>,
        counts: &Counts,
        unmatched: KeyMarks,
        duplicate: KeyMarks,
    ) -> Self {
        let counts = Kind::ALL.iter().map(|&kind| (kind.label().to_owned(), counts.of(kind)));
        let name = name.to_owned();
        Self { name, columns, counts: counts.collect(), unmatched, duplicate }
    }
}

/// The headers of the columns that a reference is looked in and that are taken of it, in order.
pub fn columns_of(reference: &Reference) -> Vec<String> {
    let headers = reference.headers();
    let columns = reference.searched().iter().chain(reference.taken());
    columns.map(|&column| headers.address(column)).collect()
}

/// A digest as it is in a receipt.
///
/// ```
/// assert!(gather_keys_core::receipt::digest(b"honey").starts_with("sha256:"));
/// ```
pub fn digest(bytes: &[u8]) -> String {
    digest_text(&Sha256::digest(bytes))
}

/// The text of a finished digest.
pub fn digest_text(digest: &[u8]) -> String {
    "sha256:".to_owned() + &hexadecimal(digest)
}

fn hexadecimal(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    let digits = bytes.iter().flat_map(|byte| [byte >> 4, byte & 15]);
    digits.map(|digit| char::from(DIGITS[usize::from(digit)])).collect()
}
