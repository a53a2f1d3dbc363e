//! The report as Markdown.

use std::fmt::Write;

use gather_keys_core::report::{ReferenceTold, Report};

use crate::summary::effect;
use crate::wording::{self, counted, joined, number, share};

/// The Markdown of a report.
pub(super) fn markdown(report: &Report) -> String {
    let mut text = String::new();
    let names: Vec<String> = report.references.iter().map(|one| plain(&one.name)).collect();
    let _ = writeln!(text, "# Keys of {}\n", plain(&report.main.name));
    let _ = writeln!(
        text,
        "{}, matched with {}.\n",
        counted(report.main.rows, "row"),
        joined(&names, "and")
    );
    if let Some(written) = &report.written {
        let name = plain(&written.name);
        let _ = if written.appeared {
            writeln!(text, "Wrote {} to {name}.\n", counted(written.rows, "row"))
        } else {
            writeln!(text, "{name} was not written.\n")
        };
    }
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
    text
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
    let outcomes = reported.outcomes.iter().map(|outcome| {
        vec![outcome.kind.clone(), number(outcome.count), share(outcome.count, rows)]
    });
    table(text, &["rows", "", "share"], outcomes);
    let found = reported.reference_findings.iter();
    table(text, &["keys and rows", ""], found.map(|one| vec![one.kind.clone(), number(one.count)]));
    if !reported.reasons.is_empty() {
        let _ = writeln!(text, "\n### Why rows are unmatched");
        let reasons = reported.reasons.iter();
        table(text, &["reason", "rows"], reasons.map(|r| vec![plain(&r.reason), number(r.rows)]));
    }
    if !reported.fixes.is_empty() || !reported.advice.is_empty() {
        let _ = writeln!(text, "\n### What to do\n");
    }
    for fix in &reported.fixes {
        let on: Vec<String> = fix.on.iter().map(|part| code(part)).collect();
        let _ = writeln!(
            text,
            "- {} would match on {}, {}",
            counted(fix.fixed, "unmatched row"),
            on.join(", "),
            effect(fix.newly_ambiguous, fix.lost, fix.joined, &plain(&reported.name))
        );
    }
    for advice in &reported.advice {
        let _ = writeln!(text, "- {}", plain(advice));
    }
    if !reported.unmatched.is_empty() {
        let _ = writeln!(text, "\n### Unmatched keys");
        let keys = reported.unmatched.iter().map(|key| {
            let nearest = key.nearest.as_ref().map_or(String::new(), |nearest| cells(nearest));
            vec![number(key.row), number(key.rows), cells(&key.key), plain(&key.reason), nearest]
        });
        table(text, &["first row", "rows", "key", "reason", "nearest"], keys);
    }
    if !reported.main_rows.is_empty() {
        let _ = writeln!(text, "\n### Other rows in trouble");
        let rows = reported
            .main_rows
            .iter()
            .map(|row| vec![number(row.row), row.kind.clone(), cells(&row.key), plain(&row.more)]);
        table(text, &["row", "kind", "key", "more"], rows);
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
            let rows: Vec<String> = key.rows.iter().map(|&row| number(row)).collect();
            vec![key.kind.clone(), cells(&key.key), rows.join(", ")]
        });
        table(text, &["kind", "key", "rows"], shared);
    }
    if !reported.unused.is_empty() {
        let _ = writeln!(text, "\n### Rows that nothing asked for");
        let unused = reported.unused.iter().map(|row| {
            let table = row.table.as_ref().map_or(String::new(), |table| plain(table) + " ");
            vec![format!("{table}{}", number(row.row)), cells(&row.key), plain(&row.more)]
        });
        table(text, &["row", "key", "more"], unused);
    }
}

fn table(text: &mut String, headers: &[&str], rows: impl Iterator<Item = Vec<String>>) {
    let _ = writeln!(text, "\n| {} |", headers.join(" | "));
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
