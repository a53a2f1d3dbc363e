//! Sentences on the tables that were read: cells that count as blank or are left out, merged cells, calculated columns,
//! and totals.

use std::sync::atomic::Ordering;

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Kind};
use gather_keys_core::table::{Headers, TotalRow};

use crate::inputs::ReadTable;
use crate::wording::{counted, joined, number};

/// What is to be said of the tables of a run, in sentences.
pub(crate) fn of_tables(
    tables: &[ReadTable],
    main: &Headers,
    (enrichment, findings): (&Enrichment, &Findings),
) -> Vec<String> {
    let mut all: Vec<String> = error_cells(tables).collect();
    all.extend(uncalculated(tables));
    all.extend(left_out(tables));
    all.extend(merged_cells(tables, main, (enrichment, findings)));
    all.extend(tables.first().and_then(|table| calculated(table, findings)));
    all.extend(total_rows(main, (enrichment, findings)));
    all
}

/// Cells that hold an error in the file, which count as blank.
fn error_cells(tables: &[ReadTable]) -> impl Iterator<Item = String> {
    tables.iter().filter_map(|reported| {
        let count = reported.read_as.error_cells.as_ref()?.load(Ordering::Relaxed);
        let holds =
            if count == 1 { "holds an error and counts" } else { "hold an error and count" };
        (count > 0)
            .then(|| format!("{} of {} {holds} as blank.", counted(count, "cell"), reported.table))
    })
}

/// Formulas without a stored value, which count as blank.
fn uncalculated(tables: &[ReadTable]) -> impl Iterator<Item = String> {
    tables.iter().flat_map(|reported| {
        let counts = reported.read_as.uncalculated.iter().flat_map(|counts| counts.iter());
        let columns = counts.zip(&reported.columns).map(|(count, header)| {
            let count = count.load(Ordering::Relaxed);
            let has = if count == 1 {
                "has no stored value and counts"
            } else {
                "have no stored value and count"
            };
            (count > 0).then(|| {
                let formulas = counted(count, "formula");
                let table = &reported.table;
                format!(
                    "{formulas} of column `{header}` of {table} {has} as blank: open the workbook in a \
                     spreadsheet program and save it once."
                )
            })
        });
        columns.flatten().collect::<Vec<_>>()
    })
}

/// Cells in columns without a header.
fn left_out(tables: &[ReadTable]) -> impl Iterator<Item = String> {
    tables.iter().filter_map(|reported| {
        let columns = reported.read_as.left_out.as_ref()?.columns();
        let cells = columns.iter().map(|(_, count)| count).sum();
        let letters: Vec<&str> = columns.iter().map(|(letters, _)| &letters[..]).take(5).collect();
        let more = if columns.len() > letters.len() { " and others" } else { "" };
        let columns = if columns.len() == 1 { "column" } else { "columns" };
        (cells > 0).then(|| {
            let verb = if cells == 1 { "has" } else { "have" };
            let is = if cells == 1 { "is" } else { "are" };
            format!(
                "{} of {} in {columns} {}{more} {verb} no header above and {is} left out.",
                counted(cells, "cell"),
                reported.table,
                letters.join(", "),
            )
        })
    })
}

/// Merged cells of key columns, where keys are blank.
fn merged_cells(
    tables: &[ReadTable],
    main: &Headers,
    (enrichment, findings): (&Enrichment, &Findings),
) -> Vec<String> {
    let mut all = Vec::new();
    for (nth, table) in tables.iter().enumerate() {
        let Some(merged) = &table.read_as.merged else { continue };
        let lookups = enrichment.lookups().zip(&findings.lookups);
        // The columns that blank keys are made from.
        let columns = lookups.flat_map(|(lookup, found)| {
            let reference = lookup.reference();
            let is_own = nth > 0 && reference.tables().any(|(name, _)| name == table.table);
            if nth == 0 && found.counts.of(Kind::BlankKey) > 0 {
                found.blank_columns.iter().copied().filter(|one| *one < main.len()).collect()
            } else if is_own && found.counts.keyless_rows > 0 {
                reference.key_columns()
            } else {
                Vec::new()
            }
        });
        let columns: Vec<usize> = columns.collect();
        if columns.is_empty() {
            continue;
        }
        let tall = merged.columns();
        let headers = tall.iter().filter(|one| columns.contains(one));
        let headers: Vec<String> =
            headers.filter_map(|one| table.columns.get(*one).cloned()).collect();
        if !headers.is_empty() {
            all.push(format!(
                "Cells of {} in {} are merged over several rows, of which only the first has the value: \
                 --fill-down '{}' gives it to all of them.",
                joined(&headers, "and"),
                table.table,
                headers.join(", "),
            ));
        }
    }
    all
}

/// Calculated columns of the main table that use one that was updated.
fn calculated(main: &ReadTable, findings: &Findings) -> Option<String> {
    let formulas = main.read_as.formulas.as_ref()?;
    let updates = findings.lookups.iter().flat_map(|found| &found.updates);
    let changed = updates.filter(|update| update.written.changed() > 0).map(|update| update.column);
    let (mut used, mut using) = (Vec::new(), Vec::new());
    for column in changed {
        let calculated = formulas.using(column);
        if !calculated.is_empty() && !used.contains(&column) {
            used.push(column);
        }
        using.extend(calculated);
    }
    using.sort_unstable();
    using.dedup();
    let names = |columns: &[usize]| {
        let names = columns.iter().filter_map(|one| Some(format!("`{}`", main.columns.get(*one)?)));
        joined(&names.collect::<Vec<_>>(), "and")
    };
    let (is, its) = if using.len() == 1 { ("is", "its") } else { ("are", "their") };
    (!using.is_empty()).then(|| {
        format!(
            "{} of {} {is} calculated from {}, which this run updates: {its} values are as of before.",
            names(&using),
            main.table,
            names(&used)
        )
    })
}

/// Last rows that look like totals and have no answer, or are of no main row.
fn total_rows(main: &Headers, (enrichment, findings): (&Enrichment, &Findings)) -> Vec<String> {
    let said = |table: &str, total: &TotalRow| {
        format!(
            "The last row of {table} (line {}) begins with `{}`: if it is a total, leave it out with \
             --skip-last 1.",
            number(total.line),
            total.text
        )
    };
    let of_main = findings.total_row.iter().map(|total| said(main.table(), total));
    let lookups = enrichment.lookups().zip(&findings.lookups);
    let unused = lookups.filter(|(_, found)| found.counts.of(Kind::Unused) > 0);
    let of_references = unused.flat_map(|(lookup, _)| {
        let totals = lookup.reference().total_rows().iter();
        totals.map(|(table, total)| said(table, total)).collect::<Vec<_>>()
    });
    of_main.chain(of_references).collect()
}
