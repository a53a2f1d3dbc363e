//! The worksheet of findings: how often each occurs, what the grounds of cells mean, and the rows in trouble, each with a
//! link to its row.

use rust_xlsxwriter::{Format, Url, Worksheet, XlsxError};

use super::styles::{Ground, right};

/// The name of the worksheet, where no other is asked for.
const NAME: &str = "Findings";

/// The name where the table itself has that one.
const OTHER_NAME: &str = "Findings of the run";

/// The headers that it begins with, by which it is recognised.
pub(in crate::workbook) const HEADERS: [&str; 3] = ["reference", "finding", "count"];

/// What a run found, for a worksheet of its own.
#[derive(Debug, Clone, Default)]
pub struct FoundSheet {
    /// How often each kind of finding occurs: the reference, the kind and the count.
    pub counts: Vec<(String, String, u64)>,
    /// Rows in trouble.
    pub rows: Vec<FoundRow>,
    /// The rows that links lead to.
    pub links: Links,
}

/// The rows of a worksheet that rows in trouble are linked to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Links {
    /// None: rows may be left out or repeated there.
    #[default]
    None,
    /// Those of the same number, below one row of headers.
    Rows,
    /// Those on the line of the main row.
    Lines,
}

/// A row in trouble, or several with the same key.
#[derive(Debug, Clone, Default)]
pub struct FoundRow {
    /// The reference.
    pub reference: String,
    /// The kind of finding.
    pub kind: String,
    /// The row of the main table, from 1.
    pub row: u64,
    /// The line that it is on, from 1.
    pub line: u64,
    /// How many rows have its key.
    pub rows: u64,
    /// The cells that its key is made from.
    pub key: Vec<String>,
    /// Why it is in trouble.
    pub reason: String,
    /// The rows of the reference that disagree.
    pub reference_rows: String,
    /// The nearest key of the reference.
    pub nearest: Vec<String>,
}

/// The kinds of findings that have a ground of their own, by their labels.
const GROUNDS: [(&str, Ground); 4] = [
    ("unmatched", Ground::Unmatched),
    ("ambiguous", Ground::Ambiguous),
    ("blank key", Ground::BlankKey),
    ("malformed", Ground::Malformed),
];

/// The name of the worksheet of findings where that of the table has a name, unless another is asked for.
pub(super) fn name_beside<'n>(table: &str, asked: Option<&'n str>) -> &'n str {
    let usual = if table.eq_ignore_ascii_case(NAME) { OTHER_NAME } else { NAME };
    asked.unwrap_or(usual)
}

/// Writes what was found; `table` is the name of the worksheet that links lead to.
pub(super) fn write(
    found: &FoundSheet,
    table: &str,
    sheet: &mut Worksheet,
) -> Result<(), XlsxError> {
    let bold = Format::new().set_bold();
    let on_ground = |kind: &str| {
        let ground = GROUNDS.iter().find(|(label, _)| *label == kind);
        ground.map_or_else(Format::new, |(_, ground)| ground.of(Format::new()))
    };
    let number = right(Format::new());
    let above_numbers = right(bold.clone());
    for (column, header) in (0..).zip(HEADERS) {
        let style = if column == 2 { &above_numbers } else { &bold };
        sheet.write_string_with_format(0, column, header, style)?;
    }
    let mut at = 1;
    for (reference, kind, count) in &found.counts {
        sheet.write_string(at, 0, reference)?;
        sheet.write_string_with_format(at, 1, kind, &on_ground(kind))?;
        sheet.write_number_with_format(at, 2, *count as f64, &number)?;
        at += 1;
    }
    sheet.set_column_width(0, 20)?;
    sheet.set_column_width(1, 16)?;
    if found.rows.is_empty() {
        return Ok(());
    }
    let parts = found.rows.iter().map(|row| row.key.len().max(row.nearest.len())).max();
    let parts = parts.unwrap_or_default();
    let part = |name: &str, nth: usize| match nth {
        0 => name.to_owned(),
        nth => format!("{name} {}", nth + 1),
    };
    let mut headers: Vec<String> =
        ["reference", "finding", "row", "rows"].map(str::to_owned).to_vec();
    headers.extend((0..parts).map(|nth| part("key", nth)));
    headers.extend(["reason", "reference rows"].map(str::to_owned));
    headers.extend((0..parts).map(|nth| part("nearest", nth)));
    at += 1;
    let first = at;
    for (column, header) in (0..).zip(&headers) {
        let style = if (2..4).contains(&column) { &above_numbers } else { &bold };
        sheet.write_string_with_format(at, column, header, style)?;
    }
    for row in &found.rows {
        at += 1;
        sheet.write_string(at, 0, &row.reference)?;
        sheet.write_string_with_format(at, 1, &row.kind, &on_ground(&row.kind))?;
        let line = match found.links {
            Links::None => None,
            // The headers are above the first row.
            Links::Rows => Some(row.row + 1),
            Links::Lines => Some(row.line),
        };
        if let Some(line) = line {
            let place = format!("internal:'{}'!A{line}", table.replace('\'', "''"));
            let link = Url::new(place).set_text(row.row.to_string());
            sheet.write_url_with_format(at, 2, link, &right(Format::new().set_hyperlink()))?;
        } else {
            sheet.write_number_with_format(at, 2, row.row as f64, &number)?;
        }
        sheet.write_number_with_format(at, 3, row.rows as f64, &number)?;
        let reason = 4 + parts as u16;
        for (column, cell) in (4..).zip(&row.key) {
            sheet.write_string(at, column, cell)?;
        }
        sheet.write_string(at, reason, &row.reason)?;
        sheet.write_string(at, reason + 1, &row.reference_rows)?;
        for (column, cell) in (reason + 2..).zip(&row.nearest) {
            sheet.write_string(at, column, cell)?;
        }
    }
    sheet.autofilter(first, 0, at, headers.len() as u16 - 1)?;
    for column in 4..headers.len() as u16 {
        let is_reason = column == 4 + parts as u16;
        sheet.set_column_width(column, if is_reason { 40 } else { 16 })?;
    }
    sheet.set_landscape().set_print_fit_to_pages(1, 0);
    Ok(())
}
