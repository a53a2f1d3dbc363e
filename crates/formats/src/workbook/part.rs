//! The part of a workbook that is meant: a worksheet, or an area of one that has a name.

use std::ops::Range;

use super::size::{self, MOST_COLUMNS};
use crate::{Error, Result};

/// The meaning of a part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Meant {
    /// Its name.
    pub(super) name: String,
    pub(super) worksheet: String,
    /// The cells that it is made of; all of the worksheet if it has no bounds.
    pub(super) area: Option<Area>,
    /// Whether its first row holds headers, where that is known.
    pub(super) has_headers: Option<bool>,
}

/// Some cells of a worksheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Area {
    /// The rows, from 1, with the last one.
    pub(super) first: u64,
    pub(super) last: u64,
    /// The columns, from 0.
    pub(super) columns: Range<usize>,
}

/// A part that has a name of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Named {
    pub(super) name: String,
    pub(super) worksheet: String,
    pub(super) area: Area,
    pub(super) has_headers: Option<bool>,
}

/// The part of the workbook called `name` that is asked for, among its worksheets and what has a name
/// also: a worksheet by its name, a table or range by its, or else a worksheet by its number; with
/// nothing asked for, the first worksheet.
pub(super) fn meant(
    name: &str,
    asked: Option<&str>,
    worksheets: &[String],
    named: impl FnOnce() -> Vec<Named>,
) -> Result<Meant> {
    let whole = |worksheet: &String| Meant {
        name: worksheet.clone(),
        worksheet: worksheet.clone(),
        area: None,
        has_headers: None,
    };
    let none = |named: &[Named]| Error::NoPart {
        name: name.to_owned(),
        what: if named.is_empty() { "worksheet" } else { "worksheet, table or named range" },
        asked: asked.unwrap_or_default().to_owned(),
        all: worksheets.iter().chain(named.iter().map(|named| &named.name)).cloned().collect(),
    };
    let Some(part) = asked else { return worksheets.first().map(whole).ok_or_else(|| none(&[])) };
    if let Some(worksheet) = worksheet_named(part, worksheets) {
        return Ok(whole(worksheet));
    }
    // Cells of a worksheet, `Hives!A4:F120`, or of the only one.
    let cells = range(part).or_else(|| Some((worksheets.first()?.clone(), area(part)?)));
    if let Some((worksheet, area)) = cells.filter(|_| part.contains([':', '!']))
        && let Some(worksheet) = worksheet_named(&worksheet, worksheets)
    {
        let worksheet = worksheet.clone();
        let area = Some(area);
        return Ok(Meant { name: part.to_owned(), worksheet, area, has_headers: None });
    }
    let named = named();
    let same = |named: &&Named| named.name.eq_ignore_ascii_case(part);
    if let Some(Named { name, worksheet, area, has_headers }) = named.iter().find(same).cloned() {
        return Ok(Meant { name, worksheet, area: Some(area), has_headers });
    }
    let number = part.parse::<usize>().ok().and_then(|number| number.checked_sub(1));
    let numbered = number.and_then(|number| worksheets.get(number));
    numbered.map(whole).ok_or_else(|| none(&named))
}

/// The worksheet of a name: spelled so, or the only one that differs in no more than case.
fn worksheet_named<'w>(name: &str, worksheets: &'w [String]) -> Option<&'w String> {
    let is_same = |other: &&String| other.to_lowercase() == name.to_lowercase();
    let exact = worksheets.iter().find(|worksheet| *worksheet == name);
    let mut alike = worksheets.iter().filter(is_same);
    exact.or_else(|| alike.next().filter(|_| alike.next().is_none()))
}

/// The ranges that have a name, of what a workbook notes of its names: `Hives!$A$1:$C$10`, or
/// `[$Hives.$A$1:.$C$10]`. What is no range of cells is left out.
pub(super) fn ranges(defined: &[(String, String)], worksheets: &[String]) -> Vec<Named> {
    let named = defined.iter().filter_map(|(name, formula)| {
        let (worksheet, area) = range(formula)?;
        let worksheet = worksheets.iter().find(|other| **other == worksheet)?.clone();
        Some(Named { name: name.clone(), worksheet, area, has_headers: None })
    });
    named.collect()
}

