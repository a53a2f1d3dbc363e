//! Reading a JSON document: an array of rows, which is the whole of it or the part that a pointer leads
//! to. It is read as a whole.

use std::collections::HashMap;
use std::io::Read;

use gather_keys_core::table::Block;
use serde_json::Value;
use serde_json::value::RawValue;

use super::columns::{Columns, RowCells};
use crate::rows::{AT_ONCE, Streamed};
use crate::{Error, InputFile, Result, unpacked};

/// How many bytes a packed document may unpack to in any case, and how many times its own size. It is in memory as a
/// whole, and what people write packs to a tenth.
const MOST_UNPACKED: u64 = 64 << 20;
const MOST_TIMES: u64 = 50;

/// Begins to read the table called `name` from a document: the array that a JSON pointer
/// leads to, or the whole.
///
/// # Errors
/// When it can't be read, is no JSON, or holds no rows.
pub(crate) fn open(name: &str, file: &InputFile, pointer: Option<&str>) -> Result<Streamed> {
    let document = Document { name: name.to_owned() };
    let (file, pointer) = (file.clone(), pointer.unwrap_or_default().to_owned());
    Streamed::begin(name, move |hand| {
        let text = document.text(&file)?;
        let rows = document.rows(&text, &pointer)?;
        let mut columns = Columns::default();
        for (row, number) in rows.iter().zip(1..) {
            let row = document.object(row, number)?;
            columns.add(row).map_err(|error| document.bad_row(number, &error))?;
        }
        let headers = columns.headers(&document.name)?;
        let all = headers.len();
        hand.headers(headers)?;
        let mut cells = RowCells::of(&(0..all).collect::<Vec<_>>(), all);
        for (nth, rows) in rows.chunks(AT_ONCE).enumerate() {
            let mut block = Block::default();
            cells.begin(&mut block);
            for (row, number) in rows.iter().zip(nth * AT_ONCE + 1..) {
                let added = cells.add(&columns, row.get(), &mut block);
                added.map_err(|error| document.bad_row(number, &error))?;
            }
            hand.block(block)?;
        }
        Ok(())
    })
}

struct Document {
    name: String,
}

impl Document {
    fn text(&self, file: &InputFile) -> Result<String> {
        let unreadable = |cause| Error::Read { name: self.name.clone(), cause };
        let (input, packing) = unpacked(Box::new(file.reader())).map_err(unreadable)?;
        let most = match packing {
            Some(_) => file.stamp().bytes().saturating_mul(MOST_TIMES).max(MOST_UNPACKED),
            None => u64::MAX - 1,
        };
        let mut text = String::new();
        input.take(most + 1).read_to_string(&mut text).map_err(unreadable)?;
        if text.len() as u64 > most {
            let said = format!("it unpacks to more than {} MiB", most >> 20);
            let fix = "unpack it first, or write a row on each line (JSON lines)";
            return Err(Error::Unread { name: self.name.clone(), said, fix });
        }
        Ok(text)
    }

    /// The rows of the array that a pointer leads to.
    fn rows<'t>(&self, text: &'t str, pointer: &str) -> Result<Vec<&'t RawValue>> {
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let rows = array_at(text, pointer).map_err(|error| self.malformed(error.to_string()))?;
        rows.ok_or_else(|| Error::NoPart {
            name: self.name.clone(),
            what: "array of rows",
            asked: pointer.to_owned(),
            all: serde_json::from_str(text)
                .map(|document| arrays(&document, String::new()))
                .unwrap_or_default(),
        })
    }

    fn malformed(&self, said: String) -> Error {
        let fix = "correct it, or get it again";
        Error::Unread { name: self.name.clone(), said, fix }
    }

    fn bad_row(&self, number: usize, error: &serde_json::Error) -> Error {
        self.malformed(format!("row {number}: {error}"))
    }

    fn object<'t>(&self, row: &'t RawValue, number: usize) -> Result<&'t str> {
        Some(row.get()).filter(|row| row.starts_with('{')).ok_or_else(|| Error::Unread {
            name: self.name.clone(),
            said: format!("row {number} is not an object"),
            fix: "a row looks like {\"Hive\": \"H-001\", \"Kg\": 12.5}",
        })
    }
}

/// The array that a pointer leads to, if it leads to one.
fn array_at<'t>(
    text: &'t str,
    pointer: &str,
) -> std::result::Result<Option<Vec<&'t RawValue>>, serde_json::Error> {
    let mut at: &RawValue = serde_json::from_str(text)?;
    for step in pointer.split('/').skip(1) {
        let step = step.replace("~1", "/").replace("~0", "~");
        let next = if at.get().starts_with('{') {
            serde_json::from_str::<HashMap<String, &RawValue>>(at.get())?.remove(&step)
        } else if at.get().starts_with('[') {
            let nth = step.parse::<usize>().ok();
            let all = serde_json::from_str::<Vec<&RawValue>>(at.get())?;
            nth.and_then(|nth| all.get(nth).copied())
        } else {
            None
        };
        let Some(next) = next else { return Ok(None) };
        at = next;
    }
    let is_array = at.get().starts_with('[') && (pointer.is_empty() || pointer.starts_with('/'));
    is_array.then(|| serde_json::from_str(at.get())).transpose()
}

/// The pointers of arrays near the top of a document.
fn arrays(value: &Value, at: String) -> Vec<String> {
    match value {
        Value::Array(_) => vec![at],
        Value::Object(fields) if at.matches('/').count() < 3 => {
            let below = fields.iter().flat_map(|(name, value)| {
                let name = name.replace('~', "~0").replace('/', "~1");
                arrays(value, format!("{at}/{name}"))
            });
            below.take(12).collect()
        }
        _ => Vec::new(),
    }
}
