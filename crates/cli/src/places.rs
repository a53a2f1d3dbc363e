//! Rows and keys as a person is told of them: `row 17 (line 19): Fellside, H-012`.

use gather_keys_core::findings::SAMPLES;
use gather_keys_core::key::Unreadable;
use gather_keys_core::lookup::{Holder, Reference, RowId};
use gather_keys_core::table::Headers;

use crate::wording::{self, number};

/// How many of several rows are named.
const SHOWN: usize = SAMPLES;

/// A row for the eye, with its line where that is not simply the one below the row before.
pub(crate) fn place(row: u64, line: u64) -> String {
    let row_text = number(row);
    if line == row + 1 {
        format!("row {row_text}")
    } else {
        format!("row {row_text} (line {})", number(line))
    }
}

/// A row of a reference for the eye, with its table when there are several.
pub(crate) fn reference_place(reference: &Reference, row: RowId) -> String {
    let place = place(reference.number(row), reference.line(row));
    match reference.table(row) {
        Some(table) => format!("{table} {place}"),
        None => place,
    }
}

/// The number of a reference row, with its table when there are several.
pub(crate) fn reference_number(reference: &Reference, row: RowId) -> String {
    let number = number(reference.number(row));
    match reference.table(row) {
        Some(table) => format!("{table} row {number}"),
        None => number,
    }
}

/// The first few of several rows of a reference: `rows 11, 109`.
pub(crate) fn rows(reference: &Reference, rows: &[RowId]) -> String {
    let all = few(rows.iter().map(|&row| reference_number(reference, row)), rows.len());
    let is_bare = rows.first().is_none_or(|&row| reference.table(row).is_none());
    if is_bare { format!("row{} {all}", if rows.len() == 1 { "" } else { "s" }) } else { all }
}

/// The first few of several holders of a key: `rows 11, 109`, or where they are cells, `row 3 in
/// 250 g, row 9 in 1 kg`.
pub(crate) fn holders(reference: &Reference, holders: &[Holder]) -> String {
    if reference.looked_in().is_empty() {
        return rows(reference, &reference.rows_among(holders));
    }
    let cell = |&holder: &Holder| {
        let row = reference_number(reference, reference.row(holder));
        let row = if row.starts_with(|sign: char| sign.is_ascii_digit()) {
            format!("row {row}")
        } else {
            row
        };
        let column = reference.column(holder).map(|column| reference.headers().address(column));
        format!("{row} in {}", column.unwrap_or_default())
    };
    few(holders.iter().map(cell), holders.len())
}

fn few(all: impl Iterator<Item = String>, count: usize) -> String {
    let mut shown: Vec<String> = all.take(SHOWN).collect();
    if count > SHOWN {
        shown.push("…".to_owned());
    }
    shown.join(", ")
}

/// `row 17: Fellside, H-012`, no wider than `room`; where it would be, the key is cut.
pub(crate) fn labelled<'k>(
    place: &str,
    key: impl Iterator<Item = &'k str>,
    behind: &str,
    room: usize,
) -> String {
    let others = place.chars().count() + 2 + behind.chars().count();
    let key = wording::key(key, room.saturating_sub(others).max(12));
    if key.is_empty() { format!("{place}{behind}") } else { format!("{place}: {key}{behind}") }
}

/// `row 17: number can't read "n/a" in Hive`.
pub(crate) fn unread(
    place: &str,
    headers: &Headers,
    unreadable: &Unreadable,
    room: usize,
) -> String {
    let Unreadable { column, step, value } = unreadable;
    let step = step.split_whitespace().next().unwrap_or_default();
    let before = format!("{place}: `{step}` can't read ");
    let behind = format!(" in {}", wording::cell(&headers.address(*column), 12));
    let left = room.saturating_sub(before.chars().count() + behind.chars().count());
    format!("{before}{}{behind}", wording::cell(&format!("{value:?}"), left.max(8)))
}
