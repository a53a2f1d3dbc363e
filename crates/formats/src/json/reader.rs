//! Reading JSON.
//!
//! A row is an object; fields of objects within it are columns called `a.b`, and arrays are kept as
//! their JSON. As any row may have fields that no other has, a file is read twice: first for its
//! headers, which stand in the order in which they come, and then for its rows. Lines are read one
//! by one; a document is read as a whole.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use gather_keys_core::table::{CellKind, Headers};
use serde_json::{Map, Value};

use crate::rows::{End, Hand, Streamed};
use crate::{Error, Result, unpacked};

/// The most bytes that a line may take.
const LONGEST_LINE: u64 = 256 << 20;

/// Whether a file is JSON, and if so whether it has a row on each line.
pub(crate) fn has_lines(path: Option<&Path>, first: &[u8]) -> Option<bool> {
    let plain = path.map(|path| match crate::Packing::of(path) {
        Some(_) => path.with_extension(""),
        None => path.to_owned(),
    });
    let ending = plain.as_deref().and_then(Path::extension).and_then(std::ffi::OsStr::to_str);
    match ending.map(str::to_ascii_lowercase).as_deref() {
        Some("jsonl" | "ndjson") => Some(true),
        Some("json") => Some(false),
        _ if first.starts_with(b"{\"") => Some(true),
        _ if first.starts_with(b"[{\"") || first.starts_with(b"[\n") => Some(false),
        _ => None,
    }
}

/// Begins to read the table called `name` from the file at `path`; of a document the array that a
/// JSON pointer leads to, or the whole.
///
/// # Errors
/// When it can't be read, is no JSON, or holds no rows.
pub(crate) fn open(
    name: &str,
    path: &Path,
    lines: bool,
    pointer: Option<&str>,
) -> Result<Streamed> {
    let file = Json { name: name.to_owned(), path: path.to_owned() };
    let pointer = pointer.unwrap_or_default().to_owned();
    Streamed::begin(name, move |hand| {
        if lines {
            return file.read_lines(hand);
        }
        let rows = file.document(&pointer)?;
        let mut columns = Columns::default();
        for (row, number) in rows.iter().zip(1..) {
            columns.add(file.object(row, number)?, "");
        }
        columns.tell(&file.name, hand)?;
        for (row, number) in rows.iter().zip(1..) {
            columns.give(file.object(row, number)?, hand)?;
        }
        Ok(())
    })
}

struct Json {
    name: String,
    path: PathBuf,
}

impl Json {
    fn text(&self) -> Result<Box<dyn Read + Send>> {
        let unreadable = |cause| Error::Read { name: self.name.clone(), cause };
        let file = File::open(&self.path).map_err(unreadable)?;
        Ok(unpacked(Box::new(file)).map_err(unreadable)?.0)
    }

    fn malformed(&self, said: String) -> Error {
        let mend = "correct it, or get it once more";
        Error::Unread { name: self.name.clone(), said, mend }
    }

    fn object<'v>(&self, row: &'v Value, number: u64) -> Result<&'v Map<String, Value>> {
        row.as_object().ok_or_else(|| Error::Unread {
            name: self.name.clone(),
            said: format!("row {number} is no object"),
            mend: "a row looks like {\"Hive\": \"H-001\", \"Kg\": 12.5}",
        })
    }

    /// Every line that is not blank, with its number.
    fn each_line(
        &self,
        mut take: impl FnMut(u64, &Map<String, Value>) -> std::result::Result<(), End>,
    ) -> std::result::Result<(), End> {
        let mut text = BufReader::new(self.text()?);
        let mut line = Vec::new();
        for number in 1.. {
            line.clear();
            let read = text.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut line);
            let unreadable = |cause| Error::Read { name: self.name.clone(), cause };
            if read.map_err(unreadable)? == 0 {
                break;
            }
            if line.len() as u64 == LONGEST_LINE {
                let cause = io::Error::other(format!("line {number} is longer than 256 MiB"));
                return Err(unreadable(cause).into());
            }
            let line = line.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&line);
            if line.iter().all(u8::is_ascii_whitespace) {
                continue;
            }
            let row: Value = serde_json::from_slice(line).map_err(|error| {
                // The place in its line is told with it.
                let told = error.to_string().replacen("at line 1 column", "at byte", 1);
                self.malformed(format!("line {number}: {told}"))
            })?;
            take(number, self.object(&row, number)?)?;
        }
        Ok(())
    }

    fn read_lines(&self, hand: &mut Hand) -> std::result::Result<(), End> {
        let mut columns = Columns::default();
        self.each_line(|_, row| {
            columns.add(row, "");
            Ok(())
        })?;
        columns.tell(&self.name, hand)?;
        self.each_line(|_, row| columns.give(row, hand))
    }

    /// The rows of a document.
    fn document(&self, pointer: &str) -> Result<Vec<Value>> {
        let mut document: Value = serde_json::from_reader(BufReader::new(self.text()?))
            .map_err(|error| self.malformed(error.to_string()))?;
        match document.pointer_mut(pointer) {
            Some(Value::Array(rows)) => Ok(std::mem::take(rows)),
            _ => {
                let arrays = arrays(&document, String::new());
                Err(Error::NoPart {
                    name: self.name.clone(),
                    what: "array of rows",
                    asked: pointer.to_owned(),
                    all: arrays,
                })
            }
        }
    }
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

