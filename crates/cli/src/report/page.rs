//! The report as a page: one file that needs no script and no network to be read.

use askama::Template;
use gather_keys_core::findings::Kind;
use gather_keys_core::report::{FixTold, LISTED, ReferenceTold, Report};

use crate::summary::{as_written, effect};
use crate::wording::{self, counted, joined, number, share};

/// How wide the bars are drawn; the page stretches them.
const WIDTH: f64 = 1000.0;

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'a> {
    report: &'a Report,
    references: Vec<Shown<'a>>,
    legend: Vec<(&'static str, &'static str)>,
    listed: usize,
}

/// A reference with its bars drawn.
struct Shown<'a> {
    reported: &'a ReferenceTold,
    rows: u64,
    matched: u64,
    unmatched: u64,
    /// The outcomes that occur, side by side.
    segments: Vec<Segment>,
    outcomes: Vec<Segment>,
    /// The bar in words.
    spoken: String,
    reasons: Vec<Bar<'a>>,
}

#[derive(Clone)]
struct Segment {
    class: &'static str,
    kind: String,
    count: u64,
    x: String,
    width: String,
}

struct Bar<'a> {
    text: &'a str,
    rows: u64,
    width: String,
}

/// The page of a report.
pub(super) fn page(report: &Report) -> Result<String, askama::Error> {
    let references = report.references.iter().map(shown).collect();
    let legend = Kind::OUTCOMES.map(|kind| (class(kind.label()), kind.label())).to_vec();
    Page { report, references, legend, listed: LISTED }.render()
}

fn class(kind: &str) -> &'static str {
    match kind {
        "matched" => "matched",
        "unmatched" => "unmatched",
        "ambiguous" => "ambiguous",
        "malformed" => "malformed",
        _ => "blank",
    }
}

fn length(of: u64, all: u64) -> f64 {
    if all == 0 { 0.0 } else { of as f64 / all as f64 * WIDTH }
}

fn shown(reported: &ReferenceTold) -> Shown<'_> {
    let rows: u64 = reported.outcomes.iter().map(|outcome| outcome.count).sum();
    let count = |kind: Kind| {
        reported.outcomes.iter().find(|one| one.kind == kind.label()).map_or(0, |one| one.count)
    };
    let mut before = 0;
    let outcomes: Vec<Segment> = reported
        .outcomes
        .iter()
        .map(|outcome| {
            let x = length(before, rows);
            before += outcome.count;
            Segment {
                class: class(&outcome.kind),
                kind: outcome.kind.clone(),
                count: outcome.count,
                x: format!("{x:.1}"),
                width: format!("{:.1}", length(outcome.count, rows)),
            }
        })
        .collect();
    let segments: Vec<Segment> = outcomes.iter().filter(|piece| piece.count > 0).cloned().collect();
    let spoken: Vec<String> = segments
        .iter()
        .map(|piece| format!("{} {}", share(piece.count, rows), piece.kind))
        .collect();
    let unmatched = count(Kind::Unmatched);
    let reasons = reported.reasons.iter().map(|reason| Bar {
        text: &reason.reason,
        rows: reason.rows,
        width: format!("{:.1}", length(reason.rows, unmatched)),
    });
    Shown {
        reported,
        rows,
        matched: count(Kind::Matched),
        unmatched,
        segments,
        outcomes,
        spoken: spoken.join(", "),
        reasons: reasons.collect(),
    }
}

// Methods that the template calls; it passes references.
#[allow(clippy::unused_self, clippy::trivially_copy_pass_by_ref)]
impl Page<'_> {
    fn number(&self, count: &u64) -> String {
        number(*count)
    }

    fn counted(&self, count: &u64, thing: &str) -> String {
        counted(*count, thing)
    }

    fn share(&self, count: &u64, total: &u64) -> String {
        share(*count, *total)
    }

    fn joined(&self, names: &[String]) -> String {
        joined(names, "and")
    }

    fn comma(&self, cells: &[String]) -> String {
        cells.iter().map(|cell| self.cell(cell)).collect::<Vec<_>>().join(", ")
    }

    fn numbers(&self, rows: &[u64]) -> String {
        rows.iter().map(|&row| number(row)).collect::<Vec<_>>().join(", ")
    }

    /// A cell with characters that can't be seen made visible, and no longer than a person reads.
    fn cell(&self, cell: &str) -> String {
        const MOST: usize = 200;
        if cell.is_empty() { "(blank)".to_owned() } else { wording::cell(cell, MOST) }
    }

    fn effect(&self, fix: &FixTold) -> String {
        effect(fix.newly_ambiguous, fix.lost, fix.joined, "the reference")
    }

    /// The key as it is typed, line by line.
    fn typed(&self, fix: &FixTold) -> String {
        as_written(&fix.on, false).join("\n")
    }
}
