//! The report as Markdown.

use std::fmt::Write;

use gather_keys_core::report::{ReferenceTold, Report};

use super::{row_of, rows_of};
use crate::summary::{bounds, effect, unlike};
use crate::wording::{self, counted, joined, number, share};

/// The Markdown of a report.
pub(super) fn markdown(report: &Report) -> String {
    let mut text = String::new();
    let _ = writeln!(text, "# {}\n", plain(&report.title));
    let _ = writeln!(text, "{}\n", plain(&super::outcome(report)));
    let rows = counted(report.main.rows, "row");
    let added = report.written.as_ref().filter(|written| written.appeared);
    let added: Vec<String> = added
        .map(|written| written.added.iter().map(|one| plain(one)).collect())
        .unwrap_or_default();
    let added = if added.is_empty() {
        String::new()
    } else {
        format!(", with {} added", joined(&added, "and"))
    };
    let _ = writeln!(text, "{rows} of {}{added}.\n", plain(&report.main.name));
    list(&mut text, "## Changed by hand", &report.edits);
    list(&mut text, "## Since the run before", &report.since);
    for gate in &report.gates {
        let outcome = if gate.holds { "holds" } else { "**does not hold**" };
        let _ = writeln!(
            text,
            "- `{}` {outcome}: {}: {} of {}",
            gate.gate.replace('`', "'"),
            plain(&gate.reference),
            number(gate.count),
            number(gate.total)
        );
    }
    for reported in &report.references {
        reference(&mut text, reported);
    }
    if report.command.is_some() || report.plan.is_some() {
        let _ = writeln!(text, "\n## How it was run");
    }
    for block in [&report.command, &report.plan].into_iter().flatten() {
        // A fence that is in the text itself would end it.
        let runs = block.split(|sign| sign != '`').map(str::len);
        let fence = "`".repeat(runs.max().unwrap_or(0).max(2) + 1);
        let _ = writeln!(text, "\n{fence}\n{}\n{fence}", block.trim_end());
    }
    text
}

/// Headers with the columns of a key between them.
fn around(before: &[&str], key: &[String], behind: &[&str]) -> Vec<String> {
    let (before, behind) = (before.iter().map(|&one| one.to_owned()), behind.iter());
    let key = key.iter().map(|header| plain(header));
    before.chain(key).chain(behind.map(|&one| one.to_owned())).collect()
}

/// The cells of a key, one for each of its columns.
fn in_columns(key: &[String], columns: &[String]) -> Vec<String> {
    super::in_columns(key, columns.len()).iter().map(|shown| cells(shown)).collect()
}

/// A heading with a list, where there is something in it.
fn list(text: &mut String, heading: &str, all: &[String]) {
    if all.is_empty() {
        return;
    }
    let _ = writeln!(text, "{heading}\n");
    for one in all {
        let _ = writeln!(text, "- {}", plain(one));
    }
    text.push('\n');
}

fn reference(text: &mut String, reported: &ReferenceTold) {
    let rows: u64 = reported.outcomes.iter().map(|outcome| outcome.count).sum();
    let _ = writeln!(text, "\n## {}\n", plain(&reported.name));
    let on: Vec<String> = reported.on.iter().map(|part| code(part)).collect();
    let _ = writeln!(
        text,
        "{} with {}, matched on {}.",
        counted(reported.rows, "row"),
        counted(reported.keys, "key"),
        on.join(", ")
    );
    if !reported.fixes.is_empty() || !reported.advice.is_empty() {
        let _ = writeln!(text, "\n### What to do\n");
    }
    for fix in &reported.fixes {
        let on: Vec<String> = fix.on.iter().map(|part| code(part)).collect();
        let _ = writeln!(
            text,
            "- {} would match on {}{}, {}",
            counted(fix.fixed, "unmatched row"),
            on.join(", "),
            fix.unlike_example.as_ref().map_or(String::new(), |example| {
                unlike(fix.unlike, &plain(&example.main), &plain(&example.reference))
            }),
            effect(fix.newly_ambiguous, fix.lost, fix.joined, &plain(&reported.name))
        );
    }
    for advice in &reported.advice {
        let _ = writeln!(text, "- {}", plain(advice));
    }
    if !reported.reasons.is_empty() {
        let _ = writeln!(text, "\n### Why rows are unmatched");
        let reasons = reported.reasons.iter().map(|reason| {
            let example = reason.example.as_ref().map_or(String::new(), |key| {
                let near = key.nearest.as_ref();
                let near = near.map_or(String::new(), |near| format!(", near {}", cells(near)));
                let place = match &key.name {
                    Some(name) => plain(name),
                    None => format!("row {}", number(key.row)),
                };
                format!("{place}: {}{near}", cells(&key.key))
            });
            vec![plain(&reason.reason), number(reason.rows), example]
        });
        table(text, &["reason", "rows", "for example"], reasons);
        for bound in reported.reasons_bound.iter().flat_map(bounds) {
            let _ = writeln!(text, "\n{bound}");
        }
    }
    let outcomes = reported.outcomes.iter().map(|outcome| {
        vec![outcome.kind.clone(), number(outcome.count), share(outcome.count, rows)]
    });
    let _ = writeln!(text, "\n### What became of the rows");
    table(text, &["outcome", "rows", "share"], outcomes);
    let found = reported.reference_findings.iter();
    let _ = writeln!(text, "\n### Keys and rows of {}", plain(&reported.name));
    table(
        text,
        &["finding", "how many"],
        found.map(|one| vec![one.kind.clone(), number(one.count)]),
    );
    keys_and_rows(text, reported);
}

