//! What a run found, for the person at the terminal.
//!
//! In go the findings, out comes a text of at most the terminal's width: for each reference the
//! outcome of every main row, the state of the reference's keys, the first few of each trouble
//! with their rows, and what to do about them.

use std::fmt::Write;

use anstyle::{AnsiColor, Style};
use gather_keys_core::enrich::{Enrichment, Note, Written};
use gather_keys_core::findings::{
    Counts, Findings, GateResult, Kind, LookupFindings, Population, Sample,
};
use gather_keys_core::lookup::{Group, Lookup, Reference, RowId, Rule};
use gather_keys_core::receipt::NewKeys;
use gather_keys_core::table::Headers;

use crate::edits::Edits;
use crate::inputs::ReadAs;
use crate::lines::{GOOD, Lines, TROUBLE};
use crate::places::{self, labelled, place, reference_place, unread};
use crate::receipts::Moved;
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
    /// The file of corrections, if one was named.
    pub(crate) corrections: Option<&'a str>,
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
        if let Some(file) = self.corrections {
            self.corrected(&mut text, file);
        }
        let troubled = self.findings.lookups.iter().any(|found| has_trouble(&found.counts));
        if troubled && !self.listed {
            paragraph(&mut text, 2, "To see every row of these findings, add --lists DIR.");
        }
        text
    }

    fn lookup(&self, text: &mut String, lookup: &Lookup, found: &LookupFindings) {
        let (reference, counts) = (lookup.reference(), &found.counts);
        let name = reference.name();
        let facts = format!(": {}, {}", held(reference, counts), matched_on(lookup));
        let facts = wording::wrapped(&facts, name.chars().count(), "  ");
        let _ = writeln!(text, "{STRONG}{name}{STRONG:#}{facts}\n");

        let lines = Lines::up_to(counts.main_rows.max(counts.reference_rows));
        let _ = writeln!(text, "  Rows of {}", self.main.table());
        lines.kind(text, counts, Kind::Matched, GOOD, &[]);
        if let Some(rule) = rule_name(reference.rule()) {
            let how = format!("of these, by the rule `{rule}`");
            lines.kind(text, counts, Kind::Chosen, GOOD, &[how]);
        }
        for kind in
            [Kind::Unmatched, Kind::NoHeader, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed]
        {
            let reads = !lookup.key().is_verbatim() || lookup.value().is_some();
            let is_possible = match kind {
                Kind::NoHeader => !lookup.namings().is_empty(),
                Kind::Malformed => reads || counts.of(kind) > 0,
                _ => true,
            };
            if is_possible {
                let samples = found.samples(kind).iter();
                let samples: Vec<String> =
                    samples.map(|sample| self.sample(lookup, kind, sample, lines.room())).collect();
                lines.kind(text, counts, kind, TROUBLE, &samples);
            }
        }
        lines.total(text, counts.main_rows);
        if counts.main_rows != self.findings.main_rows {
            let repeated = format!(
                "in all: the {} of {}, as the references before repeat them",
                counted(self.findings.main_rows, "row"),
                self.main.table()
            );
            paragraph(text, 4, &repeated);
        }

        self.updates(text, found);

        let _ = writeln!(text, "\n  Keys and rows of {}", reference.headers().table());
        if !reference.is_by_position() {
            keys(text, lookup, counts, &lines);
        }
        let unused = found.unused(lookup).take(SHOWN).map(|row| {
            let place = reference_place(reference, row);
            let read = reference.row_as_read(row);
            labelled(&place, read.into_iter(), &range_behind(reference, row), lines.room())
        });
        let unused = unused.collect::<Vec<_>>();
        lines.kind(text, counts, Kind::Unused, Style::new(), &unused);
        if !reference.is_by_position() {
            let repeated = if counts.of(Kind::Repeated) == 0 {
                Vec::new()
            } else {
                vec![format!("asked for by several rows of {}", self.main.table())]
            };
            lines.kind(text, counts, Kind::Repeated, Style::new(), &repeated);
        }
        text.push('\n');
        self.advice(text, lookup, counts);
    }

    /// What became of the cells of updated columns, and the rows that were added.
    fn updates(&self, text: &mut String, found: &LookupFindings) {
        if !found.updates.is_empty() {
            let _ = writeln!(text, "\n  Cells of {}", self.main.table());
        }
        for update in &found.updates {
            let header = wording::cell(&self.enrichment.headers().address(update.column), 24);
            let told = Written::ALL.iter().filter_map(|&written| {
                let count = update.written.of(written);
                let always = matches!(written, Written::Filled | Written::Replaced);
                let word = match written {
                    Written::Same => "the same already",
                    Written::Left => "left as they were",
                    written => written.label(),
                };
                (count > 0 || always).then(|| format!("{} {word}", number(count)))
            });
            let told: Vec<String> = told.collect();
            paragraph(text, 4, &format!("{header}: {}", joined(&told, "and")));
        }
        let Some(appended) = &found.appended else { return };
        let rows = counted(appended.rows, "row");
        let verb = if appended.rows == 1 { "is" } else { "are" };
        paragraph(text, 4, &format!("{rows} that nothing asked for {verb} added at the end"));
        let not = &appended.not;
        let reasons = [
            (not.blank_key, "a blank key"),
            (not.malformed, "a malformed key"),
            (not.ambiguous, "a key on rows that disagree"),
            (not.not_apart, "a key that can't be taken apart into the main table's columns"),
        ];
        let reasons = reasons.iter().filter(|(count, _)| *count > 0);
        let reasons: Vec<String> =
            reasons.map(|(count, why)| format!("{} with {why}", number(*count))).collect();
        if !reasons.is_empty() {
            let verb = if not.all() == 1 { "is" } else { "are" };
            let words = format!("not added {verb} {}", joined(&reasons, "and"));
            paragraph(text, 4, &words);
        }
    }

    /// What became of corrections.
    fn corrected(&self, text: &mut String, file: &str) {
        let all = &self.findings.corrected;
        let lines = Lines::up_to(self.findings.main_rows);
        let count = counted(all.len() as u64, "correction");
        let _ = writeln!(text, "\n{STRONG}{file}{STRONG:#}: {count}\n");
        let told = |one: &&gather_keys_core::enrich::Corrected| {
            let key = one.correction.key.iter().map(String::as_str);
            let behind = format!(" ({})", one.correction.header);
            labelled(&format!("row {}", number(one.correction.row)), key, &behind, lines.room())
        };
        let kinds: [(&str, Style, &dyn Fn(u64, u64) -> bool); 3] = [
            ("corrected", GOOD, &|changed, _| changed > 0),
            ("needless", TROUBLE, &|changed, same| changed == 0 && same > 0),
            ("gone", TROUBLE, &|changed, same| changed == 0 && same == 0),
        ];
        let mut counts = [0; 3];
        for ((label, style, is_such), count) in kinds.into_iter().zip(&mut counts) {
            let such = all.iter().filter(|one| is_such(one.changed, one.same));
            *count = such.clone().count() as u64;
            let samples: Vec<String> =
                such.filter(|_| label != "corrected").take(SHOWN).map(|one| told(&one)).collect();
            let cells: u64 = all.iter().map(|one| one.changed).sum();
            let samples = match (label, cells) {
                ("corrected", 1..) => vec![format!("in {}", counted(cells, "cell"))],
                _ => samples,
            };
            let many = if label == "corrected" { samples.len() as u64 } else { *count };
            lines.line(text, (label, *count, ""), style, (&samples, many));
        }
        text.push('\n');
        let [_, needless, gone] = counts;
        if needless > 0 {
            let words = format!(
                "needless: the tables give that value themselves now; take {} out of {file}.",
                if needless == 1 { "it" } else { "them" }
            );
            paragraph(text, 2, &words);
        }
        if gone > 0 {
            let words = format!(
                "gone: no row of {} has that key any more; correct {file}, or take {} out.",
                self.main.table(),
                if gone == 1 { "it" } else { "them" }
            );
            paragraph(text, 2, &words);
        }
    }

    /// A main row in trouble.
    fn sample(&self, lookup: &Lookup, kind: Kind, sample: &Sample, room: usize) -> String {
        let reference = lookup.reference();
        let place = place(sample.row, sample.line);
        let key = sample.key.iter().map(String::as_str);
        if let Some(unreadable) = &sample.unreadable {
            return unread(&place, self.enrichment.headers(), unreadable, room);
        }
        let nearest = sample.nearest.and_then(|row| reference.range_as_read(row));
        let behind = match (&sample.candidates[..], nearest) {
            ([], None) => String::new(),
            ([], Some(range)) => format!(" (near {range})"),
            (holders, _) => {
                let places = places::holders(reference, holders);
                let joint = if places.starts_with("rows") { "in " } else { "" };
                format!(" ({joint}{places})")
            }
        };
        match &sample.header {
            Some((header, nearest)) if kind == Kind::NoHeader => {
                let near = match nearest.first() {
                    Some(near) => format!(" (near {near})"),
                    None => String::new(),
                };
                labelled(&place, [&header[..]].into_iter(), &near, room)
            }
            _ => labelled(&place, key, &behind, room),
        }
    }

    /// What to do about each trouble.
    fn advice(&self, text: &mut String, lookup: &Lookup, counts: &Counts) {
        let reference = lookup.reference();
        let name = reference.name();
        advice_on_unmatched(text, lookup, counts);
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
                "{}: rows of {name} {} disagree on {}; {words}.",
                kind.label(),
                if lookup.value().is_some() { "whose ranges overlap" } else { "that share a key" },
                disputed(reference),
            );
            paragraph(text, 2, &advice);
        }
        if counts.of(Kind::BlankKey) > 0 {
            let headers = self.enrichment.headers();
            let (own, taken): (Vec<usize>, Vec<usize>) =
                lookup.columns().into_iter().partition(|&column| column < self.main.len());
            let names = |columns: &[usize]| {
                let names = columns.iter().map(|&column| headers.address(column));
                joined(&names.collect::<Vec<_>>(), "and")
            };
            let mut mends = Vec::new();
            if !own.is_empty() {
                mends.push(format!("fill in {} where blank in {}", names(&own), self.main.table()));
            }
            if !taken.is_empty() {
                let is = if taken.len() == 1 { "is" } else { "are" };
                mends.push(format!(
                    "{} {is} blank where the references before give no answer: mend that first",
                    names(&taken)
                ));
            }
            paragraph(text, 2, &format!("blank key: {}.", mends.join("; ")));
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
                let place = reference_place(reference, row);
                let unreadable = reference.unreadable(row);
                unreadable.map(|bad| unread(&place, reference.headers(), &bad, 60))
            });
            let advice = format!(
                "malformed: {} of {name} {} a malformed key, which nothing can match; {}.",
                counted(counts.malformed_rows, "row"),
                if counts.malformed_rows == 1 { "has" } else { "have" },
                first.flatten().unwrap_or_default(),
            );
            paragraph(text, 2, &advice);
        }
        if counts.keyless_rows > 0 {
            let range = reference.keyless().first().and_then(|&row| reference.range_as_read(row));
            let (what, mend) = match range {
                None => ("key", String::new()),
                Some(_) => (
                    "key or bound",
                    "; say with a step what a blank bound stands for, such as `| or \
                     \"9999-12-31\"`"
                        .to_owned(),
                ),
            };
            let advice = format!(
                "unused: {} of {name} {} a blank {what}, which nothing can match{mend}.",
                counted(counts.keyless_rows, "row"),
                if counts.keyless_rows == 1 { "has" } else { "have" },
            );
            paragraph(text, 2, &advice);
        }
    }
}

