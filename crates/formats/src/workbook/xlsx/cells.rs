//! The rows and cells in a piece of a worksheet's text.
//!
//! [`Rows`] goes through a piece that begins and ends where a row does, and returns what each cell says: its
//! column, its style, and its value as a slice of the text.

use super::markup::{Malformed, Markup, TagEnd};
use crate::workbook::size::{self, MOST_COLUMNS, MOST_ROWS};

/// A fault in the text of a worksheet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum CellFault {
    /// It is no XML.
    Malformed,
    /// A row is on an earlier line than the one before it.
    RowOrder,
    /// A cell is in an earlier column than the one before it, or in another row than it says.
    CellOrder,
    TooManyRows,
    TooManyColumns,
    /// A cell is of a type that there is not.
    UnknownType,
    /// A cell refers to a shared text that is not there.
    NoSharedText,
    /// A value that is neither true nor false.
    NotTruth,
    /// A row has too much text.
    LongRow,
    /// A piece has more text than any sound one.
    Swollen,
}

impl From<Malformed> for CellFault {
    fn from(_: Malformed) -> Self {
        Self::Malformed
    }
}

/// A cell.
#[derive(Debug, Clone, Copy)]
pub(super) struct Cell<'t> {
    /// Its column, from 0.
    pub(super) column: usize,
    /// The number of its style.
    pub(super) style: usize,
    pub(super) value: Value<'t>,
    /// Its formula, as it is written, if it has one.
    pub(super) formula: Option<&'t [u8]>,
    /// Whether it holds a formula whose value is not stored.
    pub(super) is_uncalculated: bool,
}