/// The first keys and rows in trouble.
fn keys_and_rows(text: &mut String, reported: &ReferenceTold) {
    let (ours, theirs) = (&reported.main_key[..], &reported.reference_key[..]);
    if !reported.unmatched.is_empty() {
        let _ = writeln!(text, "\n### Unmatched keys");
        let keys = reported.unmatched.iter().map(|key| {
            let none = Vec::new();
            let nearest = key.nearest.as_ref().unwrap_or(&none);
            let mut row = vec![plain(&row_of(key.name.as_deref(), key.row)), number(key.rows)];
            row.extend(in_columns(&key.key, ours));
            row.push(plain(&key.reason));
            row.extend(in_columns(nearest, theirs));
            row
        });
        let near = theirs.iter().map(|header| format!("nearest {header}"));
        let headers = ["first row".to_owned(), "rows".to_owned()].into_iter();
        let headers = headers.chain(ours.iter().cloned()).chain(["reason".to_owned()]).chain(near);
        let headers: Vec<String> = headers.map(|header| plain(&header)).collect();
        table(text, &headers, keys);
    }
    if !reported.main_rows.is_empty() {
        let _ = writeln!(text, "\n### Other rows in trouble");
        let rows = reported.main_rows.iter().map(|row| {
            let mut shown = vec![plain(&row_of(row.name.as_deref(), row.row)), row.kind.clone()];
            shown.extend(in_columns(&row.key, ours));
            shown.push(plain(&row.more));
            shown
        });
        table(text, &around(&["row", "kind"], ours, &["more"]), rows);
    }
    if !reported.aliases.is_empty() {
        let _ = writeln!(text, "\n### Aliases");
        let aliases = reported.aliases.iter().map(|alias| {
            vec![
                number(alias.row),
                cells(&alias.key),
                cells(&alias.stands_for),
                alias.state.clone(),
                number(alias.rows),
            ]
        });
        table(text, &["row", "key", "stands for", "state", "rows"], aliases);
    }
    if !reported.shared_keys.is_empty() {
        let _ = writeln!(text, "\n### Keys on several rows");
        let shared = reported.shared_keys.iter().map(|key| {
            let mut shown = vec![key.kind.clone()];
            shown.extend(in_columns(&key.key, theirs));
            shown.push(plain(&rows_of(key)));
            shown
        });
        table(text, &around(&["kind"], theirs, &["rows"]), shared);
    }
    if !reported.unused.is_empty() {
        let _ = writeln!(text, "\n### Rows that nothing asked for");
        let unused = reported.unused.iter().map(|row| {
            let table = row.table.as_ref().map_or(String::new(), |table| plain(table) + " ");
            let name = plain(&row_of(row.name.as_deref(), row.row));
            let mut shown = vec![format!("{table}{name}")];
            shown.extend(in_columns(&row.key, theirs));
            shown.push(plain(&row.more));
            shown
        });
        table(text, &around(&["row"], theirs, &["more"]), unused);
    }
}

fn table<H: AsRef<str>>(text: &mut String, headers: &[H], rows: impl Iterator<Item = Vec<String>>) {
    let names: Vec<&str> = headers.iter().map(AsRef::as_ref).collect();
    let _ = writeln!(text, "\n| {} |", names.join(" | "));
    let _ = writeln!(text, "|{}", " --- |".repeat(headers.len()));
    for row in rows {
        let _ = writeln!(text, "| {} |", row.join(" | "));
    }
}

fn cells(cells: &[String]) -> String {
    let reported = cells.iter().map(|cell| match &cell[..] {
        "" => "(blank)".to_owned(),
        cell => plain(cell),
    });
    reported.collect::<Vec<_>>().join(", ")
}

/// A text in which nothing is markup, on one line and no longer than a person reads.
fn plain(text: &str) -> String {
    const MOST: usize = 400;
    let mut plain = String::new();
    for sign in wording::cell(text, MOST).chars() {
        match sign {
            '<' => plain.push_str("&lt;"),
            '&' => plain.push_str("&amp;"),
            '\\' | '`' | '*' | '_' | '[' | ']' | '|' | '~' | '#' => {
                plain.push('\\');
                plain.push(sign);
            }
            _ => plain.push(sign),
        }
    }
    plain
}

fn code(text: &str) -> String {
    format!("`{}`", text.replace('`', "'").replace('|', "\\|").replace(['\n', '\r'], " "))
}
