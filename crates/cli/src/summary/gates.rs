//! How the gates came out.

use std::fmt::Write;

use gather_keys_core::findings::{GateResult, Population};

use crate::terminal::{ERROR, GOOD};
use crate::wording::{self, number, share};

/// The results of the gates, one paragraph each; with `quiet` only of gates that do not hold.
pub(crate) fn gates(results: &[GateResult], quiet: bool) -> String {
    let mut text = String::new();
    for result in results.iter().filter(|result| !(quiet && result.holds)) {
        let (word, style) = if result.holds { ("holds", GOOD) } else { ("does not hold", ERROR) };
        let of = match result.population {
            Population::MainRows => "main rows",
            Population::ReferenceRows => "rows",
            Population::ReferenceKeys => "keys",
            Population::ReferenceRanges => "ranges",
            Population::ReferenceColumns => "columns",
        };
        let facts = format!(
            ": {}: {} of {} {of} {} ({})",
            result.reference,
            number(result.count),
            number(result.total),
            result.label,
            share(result.count, result.total),
        );
        let gate = format!("gate `{}` ", result.gate);
        let first = gate.chars().count() + word.len();
        let facts = wording::wrapped(&facts, first, "  ");
        let _ = writeln!(text, "{gate}{style}{word}{style:#}{facts}");
    }
    text
}
