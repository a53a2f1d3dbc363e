//! What a run found, for the person at the terminal.
//!
//! In go the findings, out comes a text of at most the terminal's width: for each reference the
//! outcome of every main row, the state of the reference's keys, the first few of each trouble
//! with their rows, and what to do about them.

use std::fmt::Write;

use anstyle::{AnsiColor, Style};
use gather_keys_core::enrich::{Enrichment, Note};
use gather_keys_core::findings::{Counts, Findings, GateResult, Kind, LookupFindings, Population};
use gather_keys_core::lookup::{Lookup, Reference, RowId};
use gather_keys_core::table::Headers;

use crate::inputs::ReadAs;
use crate::wording::{self, counted, joined, number, share};

const STRONG: Style = Style::new().bold();
const FAINT: Style = Style::new().dimmed();
const GOOD: Style = AnsiColor::Green.on_default();
const TROUBLE: Style = AnsiColor::Yellow.on_default();
const BAD: Style = AnsiColor::Red.on_default();

/// How many rows of a trouble are shown.
const SHOWN: usize = gather_keys_core::findings::SAMPLES;

/// How wide the word for a kind may be.
const LABEL: usize = 11;

/// What a summary is made from.
#[derive(Debug)]
pub(crate) struct Summary<'a> {
    pub(crate) main: &'a Headers,
    pub(crate) enrichment: &'a Enrichment,
    pub(crate) findings: &'a Findings,
    /// Whether every finding is being written to files.
    pub(crate) listed: bool,
}

impl Summary<'_> {
    /// The text.
    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        let lookups = self.enrichment.lookups().iter().zip(&self.findings.lookups);
        for (nth, (lookup, found)) in lookups.enumerate() {
            if nth > 0 {
                text.push('\n');
            }
            self.lookup(&mut text, lookup, found);
        }
        let troubled = self.findings.lookups.iter().any(|found| has_trouble(&found.counts));
        if troubled && !self.listed {
            paragraph(&mut text, 2, "To see every row of these findings, add --lists DIR.");
        }
        text
    }

    fn lookup(&self, text: &mut String, lookup: &Lookup, found: &LookupFindings) {
        let (reference, counts) = (lookup.reference(), &found.counts);
        let pairs: Vec<String> = on_pairs(self.main, lookup);
        let facts = format!(
            ": {} with {}, on {}",
            counted(counts.reference_rows, "row"),
            counted(counts.reference_keys, "key"),
            pairs.join(", ")
        );
        let name = reference.name();
        let facts = wording::wrapped(&facts, name.chars().count(), "  ");
        let _ = writeln!(text, "{STRONG}{name}{STRONG:#}{facts}\n");

        let digits = number(counts.main_rows.max(counts.reference_rows)).len().max(5);
        let lines = Lines { digits };
        let _ = writeln!(text, "  Rows of {}", self.main.table());
        lines.kind(text, counts, Kind::Matched, GOOD, &[]);
        for kind in [Kind::Unmatched, Kind::Ambiguous, Kind::BlankKey] {
            let room = lines.room();
            let samples = found.samples(kind).iter().map(|sample| {
                let place = place(sample.row, sample.line);
                let key = sample.key.iter().map(String::as_str);
                match &sample.candidates[..] {
                    [] => labelled(&place, key, "", room),
                    rows => labelled(&place, key, &format!(" (in rows {})", numbers(rows)), room),
                }
            });
            lines.kind(text, counts, kind, TROUBLE, &samples.collect::<Vec<_>>());
        }
        lines.total(text, counts.main_rows);

        let _ = writeln!(text, "\n  Keys and rows of {}", reference.headers().table());
        for (kind, conflicting) in [(Kind::Duplicate, false), (Kind::Conflicting, true)] {
            let groups = reference.groups().filter(|group| group.conflicting == conflicting);
            let samples = groups.take(SHOWN).map(|group| {
                let rows = format!("rows {}", numbers(&group.rows));
                labelled(&rows, reference.key_parts(group.rows[0]), "", lines.room())
            });
            let style = if conflicting { TROUBLE } else { Style::new() };
            lines.kind(text, counts, kind, style, &samples.collect::<Vec<_>>());
        }
        let unused = found.unused(lookup).take(SHOWN).map(|row| {
            let place = place(row.number(), reference.line(row));
            labelled(&place, reference.key_parts(row), "", lines.room())
        });
        let unused = unused.collect::<Vec<_>>();
        lines.kind(text, counts, Kind::Unused, Style::new(), &unused);
        let repeated = if counts.of(Kind::Repeated) == 0 {
            Vec::new()
        } else {
            vec![format!("asked for by several rows of {}", self.main.table())]
        };
        lines.kind(text, counts, Kind::Repeated, Style::new(), &repeated);
        text.push('\n');
        self.advice(text, lookup, counts);
    }

    /// What to do about each trouble.
    fn advice(&self, text: &mut String, lookup: &Lookup, counts: &Counts) {
        let reference = lookup.reference();
        let name = reference.name();
        if counts.of(Kind::Unmatched) > 0 {
            let them = match counts.of(Kind::Unused) {
                0 => "add the missing rows to it".to_owned(),
                _ => "compare their spelling with its unused keys, or add the missing rows".into(),
            };
            let advice = format!("unmatched: {name} has no such keys; {them}.");
            paragraph(text, 2, &advice);
        }
        if counts.of(Kind::Conflicting) > 0 {
            let kind =
                if counts.of(Kind::Ambiguous) > 0 { Kind::Ambiguous } else { Kind::Conflicting };
            let advice = format!(
                "{}: rows of {name} that share a key disagree on {}; keep one row for each \
                 key, or take only columns on which they agree.",
                kind.label(),
                disputed(reference)
            );
            paragraph(text, 2, &advice);
        }
        if counts.of(Kind::BlankKey) > 0 {
            let columns = lookup.key().columns().iter();
            let columns: Vec<String> = columns.map(|&column| self.main.address(column)).collect();
            let advice = format!(
                "blank key: fill in {} where blank in {}.",
                joined(&columns, "and"),
                self.main.table()
            );
            paragraph(text, 2, &advice);
        }
        if counts.keyless_rows > 0 {
            let advice = format!(
                "unused: {} of {name} {} a blank key, which nothing can match.",
                counted(counts.keyless_rows, "row"),
                if counts.keyless_rows == 1 { "has" } else { "have" },
            );
            paragraph(text, 2, &advice);
        }
    }
}

