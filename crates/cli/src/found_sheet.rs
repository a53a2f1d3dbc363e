//! The worksheet of findings that goes into a workbook: counts, and the rows in trouble with why.

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Kind};
use gather_keys_core::report::Gathering;
use gather_keys_formats::workbook::{FoundRow, FoundSheet, Links};

/// How many rows or keys of a kind the worksheet lists for each reference.
pub(crate) const LISTED: usize = 1000;

/// What a run found, with its reasons.
pub(crate) fn found_sheet(
    enrichment: &Enrichment,
    findings: &Findings,
    diagnoses: &[Option<Diagnosis>],
    links: Links,
) -> FoundSheet {
    let lookups = enrichment.lookups().zip(&findings.lookups);
    let counts = lookups.flat_map(|(lookup, found)| {
        Kind::ALL.map(|kind| {
            let name = lookup.reference().name().to_owned();
            (name, kind.label().to_owned(), found.counts.of(kind))
        })
    });
    let gathering = Gathering {
        version: env!("CARGO_PKG_VERSION"),
        main: "",
        enrichment,
        findings,
        diagnoses,
        advice: Vec::new(),
        gates: &[],
        output: None,
        listed: LISTED,
        command: None,
        plan: None,
        since: Vec::new(),
        edits: Vec::new(),
    };
    let mut rows = Vec::new();
    for reference in gathering.report().references {
        let name = reference.name;
        rows.extend(reference.unmatched.into_iter().map(|one| FoundRow {
            reference: name.clone(),
            kind: Kind::Unmatched.label().to_owned(),
            row: one.row,
            line: one.line,
            rows: one.rows,
            key: one.key,
            reason: one.reason,
            reference_rows: String::new(),
            nearest: one.nearest.unwrap_or_default(),
        }));
        rows.extend(reference.main_rows.into_iter().map(|one| {
            let several = one.more.strip_prefix("rows ").map(str::to_owned);
            let reason = match &several {
                Some(_) => "several rows hold the key and disagree".to_owned(),
                None => one.more,
            };
            FoundRow {
                reference: name.clone(),
                kind: one.kind,
                row: one.row,
                line: one.line,
                rows: 1,
                key: one.key,
                reason,
                reference_rows: several.unwrap_or_default(),
                nearest: Vec::new(),
            }
        }));
    }
    FoundSheet { counts: counts.collect(), rows, links }
}
