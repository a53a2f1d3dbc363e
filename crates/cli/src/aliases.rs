//! The file of aliases: main keys and the reference keys to use instead, one pair a row.
//!
//! Its form is that of the list `nearest.csv`: the columns of the main key, those of the reference's
//! key with `nearest` before their headers, and `approve`, which says `yes` where the pair holds. A
//! file without `approve` holds as a whole; one with a column `reference` is read for that of the
//! name only. A file may have the columns of some parts of the key only, and a row the cells of some: it then holds
//! for every key with these values.

use std::fmt::Write as _;

use gather_keys_core::enrich::Resolved;
use gather_keys_core::key::Key;
use gather_keys_core::lookup::{Alias, AliasKeys, AliasState, Lookup};
use gather_keys_core::plan::ReferencePlan;
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

/// The keys of a lookup's two sides.
pub(crate) struct Keys<'a> {
    ours: &'a Key,
    theirs: &'a Key,
    /// The headers of the reference, and the first of the columns that a reverse lookup looks in.
    headers: &'a Headers,
    searched: Option<usize>,
    /// The name of the reference.
    name: &'a str,
    matches_blanks: bool,
}

impl<'a> Keys<'a> {
    /// Those of a lookup.
    fn of(lookup: &'a Lookup) -> Self {
        let reference = lookup.reference();
        Self {
            ours: lookup.key(),
            theirs: reference.key(),
            headers: reference.headers(),
            searched: reference.searched().first().copied(),
            name: reference.name(),
            matches_blanks: reference.matches_blanks(),
        }
    }

    /// Those of a plan whose columns are found, of which there is no lookup yet.
    pub(crate) fn of_plan(
        plan: &'a ReferencePlan,
        found: &'a Resolved,
        headers: &'a Headers,
    ) -> Self {
        Self {
            ours: &found.main_key,
            theirs: &found.reference_keys[0],
            headers,
            searched: found.searched.first().copied(),
            name: &plan.name,
            matches_blanks: plan.match_blanks,
        }
    }

    /// The headers of a file of aliases: those of the main key, and those of the reference's.
    fn headers(&self, main: &Headers) -> (Vec<String>, Vec<String>) {
        let ours = self.ours.columns().iter().map(|&column| main.address(column));
        let theirs = self.theirs.columns().iter().map(|column| {
            // A value that may be in several columns is called as the main table calls it.
            let part = self.theirs.parts().iter().position(|part| part.columns() == [*column]);
            let ours = part.and_then(|part| self.ours.parts()[part].columns().first());
            match ours.filter(|_| Some(*column) == self.searched) {
                Some(&ours) => format!("{NEAREST} {}", main.address(ours)),
                None => format!("{NEAREST} {}", self.headers.address(*column)),
            }
        });
        (ours.collect(), theirs.collect())
    }

    /// The parts of the keys.
    fn parts(&self) -> Vec<Part> {
        let places = |key: &Key, part: &BoundTemplate| -> Vec<usize> {
            let place = |column: &usize| key.columns().iter().position(|other| other == column);
            part.columns().iter().filter_map(place).collect()
        };
        let parts = self.ours.parts().iter().zip(self.theirs.parts());
        let of = |(a, b)| Part { ours: places(self.ours, a), theirs: places(self.theirs, b) };
        parts.map(of).collect()
    }

    /// Aliases with their keys made, as the lookup uses them.
    pub(crate) fn with(&self, aliases: Vec<Alias>) -> AliasKeys {
        AliasKeys::new(aliases, (self.ours, self.theirs), self.matches_blanks)
    }
}

/// The headers of a file of aliases: those of the main key, and those of the reference's.
pub(crate) fn headers(lookup: &Lookup, main: &Headers) -> (Vec<String>, Vec<String>) {
    Keys::of(lookup).headers(main)
}

/// The parts of a lookup's key.
pub(crate) fn parts(lookup: &Lookup) -> Vec<Part> {
    Keys::of(lookup).parts()
}

/// Whether a cell of the column `approve` says yes.
pub(crate) fn is_yes(cell: &str) -> bool {
    YES.iter().any(|yes| cell.trim().eq_ignore_ascii_case(yes))
}

/// The aliases of a lookup in its file.
pub(crate) fn of(table: &SideFile, lookup: &Lookup, main: &Headers) -> Result<Vec<Alias>> {
    between(&Keys::of(lookup), table, main)
}

/// The aliases between two keys in a file.
pub(crate) fn between(keys: &Keys<'_>, table: &SideFile, main: &Headers) -> Result<Vec<Alias>> {
    let (ours, theirs) = keys.headers(main);
    let found = table.headers();
    let place = |header: &String| found.iter().position(|other| other == header);
    let parts = keys.parts();
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
        let is_own = of.is_none_or(|column| row.cell(column) == keys.name);
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
            keys.matches_blanks
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
