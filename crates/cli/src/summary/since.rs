//! What has changed since the run before: in the tables, and by hand in the output.

use std::fmt::Write;

use gather_keys_core::receipt::NewKeys;

use super::paragraph;
use crate::edits::{Edits, MOST_ROWS};
use crate::receipts::Moved;
use crate::terminal::{BAD, STRONG};
use crate::wording::{self, counted, joined, number};

/// How many changed rows are shown.
const SHOWN: usize = 12;

/// The changes since the run before, each in words.
pub(crate) fn moved(all: &[Moved]) -> Vec<String> {
    all.iter().map(reported).collect()
}

/// The changes since the run before, as the summary has them.
pub(crate) fn since(all: &[String]) -> String {
    if all.is_empty() {
        return "Nothing has changed since the last run.\n".to_owned();
    }
    let mut text = format!("{STRONG}Since the last run{STRONG:#}\n");
    for moved in all {
        paragraph(&mut text, 2, moved);
    }
    text
}

fn reported(moved: &Moved) -> String {
    let named = |names: &[String]| {
        let ticked: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
        joined(&ticked, "and")
    };
    match moved {
        Moved::Program { before } => {
            let now = env!("CARGO_PKG_VERSION");
            format!("the program is version {now}, and was {before}")
        }
        Moved::Plan => "the options have changed".to_owned(),
        Moved::Table { role, path, is_new: true } => format!("{path} is new, read as {role}"),
        Moved::Table { role, path, is_new: false } => {
            format!("{path} is no longer read (it was, as {role})")
        }
        Moved::Path { before, now } => format!("{now} is read instead of {before}"),
        Moved::Headers { path, gone, new } => match (&gone[..], &new[..]) {
            ([], []) => format!("{path} has its columns in another order"),
            (gone, []) => format!("{path} lacks {}", named(gone)),
            ([], new) => format!("{path} also has {}", named(new)),
            (gone, new) => format!("{path} has {} instead of {}", named(new), named(gone)),
        },
        Moved::Rows { path, before, now } => {
            let word = if now > before { "more" } else { "fewer" };
            let differs = now.abs_diff(*before);
            let rows = if differs == 1 { "row" } else { "rows" };
            format!("{path} has {} {word} {rows}, {} in all", number(differs), number(*now))
        }
        Moved::Cells { path } => format!("{path} has other content in as many rows"),
        Moved::Columns { reference, gone, new } => match (&gone[..], &new[..]) {
            ([], []) => format!("{reference}: the same columns are taken, in another order"),
            (gone, []) => format!("{reference}: {} is not taken any more", named(gone)),
            ([], new) => format!("{reference}: {} is taken, which was not", named(new)),
            (gone, new) => {
                format!("{reference}: {} is taken instead of {}", named(new), named(gone))
            }
        },
        Moved::Keys { reference, unmatched, new } => {
            let NewKeys { count, first, or_more } = new;
            let at_least = if *or_more { "at least " } else { "" };
            let what = if *unmatched { "unmatched" } else { "duplicate" };
            let keys = if *count == 1 { "key is" } else { "keys are" };
            let was = if *count == 1 { "was" } else { "were" };
            let rest = if *count as usize > first.len() { "; …" } else { "" };
            let first = first.join("; ");
            let count = number(*count);
            format!("{reference}: {at_least}{count} {keys} {what} that {was} not: {first}{rest}")
        }
    }
}

/// That a workbook was saved by another program, and what to do about it.
pub(crate) fn additions(name: &str) -> String {
    let head =
        format!("{name} was saved by another program after the last run, and is left as it is");
    let mut text = format!("\n{BAD}{}{BAD:#}\n", wording::wrapped(&head, 0, "  "));
    let words = "No cell was changed, but worksheets, comments or colours that somebody added would be \
                 lost.";
    paragraph(&mut text, 2, words);
    paragraph(&mut text, 2, "To replace it, add --edits discard; a dated copy is kept.");
    let _ = writeln!(text);
    text
}

/// What was changed by hand in an output, and what to do about it.
pub(crate) fn edits(name: &str, edits: &Edits, has_file: bool) -> String {
    let head = format!("{name} was changed by hand after it was written, and is left as it is");
    let mut text = format!("\n{BAD}{}{BAD:#}\n", wording::wrapped(&head, 0, "  "));
    if let Some(headers) = &edits.headers {
        paragraph(&mut text, 2, &format!("its headers are now {}", headers.join(", ")));
    }
    let shown = |cell: &str| match cell {
        "" => "(blank)".to_owned(),
        cell => wording::cell(cell, 28),
    };
    for row in edits.rows.iter().take(SHOWN) {
        for cell in &row.cells {
            let header = wording::cell(&cell.header, 24);
            let (was, is) = (shown(&cell.was), shown(&cell.is));
            let words = format!("row {}, {header}: {was} became {is}", number(row.row));
            paragraph(&mut text, 2, &words);
        }
    }
    if let rest @ 1.. = edits.rows.len().saturating_sub(SHOWN) as u64 {
        paragraph(&mut text, 2, &format!("and {} more", counted(rest, "row")));
    }
    if edits.is_too_much {
        let most = number(MOST_ROWS as u64);
        let words = format!("more than {most} rows differ, too many to compare");
        paragraph(&mut text, 2, &words);
    }
    let rows = |rows: &[u64]| match rows {
        [one] => format!("row {}", number(*one)),
        [first, .., last] => format!("rows {} to {}", number(*first), number(*last)),
        [] => String::new(),
    };
    let runs = |all: &[u64], what: &str| -> Vec<String> {
        let runs = all.chunk_by(|one, next| one + 1 == *next);
        runs.map(|run| format!("{}: {what}", rows(run))).collect()
    };
    let unclear = runs(&edits.unclear, "changed, and this run would write another value too");
    let added = runs(&edits.added, "new");
    let verb = if edits.removed == 1 { "is" } else { "are" };
    let removed =
        (edits.removed > 0).then(|| format!("{} {verb} gone", counted(edits.removed, "row")));
    let moved = edits.is_moved.then(|| "the rows are in another order".to_owned());
    let places: Vec<String> =
        unclear.into_iter().chain(added).chain(removed).chain(moved).collect();
    for place in places.iter().take(SHOWN) {
        paragraph(&mut text, 2, place);
    }
    if let rest @ 1.. = places.len().saturating_sub(SHOWN) as u64 {
        paragraph(&mut text, 2, &format!("and {} more", counted(rest, "place")));
    }
    let keep = match (edits.is_unclear(), has_file) {
        _ if edits.has_same_cells() => "No cell was changed.",
        (true, _) => {
            "To keep what was changed, make it a correction by hand, or change the tables."
        }
        (false, true) => "To keep the changes as corrections, run again with --edits keep.",
        (false, false) => {
            "To keep the changes as corrections, run again with --edits keep --corrections FILE."
        }
    };
    text.push('\n');
    paragraph(&mut text, 2, keep);
    paragraph(&mut text, 2, "To replace them, add --edits discard; a dated copy is kept.");
    let _ = writeln!(text);
    text
}