fn has_trouble(counts: &Counts) -> bool {
    [Kind::Unmatched, Kind::Ambiguous, Kind::BlankKey, Kind::Conflicting]
        .into_iter()
        .any(|kind| counts.of(kind) > 0)
}

fn on_pairs(main: &Headers, lookup: &Lookup) -> Vec<String> {
    let reference = lookup.reference();
    let columns = lookup.key().columns().iter().zip(reference.key().columns());
    let pair = |(&ours, &theirs): (&usize, &usize)| {
        let (ours, theirs) = (main.address(ours), reference.headers().address(theirs));
        if ours == theirs { ours } else { format!("{ours} = {theirs}") }
    };
    columns.map(pair).collect()
}

fn disputed(reference: &Reference) -> String {
    let columns = reference.disputed().map(|column| reference.headers().address(column));
    joined(&columns.collect::<Vec<_>>(), "and")
}

/// A row for the eye, with its line where that is not simply the one below the row before.
fn place(row: u64, line: u64) -> String {
    let row_text = number(row);
    if line == row + 1 {
        format!("row {row_text}")
    } else {
        format!("row {row_text} (line {})", number(line))
    }
}

/// The numbers of reference rows, the first few of them: `11, 109`.
fn numbers(rows: &[RowId]) -> String {
    let mut numbers: Vec<String> =
        rows.iter().take(SHOWN).map(|row| number(row.number())).collect();
    if rows.len() > SHOWN {
        numbers.push("…".to_owned());
    }
    numbers.join(", ")
}

/// `row 17: Fellside, H-012`, no wider than `room`; where it would be, the key is cut.
fn labelled<'k>(
    place: &str,
    key: impl Iterator<Item = &'k str>,
    behind: &str,
    room: usize,
) -> String {
    let others = place.chars().count() + 2 + behind.chars().count();
    format!("{place}: {}{behind}", wording::key(key, room.saturating_sub(others).max(12)))
}

/// The lines of counts, aligned with each other.
#[derive(Debug)]
struct Lines {
    digits: usize,
}

impl Lines {
    /// How much room is left for what stands behind a count.
    fn room(&self) -> usize {
        wording::width().saturating_sub(self.indent())
    }

    fn indent(&self) -> usize {
        4 + LABEL + 1 + self.digits + 1 + 8 + 2
    }

    fn kind(
        &self,
        text: &mut String,
        counts: &Counts,
        kind: Kind,
        style: Style,
        samples: &[String],
    ) {
        let count = counts.of(kind);
        let measure = match (kind, kind.population()) {
            (_, Population::MainRows) => format!("{:>8}", share(count, counts.main_rows)),
            (_, Population::ReferenceRows) => plural(count, "row"),
            (_, Population::ReferenceKeys) => plural(count, "key"),
        };
        let style = if count == 0 { FAINT } else { style };
        let indent = self.indent();
        let line = format!(
            "    {:LABEL$} {:>digits$} {measure:8}",
            kind.label(),
            number(count),
            digits = self.digits
        );
        let _ = write!(text, "{style}{}{style:#}", line.trim_end());
        for (nth, sample) in samples.iter().enumerate() {
            let indent = if nth == 0 { indent - line.trim_end().chars().count() } else { indent };
            let _ = writeln!(text, "{:indent$}{sample}", "");
        }
        let rest = count.saturating_sub(samples.len() as u64);
        if samples.is_empty() {
            text.push('\n');
        } else if rest > 0 && kind != Kind::Repeated {
            let _ = writeln!(text, "{:indent$}{FAINT}and {} more{FAINT:#}", "", number(rest));
        }
    }

    fn total(&self, text: &mut String, rows: u64) {
        let _ = writeln!(
            text,
            "    {:LABEL$} {:>digits$} {:>8}",
            "in all",
            number(rows),
            share(rows, rows),
            digits = self.digits
        );
    }
}

fn plural(count: u64, thing: &str) -> String {
    format!("{thing}{}", if count == 1 { "" } else { "s" })
}

fn paragraph(text: &mut String, indent: usize, words: &str) {
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

/// How the gates came out, one paragraph each; with `quiet` only those that do not hold.
pub(crate) fn gates(results: &[GateResult], quiet: bool) -> String {
    let mut text = String::new();
    for result in results.iter().filter(|result| !(quiet && result.holds)) {
        let (word, style) =
            if result.holds { ("holds", GOOD) } else { ("does not hold", BAD.bold()) };
        let of = match result.kind.population() {
            Population::MainRows => "main rows",
            Population::ReferenceRows => "rows",
            Population::ReferenceKeys => "keys",
        };
        let facts = format!(
            ": {}: {} of {} {of} {} ({})",
            result.reference,
            number(result.count),
            number(result.total),
            result.kind.label(),
            share(result.count, result.total),
        );
        let gate = format!("gate `{}` ", result.gate);
        let first = gate.chars().count() + word.len();
        let facts = wording::wrapped(&facts, first, "  ");
        let _ = writeln!(text, "{gate}{style}{word}{style:#}{facts}");
    }
    text
}
