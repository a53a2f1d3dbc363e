//! What has changed since the run before.

use gather_keys_core::receipt::NewKeys;

use super::paragraph;
use crate::receipts::Moved;
use crate::terminal::STRONG;
use crate::wording::{joined, number};

/// The changes since the run before, each in words.
pub(crate) fn moved(all: &[Moved]) -> Vec<String> {
    all.iter().map(reported).collect()
}

/// The changes since the run before, as the summary has them.
pub(crate) fn since(all: &[String]) -> String {
    if all.is_empty() {
        return "Nothing has changed since the last run.\n".to_owned();
    }
    let mut text = format!("{STRONG}Since the last run{STRONG:#}\n");
    for moved in all {
        paragraph(&mut text, 2, moved);
    }
    text
}

fn reported(moved: &Moved) -> String {
    let named = |names: &[String]| {
        let ticked: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
        joined(&ticked, "and")
    };
    match moved {
        Moved::Program { before } => {
            let now = env!("CARGO_PKG_VERSION");
            format!("the program is version {now}, and was {before}")
        }
        Moved::Plan => "the options have changed".to_owned(),
        Moved::Table { role, path, is_new: true } => format!("{path} is new, read as {role}"),
        Moved::Table { role, path, is_new: false } => {
            format!("{path} is no longer read (it was, as {role})")
        }
        Moved::Path { before, now } => format!("{now} is read instead of {before}"),
        Moved::Headers { path, gone, new } => match (&gone[..], &new[..]) {
            ([], []) => format!("{path} has its columns in another order"),
            (gone, []) => format!("{path} lacks {}", named(gone)),
            ([], new) => format!("{path} also has {}", named(new)),
            (gone, new) => format!("{path} has {} instead of {}", named(new), named(gone)),
        },
        Moved::Rows { path, before, now } => {
            let word = if now > before { "more" } else { "fewer" };
            let differs = now.abs_diff(*before);
            let rows = if differs == 1 { "row" } else { "rows" };
            format!("{path} has {} {word} {rows}, {} in all", number(differs), number(*now))
        }
        Moved::Cells { path } => format!("{path} has other content in as many rows"),
        Moved::Columns { reference, gone, new } => match (&gone[..], &new[..]) {
            ([], []) => format!("{reference}: the same columns are taken, in another order"),
            (gone, []) => format!("{reference}: {} is not taken any more", named(gone)),
            ([], new) => format!("{reference}: {} is taken, which was not", named(new)),
            (gone, new) => {
                format!("{reference}: {} is taken instead of {}", named(new), named(gone))
            }
        },
        Moved::Keys { reference, unmatched, new } => {
            let NewKeys { count, first, or_more } = new;
            let at_least = if *or_more { "at least " } else { "" };
            let what = if *unmatched { "unmatched" } else { "duplicate" };
            let keys = if *count == 1 { "key is" } else { "keys are" };
            let was = if *count == 1 { "was" } else { "were" };
            let rest = if *count as usize > first.len() { "; …" } else { "" };
            let first = first.join("; ");
            let count = number(*count);
            format!("{reference}: {at_least}{count} {keys} {what} that {was} not: {first}{rest}")
        }
    }
}
