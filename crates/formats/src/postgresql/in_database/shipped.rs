//! Tables from elsewhere, copied to the server for the time of a run.
//!
//! The rows go into a temporary table as texts first. A column whose texts are all spelled as values of one type are spelled
//! then becomes of that type, so that no text is another than before.

use gather_keys_core::sql::{StoredColumn, StoredTable, ValueType};
use gather_keys_core::table::{Block, Headers, Source};
use gather_keys_core::value::Point;

use super::{InDatabase, push_copied};
use crate::{Error, Result};

/// How many bytes are copied at a time.
const PIECE: usize = 1 << 20;

/// The types that all texts of a column may be of: one that is spelled otherwise than values of the type are excludes it.
#[derive(Debug, Clone)]
struct Candidates {
    has_value: bool,
    left: Vec<Candidate>,
}

/// A type, and whether a text is spelled as its values are.
type Candidate = (ValueType, &'static str, fn(&str) -> bool);

/// The types, the narrowest first.
const TYPES: [Candidate; 4] = [
    (ValueType::Integer, "bigint", is_integer),
    (ValueType::Decimal, "numeric", is_decimal),
    (ValueType::Truth, "boolean", is_truth),
    (ValueType::Day, "date", is_day),
];

impl Candidates {
    fn new() -> Self {
        Self { has_value: false, left: TYPES.to_vec() }
    }

    fn take(&mut self, text: &str) {
        if !text.is_empty() {
            self.has_value = true;
            self.left.retain(|(.., is_spelled)| is_spelled(text));
        }
    }

    fn kind(&self) -> (ValueType, &'static str) {
        match self.left.first() {
            Some((value, declared, _)) if self.has_value => (*value, declared),
            _ => (ValueType::Text { bytewise: true }, "text"),
        }
    }
}

/// Whether a text is true or false.
fn is_truth(text: &str) -> bool {
    matches!(text, "true" | "false")
}

/// Whether a text is a day of a year of four digits.
fn is_day(text: &str) -> bool {
    let is_iso = text.len() == 10 && text.as_bytes()[4] == b'-' && text.as_bytes()[7] == b'-';
    is_iso && !text.starts_with('0') && Point::of(text).is_some()
}

/// Whether a text is a whole number as a server writes it.
fn is_integer(text: &str) -> bool {
    text.parse::<i64>().is_ok_and(|number| number.to_string() == text)
}

/// Whether a text is a decimal number as its canonical text is.
fn is_decimal(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, "1"));
    let is_digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    is_digits(whole)
        && is_digits(fraction)
        && (whole == "0" || !whole.starts_with('0'))
        && !fraction.ends_with('0')
        && text != "-0"
        && text.len() < 100
}

impl InDatabase {
    /// Copies tables with the same columns to the server, one after the other as one, if they have no more than `most` bytes.
    ///
    /// # Errors
    /// Those of the tables, [`Error::TooLargeToShip`], and [`Error::Server`] when the server refuses or is gone.
    pub fn ship<S: Source<Error = Error>>(
        &mut self,
        nth: usize,
        headers: &Headers,
        tables: impl IntoIterator<Item = S>,
        most: u64,
    ) -> Result<StoredTable> {
        let name = format!("shipped_{nth}");
        let columns = headers.len();
        let texts: Vec<String> = (1..=columns).map(|column| format!("v{column} text")).collect();
        let about = format!("A copy of {}.", headers.table());
        let create =
            format!("create temp table {name}_texts (row bigserial, {})", texts.join(", "));
        self.show_statement(&about, &create)?;
        self.execute(&create)?;
        let names: Vec<String> = (1..=columns).map(|column| format!("v{column}")).collect();
        let copy = format!("copy pg_temp.{name}_texts ({}) from stdin", names.join(", "));
        self.show_text(&format!("{copy};\n"))?;
        let (mut text, mut sent) = (Vec::new(), 0);
        let mut candidates = vec![Candidates::new(); columns];
        let mut block = Block::default();
        let too_large = || Error::TooLargeToShip { name: headers.table().to_owned(), most };
        for mut table in tables {
            table.want(&(0..columns).collect::<Vec<_>>());
            while table.read_block(&mut block)? {
                for row in 0..block.rows() {
                    for (column, candidates) in candidates.iter_mut().enumerate() {
                        let cell = block.cell(row, column);
                        if cell.contains('\0') {
                            return Err(self.no_nul(headers.table()));
                        }
                        candidates.take(cell);
                        push_copied((column > 0).then_some(b'\t'), Some(cell), &mut text);
                    }
                    text.push(b'\n');
                }
                if text.len() >= PIECE {
                    sent += text.len() as u64;
                    if sent > most {
                        return Err(too_large());
                    }
                    self.show_bytes(&text)?;
                    self.copy_in(&copy, &text)?;
                    text.clear();
                }
            }
        }
        if sent + text.len() as u64 > most {
            return Err(too_large());
        }
        self.show_bytes(&text)?;
        self.copy_in(&copy, &text)?;
        self.show_text("\\.\n\n")?;
        let kinds: Vec<(ValueType, &str)> = candidates.iter().map(Candidates::kind).collect();
        let values = kinds.iter().enumerate().map(|(nth, (_, declared))| match *declared {
            "text" => format!("v{0}", nth + 1),
            declared => format!("nullif(v{0}, '')::{declared} as v{0}", nth + 1),
        });
        let typed = format!(
            "create temp table {name} as select {} from pg_temp.{name}_texts order by row",
            values.collect::<Vec<_>>().join(", ")
        );
        for (about, sql) in [
            ("The same with the types that its texts are spelled as.", typed),
            ("The texts are not needed any more.", format!("drop table pg_temp.{name}_texts")),
            ("Statistics of it.", format!("analyze pg_temp.{name}")),
        ] {
            self.show_statement(about, &sql)?;
            self.execute(&sql)?;
        }
        let columns = names.into_iter().zip(kinds).map(|(name, (value, declared))| StoredColumn {
            name,
            value,
            declared: declared.to_owned(),
        });
        Ok(StoredTable {
            name: format!("pg_temp.{name}"),
            headers: headers.clone(),
            columns: columns.collect(),
            key: Vec::new(),
            order_by: Vec::new(),
            unique: Vec::new(),
            place: &[],
            parts: Vec::new(),
        })
    }
}

impl InDatabase {
    /// The error of a table with a character that no server holds.
    fn no_nul(&self, table: &str) -> Error {
        Error::Server {
            name: self.name.clone(),
            said: format!("{table} has a NUL character, which a server can't hold"),
            fix: "remove it, or let the tables be read here",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_type_changes_no_text() {
        for (texts, want) in [
            (&["1", "-20", ""][..], "bigint"),
            (&["1", "007"], "text"),
            (&["1", "2.5"], "numeric"),
            (&["1.50"], "text"),
            (&["-0"], "text"),
            (&["99999999999999999999"], "numeric"),
            (&["true", "false"], "boolean"),
            (&["2026-05-01", ""], "date"),
            (&["2026-05-01", "2026-02-30"], "text"),
            (&["2026-05-1"], "text"),
            (&["", ""], "text"),
            (&["1e5"], "text"),
            (&[".5", "5."], "text"),
            (&["H-1"], "text"),
        ] {
            let mut candidates = Candidates::new();
            for text in texts {
                candidates.take(text);
            }
            assert_eq!(candidates.kind().1, want, "{texts:?}");
        }
    }
}
