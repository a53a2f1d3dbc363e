//! What a run found, for the person at the terminal.
//!
//! In go the findings, out comes a text of at most the terminal's width: for each reference what is
//! told of it ([`lookup`]), what was written into cells ([`cells`]), and what to do about each
//! trouble ([`advice`]); behind them what has moved since the run before ([`since`]) and how the
//! gates came out.

mod advice;
mod cells;
mod gates;
mod lookup;
mod since;

pub(crate) use gates::gates;
pub(crate) use since::{edits, moved};

use std::fmt::Write;

use anstyle::{AnsiColor, Style};
use gather_keys_core::enrich::{Enrichment, Note};
use gather_keys_core::findings::{Counts, Findings, Kind};
use gather_keys_core::table::Headers;

use crate::inputs::ReadAs;
use crate::wording::{self, counted};

const STRONG: Style = Style::new().bold();
const BAD: Style = AnsiColor::Red.on_default();

/// How many rows of a trouble are shown.
const SHOWN: usize = gather_keys_core::findings::SAMPLES;

/// What a summary is made from.
#[derive(Debug)]
pub(crate) struct Summary<'a> {
    pub(crate) main: &'a Headers,
    pub(crate) enrichment: &'a Enrichment,
    pub(crate) findings: &'a Findings,
    /// Whether every finding is being written to files.
    pub(crate) listed: bool,
    /// The file of corrections, if one was named.
    pub(crate) corrections: Option<&'a str>,
}

impl Summary<'_> {
    /// The text.
    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        let lookups = self.enrichment.lookups().zip(self.enrichment.takings());
        for (nth, (lookup, found)) in lookups.zip(&self.findings.lookups).enumerate() {
            if nth > 0 {
                text.push('\n');
            }
            self.lookup(&mut text, lookup, found);
        }
        if let Some(file) = self.corrections {
            self.corrected(&mut text, file);
        }
        let troubled = self.findings.lookups.iter().any(|found| has_trouble(&found.counts));
        if troubled && !self.listed {
            paragraph(&mut text, 2, "To see every row of these findings, add --lists DIR.");
        }
        text
    }
}

fn has_trouble(counts: &Counts) -> bool {
    [Kind::Unmatched, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed, Kind::Conflicting]
        .into_iter()
        .any(|kind| counts.of(kind) > 0)
}

pub(crate) fn paragraph(text: &mut String, indent: usize, words: &str) {
    let blank = " ".repeat(indent);
    let wrapped = wording::wrapped(words, indent, &blank.repeat(2));
    let _ = writeln!(text, "{blank}{wrapped}");
}

/// What was done a little differently than asked, one line each.
pub(crate) fn notes(notes: &[Note]) -> String {
    let mut text = String::new();
    for note in notes {
        let words = match note {
            Note::LooseHeader { table, asked, found } => {
                format!("note: {table} has no header `{asked}`; `{found}` is taken for it.")
            }
            Note::Renamed { wanted, given } => {
                format!("note: there is a column `{wanted}` already; the added one is `{given}`.")
            }
        };
        let _ = writeln!(text, "{}", wording::wrapped(&words, 0, "      "));
    }
    if !notes.is_empty() {
        text.push('\n');
    }
    text
}

/// How the tables were read, one line each.
pub(crate) fn read_as(tables: &[ReadAs]) -> String {
    let mut text = String::new();
    for ReadAs { table, delimiter, byte_order_mark, columns } in tables {
        let mark = if *byte_order_mark { ", byte-order mark" } else { "" };
        let columns = counted(*columns as u64, "column");
        let _ = writeln!(text, "{table}: {columns}, delimiter {delimiter}, UTF-8{mark}");
    }
    text.push('\n');
    text
}
