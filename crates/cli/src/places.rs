//! Rows and keys as a person is reported them: `row 17 (line 19): Fellside, H-012`.

use gather_keys_core::findings::SAMPLES;
use gather_keys_core::key::Unreadable;
use gather_keys_core::lookup::{EntryId, Reference, RowId};
use gather_keys_core::table::Headers;

use unicode_width::UnicodeWidthStr;

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

/// A row for the eye, by its name where it has one.
pub(crate) fn named_place(name: Option<&str>, row: u64, line: u64) -> String {
    name.map_or_else(|| place(row, line), str::to_owned)
}

/// A row of a reference for the eye, with its table when there are several.
pub(crate) fn reference_place(reference: &Reference, row: RowId) -> String {
    let named = reference.name_of(row);
    let place = named_place(named, reference.number(row), reference.line(row));
    match reference.table(row) {
        Some(table) => format!("{table} {place}"),
        None => place,
    }
}

/// The first few of several rows of a reference: `rows 11, 109`; with several tables,
/// `hives-1.csv rows 3, 9, hives-2.csv row 4`.
pub(crate) fn rows(reference: &Reference, rows: &[RowId]) -> String {
    let shown = &rows[..rows.len().min(SHOWN)];
    let by_table = shown.chunk_by(|&a, &b| reference.table(a) == reference.table(b));
    let reported = by_table.map(|rows| {
        let names: Vec<&str> = rows.iter().filter_map(|&row| reference.name_of(row)).collect();
        if !names.is_empty() {
            return names.join(", ");
        }
        let numbers: Vec<String> = rows.iter().map(|&row| number(reference.number(row))).collect();
        let table = reference.table(rows[0]).map_or(String::new(), |table| format!("{table} "));
        let plural = if rows.len() == 1 { "" } else { "s" };
        format!("{table}row{plural} {}", numbers.join(", "))
    });
    let mut reported: Vec<String> = reported.collect();
    if rows.len() > SHOWN {
        reported.push("…".to_owned());
    }
    reported.join(", ")
}

/// The first few of several entries of a key: `rows 11, 109`, or where they are cells, `row 3 in
/// 250 g, row 9 in 1 kg`.
pub(crate) fn entries(reference: &Reference, entries: &[EntryId]) -> String {
    if reference.searched().is_empty() {
        return rows(reference, &reference.rows_among(entries));
    }
    let cell = |&entry: &EntryId| {
        let row = rows(reference, &[reference.row(entry)]);
        let column = reference.column(entry).map(|column| reference.headers().address(column));
        format!("{row} in {}", column.unwrap_or_default())
    };
    let mut reported: Vec<String> = entries.iter().take(SHOWN).map(cell).collect();
    if entries.len() > SHOWN {
        reported.push("…".to_owned());
    }
    reported.join(", ")
}

/// `row 17: Fellside, H-012 (rest)`. Where that is wider than `room`, the rest goes on a line of its own,
/// and a text that is too wide by itself is cut.
pub(crate) fn labelled<'k>(
    place: &str,
    key: impl Iterator<Item = &'k str>,
    behind: &str,
    room: usize,
) -> String {
    let place = wording::cell(place, room.saturating_sub(LEAST_KEY + 2).max(LEAST_KEY));
    let key = wording::key(key, room.saturating_sub(place.width() + 2).max(LEAST_KEY));
    let joint = if key.is_empty() { "" } else { ": " };
    let label = format!("{place}{joint}{key}");
    if label.width() + behind.width() <= room {
        format!("{label}{behind}")
    } else {
        format!("{label}\n{}", wording::cell(behind.trim_start(), room.saturating_sub(2)))
    }
}

/// How much of a key is always shown.
const LEAST_KEY: usize = 12;

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