/// The worksheet and the cells of a range.
pub(super) fn range(formula: &str) -> Option<(String, Area)> {
    let text = formula.strip_prefix("of:").unwrap_or(formula);
    let text = text.strip_prefix('=').unwrap_or(text);
    let text = text.strip_prefix('[').and_then(|text| text.strip_suffix(']')).unwrap_or(text);
    let text = text.strip_prefix('$').unwrap_or(text);
    let (worksheet, cells) = match text.strip_prefix('\'') {
        Some(quoted) => {
            // A quote within the name is doubled.
            let ends = |at: &usize| !quoted[at + 1..].starts_with('\'');
            let mut at = 0;
            let end = loop {
                at += quoted[at..].find('\'')?;
                if ends(&at) {
                    break at;
                }
                at += 2;
            };
            (quoted[..end].replace("''", "'"), quoted[end + 1..].get(1..)?)
        }
        None => {
            let at = text.find(['!', '.'])?;
            (text[..at].to_owned(), &text[at + 1..])
        }
    };
    Some((worksheet, area(cells)?))
}

/// The cells of a range within a worksheet, `$A$1:$C$10`.
pub(super) fn area(cells: &str) -> Option<Area> {
    let (first, last) = cells.split_once(':').unwrap_or((cells, cells));
    // One cell has both a column and a row.
    if first == last && !first.contains(|sign: char| sign.is_ascii_alphabetic()) {
        return None;
    }
    // The second corner may name the worksheet once more.
    let last = last.rsplit(['!', '.']).next()?;
    let ((left, top), (right, bottom)) = (corner(first)?, corner(last)?);
    Some(Area {
        first: top.unwrap_or(1),
        last: bottom.unwrap_or(u64::MAX),
        columns: left.unwrap_or(0)..right.map_or(usize::MAX, |right| right + 1),
    })
}

/// A corner of a range, `$A$1`, as its column from 0 and its row from 1; `$A` has no row, `$1` no
/// column.
fn corner(text: &str) -> Option<(Option<usize>, Option<u64>)> {
    let text = text.replace('$', "");
    let letters = text.bytes().take_while(u8::is_ascii_alphabetic).count();
    let (column, row) = text.split_at(letters);
    let column = if column.is_empty() {
        None
    } else {
        Some(size::column(column.as_bytes()).filter(|column| *column < MOST_COLUMNS)?)
    };
    let row = if row.is_empty() { None } else { Some(row.parse().ok()?) };
    (column.is_some() || row.is_some()).then_some((column, row))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_found_in_what_is_noted() {
        let area = |first, last, columns| Area { first, last, columns };
        for (formula, want) in [
            ("Hives!$A$1:$C$10", Some(("Hives", area(1, 10, 0..3)))),
            ("'Bee''s own'!$B$2:$AA$3", Some(("Bee's own", area(2, 3, 1..27)))),
            ("Hives!$A:$C", Some(("Hives", area(1, u64::MAX, 0..3)))),
            ("Hives!$2:$5", Some(("Hives", area(2, 5, 0..usize::MAX)))),
            ("Hives!$B$2", Some(("Hives", area(2, 2, 1..2)))),
            ("of:=[$Hives.$A$1:.$C$10]", Some(("Hives", area(1, 10, 0..3)))),
            ("$'My hives'.$A$1:$'My hives'.$C$10", Some(("My hives", area(1, 10, 0..3)))),
            ("0.25", None),
            ("Hives!#REF!", None),
            ("SUM(Hives!$A$1:$A$9)", None),
            ("'Hives!$A$1", None),
            ("", None),
        ] {
            let want = want.map(|(worksheet, area)| (worksheet.to_owned(), area));
            assert_eq!(range(formula), want, "{formula}");
        }
    }
}
