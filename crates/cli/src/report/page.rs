//! The report as a page: one file that needs no script and no network to be read.

use askama::Template;
use gather_keys_core::findings::Kind;
use gather_keys_core::report::{FixTold, LISTED, ReferenceTold, Report, SharedTold, UnmatchedTold};

use crate::summary::{as_written, bounds, effect, unlike};
use crate::wording::{self, counted, joined, number, share};

/// How wide the bars are drawn; the page stretches them.
const WIDTH: f64 = 1000.0;

/// The least width of a part that is there at all, so that it can be seen.
const LEAST: f64 = 12.0;

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'a> {
    report: &'a Report,
    references: Vec<Shown<'a>>,
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
    example: &'a Option<UnmatchedTold>,
}

/// The page of a report.
pub(super) fn page(report: &Report) -> Result<String, askama::Error> {
    let references = report.references.iter().map(shown).collect();
    Page { report, references, listed: LISTED }.render()
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
    let width = |count: u64| if count == 0 { 0.0 } else { length(count, rows).max(LEAST) };
    // What small parts take from others is shared by all.
    let all: f64 = reported.outcomes.iter().map(|outcome| width(outcome.count)).sum();
    let scale = if all > WIDTH { WIDTH / all } else { 1.0 };
    let mut before = 0.0;
    let outcomes: Vec<Segment> = reported
        .outcomes
        .iter()
        .map(|outcome| {
            let (x, width) = (before, width(outcome.count) * scale);
            before += width;
            Segment {
                class: class(&outcome.kind),
                kind: outcome.kind.clone(),
                count: outcome.count,
                x: format!("{x:.1}"),
                width: format!("{width:.1}"),
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
        width: format!("{:.1}", length(reason.rows, unmatched).max(LEAST)),
        example: &reason.example,
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
#[allow(clippy::unused_self, clippy::trivially_copy_pass_by_ref, clippy::ref_option)]
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

    /// A main row, by its name or its number.
    #[allow(clippy::ref_option)]
    fn row_of(&self, name: &Option<String>, row: &u64) -> String {
        super::row_of(name.as_deref(), *row)
    }

    fn rows_of(&self, key: &SharedTold) -> String {
        super::rows_of(key)
    }

    /// A cell with characters that can't be seen made visible, and no longer than a person reads.
    fn cell(&self, cell: &str) -> String {
        const MOST: usize = 200;
        if cell.is_empty() { "(blank)".to_owned() } else { wording::cell(cell, MOST) }
    }

    /// The cells of a key, one for each header: what has no header of its own is with the last.
    fn cells(&self, cells: &[String], headers: &[String]) -> Vec<String> {
        super::in_columns(cells, headers.len()).iter().map(|cells| self.comma(cells)).collect()
    }

    /// The cells of the nearest key, where there is one.
    fn nearest(&self, nearest: &Option<Vec<String>>, headers: &[String]) -> Vec<String> {
        match nearest {
            Some(cells) => self.cells(cells, headers),
            None => vec![String::new(); headers.len()],
        }
    }

    /// What was written, with separators in its numbers.
    fn outcome(&self) -> String {
        super::outcome(self.report)
    }

    /// Whether nothing was written although something was to be.
    fn is_refused(&self) -> bool {
        self.report.written.as_ref().is_some_and(|written| !written.appeared)
    }

    fn effect(&self, fix: &FixTold) -> String {
        effect(fix.newly_ambiguous, fix.lost, fix.joined, "the reference")
    }

    /// How far reasons and nearest keys were sought.
    fn bounds(&self, reported: &ReferenceTold) -> String {
        reported.reasons_bound.iter().flat_map(bounds).collect::<Vec<_>>().join(" ")
    }

    /// How many rows would match although letters differ.
    fn unlike(&self, fix: &FixTold) -> String {
        fix.unlike_example.as_ref().map_or(String::new(), |example| {
            unlike(fix.unlike, &example.main, &example.reference) + ","
        })
    }

    /// The key as it is typed, line by line.
    fn typed(&self, fix: &FixTold) -> String {
        as_written(&fix.on, false).join("\n")
    }
}
