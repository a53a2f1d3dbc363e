//! The worksheet of findings that goes into a workbook: counts, and the rows in trouble with why.

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Kind};
use gather_keys_core::plan::{ReferencePlan, WhenDuplicate, WhenUnmatched};
use gather_keys_core::report::Gathering;
use gather_keys_formats::workbook::{FoundRow, FoundSheet};

/// How many rows or keys of a kind the worksheet lists for each reference.
pub(crate) const LISTED: usize = 1000;

/// What a run found, with its reasons.
pub(crate) fn found_sheet<'p>(
    enrichment: &Enrichment,
    findings: &Findings,
    diagnoses: &[Option<Diagnosis>],
    mut plans: impl Iterator<Item = &'p ReferencePlan>,
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
    };
    let mut rows = Vec::new();
    for reference in gathering.report().references {
        let name = reference.name;
        rows.extend(reference.unmatched.into_iter().map(|one| FoundRow {
            reference: name.clone(),
            kind: Kind::Unmatched.label().to_owned(),
            row: one.row,
            rows: one.rows,
            key: one.key,
            reason: one.reason,
            nearest: one.nearest.unwrap_or_default(),
        }));
        rows.extend(reference.main_rows.into_iter().map(|one| FoundRow {
            reference: name.clone(),
            kind: one.kind,
            row: one.row,
            rows: 1,
            key: one.key,
            reason: one.more,
            nearest: Vec::new(),
        }));
    }
    let goes_out_once = |plan: &ReferencePlan| {
        plan.when_duplicate != WhenDuplicate::Every
            && !matches!(plan.when_unmatched, WhenUnmatched::Drop | WhenUnmatched::Only)
    };
    FoundSheet { counts: counts.collect(), rows, has_links: plans.all(goes_out_once) }
}
