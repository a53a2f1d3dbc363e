//! The file of aliases: main keys and the reference keys to use instead, one pair a row.
//!
//! Its form is that of the list `nearest.csv`: the columns of the main key, those of the reference's
//! key with `nearest` before their headers, and `approve`, which says `yes` where the pair holds. A
//! file without `approve` holds as a whole; one with a column `reference` is read for that of the
//! name only. A file may have the columns of some parts of the key only, and a row the cells of some: it then holds
//! for every key with these values.

use std::fmt::Write as _;

use gather_keys_core::key::Key;
use gather_keys_core::lookup::{Alias, AliasState, Lookup};
use gather_keys_core::table::{Headers, Row};
use gather_keys_core::template::BoundTemplate;
use gather_keys_formats::SideFile;

use crate::error::{Error, Result};
use crate::wording::{counted, joined, number};

/// The word before the columns of a reference's key in the file.
const NEAREST: &str = "nearest";

/// The column that says whether a pair holds, and what it says then.
pub(crate) const APPROVE: &str = "approve";
const YES: [&str; 5] = ["yes", "y", "x", "1", "true"];

/// How many aliases in trouble are named.
const SHOWN: usize = 3;

/// The headers of a file of aliases: those of the main key, and those of the reference's.
pub(crate) fn headers(lookup: &Lookup, main: &Headers) -> (Vec<String>, Vec<String>) {
    let (key, reference) = (lookup.key(), lookup.reference());
    let ours = key.columns().iter().map(|&column| main.address(column));
    let searched = reference.searched().first();
    let theirs = reference.key().columns().iter().map(|column| {
        // A value that may be in several columns is called as the main table calls it.
        let part = reference.key().parts().iter().position(|part| part.columns() == [*column]);
        let ours = part.and_then(|part| key.parts()[part].columns().first());
        match ours.filter(|_| Some(column) == searched) {
            Some(&ours) => format!("{NEAREST} {}", main.address(ours)),
            None => format!("{NEAREST} {}", reference.headers().address(*column)),
        }
    });
    (ours.collect(), theirs.collect())
}

/// Whether a cell of the column `approve` says yes.
pub(crate) fn is_yes(cell: &str) -> bool {
    YES.iter().any(|yes| cell.trim().eq_ignore_ascii_case(yes))
}

/// The aliases of a lookup in its file.
pub(crate) fn of(table: &SideFile, lookup: &Lookup, main: &Headers) -> Result<Vec<Alias>> {
    let (ours, theirs) = headers(lookup, main);
    let found = table.headers();
    let place = |header: &String| found.iter().position(|other| other == header);
    let parts = parts(lookup);
    // The parts of which the file has all columns, of both sides.
    let is_there = |part: &Part| {
        let mut columns = part.ours.iter().map(|&at| &ours[at]);
        let mut nearest = part.theirs.iter().map(|&at| &theirs[at]);
        columns.all(|header| place(header).is_some())
            && nearest.all(|header| place(header).is_some())
    };
    let there: Vec<bool> = parts.iter().map(is_there).collect();
    if !there.contains(&true) {
        let missing = ours.iter().chain(&theirs).filter(|header| place(header).is_none());
        let missing: Vec<String> = missing.map(|header| format!("`{header}`")).collect();
        let missing = joined(&missing, "and");
        return Err(Error::NotAliases { name: found.table().to_owned(), missing });
    }
    let (ours, theirs): (Vec<Option<usize>>, Vec<Option<usize>>) =
        (ours.iter().map(place).collect(), theirs.iter().map(place).collect());
    let approve = place(&APPROVE.to_owned());
    let of = place(&"reference".to_owned());
    let counts = |row: &Row<'_>| {
        let is_own = of.is_none_or(|column| row.cell(column) == lookup.reference().name());
        is_own && approve.is_none_or(|column| is_yes(row.cell(column)))
    };
    let cells = |row: Row<'_>, columns: &[Option<usize>]| -> Vec<String> {
        columns.iter().map(|at| at.map_or("", |column| row.cell(column)).to_owned()).collect()
    };
    let aliases = table.rows().filter(counts).map(|row| {
        let (main, reference) = (cells(row, &ours), cells(row, &theirs));
        // Where blanks match, a blank part is a part like any other.
        let is_said = |part: &Part| {
            let is_filled = |(at, cells): (&usize, &Vec<String>)| !cells[*at].trim().is_empty();
            lookup.reference().matches_blanks()
                || part.ours.iter().any(|at| is_filled((at, &main)))
                || part.theirs.iter().any(|at| is_filled((at, &reference)))
        };
        let about = parts.iter().zip(&there).enumerate();
        let about = about.filter(|(_, (part, is_there))| **is_there && is_said(part));
        Alias { row: row.number(), parts: about.map(|(nth, _)| nth).collect(), main, reference }
    });
    Ok(aliases.collect())
}