/// The columns that rows have, in the order in which they come.
#[derive(Default)]
struct Columns {
    names: Vec<String>,
    places: HashMap<String, usize>,
    /// The cells of the row at hand.
    cells: Vec<(String, CellKind)>,
}

impl Columns {
    /// Notes the fields of a row.
    fn add(&mut self, row: &Map<String, Value>, within: &str) {
        for (name, value) in row {
            let name = format!("{within}{name}");
            match value {
                Value::Object(fields) if !fields.is_empty() => {
                    self.add(fields, &format!("{name}."));
                }
                _ if self.places.contains_key(&name) => {}
                _ => {
                    self.places.insert(name.clone(), self.names.len());
                    self.names.push(name);
                }
            }
        }
    }

    fn tell(&mut self, table: &str, hand: &mut Hand) -> std::result::Result<(), End> {
        if self.names.is_empty() {
            return Err(Error::Empty { name: table.to_owned() }.into());
        }
        self.cells = vec![(String::new(), CellKind::Unsaid); self.names.len()];
        hand.headers(Headers::new(table, self.names.iter().cloned()))
    }

    /// Hands over the cells of a row.
    fn give(&mut self, row: &Map<String, Value>, hand: &mut Hand) -> std::result::Result<(), End> {
        self.cells.iter_mut().for_each(|(cell, _)| cell.clear());
        self.fill(row, "");
        self.cells.iter().for_each(|(cell, kind)| hand.cell(cell, *kind));
        hand.end_row()
    }

    fn fill(&mut self, row: &Map<String, Value>, within: &str) {
        for (name, value) in row {
            let name = format!("{within}{name}");
            if let Value::Object(fields) = value
                && !fields.is_empty()
            {
                self.fill(fields, &format!("{name}."));
            } else if let Some(&place) = self.places.get(&name) {
                self.cells[place] = (text(value), kind(value));
            }
        }
    }
}

fn kind(value: &Value) -> CellKind {
    match value {
        Value::Null => CellKind::Unsaid,
        Value::Bool(_) => CellKind::Truth,
        Value::Number(_) => CellKind::Number,
        Value::String(_) | Value::Array(_) | Value::Object(_) => CellKind::Text,
    }
}

/// The canonical text of a value.
fn text(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::Bool(is) => is.to_string(),
        Value::Number(number) => decimal(&number.to_string()),
        Value::String(text) => text.clone(),
        Value::Array(_) | Value::Object(_) => value.to_string(),
    }
}

/// A number as it is written in JSON as its shortest exact decimal: `42.0` is `42`, and `1e-7` is
/// `0.0000001`. One of a size that no table holds stays as it is.
fn decimal(written: &str) -> String {
    let (sign, number) = match written.strip_prefix('-') {
        Some(number) => ("-", number),
        None => ("", written),
    };
    let (mantissa, exponent) = number.split_once(['e', 'E']).unwrap_or((number, "0"));
    let Some(exponent) = exponent.parse::<i16>().ok().filter(|by| by.unsigned_abs() <= 400) else {
        return written.to_owned();
    };
    let (whole, part) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let (mut digits, by) = (format!("{whole}{part}"), usize::from(exponent.unsigned_abs()));
    let point = if exponent >= 0 {
        let point = whole.len() + by;
        digits.push_str(&"0".repeat(point.saturating_sub(digits.len())));
        point
    } else {
        digits.insert_str(0, &"0".repeat(by.saturating_sub(whole.len())));
        whole.len().saturating_sub(by)
    };
    let (whole, part) = digits.split_at(point);
    let (whole, part) = (whole.trim_start_matches('0'), part.trim_end_matches('0'));
    let whole = if whole.is_empty() { "0" } else { whole };
    match (whole, part) {
        ("0", "") => "0".to_owned(),
        (whole, "") => format!("{sign}{whole}"),
        (whole, part) => format!("{sign}{whole}.{part}"),
    }
}

#[cfg(test)]
mod tests {
    use super::decimal;

    #[test]
    fn numbers_have_one_text() {
        for (written, want) in [
            ("42", "42"),
            ("42.0", "42"),
            ("-0.0", "0"),
            ("1e-7", "0.0000001"),
            ("1.50E+2", "150"),
            ("-12.340", "-12.34"),
            ("12345678901234567", "12345678901234567"),
            ("123456789012345678901234567890.5", "123456789012345678901234567890.5"),
            ("0.1", "0.1"),
            ("1e999", "1e999"),
            ("1.5e-3", "0.0015"),
        ] {
            assert_eq!(decimal(written), want, "{written}");
        }
    }
}
