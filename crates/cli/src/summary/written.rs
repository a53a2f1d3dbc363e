//! The last lines: the output, and whether it is written.

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, LookupFindings};
use gather_keys_core::table::Headers;
use gather_keys_formats::workbook::Edited;

use super::SHOWN;
use crate::output::STANDARD;
use crate::wording::{counted, joined, number};

/// Whether every row goes out as it came.
pub(crate) fn leaves_all(enrichment: &Enrichment, findings: &Findings) -> bool {
    let updates = findings.lookups.iter().flat_map(|found| &found.updates);
    enrichment.added().is_empty()
        && findings.written == findings.main_rows
        && updates.map(|update| update.written.changed()).sum::<u64>() == 0
        && findings.lookups.iter().all(|found| found.appended.is_none_or(|all| all.rows == 0))
        && findings.corrected.iter().all(|one| one.changed == 0)
}

/// The sentence that says that an output was not written.
pub(crate) fn not_written(name: &str) -> String {
    if name == STANDARD {
        return "The table was not written.".to_owned();
    }
    format!("{name} was not written.")
}

/// The sentence that says what was written and where.
pub(crate) fn table_written(
    name: &str,
    main: &Headers,
    enrichment: &Enrichment,
    findings: &Findings,
) -> String {
    let appended = findings.lookups.iter().filter_map(|found| found.appended);
    let appended: u64 = appended.map(|appended| appended.rows).sum();
    let rows = match (findings.written == findings.main_rows, appended) {
        (true, 0) => counted(findings.written, "row"),
        (_, 0) => {
            let of = counted(findings.main_rows, "main row");
            format!("{} from {of}", counted(findings.written, "row"))
        }
        _ => {
            let (of, more) =
                (counted(findings.main_rows, "main row"), counted(appended, "new row"));
            format!("{} from {of} and {more}", counted(findings.written, "row"))
        }
    };
    let output = enrichment.output();
    let own = match (output.own_columns().len(), main.len()) {
        (own, all) if own == all => counted(all as u64, "column"),
        (own, all) => format!("{own} of the {}", counted(all as u64, "column")),
    };
    let added = match &output.added()[..] {
        [] => String::new(),
        added => {
            let columns = counted(added.len() as u64, "added column");
            format!(" and {columns} ({})", joined(added, "and"))
        }
    };
    format!("Wrote {rows} to {name}: {own} of {}{added}.", main.table())
}

/// The sentence that says what was written into the main table, at a place.
pub(crate) fn written_into(
    place: &str,
    enrichment: &Enrichment,
    findings: &Findings,
    edited: &Edited,
) -> String {
    let sum = |of: &dyn Fn(&LookupFindings) -> u64| findings.lookups.iter().map(of).sum::<u64>();
    let appended = sum(&|found| found.appended.map_or(0, |appended| appended.rows));
    let updated = sum(&|found| found.updates.iter().map(|one| one.written.changed()).sum());
    let updated = updated.saturating_sub(edited.left.as_ref().map_or(0, |(left, _)| *left));
    let mut what = Vec::new();
    if !enrichment.added().is_empty() {
        let columns = counted(enrichment.added().len() as u64, "column");
        let names = joined(enrichment.added(), "and");
        what.push(format!("{columns} ({names}) in {}", counted(findings.main_rows, "row")));
    }
    if updated > 0 {
        what.push(counted(updated, "updated cell"));
    }
    if appended > 0 {
        what.push(counted(appended, "new row"));
    }
    let what = if what.is_empty() { "no cells".to_owned() } else { joined(&what, "and") };
    format!("Wrote into {place}: {what}.")
}

/// The sentences on formulas of a workbook that was written into.
pub(crate) fn formulas(name: &str, edited: &Edited) -> Vec<String> {
    let mut said = Vec::new();
    // Of the whole workbook, whichever part of it was named.
    let name = name.split('#').next().unwrap_or(name);
    if let Some((count, first)) = &edited.left {
        let (cells, keep, they) = match count {
            1 => ("1 cell".to_owned(), "keeps its formula", "it"),
            more => (format!("{} cells", number(*more)), "keep their formulas", "them"),
        };
        said.push(format!(
            "{cells} of {name} {keep}, the first {first}: --replace-formulas lets an update replace {they}."
        ));
    }
    if edited.has_formulas {
        said.push(format!(
            "Formulas of {name} show values of before until a spreadsheet program calculates anew: as it \
             opens the file, or with Ctrl+Shift+F9."
        ));
    }
    said
}

/// The sentence that says how many whole numbers are text in a workbook, if any are.
pub(crate) fn long_numbers(name: &str, long: Option<&(u64, String)>) -> Option<String> {
    let (count, header) = long?;
    let (numbers, verb, them) = match count {
        1 => ("1 whole number".to_owned(), "is", "it"),
        more => (format!("{} whole numbers", number(*more)), "are", "them"),
    };
    Some(format!(
        "In {name}, {numbers} of more than 15 digits {verb} text, the first in column `{header}`: a \
         spreadsheet would round {them}."
    ))
}

/// The sentence that says which columns are written as text although they hold numbers, dates or the
/// like, if any are.
pub(crate) fn as_text(name: &str, mixed: &[String]) -> Option<String> {
    let (verb, they) = match mixed {
        [] => return None,
        [_] => ("is", "it holds"),
        _ => ("are", "they hold"),
    };
    let shown: Vec<String> = mixed.iter().take(SHOWN).map(|header| format!("`{header}`")).collect();
    let more = mixed.len().saturating_sub(SHOWN);
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    Some(format!(
        "In {name}, {}{more} {verb} written as text: {they} cells of several kinds, and a column there \
         has one type.",
        if more.is_empty() { joined(&shown, "and") } else { shown.join(", ") }
    ))
}
