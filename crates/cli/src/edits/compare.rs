//! Comparing an output with what would be written now, row by row.
//!
//! Each row of the file is paired with the row of the same key that would be written now. If that row is
//! as the run before wrote it, the cells that differ were changed by hand; otherwise it is unclear who
//! changed them.

use std::collections::{HashMap, HashSet};
use std::hash::{BuildHasher, Hasher, RandomState};

use gather_keys_core::receipt::{self, RowMarks};

use super::{EditedCell, EditedRow, Edits, MOST_ROWS, Table};
use crate::error::Result;

/// How many of the columns that may identify rows are tried.
const MOST_KEYS: usize = 4;

/// After how many rows those are left out that don't.
const LOOKED_AT: u64 = 2000;

/// Compares a file, each row of which may be as the run before wrote it, with what would be written now.
pub(super) fn compare(
    (file, is_as_written): (Table<'_>, &dyn Fn(u64) -> bool),
    fresh: Table<'_>,
    (before, marks): (&receipt::Output, &RowMarks),
    keys: &[Vec<usize>],
) -> Result<Edits> {
    let hashing = RandomState::new();
    let telling = telling(fresh, keys, &hashing)?;
    let key = telling_too(file, &telling, &hashing)?;
    let (fresh_marks, _) = fresh.marks(marks.each)?;
    let is_as_before = fresh_marks.are_in(marks);
    // Without a key a row is paired with the one at its place.
    let key_of = |row: u64, cells: &[String]| match key {
        Some(key) => hash(&hashing, key.iter().map(|&column| &cells[column])),
        None => row,
    };
    let mut ours: HashMap<u64, (u64, u64)> = HashMap::new();
    fresh.each_row(|row, cells| {
        ours.insert(key_of(row, cells), (row, hash(&hashing, cells.iter())));
    })?;
    // Rows that somebody added to a table that is written into have nothing there yet.
    let marked = before.marked_headers();
    let is_added = |column: &usize| before.added.contains(&marked[*column]);
    let added: Vec<usize> = (0..marked.len()).filter(is_added).collect();
    let is_new =
        |cells: &[String]| !added.is_empty() && added.iter().all(|&one| cells[one].is_empty());
    let mut edits = Edits { key: key.map(<[usize]>::to_vec), ..Edits::default() };
    // The rows of the file that differ, each with the row that would be written in its place.
    let mut pairs: HashMap<u64, (u64, Vec<String>)> = HashMap::new();
    let (mut kept, mut last) = (0, None);
    file.each_row(|row, cells| {
        let Some(&(own, content)) = ours.get(&key_of(row, cells)) else {
            if !is_as_written(row) {
                note(&mut edits.added, &mut edits.is_too_much, row + 1);
            }
            return;
        };
        kept += u64::from(is_as_before(own));
        edits.is_moved |= last.is_some_and(|last| own < last);
        last = Some(own);
        if content == hash(&hashing, cells.iter()) || is_new(cells) {
            return;
        }
        if is_as_before(own) {
            if pairs.len() == MOST_ROWS {
                edits.is_too_much = true;
            } else {
                pairs.insert(own, (row, cells.to_vec()));
            }
        } else if !is_as_written(row) {
            note(&mut edits.unclear, &mut edits.is_too_much, row + 1);
        }
    })?;
    let all = ours.values().filter(|(row, _)| is_as_before(*row));
    let there = all.count() as u64;
    edits.removed = there.saturating_sub(kept);
    if edits.is_too_much {
        return Ok(edits);
    }
    fresh.each_row(|own, was| {
        let Some((row, is)) = pairs.remove(&own) else { return };
        let cells = marked.iter().zip(was.iter().zip(&is));
        let changed = cells.filter(|(_, (was, is))| was != is);
        let cells = changed.map(|(header, (was, is))| EditedCell {
            header: header.clone(),
            was: was.clone(),
            is: is.clone(),
        });
        let cells = cells.collect();
        edits.rows.push(EditedRow { row: row + 1, was: was.to_vec(), cells });
    })?;
    edits.rows.sort_by_key(|row| row.row);
    Ok(edits)
}

/// Notes a row, unless there are too many.
fn note(rows: &mut Vec<u64>, is_too_much: &mut bool, row: u64) {
    if rows.len() == MOST_ROWS {
        *is_too_much = true;
    } else {
        rows.push(row);
    }
}

/// The first few of the keys that no two rows share.
fn telling<'k>(
    table: Table<'_>,
    keys: &'k [Vec<usize>],
    by: &RandomState,
) -> Result<Vec<&'k [usize]>> {
    let mut left: Vec<(&[usize], HashSet<u64>)> =
        keys.iter().map(|key| (&key[..], HashSet::new())).collect();
    table.each_row(|row, cells| {
        left.retain_mut(|(key, seen)| tells(key, seen, cells, by));
        if row == LOOKED_AT {
            left.truncate(MOST_KEYS);
        }
    })?;
    Ok(left.into_iter().map(|(key, _)| key).take(MOST_KEYS).collect())
}

/// The first of some keys that no two rows share.
fn telling_too<'k>(
    table: Table<'_>,
    keys: &[&'k [usize]],
    by: &RandomState,
) -> Result<Option<&'k [usize]>> {
    let mut left: Vec<(&[usize], HashSet<u64>)> =
        keys.iter().map(|key| (*key, HashSet::new())).collect();
    table.each_row(|_, cells| left.retain_mut(|(key, seen)| tells(key, seen, cells, by)))?;
    Ok(left.first().map(|(key, _)| *key))
}

/// Whether no earlier row has the key of a row, and no part of it is blank.
fn tells(key: &[usize], seen: &mut HashSet<u64>, cells: &[String], by: &RandomState) -> bool {
    let is_whole = key.iter().all(|&column| cells.get(column).is_some_and(|cell| !cell.is_empty()));
    is_whole && seen.insert(hash(by, key.iter().map(|&column| &cells[column])))
}

fn hash<'c>(by: &RandomState, cells: impl Iterator<Item = &'c String>) -> u64 {
    let mut hasher = by.build_hasher();
    for cell in cells {
        hasher.write_usize(cell.len());
        hasher.write(cell.as_bytes());
    }
    hasher.finish()
}
