//! The place of a worksheet's headers, and the headers.
//!
//! Headers are in the first row, or after a title. A header cell that is merged over several columns is
//! the header of each of them. Where the cells below distinguish these columns, the headers are in two
//! rows, and a column is called by both: `2026 Kg`.

use std::ops::Range;

use gather_keys_core::table::Headers;

use super::row::Cell;
use crate::delimited::HeaderRow;

/// A row of a worksheet that is not blank, with its line.
pub(super) type Line = (u64, Vec<Cell>);

/// Cells that are merged into one: the rows from 1, with the last one, and the columns from 0.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Merged {
    pub(super) first: u64,
    pub(super) last: u64,
    pub(super) columns: Range<usize>,
}

/// The headers, and where they are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Head {
    /// How many rows are before them.
    pub(super) before: usize,
    /// How many rows they are in.
    pub(super) rows: usize,
    /// The columns of the worksheet that have them.
    pub(super) columns: Range<usize>,
    pub(super) headers: Vec<String>,
}

/// The columns from the first cell of a row that is not blank to the one after the last.
pub(super) fn spanned(row: &[Cell]) -> Range<usize> {
    let first = row.iter().position(|cell| !cell.is_empty()).unwrap_or_default();
    first..row.len() - row.iter().rev().take_while(|cell| cell.is_empty()).count()
}

/// Finds the headers among the first rows of a worksheet; there is at least one. If they are not where they look it,
/// they are in the first row that holds most of those `asked` for. `merged` returns which cells are merged; it is called
/// only if the headers look like it. `None` when no row is on the stated line.
pub(super) fn find(
    rule: HeaderRow,
    asked: &[String],
    rows: &[Line],
    merged: impl FnOnce() -> Vec<Merged>,
) -> Option<Head> {
    let found = by_look(rule, rows, merged)?;
    let held = |head: &Head| Headers::new("", head.headers.iter().cloned()).held(asked);
    let mut most = held(&found);
    if rule != HeaderRow::Found || most == asked.len() {
        return Some(found);
    }
    let mut best = found;
    for (at, (_, row)) in rows.iter().enumerate() {
        let other = Head::of(at, row);
        let holds = held(&other);
        if holds > most {
            (best, most) = (other, holds);
        }
    }
    Some(best)
}

/// Finds the headers where they look like some.
fn by_look(rule: HeaderRow, rows: &[Line], merged: impl FnOnce() -> Vec<Merged>) -> Option<Head> {
    let at = match rule {
        HeaderRow::Line(wanted) => rows.iter().position(|(line, _)| *line == wanted)?,
        HeaderRow::First | HeaderRow::Absent => 0,
        // A title has one cell in a row; the table has more, and no cell next to its headers.
        HeaderRow::Found => rows.iter().take_while(|(_, row)| filled(row) == 1).count(),
    };
    // The cells below detected headers must be there; a title alone is not headers.
    let settles = |head: &Head| {
        let behind = &rows[at + head.rows..];
        let fits = |(_, row): &Line| {
            let row = spanned(row);
            head.columns.start <= row.start && row.end <= head.columns.end
        };
        rule != HeaderRow::Found || behind.iter().all(fits) && (at == 0 || !behind.is_empty())
    };
    let plain = rows.get(at).map(|(_, row)| Head::of(at, row));
    if let Some(head) = &plain {
        let has_gap = head.headers.iter().any(String::is_empty);
        if rule != HeaderRow::Absent
            && (has_gap || !settles(head))
            && let Some(head) = Head::merged(at, rows, &merged()).filter(settles)
        {
            return Some(head);
        }
    }
    plain.filter(settles).or_else(|| rows.first().map(|(_, row)| Head::of(0, row)))
}

impl Head {
    /// Headers in one row.
    fn of(before: usize, row: &[Cell]) -> Self {
        let columns = spanned(row);
        let headers = row[columns.clone()].iter().map(|cell| cell.text.clone()).collect();
        Self { before, rows: 1, columns, headers }
    }

    /// Headers of which some are merged; `None` when none is.
    fn merged(before: usize, rows: &[Line], merged: &[Merged]) -> Option<Self> {
        let (line, row) = &rows[before];
        let here = |merged: &&Merged| merged.first == *line;
        let wide: Vec<&Merged> =
            merged.iter().filter(here).filter(|merged| merged.columns.len() > 1).collect();
        let tall: Vec<&Merged> =
            merged.iter().filter(here).filter(|merged| merged.last > merged.first).collect();
        if wide.is_empty() {
            return None;
        }
        let texts = spread(row, &wide);
        let below = rows.get(before + 1).filter(|(below, _)| *below == line + 1);
        let end = wide.iter().map(|merged| merged.columns.end).max().unwrap_or_default();
        let is_in = |all: &[&Merged], column| all.iter().any(|one| one.columns.contains(&column));
        // Below each header of its own there must be more of it, or nothing: else it is a row of data.
        let is_group = |column: usize| {
            let own = texts.get(column).is_some_and(|text| !text.is_empty());
            !own || is_in(&wide, column) || is_in(&tall, column)
        };
        let second = below.filter(|_| (0..texts.len()).all(is_group));
        let Some((_, second)) = second else {
            let first = texts.iter().position(|text| !text.is_empty())?;
            let last = texts.iter().rposition(|text| !text.is_empty())? + 1;
            let headers = texts[first..last].to_vec();
            return Some(Self { before, rows: 1, columns: first..last, headers });
        };
        let columns = {
            let (one, other) = (spanned(row), spanned(second));
            one.start.min(other.start)..one.end.max(other.end).max(end)
        };
        let header = |column: usize| {
            let group = texts.get(column).map_or("", |text| text);
            let own = second.get(column).map_or("", |cell| &cell.text);
            match (group, own) {
                (group, "") => group.to_owned(),
                ("", own) => own.to_owned(),
                (group, own) => format!("{group} {own}"),
            }
        };
        let headers = columns.clone().map(header).collect();
        Some(Self { before, rows: 2, columns, headers })
    }
}