/// A part of a key: the places of its columns among those of the main key, and of the reference's.
pub(crate) struct Part {
    pub(crate) ours: Vec<usize>,
    pub(crate) theirs: Vec<usize>,
}

/// The parts of a lookup's key.
pub(crate) fn parts(lookup: &Lookup) -> Vec<Part> {
    let places = |key: &Key, part: &BoundTemplate| -> Vec<usize> {
        let place = |column: &usize| key.columns().iter().position(|other| other == column);
        part.columns().iter().filter_map(place).collect()
    };
    let (key, theirs) = (lookup.key(), lookup.reference().key());
    let parts = key.parts().iter().zip(theirs.parts());
    parts.map(|(a, b)| Part { ours: places(key, a), theirs: places(theirs, b) }).collect()
}

/// The cells of a key that an alias is about.
pub(crate) fn filled(cells: &[String]) -> String {
    let filled: Vec<&str> =
        cells.iter().filter(|cell| !cell.is_empty()).map(String::as_str).collect();
    if filled.is_empty() { "(blank)".to_owned() } else { filled.join(", ") }
}

/// The use of a lookup's aliases, a sentence each; none when it has none.
pub(crate) fn reported(lookup: &Lookup) -> Vec<String> {
    let all: Vec<_> = lookup.aliases().collect();
    if all.is_empty() {
        return Vec::new();
    }
    let used = all.iter().filter_map(|(_, state)| match state {
        AliasState::Used(rows) if *rows > 0 => Some(rows),
        _ => None,
    });
    let (count, rows) = used.fold((0, 0), |(count, rows), more| (count + 1, rows + more));
    let all_of = match all.len() {
        1 => "1 alias is".to_owned(),
        more => format!("{} aliases are", number(more as u64)),
    };
    let mut reported = vec![format!("{count} of {all_of} used, for {}.", counted(rows, "row"))];
    let name = lookup.reference().name();
    for (state, what) in [
        (AliasState::Gone, format!("{name} has no such key any more")),
        (AliasState::Needless, format!("{name} has the main key itself, which counts")),
        (AliasState::Again, "a row before is of the same main key, and counts".to_owned()),
        (AliasState::Broken, "a part of a key is blank or can't be read".to_owned()),
    ] {
        let these: Vec<&Alias> =
            all.iter().filter(|(_, other)| *other == state).map(|(alias, _)| *alias).collect();
        if these.is_empty() {
            continue;
        }
        let mut sentence = format!("{what}: ");
        for (nth, alias) in these.iter().take(SHOWN).enumerate() {
            let joint = if nth > 0 { "; " } else { "" };
            let (ours, theirs) = (filled(&alias.main), filled(&alias.reference));
            let _ = write!(sentence, "{joint}row {}, {ours} for {theirs}", alias.row);
        }
        if these.len() > SHOWN {
            let _ = write!(sentence, "; and {} more", these.len() - SHOWN);
        }
        reported.push(sentence + ".");
    }
    reported
}
