//! Why an output that was changed after the last run is left as it is: in go the changes, out come sentences.

use super::paragraph;
use crate::edits::{Edits, MOST_ROWS};
use crate::terminal::BAD;
use crate::wording::{self, counted, number};

/// How many changed rows are shown.
const SHOWN: usize = 12;

/// Why an output that is there is left as it is, and what to do about it.
#[derive(Debug)]
pub(crate) struct Refusal {
    head: String,
    places: Vec<String>,
    advice: Vec<String>,
}

impl Refusal {
    /// That a workbook was saved by another program.
    pub(crate) fn of_additions(name: &str) -> Self {
        let head =
            format!("{name} was saved by another program after the last run, and is left as it is");
        let lost = "No cell was changed, but worksheets, comments or colours that somebody added would \
                    be lost.";
        let advice = "To replace it, add --edits discard; a dated copy is kept.";
        Self { head, places: vec![lost.to_owned()], advice: vec![advice.to_owned()] }
    }

    /// That an output was changed by hand.
    pub(crate) fn of_edits(name: &str, edits: &Edits, has_file: bool) -> Self {
        let head = format!("{name} was changed by hand after it was written, and is left as it is");
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
        let discard = "To replace them, add --edits discard; a dated copy is kept.";
        Self { head, places: places(edits), advice: [keep, discard].map(str::to_owned).into() }
    }

    /// That a table of a server was changed.
    pub(crate) fn of_table(name: &str) -> Self {
        let head = format!("{name} was changed after it was written, and is left as it is");
        let advice =
            "To keep the changes, name another output; to replace them, add --edits discard.";
        Self { head, places: Vec::new(), advice: vec![advice.to_owned()] }
    }

    /// For the summary, which ends with it.
    pub(crate) fn text(&self) -> String {
        let mut text = format!("\n{BAD}{}{BAD:#}\n", wording::wrapped(&self.head, 0, "  "));
        for place in &self.places {
            paragraph(&mut text, 2, place);
        }
        text.push('\n');
        for advice in &self.advice {
            paragraph(&mut text, 2, advice);
        }
        text.push('\n');
        text
    }

    /// Its sentences, one by one.
    pub(crate) fn sentences(&self) -> Vec<String> {
        let all = std::iter::once(&self.head).chain(&self.places).chain(&self.advice);
        all.cloned().collect()
    }
}

/// The first changes made by hand in an output, each in words.
fn places(edits: &Edits) -> Vec<String> {
    let mut said = Vec::new();
    if let Some(headers) = &edits.headers {
        said.push(format!("its headers are now {}", headers.join(", ")));
    }
    let shown = |cell: &str| match cell {
        "" => "(blank)".to_owned(),
        cell => wording::cell(cell, 28),
    };
    for row in edits.rows.iter().take(SHOWN) {
        for cell in &row.cells {
            let header = wording::cell(&cell.header, 24);
            let (was, is) = (shown(&cell.was), shown(&cell.is));
            said.push(format!("row {}, {header}: {was} became {is}", number(row.row)));
        }
    }
    if let rest @ 1.. = edits.rows.len().saturating_sub(SHOWN) as u64 {
        said.push(format!("and {} more", counted(rest, "row")));
    }
    if edits.is_too_much {
        let most = number(MOST_ROWS as u64);
        said.push(format!("more than {most} rows differ, too many to compare"));
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
    let mut places: Vec<String> =
        unclear.into_iter().chain(added).chain(removed).chain(moved).collect();
    let rest = places.len().saturating_sub(SHOWN) as u64;
    places.truncate(SHOWN);
    said.append(&mut places);
    if rest > 0 {
        said.push(format!("and {} more", counted(rest, "place")));
    }
    said
}