fn filled(row: &[Cell]) -> usize {
    row.iter().filter(|cell| !cell.is_empty()).count()
}

/// The texts of a row, those of merged cells in each of their columns.
fn spread(row: &[Cell], merged: &[&Merged]) -> Vec<String> {
    let mut texts: Vec<String> = row.iter().map(|cell| cell.text.clone()).collect();
    for one in merged {
        let text = row.get(one.columns.start).map_or(String::new(), |cell| cell.text.clone());
        texts.resize(texts.len().max(one.columns.end), String::new());
        texts[one.columns.clone()].fill(text);
    }
    texts
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Rows of a worksheet, one a line, their cells cut at bars.
    fn lines(text: &str) -> Vec<Line> {
        let cell = |text: &str| Cell { text: text.to_owned(), ..Cell::default() };
        let row = |text: &str| text.split('|').map(cell).collect::<Vec<_>>();
        let lines = (1..).zip(text.split('/').map(row));
        lines.filter(|(_, row)| filled(row) > 0).collect()
    }

    fn head(rule: HeaderRow, text: &str, merged: &[(u64, u64, Range<usize>)]) -> Option<String> {
        let merged = merged.iter().cloned();
        let merged = merged.map(|(first, last, columns)| Merged { first, last, columns }).collect();
        let head = find(rule, &[], &lines(text), || merged)?;
        assert_eq!(head.columns.len(), head.headers.len());
        Some(format!("{}+{} {}", head.before, head.rows, head.headers.join("|")))
    }

    #[test]
    fn headers_are_where_they_look_it() {
        use HeaderRow::{Absent, First, Found};
        for (rule, rows, merged, want) in [
            (Found, "Site|Tag/Fellside|1", &[][..], "0+1 Site|Tag"),
            (Found, "Hives of the co-op//Site|Tag/Fellside|1", &[], "1+1 Site|Tag"),
            (Found, "Site/Fellside", &[], "0+1 Site"),
            (First, "Hives/Site|Tag", &[], "0+1 Hives"),
            (Absent, "|Fellside|1", &[], "0+1 Fellside|1"),
            (HeaderRow::Line(2), "x/Site|Tag/a|b", &[], "1+1 Site|Tag"),
            // A header over two columns, with data right below.
            (Found, "Name||Round/Edda|Larkhollow|north", &[(1, 1, 0..2)], "0+1 Name|Name|Round"),
            (Found, "Round|Name/north|Edda|Larkhollow", &[(1, 1, 1..3)], "0+1 Round|Name|Name"),
            // Groups over headers.
            (
                Found,
                "Site|Tag|2025||2026/||Kg|Jars|Kg|Jars/Fellside|1|4|2|5|3",
                &[(1, 2, 0..1), (1, 2, 1..2), (1, 1, 2..4), (1, 1, 4..6)],
                "0+2 Site|Tag|2025 Kg|2025 Jars|2026 Kg|2026 Jars",
            ),
            (
                Found,
                "All of it/||2025||2026/Site|Tag|Kg|Jars|Kg|Jars/Fellside|1|4|2|5|3",
                &[(1, 1, 0..6), (2, 2, 2..4), (2, 2, 4..6)],
                "1+2 Site|Tag|2025 Kg|2025 Jars|2026 Kg|2026 Jars",
            ),
            (
                Found,
                "Hive||Keeper/Site|Tag|Name/a|1|Edda",
                &[(1, 1, 0..2), (1, 1, 2..3)],
                "0+1 Hive|Hive|Keeper",
            ),
            // A single cell in the first row is a title only above a table that has rows.
            (Found, "Site/Fellside|1", &[], "0+1 Site"),
            (Found, "Site/Fellside|1/Larkfield|2", &[], "1+1 Fellside|1"),
            // A gap that is not merged is a column without a header.
            (Found, "Site||Tag/Fellside|x|1", &[], "0+1 Site||Tag"),
        ] {
            assert_eq!(head(rule, rows, merged).as_deref(), Some(want), "{rows}");
        }
        assert_eq!(head(HeaderRow::Line(9), "Site/Fellside", &[]), None);
    }

    #[test]
    fn the_row_that_holds_what_is_asked_for_has_the_headers() {
        let asked = ["tag".to_owned(), "Site".to_owned()];
        for (rows, want) in [
            ("Harvest|2026-11-30/Co-op/Site|Tag/Fellside|1", "2+1 Site|Tag"),
            ("Site|Tag/Site|Tag", "0+1 Site|Tag"),
            ("Site list|x/Tag|Site|Kg/1|a|2", "1+1 Tag|Site|Kg"),
            ("Hives|x/Name|y", "0+1 Hives|x"),
            ("Hives|x/Site|Kg/a|1", "1+1 Site|Kg"),
        ] {
            let head = find(HeaderRow::Found, &asked, &lines(rows), Vec::new).unwrap();
            let said = format!("{}+{} {}", head.before, head.rows, head.headers.join("|"));
            assert_eq!(said, want, "{rows}");
        }
    }
}