/// The state of a reference's keys.
fn keys(text: &mut String, lookup: &Lookup, counts: &Counts, lines: &Lines) {
    let reference = lookup.reference();
    for (kind, conflicting) in [(Kind::Duplicate, false), (Kind::Conflicting, true)] {
        let groups = reference.groups().filter(|group| group.conflicting == conflicting);
        let samples = groups.take(SHOWN).map(|group| {
            let holders = places::holders(reference, &group.holders);
            let first = group.holders[0];
            if reference.looked_in().is_empty() {
                let range = range_behind(reference, group.rows[0]);
                labelled(&holders, reference.as_read(first).into_iter(), &range, lines.room())
            } else {
                let key = wording::key(reference.as_compared(first), lines.room());
                let places = format!(" ({holders})");
                labelled(&key, std::iter::empty(), &places, lines.room())
            }
        });
        let style = if conflicting { TROUBLE } else { Style::new() };
        lines.kind(text, counts, kind, style, &samples.collect::<Vec<_>>());
    }
    if !reference.is_verbatim() {
        let groups = reference.groups().filter(|group| group.collapsed);
        let samples = groups.take(SHOWN).map(|group| spellings(reference, &group, lines.room()));
        let samples = samples.collect::<Vec<_>>();
        lines.kind(text, counts, Kind::Collapsed, Style::new(), &samples);
    }
}

