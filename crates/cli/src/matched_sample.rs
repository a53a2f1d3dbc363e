//! A sample of matched rows, to check by eye: both sides' keys and what is taken.
//!
//! Which rows are shown depends on a seed and their numbers only, so that the same call shows the same ones.

use std::collections::BinaryHeap;
use std::fmt::Write as _;

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Kind, MainFinding};
use gather_keys_core::lookup::{Answer, EntryId, Lookup};
use gather_keys_core::table::Headers;

use crate::places::{named_place, reference_place};
use crate::terminal::{FAINT, STRONG};
use crate::wording::{self, counted, number, wrapped};

/// A sample of the matched rows of each reference.
#[derive(Debug)]
pub(crate) struct MatchedSample {
    most: usize,
    seed: u64,
    headers: Headers,
    /// For each reference the rows in it so far: the ones with the least marks.
    of: Vec<BinaryHeap<Sampled>>,
}

/// A row in a sample; its mark, its number and what is shown of it.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Sampled(u64, u64, String);

impl MatchedSample {
    /// An empty sample with a limit on the rows of each reference.
    pub(crate) fn new((most, seed): (usize, u64), enrichment: &Enrichment) -> Self {
        let of = enrichment.lookups().map(|_| BinaryHeap::new()).collect();
        Self { most, seed, headers: enrichment.headers().clone(), of }
    }

    /// Takes a matched row, if it is to be in the sample.
    pub(crate) fn take(&mut self, finding: &MainFinding<'_>) {
        let MainFinding { nth, lookup, row, name, answer, .. } = *finding;
        let sample = &mut self.of[nth];
        // Rows with names come from a database, which has chosen them.
        let number = if name.is_some() { sample.len() as u64 } else { row.number() };
        let mark = mixed(self.seed ^ mixed(number));
        let is_full = sample.len() >= self.most;
        if is_full && sample.peek().is_none_or(|last| last.0 <= mark) {
            return;
        }
        if is_full {
            sample.pop();
        }
        let columns = lookup.columns();
        let key = columns.iter().map(|&column| (self.headers.address(column), row.cell(column)));
        let mut text = String::new();
        line(&mut text, &named_place(name, row.number(), row.line()), key);
        let entries = lookup.entries(row, answer);
        let (shown, what) = match answer {
            Answer::Chosen { entry, .. } => (vec![entry], "that it was chosen among"),
            Answer::All { .. } => (entries.iter().copied().take(SHOWN).collect(), "more"),
            _ => (entries.iter().copied().take(1).collect::<Vec<_>>(), "that agree with it"),
        };
        for &entry in &shown {
            tell_entry(&mut text, lookup, entry);
        }
        let rows = lookup.reference().rows_among(&entries).len();
        let rest = rows.saturating_sub(shown.len()) as u64;
        if rest > 0 {
            let _ = writeln!(text, "      and {} {what}", counted(rest, "row"));
        }
        sample.push(Sampled(mark, number, text));
    }

    /// The samples in words, the rows of each in order.
    pub(crate) fn text(self, enrichment: &Enrichment, findings: &Findings) -> String {
        let mut text = String::new();
        let lookups = enrichment.lookups().zip(&findings.lookups);
        for (sample, (lookup, found)) in self.of.into_iter().zip(lookups) {
            let mut rows = sample.into_vec();
            rows.sort_by_key(|sampled| sampled.1);
            let (shown, matched) = (rows.len() as u64, found.counts.of(Kind::Matched));
            let of = counted(matched, "matched row");
            let of = if shown == matched {
                format!("all {of}")
            } else {
                format!("{} of {of}; --seed {} shows others", number(shown), self.seed + 1)
            };
            let name = lookup.reference().name();
            let _ = writeln!(text, "\n{STRONG}{name}{STRONG:#}, to check by eye: {of}");
            for Sampled(.., row) in &rows {
                text.push_str(row);
            }
        }
        text
    }
}

/// How many reference rows of one main row are shown.
const SHOWN: usize = 3;

/// The reference row of an answer: its key, and what is taken.
fn tell_entry(text: &mut String, lookup: &Lookup, entry: EntryId) {
    let reference = lookup.reference();
    let (row, headers) = (reference.row(entry), reference.headers());
    // In a reverse lookup a cell may be in another column than the one that the key names.
    let found = |column: usize| match reference.column(entry) {
        Some(found) if reference.searched().contains(&column) => found,
        _ => column,
    };
    let columns = reference.key().columns().iter().map(|&one| headers.address(found(one)));
    let read = reference.as_read(entry);
    let mut key: Vec<(String, &str)> = columns.zip(read).collect();
    let range = reference.range_as_read(row);
    key.extend(range.iter().map(|range| ("range".to_owned(), &range[..])));
    let place = reference_place(reference, row);
    line(text, &format!("    is {place}"), key.into_iter());
    let taken = reference.taken().iter().zip(reference.taken_cells(row));
    let taken: Vec<(String, &str)> =
        taken.map(|(&column, cell)| (headers.address(column), cell)).collect();
    if !taken.is_empty() {
        line(text, "    takes", taken.into_iter());
    }
}

/// Cells after what they are of, each with its header.
fn line<'c>(text: &mut String, what: &str, cells: impl Iterator<Item = (String, &'c str)>) {
    let shown = cells.map(|(header, cell)| {
        let cell = if cell.is_empty() { "(blank)" } else { cell };
        format!("{FAINT}{header}{FAINT:#} {}", wording::cell(cell, 40))
    });
    let shown = shown.collect::<Vec<_>>().join(", ");
    let all = format!("{what}: {shown}");
    let _ = writeln!(text, "  {}", wrapped(&all, 2, "          "));
}

/// A number that its bits are mixed of, so that neighbours come far from each other.
fn mixed(number: u64) -> u64 {
    let number = (number ^ (number >> 30)).wrapping_add(0x9e37_79b9_7f4a_7c15);
    let number = (number ^ (number >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let number = (number ^ (number >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    number ^ (number >> 31)
}