/// The value of a cell, as its text in the file.
#[derive(Debug, Clone, Copy)]
pub(super) enum Value<'t> {
    Blank,
    /// A number, which a style may show as a date.
    Number(&'t [u8]),
    /// The number of a text that cells share.
    Shared(&'t [u8]),
    /// A text, with entities.
    Text(&'t [u8]),
    /// The content of an element that holds a text.
    Inline(Markup<'t>),
    Truth(&'t [u8]),
    Error,
    /// A date in ISO 8601.
    Date(&'t [u8]),
}

/// What a cell says its value is.
#[derive(Debug, Clone, Copy)]
enum Type {
    /// A number, or anything else that cells without a type hold.
    Number,
    Shared,
    Text,
    Inline,
    Truth,
    Error,
    Date,
}

/// Goes through the rows of a piece.
#[derive(Debug)]
pub(super) struct Rows<'t> {
    markup: Markup<'t>,
    /// The line of the row, or of the one before the piece.
    line: u64,
    /// The column that the next cell is in at the earliest.
    column: usize,
    /// Whether the row's end is still ahead.
    is_within: bool,
}

impl<'t> Rows<'t> {
    /// The rows of a piece, of which all are after a line.
    pub(super) fn new(text: &'t [u8], before: u64) -> Self {
        Self { markup: Markup::new(text), line: before, column: 0, is_within: false }
    }

    /// Moves to the next row, and returns its line; `None` when there is none left.
    pub(super) fn next_row(&mut self) -> Result<Option<u64>, CellFault> {
        if self.is_within {
            while self.next_cell()?.is_some() {}
        }
        loop {
            let Some(tag) = self.markup.tag()? else { return Ok(None) };
            match tag.name {
                b"row" if !tag.is_end => {}
                // Cells are in rows, and nothing ends here that did not begin here.
                b"c" => return Err(CellFault::Malformed),
                _ if tag.is_end => return Err(CellFault::Malformed),
                _ => {
                    self.markup.skip_element(tag.name)?;
                    continue;
                }
            }
            let mut line = None;
            let end = loop {
                match self.markup.attribute()? {
                    Ok((b"r", value)) => line = Some(number(value).ok_or(Malformed)?),
                    Ok(_) => {}
                    Err(end) => break end,
                }
            };
            let line = match line {
                Some(line) => line,
                None => self.line_of_first_cell(end)?.unwrap_or(self.line + 1),
            };
            if line <= self.line {
                return Err(CellFault::RowOrder);
            }
            if line > MOST_ROWS {
                return Err(CellFault::TooManyRows);
            }
            (self.line, self.column, self.is_within) = (line, 0, end == TagEnd::Open);
            return Ok(Some(line));
        }
    }

    /// The line that the first cell of a row says, where the row says none.
    fn line_of_first_cell(&self, end: TagEnd) -> Result<Option<u64>, CellFault> {
        let mut ahead = self.markup;
        let tag = if end == TagEnd::Open { ahead.tag()? } else { None };
        if tag.is_none_or(|tag| tag.name != b"c" || tag.is_end) {
            return Ok(None);
        }
        loop {
            match ahead.attribute()? {
                Ok((b"r", value)) => return Ok(place(value).and_then(|(_, line)| line)),
                Ok(_) => {}
                Err(_) => return Ok(None),
            }
        }
    }

    /// The next cell of the row; `None` when there is none left.
    pub(super) fn next_cell(&mut self) -> Result<Option<Cell<'t>>, CellFault> {
        while self.is_within {
            let tag = self.markup.tag()?.ok_or(Malformed)?;
            match tag.name {
                b"c" if !tag.is_end => return self.cell().map(Some),
                b"row" if tag.is_end => {
                    self.markup.end_of_tag()?;
                    self.is_within = false;
                }
                _ if tag.is_end => return Err(CellFault::Malformed),
                _ => self.markup.skip_element(tag.name)?,
            }
        }
        Ok(None)
    }

    /// Reads a cell whose start tag is being read.
    fn cell(&mut self) -> Result<Cell<'t>, CellFault> {
        let (mut column, mut style, mut kind) = (self.column, 0, Type::Number);
        let end = loop {
            match self.markup.attribute()? {
                Ok((b"r", value)) => {
                    let (at, line) = place(value).ok_or(Malformed)?;
                    if at < self.column || line.is_some_and(|line| line != self.line) {
                        return Err(CellFault::CellOrder);
                    }
                    column = at;
                }
                Ok((b"s", value)) => style = number(value).unwrap_or_default() as usize,
                Ok((b"t", value)) => kind = Type::named(value)?,
                Ok(_) => {}
                Err(end) => break end,
            }
        };
        if column >= MOST_COLUMNS {
            return Err(CellFault::TooManyColumns);
        }
        self.column = column + 1;
        let (mut value, mut formula, mut has_value) = (Value::Blank, None, false);
        let mut is_within = end == TagEnd::Open;
        while is_within {
            let tag = self.markup.tag()?.ok_or(Malformed)?;
            match tag.name {
                b"c" if tag.is_end => {
                    self.markup.end_of_tag()?;
                    is_within = false;
                }
                _ if tag.is_end => return Err(CellFault::Malformed),
                b"v" => {
                    // An empty text is a value too.
                    has_value = true;
                    if self.markup.end_of_tag()? == TagEnd::Closed {
                        continue;
                    }
                    value = kind.value(self.markup.text());
                    let tag = self.markup.tag()?.ok_or(Malformed)?;
                    if tag.name != b"v" || !tag.is_end {
                        return Err(CellFault::Malformed);
                    }
                    self.markup.end_of_tag()?;
                }
                b"is" => {
                    has_value = true;
                    if self.markup.end_of_tag()? == TagEnd::Open {
                        value = Value::Inline(self.markup);
                        self.markup.skip_content(b"is")?;
                    }
                }
                b"f" => {
                    formula = Some(&b""[..]);
                    if self.markup.end_of_tag()? == TagEnd::Open {
                        formula = Some(self.markup.text());
                        self.markup.skip_content(b"f")?;
                    }
                }
                _ => self.markup.skip_element(tag.name)?,
            }
        }
        let is_uncalculated = formula.is_some() && !has_value;
        Ok(Cell { column, style, value, formula, is_uncalculated })
    }
}

impl Type {
    fn named(name: &[u8]) -> Result<Self, CellFault> {
        Ok(match name {
            b"n" => Self::Number,
            b"s" => Self::Shared,
            b"str" => Self::Text,
            b"inlineStr" | b"is" => Self::Inline,
            b"b" => Self::Truth,
            b"e" => Self::Error,
            b"d" => Self::Date,
            _ => return Err(CellFault::UnknownType),
        })
    }

    fn value(self, text: &[u8]) -> Value<'_> {
        let trimmed = text.trim_ascii();
        match self {
            // Its text is in another element.
            Self::Inline => Value::Blank,
            Self::Text => Value::Text(text),
            _ if trimmed.is_empty() => Value::Blank,
            Self::Number => Value::Number(trimmed),
            Self::Shared => Value::Shared(trimmed),
            Self::Truth => Value::Truth(trimmed),
            Self::Error => Value::Error,
            Self::Date => Value::Date(trimmed),
        }
    }
}

/// A whole number.
pub(super) fn number(digits: &[u8]) -> Option<u64> {
    let is_one = !digits.is_empty() && digits.len() < 16 && digits.iter().all(u8::is_ascii_digit);
    let value = |sum: u64, digit: &u8| sum * 10 + u64::from(digit - b'0');
    is_one.then(|| digits.iter().fold(0, value))
}

/// The column and the line of a cell, `B7`.
pub(super) fn place(text: &[u8]) -> Option<(usize, Option<u64>)> {
    let letters = text.iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
    let (column, line) = text.split_at(letters);
    let column = size::column(column)?;
    if line.is_empty() { Some((column, None)) } else { Some((column, Some(number(line)?))) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(text: &str) -> Result<String, CellFault> {
        let mut rows = Rows::new(text.as_bytes(), 0);
        let mut said = Vec::new();
        while let Some(line) = rows.next_row()? {
            let mut row = format!("{line}:");
            while let Some(cell) = rows.next_cell()? {
                let shown = |text: &[u8]| String::from_utf8_lossy(text).into_owned();
                let value = match cell.value {
                    Value::Blank if cell.is_uncalculated => "?".to_owned(),
                    Value::Blank => "-".to_owned(),
                    Value::Number(text) => format!("n{}", shown(text)),
                    Value::Shared(text) => format!("s{}", shown(text)),
                    Value::Text(text) => format!("t{}", shown(text)),
                    Value::Inline(_) => "i".to_owned(),
                    Value::Truth(text) => format!("b{}", shown(text)),
                    Value::Error => "e".to_owned(),
                    Value::Date(text) => format!("d{}", shown(text)),
                };
                row.extend([format!(" {}.{}={value}", cell.column, cell.style)]);
            }
            said.push(row);
        }
        Ok(said.join(" | "))
    }

    #[test]
    fn rows_and_cells_are_found() {
        for (text, want) in [
            (
                "<row r=\"2\"><c r=\"A2\"><v>1</v></c><c r=\"AA2\" s=\"3\" t=\"s\"><v>0</v></c></row>",
                "2: 0.0=n1 26.3=s0",
            ),
            (
                "<row><c><v>1</v></c><c/><c t=\"str\"><v>a</v></c></row><row/>\n<row r='9'></row>",
                "1: 0.0=n1 1.0=- 2.0=ta | 2: | 9:",
            ),
            (
                "<row><c r=\"B4\"><v> 7 </v></c></row><row><c r=\"A6\" t=\"e\"><v>#N/A</v></c></row>",
                "4: 1.0=n7 | 6: 0.0=e",
            ),
            (
                "<row r=\"1\"><c t=\"inlineStr\"><is><t>a</t></is><v>no</v></c><c t=\"b\"><v>1</v></c></row>",
                "1: 0.0=- 1.0=b1",
            ),
            (
                "<row r=\"1\"><c t=\"inlineStr\"><v>no</v><is><t>a</t></is></c><c t=\"d\"><v>2026-01-01</v></c></row>",
                "1: 0.0=i 1.0=d2026-01-01",
            ),
            (
                "<x:row r=\"1\"><x:c r=\"A1\"><x:f>B1</x:f><x:v>5</x:v></x:c><x:c><x:f>1</x:f></x:c><x:c><x:f/><x:v/></x:c></x:row>",
                "1: 0.0=n5 1.0=? 2.0=-",
            ),
            (
                "<row r=\"1\"><extLst><ext><row/></ext></extLst><c><extLst/><v>1</v></c></row>",
                "1: 0.0=n1",
            ),
        ] {
            assert_eq!(said(text).as_deref(), Ok(want), "{text}");
        }
    }

    #[test]
    fn a_worksheet_that_is_none_is_refused() {
        for (text, want) in [
            ("<row r=\"2\"/><row r=\"2\"/>", CellFault::RowOrder),
            ("<row r=\"1048577\"/>", CellFault::TooManyRows),
            ("<row><c r=\"B1\"/><c r=\"A1\"/></row>", CellFault::CellOrder),
            ("<row r=\"3\"><c r=\"B1\"/></row>", CellFault::CellOrder),
            ("<row><c r=\"XFE1\"/></row>", CellFault::TooManyColumns),
            ("<row><c t=\"what\"/></row>", CellFault::UnknownType),
            ("<row><c><v>1<b/></v></c></row>", CellFault::Malformed),
            ("<row><c><v>1</v>", CellFault::Malformed),
            ("<row r=\"x\"/>", CellFault::Malformed),
            ("<row><c r=\"1\"/></row>", CellFault::Malformed),
            ("<row></c></row>", CellFault::Malformed),
            ("<c><v>1</v></c>", CellFault::Malformed),
            ("</row>", CellFault::Malformed),
            ("<row><c><f>A1</v></c></row>", CellFault::Malformed),
        ] {
            assert_eq!(said(text), Err(want), "{text}");
        }
    }
}