/// What to do about rows that nothing answers, by why that is.
fn advice_on_unmatched(text: &mut String, lookup: &Lookup, counts: &Counts) {
    let reference = lookup.reference();
    let name = reference.name();
    let out_of_range = counts.out_of_range;
    let no_header = counts.of(Kind::NoHeader);
    let no_key = counts.of(Kind::Unmatched) - out_of_range - no_header;
    if no_key > 0 && reference.is_by_position() {
        let advice = format!(
            "unmatched: {name} has fewer rows; add those that are missing, or match it on a \
             key."
        );
        paragraph(text, 2, &advice);
    } else if no_key > 0 {
        let them = match counts.of(Kind::Unused) {
            0 => "add the missing rows to it".to_owned(),
            _ => "compare their spelling with its unused keys, or add the missing rows".into(),
        };
        let advice = format!("unmatched: {name} has no such keys; {them}.");
        paragraph(text, 2, &advice);
    }
    if out_of_range > 0 {
        let advice = format!(
            "unmatched: {name} holds the key of {}, but in no range that the value lies in; \
             add a row for the gap, or correct the bounds or the value.",
            counted(out_of_range, "row"),
        );
        paragraph(text, 2, &advice);
    }
    if no_header > 0 {
        let templates = lookup.namings().iter();
        let templates = templates.map(|naming| naming.template().template().to_string());
        let advice = format!(
            "no header: {} that {name} does not have; correct the value, add the column, or \
             let steps in `{}` make it a header.",
            if no_header == 1 {
                "1 row names a header".to_owned()
            } else {
                format!("{} name headers", counted(no_header, "row"))
            },
            joined(&templates.collect::<Vec<_>>(), "and"),
        );
        paragraph(text, 2, &advice);
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

/// A row's range, to stand behind its key.
fn range_behind(reference: &Reference, row: RowId) -> String {
    reference.range_as_read(row).map_or(String::new(), |range| format!(" ({range})"))
}

/// `117 rows with 111 keys`.
fn held(reference: &Reference, counts: &Counts) -> String {
    let rows = counted(counts.reference_rows, "row");
    let keys = counted(counts.reference_keys, "key");
    if reference.is_by_position() || reference.key().parts().is_empty() {
        rows
    } else {
        format!("{rows} with {keys}")
    }
}

/// `on Apiary = Site code, Hive = Tag`.
fn matched_on(lookup: &Lookup) -> String {
    if lookup.reference().is_by_position() {
        "matched by position".to_owned()
    } else {
        format!("on {}", lookup.on().join(", "))
    }
}

/// `rows 12, 77: H-7, h-007`: how rows of one key spell it.
fn spellings(reference: &Reference, group: &Group, room: usize) -> String {
    let mut spellings: Vec<String> = Vec::new();
    for &holder in &group.holders {
        let spelling = reference.as_read(holder).join(", ");
        if !spellings.contains(&spelling) {
            spellings.push(spelling);
        }
    }
    let place = places::rows(reference, &group.rows);
    let room_left = room.saturating_sub(place.chars().count() + 2).max(12);
    format!("{place}: {}", wording::cell(&spellings.join(" | "), room_left))
}

fn disputed(reference: &Reference) -> String {
    let columns = reference.disputed().map(|column| reference.headers().address(column));
    joined(&columns.collect::<Vec<_>>(), "and")
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

/// What has moved since the run before, a sentence each.
pub(crate) fn moved(all: &[Moved]) -> Vec<String> {
    if all.is_empty() {
        return vec!["Nothing has moved since the run before.".to_owned()];
    }
    let named = |names: &[String]| {
        let ticked: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
        joined(&ticked, "and")
    };
    let told = all.iter().map(|moved| match moved {
        Moved::Program { before } => {
            format!("the program is version {} now; it was {before}.", env!("CARGO_PKG_VERSION"))
        }
        Moved::Plan => "what is asked for is another than before.".to_owned(),
        Moved::Table { role, path, is_new: true } => format!("{path} is read for {role} now."),
        Moved::Table { role, path, is_new: false } => {
            format!("{path} is not read for {role} any more.")
        }
        Moved::Headers { path, gone, new } => match (&gone[..], &new[..]) {
            ([], []) => format!("{path} has its columns in another order."),
            (gone, []) => format!("{path} has no {} any more.", named(gone)),
            ([], new) => format!("{path} has {} besides.", named(new)),
            (gone, new) => format!("{path} has {} instead of {}.", named(new), named(gone)),
        },
        Moved::Rows { path, before, now } => {
            let (differs, word) = match now > before {
                true => (now - before, "more"),
                false => (before - now, "fewer"),
            };
            let rows = if differs == 1 { "row" } else { "rows" };
            let all = counted(*now, "row");
            format!("{path} has {} {rows} {word}, {all} in all.", number(differs))
        }
        Moved::Cells { path } => format!("{path} has other content in as many rows."),
        Moved::Keys { reference, unmatched, new } => {
            let NewKeys { count, first, or_more } = new;
            let at_least = if *or_more { "at least " } else { "" };
            let what = if *unmatched { "unmatched" } else { "duplicate" };
            let keys = if *count == 1 { "key is" } else { "keys are" };
            let rest = if *count as usize > first.len() { "; …" } else { "" };
            format!(
                "{reference}: {at_least}{} {keys} {what} that {} not: {}{rest}.",
                number(*count),
                if *count == 1 { "was" } else { "were" },
                first.join("; ")
            )
        }
    });
    told.map(|words| format!("Moved since the run before: {words}")).collect()
}

/// What was changed by hand in an output, and what to do about it.
pub(crate) fn edits(name: &str, edits: &Edits, has_file: bool) -> String {
    let mut text = String::new();
    let head = format!("{name} was changed by hand since it was written, and is left as it is.");
    let _ = writeln!(text, "\n{BAD}{}{BAD:#}", wording::wrapped(&head, 0, "  "));
    if let Some(headers) = &edits.headers {
        paragraph(&mut text, 2, &format!("Its headers are now {}.", headers.join(", ")));
    }
    for row in edits.rows.iter().take(EDITS_SHOWN) {
        for cell in &row.cells {
            let shown = |cell: &str| match cell {
                "" => "(blank)".to_owned(),
                cell => wording::cell(cell, 28),
            };
            let words = format!(
                "row {}, {}: {} was {}",
                number(row.row),
                wording::cell(&cell.header, 24),
                shown(&cell.is),
                shown(&cell.was)
            );
            paragraph(&mut text, 2, &words);
        }
    }
    let rest = edits.rows.len().saturating_sub(EDITS_SHOWN) as u64;
    if rest > 0 {
        let verb = if rest == 1 { "is" } else { "are" };
        paragraph(&mut text, 2, &format!("and {} more {verb} changed", counted(rest, "row")));
    }
    for rows in edits.unclear.iter().take(EDITS_SHOWN) {
        let last = rows.end - 1;
        let rows = match last == rows.start {
            true => format!("row {}", number(last)),
            false => format!("rows {} to {}", number(rows.start), number(last)),
        };
        paragraph(&mut text, 2, &format!("{rows}: changed, and the tables have moved there too"));
    }
    let more = edits.unclear.len().saturating_sub(EDITS_SHOWN) as u64;
    if more > 0 {
        paragraph(&mut text, 2, &format!("and {} more", counted(more, "place")));
    }
    for (count, word) in [(edits.added, "new"), (edits.removed, "gone")] {
        if count > 0 {
            let verb = if count == 1 { "is" } else { "are" };
            paragraph(&mut text, 2, &format!("{} {verb} {word}", counted(count, "row")));
        }
    }
    let keep = match (edits.is_unclear(), has_file) {
        (true, _) => "To keep them, make them in the tables or the corrections by hand.",
        (false, true) => "To keep them as corrections, run again with --edits keep.",
        (false, false) => {
            "To keep them as corrections, run again with --edits keep --corrections FILE."
        }
    };
    let words = format!("{keep} To write over them, run with --edits discard; a copy is kept.");
    paragraph(&mut text, 2, &words);
    text
}

/// How many changed rows are shown.
const EDITS_SHOWN: usize = 12;
