//! The tables that are looked at: each by itself, but those of a pattern with the same headers as one.

use std::ffi::{OsStr, OsString};
use std::path::Path;

use gather_keys_core::report::NotRead;
use gather_keys_core::table::Source;
use gather_keys_formats::{Address, real_path};

use crate::call::Table;
use crate::error::Result;
use crate::inputs::open;
use crate::progress::Meter;

/// A table to be looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Listed {
    /// Its address as it is written.
    pub(super) text: OsString,
    /// Whether the call names it, and not only a folder, a pattern or the like.
    pub(super) is_named: bool,
}

/// The tables that texts mean. Of a folder, the main table is left out.
///
/// # Errors
/// When a folder, workbook or database can't be read, or nothing is like a pattern.
pub(super) fn listed(main: &OsStr, texts: &[OsString]) -> Result<Vec<Listed>> {
    let mut all: Vec<Listed> = Vec::new();
    for text in texts {
        let every = Address::every(text)?;
        let meant = if is_one_table(text, &every) { vec![text.clone()] } else { every };
        let is_folder = Path::new(text).is_dir();
        let is_named = meant.len() == 1 && meant[0] == *text;
        for text in meant {
            let is_known = all.iter().any(|known| known.text == text);
            if !(is_known || is_folder && is_same(&text, main)) {
                all.push(Listed { text, is_named });
            }
        }
    }
    Ok(all)
}

/// Whether a pattern means the rows of one table, in files or worksheets with the same headers.
fn is_one_table(pattern: &OsStr, every: &[OsString]) -> bool {
    let headers = |table: &OsString| {
        let open = open(&Table::new(table), &Meter::default(), &mut None).ok()?;
        let mut headers: Vec<String> = open.headers().iter().map(str::to_owned).collect();
        headers.sort_unstable();
        Some(headers)
    };
    if !Address::is_glob(pattern) || Path::new(pattern).exists() {
        return false;
    }
    let Some(first) = headers(&every[0]) else { return false };
    every[1..].iter().all(|other| headers(other).is_some_and(|headers| headers == first))
}

/// Whether two texts mean the same table.
fn is_same(one: &OsStr, other: &OsStr) -> bool {
    let (one, other) = (Address::new(one), Address::new(other));
    let path = |address: &Address| address.path().map(real_path);
    path(&one).is_some()
        && path(&one) == path(&other)
        && (other.part().is_none() || one.part() == other.part())
}

/// Why a table is not read, in short.
pub(super) fn not_read(table: &OsStr, error: &crate::error::Error) -> NotRead {
    let table = Address::shown(&table.to_string_lossy());
    NotRead { why: error.to_string(), table }
}
