//! What a run found, for the person at the terminal.
//!
//! In go the findings, out comes a text of at most the terminal's width: for each reference the
//! outcome of every main row, the state of the reference's keys, the first few of each trouble
//! with their rows, and what to do about them.

use std::fmt::Write;

use anstyle::{AnsiColor, Style};
use gather_keys_core::enrich::{Enrichment, Note};
use gather_keys_core::findings::{Counts, Findings, GateResult, Kind, LookupFindings, Population};
use gather_keys_core::key::Unreadable;
use gather_keys_core::lookup::{Group, Lookup, Reference, RowId, Rule};
use gather_keys_core::table::Headers;
use gather_keys_core::template::Bound;

use crate::inputs::ReadAs;
use crate::lines::{GOOD, Lines, TROUBLE};
use crate::wording::{self, counted, joined, number, share};

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
}

impl Summary<'_> {
    /// The text.
    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        let lookups = self.enrichment.lookups().zip(&self.findings.lookups);
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
        let pairs = on_pairs(lookup);
        let facts = format!(
            ": {} with {}, on {}",
            counted(counts.reference_rows, "row"),
            counted(counts.reference_keys, "key"),
            pairs.join(", ")
        );
        let name = reference.name();
        let facts = wording::wrapped(&facts, name.chars().count(), "  ");
        let _ = writeln!(text, "{STRONG}{name}{STRONG:#}{facts}\n");

        let lines = Lines::up_to(counts.main_rows.max(counts.reference_rows));
        let _ = writeln!(text, "  Rows of {}", self.main.table());
        lines.kind(text, counts, Kind::Matched, GOOD, &[]);
        if let Some(rule) = rule_name(reference.rule()) {
            let how = format!("of these, by the rule `{rule}`");
            lines.kind(text, counts, Kind::Chosen, GOOD, &[how]);
        }
        for kind in [Kind::Unmatched, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed] {
            if kind == Kind::Malformed && lookup.key().is_verbatim() {
                continue;
            }
            let room = lines.room();
            let samples = found.samples(kind).iter().map(|sample| {
                let place = place(sample.row, sample.line);
                let key = sample.key.iter().map(String::as_str);
                if let Some(unreadable) = &sample.unreadable {
                    return unread(&place, self.main, unreadable, room);
                }
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
                labelled(&rows, reference.as_read(group.rows[0]).into_iter(), "", lines.room())
            });
            let style = if conflicting { TROUBLE } else { Style::new() };
            lines.kind(text, counts, kind, style, &samples.collect::<Vec<_>>());
        }
        if !reference.key().is_verbatim() {
            let groups = reference.groups().filter(|group| group.collapsed);
            let samples =
                groups.take(SHOWN).map(|group| spellings(reference, &group, lines.room()));
            let samples = samples.collect::<Vec<_>>();
            lines.kind(text, counts, Kind::Collapsed, Style::new(), &samples);
        }
        let unused = found.unused(lookup).take(SHOWN).map(|row| {
            let place = place(row.number(), reference.line(row));
            labelled(&place, reference.as_read(row).into_iter(), "", lines.room())
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
        let settled = !matches!(reference.rule(), Rule::Report | Rule::Highest | Rule::Lowest);
        if counts.of(Kind::Ambiguous) > 0 || (counts.of(Kind::Conflicting) > 0 && !settled) {
            let kind =
                if counts.of(Kind::Ambiguous) > 0 { Kind::Ambiguous } else { Kind::Conflicting };
            let words = match reference.rule() {
                Rule::Highest | Rule::Lowest => {
                    "the rule can't choose where a value is neither a number nor a date, or where \
                     rows of the same value disagree; correct these rows"
                }
                _ => {
                    "keep one row for each key, take only columns on which they agree, or say \
                     with --when-duplicate which row counts"
                }
            };
            let advice = format!(
                "{}: rows of {name} that share a key disagree on {}; {words}.",
                kind.label(),
                disputed(reference),
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
        if counts.of(Kind::Malformed) > 0 {
            let advice = format!(
                "malformed: correct these values in {}, or put a step before the one that can't \
                 read them.",
                self.main.table()
            );
            paragraph(text, 2, &advice);
        }
        if counts.malformed_rows > 0 {
            let first = reference.malformed().first().map(|&row| {
                let unreadable = reference.key().unreadable(&reference.as_read(row));
                let place = place(row.number(), reference.line(row));
                unreadable.map(|bad| unread(&place, reference.headers(), &bad, 60))
            });
            let advice = format!(
                "unused: {} of {name} {} a malformed key, which nothing can match; {}.",
                counted(counts.malformed_rows, "row"),
                if counts.malformed_rows == 1 { "has" } else { "have" },
                first.flatten().unwrap_or_default(),
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
    [Kind::Unmatched, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed, Kind::Conflicting]
        .into_iter()
        .any(|kind| counts.of(kind) > 0)
}

/// What the rule for keys whose rows disagree is called; `None` when there is none.
fn rule_name(rule: Rule) -> Option<&'static str> {
    Some(match rule {
        Rule::Report => return None,
        Rule::First => "first",
        Rule::Last => "last",
        Rule::Highest => "highest",
        Rule::Lowest => "lowest",
        Rule::Every => "every",
        Rule::List => "list",
    })
}

/// The parts of the key as they were written: `Apiary = Site code`.
pub(crate) fn on_pairs(lookup: &Lookup) -> Vec<String> {
    let parts = lookup.key().parts().iter().zip(lookup.reference().key().parts());
    let pair = |(ours, theirs): (&Bound, &Bound)| {
        let (ours, theirs) = (ours.template().to_string(), theirs.template().to_string());
        if ours == theirs { ours } else { format!("{ours} = {theirs}") }
    };
    parts.map(pair).collect()
}

/// `row 17: number can't read "n/a" in Hive`.
pub(crate) fn unread(
    place: &str,
    headers: &Headers,
    unreadable: &Unreadable,
    room: usize,
) -> String {
    let Unreadable { column, step, value } = unreadable;
    let step = step.split_whitespace().next().unwrap_or_default();
    let before = format!("{place}: `{step}` can't read ");
    let behind = format!(" in {}", wording::cell(&headers.address(*column), 12));
    let left = room.saturating_sub(before.chars().count() + behind.chars().count());
    format!("{before}{}{behind}", wording::cell(&format!("{value:?}"), left.max(8)))
}

/// `rows 12, 77: H-7, h-007`: how rows of one key spell it.
fn spellings(reference: &Reference, group: &Group, room: usize) -> String {
    let mut spellings: Vec<String> = Vec::new();
    for &row in &group.rows {
        let spelling = reference.as_read(row).join(", ");
        if !spellings.contains(&spelling) {
            spellings.push(spelling);
        }
    }
    let place = format!("rows {}", numbers(&group.rows));
    let room_left = room.saturating_sub(place.chars().count() + 2).max(12);
    format!("{place}: {}", wording::cell(&spellings.join(" | "), room_left))
}

fn disputed(reference: &Reference) -> String {
    let columns = reference.disputed().map(|column| reference.headers().address(column));
    joined(&columns.collect::<Vec<_>>(), "and")
}

/// A row for the eye, with its line where that is not simply the one below the row before.
pub(crate) fn place(row: u64, line: u64) -> String {
    let row_text = number(row);
    if line == row + 1 {
        format!("row {row_text}")
    } else {
        format!("row {row_text} (line {})", number(line))
    }
}

/// The numbers of reference rows, the first few of them: `11, 109`.
pub(crate) fn numbers(rows: &[RowId]) -> String {
    let mut numbers: Vec<String> =
        rows.iter().take(SHOWN).map(|row| number(row.number())).collect();
    if rows.len() > SHOWN {
        numbers.push("…".to_owned());
    }
    numbers.join(", ")
}

/// `row 17: Fellside, H-012`, no wider than `room`; where it would be, the key is cut.
pub(crate) fn labelled<'k>(
    place: &str,
    key: impl Iterator<Item = &'k str>,
    behind: &str,
    room: usize,
) -> String {
    let others = place.chars().count() + 2 + behind.chars().count();
    format!("{place}: {}{behind}", wording::key(key, room.saturating_sub(others).max(12)))
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
