//! Reading a table or a view of a database.

use std::fmt::Write;
use std::path::Path;

use gather_keys_core::table::{CellKind, Headers};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};

use crate::number::{push_integer, push_real};
use crate::rows::{End, Streamed};
use crate::{Error, Result};

/// How such a file begins.
pub(crate) const BEGINS: &[u8] = b"SQLite format 3\0";

/// Begins to read a table or view of the database at `path`: the one of a name, or else the first. Gives
/// its name, and how many there are.
///
/// # Errors
/// When the database can't be read, or has no such table.
pub(crate) fn open(
    name: &str,
    path: &Path,
    part: Option<&str>,
) -> Result<(Streamed, (String, usize))> {
    let unread = {
        let name = name.to_owned();
        move |error: &rusqlite::Error| Error::Unread {
            name: name.clone(),
            said: error.to_string(),
            mend: "check the database with its own program",
        }
    };
    // One thread uses it, so that no call need lock it.
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connect = move |path: &Path| Connection::open_with_flags(path, flags);
    let names = connect(path).and_then(|database| {
        let mut names = database.prepare(
            "select name from sqlite_master where type in ('table', 'view') \
             and name not like 'sqlite\\_%' escape '\\' order by rowid",
        )?;
        let names = names.query_map([], |row| row.get::<_, String>(0))?;
        names.collect::<std::result::Result<Vec<String>, _>>()
    });
    let names = names.map_err(|error| unread(&error))?;
    let chosen = match part {
        None => names.first(),
        Some(part) => names.iter().find(|name| *name == part),
    };
    let none = || Error::NoPart {
        name: name.to_owned(),
        what: "table",
        asked: part.unwrap_or_default().to_owned(),
        all: names.clone(),
    };
    let chosen = chosen.ok_or_else(none)?.clone();
    let (path, table, called) = (path.to_owned(), chosen.clone(), name.to_owned());
    let streamed = Streamed::begin(name, move |hand| {
        let failed = |error: rusqlite::Error| End::Failed(unread(&error));
        let database = connect(&path).map_err(failed)?;
        let query = format!("select * from \"{}\"", table.replace('"', "\"\""));
        let mut rows = database.prepare(&query).map_err(failed)?;
        let columns = rows.column_count();
        hand.headers(Headers::new(called, rows.column_names()))?;
        let mut rows = rows.query([]).map_err(failed)?;
        while let Some(row) = rows.next().map_err(failed)? {
            for column in 0..columns {
                let value = row.get_ref(column).map_err(failed)?;
                hand.cell_by(|text| write_text(value, text));
            }
            hand.end_row()?;
        }
        Ok(())
    })?;
    Ok((streamed, (chosen, names.len())))
}

/// Writes the canonical text of a value, and gives its kind; bytes that are no text are hexadecimal
/// digits.
fn write_text(value: ValueRef<'_>, text: &mut String) -> CellKind {
    match value {
        ValueRef::Null => return CellKind::Unsaid,
        ValueRef::Integer(number) => push_integer(number, text),
        ValueRef::Real(number) => {
            push_real(number, text);
        }
        ValueRef::Text(bytes) => match str::from_utf8(bytes) {
            Ok(cell) => text.push_str(cell),
            Err(_) => text.push_str(&String::from_utf8_lossy(bytes)),
        },
        // Writing to a text can't fail.
        ValueRef::Blob(bytes) => drop(bytes.iter().try_for_each(|byte| write!(text, "{byte:02x}"))),
    }
    match value {
        ValueRef::Integer(_) | ValueRef::Real(_) => CellKind::Number,
        _ => CellKind::Text,
    }
}
