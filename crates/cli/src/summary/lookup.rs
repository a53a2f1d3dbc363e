//! The summary of one reference: the outcome of every main row, and the state of its keys, with the first
//! few of each.

use std::fmt::Write;

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::RowOutput;
use gather_keys_core::findings::{Counts, Kind, LookupFindings, Sample};
use gather_keys_core::lookup::{Group, Lookup, Reference, RowId, Rule};

use super::{SHOWN, Summary, paragraph};
use crate::lines::Lines;
use crate::places::{self, labelled, place, reference_place, unread};
use crate::terminal::{GOOD, PLAIN, STRONG, TROUBLE};
use crate::wording::{self, counted};

impl Summary<'_> {
    /// The summary of one reference.
    pub(super) fn lookup(
        &self,
        text: &mut String,
        (lookup, taking): (&Lookup, &RowOutput),
        found: &LookupFindings,
        diagnosis: Option<&Diagnosis>,
    ) {
        let (reference, counts) = (lookup.reference(), &found.counts);
        let name = reference.name();
        let facts = format!(": {}, {}", held(reference, counts), matched_on(lookup));
        let facts = wording::wrapped(&facts, name.chars().count(), "  ");
        let _ = writeln!(text, "{STRONG}{name}{STRONG:#}{facts}\n");

        let lines = Lines::up_to(counts.main_rows.max(counts.reference_rows));
        let _ = writeln!(text, "  Rows of {}", self.main.table());
        lines.kind(text, counts, Kind::Matched, GOOD, &[]);
        if let Some(rule) = rule_name(reference.rule()) {
            let how = format!("chosen by the rule `{rule}`");
            lines.kind(text, counts, Kind::Chosen, GOOD, &[how]);
        }
        for kind in
            [Kind::Unmatched, Kind::NoHeader, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed]
        {
            let reads = !lookup.key().is_verbatim() || lookup.range_value().is_some();
            let is_possible = match kind {
                Kind::NoHeader => !lookup.named_columns().is_empty(),
                Kind::Malformed => reads || counts.of(kind) > 0,
                _ => true,
            };
            if is_possible {
                let samples = found.samples(kind).iter().take(SHOWN);
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

        if let Some(diagnosis) = diagnosis {
            self.reasons(text, lookup, found, diagnosis);
        }
        self.updates(text, taking, found);

        let _ = writeln!(text, "\n  Keys and rows of {}", reference.headers().table());
        if !reference.is_by_position() {
            keys(text, lookup, found, &lines);
        }
        let unused = found.unused(lookup).take(SHOWN).map(|row| {
            let place = reference_place(reference, row);
            let read = reference.row_as_read(row);
            labelled(&place, read.into_iter(), &range_behind(reference, row), lines.room())
        });
        let unused = unused.collect::<Vec<_>>();
        lines.kind(text, counts, Kind::Unused, PLAIN, &unused);
        if !reference.is_by_position() {
            let repeated = if counts.of(Kind::Repeated) == 0 {
                Vec::new()
            } else {
                let words = format!("needed by several rows of {}", self.main.table());
                vec![wording::cell(&words, lines.room())]
            };
            lines.kind(text, counts, Kind::Repeated, PLAIN, &repeated);
        }
        text.push('\n');
        if let Some(diagnosis) = diagnosis {
            self.fixes(text, lookup, found, &diagnosis.fixes);
        }
        for advice in self.advice(lookup, found, diagnosis) {
            paragraph(text, 2, &advice);
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
            (entries, _) => {
                let places = places::entries(reference, entries);
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
}

/// The state of a reference's keys.
fn keys(text: &mut String, lookup: &Lookup, found: &LookupFindings, lines: &Lines) {
    let (reference, counts) = (lookup.reference(), &found.counts);
    for (kind, conflicting) in [(Kind::Duplicate, false), (Kind::Conflicting, true)] {
        let groups = found.groups(lookup).filter(|group| group.conflicting == conflicting);
        let samples = groups.take(SHOWN).map(|group| {
            let entries = places::entries(reference, &group.entries);
            let first = group.entries[0];
            if reference.searched().is_empty() {
                let range = range_behind(reference, group.rows[0]);
                labelled(&entries, reference.as_read(first).into_iter(), &range, lines.room())
            } else {
                let key = wording::key(reference.as_compared(first), lines.room());
                let places = format!(" ({entries})");
                labelled(&key, std::iter::empty(), &places, lines.room())
            }
        });
        let style = if conflicting { TROUBLE } else { PLAIN };
        lines.kind(text, counts, kind, style, &samples.collect::<Vec<_>>());
    }
    if !reference.is_verbatim() {
        let groups = found.groups(lookup).filter(|group| group.collapsed);
        let samples = groups.take(SHOWN).map(|group| spellings(reference, &group, lines.room()));
        let samples = samples.collect::<Vec<_>>();
        lines.kind(text, counts, Kind::Collapsed, PLAIN, &samples);
    }
}

/// The name of the rule for keys whose rows disagree; `None` when there is none.
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

/// A row's range, to follow its key.
fn range_behind(reference: &Reference, row: RowId) -> String {
    reference.range_as_read(row).map_or(String::new(), |range| format!(" ({range})"))
}

/// `117 rows with 111 keys`.
fn held(reference: &Reference, counts: &Counts) -> String {
    let rows = counted(counts.reference_rows, "row");
    let keys = counted(counts.reference_keys, "key");
    if reference.is_filtered() {
        format!("{rows}, only the keys of main rows read")
    } else if reference.is_by_position() || reference.key().parts().is_empty() {
        rows
    } else if reference.is_spilled() {
        format!("{rows} with {keys}, in temporary files")
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
    for &entry in &group.entries {
        let spelling = reference.as_read(entry).join(", ");
        if !spellings.contains(&spelling) {
            spellings.push(spelling);
        }
    }
    let place = places::rows(reference, &group.rows);
    let room_left = room.saturating_sub(place.chars().count() + 2).max(12);
    format!("{place}: {}", wording::cell(&spellings.join(" | "), room_left))
}
