//! Why keys are unmatched, and what would fix them.

use std::fmt::Write;

use gather_keys_core::diagnosis::{Diagnosis, Fix};
use gather_keys_core::findings::LookupFindings;
use gather_keys_core::lookup::{EntryId, Lookup};
use gather_keys_core::report::BoundTold;

use super::Summary;
use super::lookup::indented;
use crate::places::{labelled, named_place};
use crate::wording::{self, counted, number};

/// How many reasons are reported.
const REPORTED: usize = 6;

/// Why rows are unmatched, the commonest reason first, each with its first row.
pub(super) fn reasons(
    text: &mut String,
    lookup: &Lookup,
    found: &LookupFindings,
    diagnosis: &Diagnosis,
) {
    let keys = found.unmatched.keys();
    let reasons = diagnosis.reasons(keys);
    let others = &reasons[reasons.len().min(REPORTED)..];
    let other_rows: u64 = others.iter().map(|(_, rows, _)| rows).sum();
    let counts = reasons.iter().map(|(_, rows, _)| *rows).chain([other_rows]);
    let digits = counts.map(|rows| number(rows).len()).max().unwrap_or(1);
    for (reason, rows, first) in reasons.iter().take(REPORTED) {
        let (key, explained) = (&keys[*first], &diagnosis.explained[*first]);
        let rows_text = if *rows == 1 { "row " } else { "rows" };
        let reason = reason.of(lookup);
        let count = format!("      {:>digits$} {rows_text}  ", number(*rows));
        let indent = " ".repeat(count.len());
        let _ = writeln!(text, "{count}{}", wording::wrapped(&reason, count.len(), &indent));
        let room = wording::width().saturating_sub(count.len());
        let near = explained
            .nearest
            .map_or(String::new(), |entry| format!(" (near {})", held(lookup, entry, room)));
        let place = named_place(key.name.as_deref(), key.row, key.line);
        let sample = labelled(&place, key.read(), &near, room);
        for line in sample.split('\n') {
            let _ = writeln!(text, "{indent}{line}");
        }
    }
    if !others.is_empty() {
        let more = counted(others.len() as u64, "other reason");
        let unit = if other_rows == 1 { "row " } else { "rows" };
        let _ = writeln!(text, "      {:>digits$} {unit}  for {more}", number(other_rows));
    }
    if let Some(bound) = BoundTold::of(diagnosis, found) {
        for bound in bounds(&bound) {
            indented(text, &bound);
        }
    }
}

/// How far reasons and nearest keys were sought, in sentences.
pub(crate) fn bounds(bound: &BoundTold) -> Vec<String> {
    let mut sentences = Vec::new();
    if bound.rows_not_examined > 0 {
        sentences.push(format!(
            "Reasons were searched for the first {} different keys; {} of further keys {} not \
             examined.",
            number(bound.keys),
            counted(bound.rows_not_examined, "row"),
            if bound.rows_not_examined == 1 { "was" } else { "were" },
        ));
    }
    if bound.keys_not_sought > 0 {
        sentences.push(format!(
            "Nearest keys were searched for {} of {}.",
            number(bound.keys - bound.keys_not_sought),
            counted(bound.keys, "unmatched key")
        ));
    }
    if bound.not_all_compared {
        sentences.push("Not every near key was compared; a nearer one may exist.".to_owned());
    }
    sentences
}

impl Summary<'_> {
    /// The changes that would match more rows, with their effects.
    pub(super) fn fixes(
        &self,
        text: &mut String,
        lookup: &Lookup,
        found: &LookupFindings,
        fixes: &[Fix],
    ) {
        let unmatched: u64 = found.unmatched.keys().iter().map(|key| key.rows).sum();
        let all = unmatched + found.unmatched.beyond();
        for fix in fixes {
            text.push('\n');
            let would = if fix.only_key { "would find their key" } else { "would match" };
            let example = fix.unlike_example.as_ref();
            let unlike = example.map_or(String::new(), |[main, reference]| {
                unlike(fix.unlike, main, reference) + ","
            });
            let all = counted(all, "row");
            let words = format!("{} of {all} {would}{unlike} with", number(fix.fixed));
            indented(text, &words);
            for line in as_written(&fix.on, self.in_plan) {
                let _ = writeln!(text, "          {line}");
            }
            let name = lookup.reference().name();
            indented(text, &effect(fix.newly_ambiguous, fix.lost, fix.joined, name));
        }
    }
}

/// The key as it is to be written, on the command line or in a plan, line by line.
pub(crate) fn as_written(on: &[String], in_plan: bool) -> Vec<String> {
    if let ([only], true) = (on, in_plan) {
        return vec![format!("on = {}", in_toml(only))];
    }
    if in_plan {
        let parts = on.iter().map(|part| format!("    {},", in_toml(part)));
        return ["on = [".to_owned()].into_iter().chain(parts).chain(["]".to_owned()]).collect();
    }
    let parts = on.iter().enumerate().map(|(nth, part)| {
        let more = if nth + 1 < on.len() { " \\" } else { "" };
        format!("--on '{}'{more}", part.replace('\'', "'\\''"))
    });
    parts.collect()
}

/// A text as it is in a plan.
fn in_toml(text: &str) -> String {
    if text.contains('\'') { format!("{text:?}") } else { format!("'{text}'") }
}

/// How many rows a fix would match although letters differ, to follow what it would match.
pub(crate) fn unlike(rows: u64, main: &str, reference: &str) -> String {
    let (main, reference) = (wording::cell(main, 24), wording::cell(reference, 24));
    format!(", {} of them although letters differ (`{main}` with `{reference}`)", number(rows))
}

/// The side effects of a fix, in a sentence.
pub(crate) fn effect(newly_ambiguous: u64, lost: u64, joined: u64, name: &str) -> String {
    let mut but = Vec::new();
    if newly_ambiguous > 0 {
        but.push(format!("{} would become ambiguous", counted(newly_ambiguous, "row")));
    }
    if lost > 0 {
        let those = if lost == 1 { "that matches" } else { "that match" };
        but.push(format!("{} {those} now would not", counted(lost, "row")));
    }
    let joined = match joined {
        0 => String::new(),
        1 => format!("; 1 key of {name} would become the same as another"),
        more => {
            format!("; {} of {name} would become the same as others", counted(more, "key"))
        }
    };
    match &but[..] {
        [] => format!("and nothing would become ambiguous{joined}."),
        but => format!("but {}{joined}.", but.join(" and ")),
    }
}

/// The key of an entry, as it is printed.
pub(crate) fn held(lookup: &Lookup, entry: EntryId, room: usize) -> String {
    let reference = lookup.reference();
    if reference.searched().is_empty() {
        wording::key(reference.as_read(entry).into_iter(), room)
    } else {
        wording::key(reference.as_compared(entry), room)
    }
}
