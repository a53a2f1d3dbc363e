//! Counts in aligned lines, with what follows each.

use std::fmt::Write;

use gather_keys_core::findings::{Counts, Kind, Population};

use crate::terminal::{FAINT, PLAIN, Style};
use crate::wording::{self, number, share};

/// How wide the word for a kind may be.
const LABEL: usize = 11;

/// Lines of counts, aligned with each other.
#[derive(Debug)]
pub(crate) struct Lines {
    digits: usize,
}

impl Lines {
    /// Lines with counts up to `most`.
    pub(crate) fn up_to(most: u64) -> Self {
        Self { digits: number(most).len().max(5) }
    }

    /// How much room is left for what follows a count.
    pub(crate) fn room(&self) -> usize {
        wording::width().saturating_sub(self.indent())
    }

    fn indent(&self) -> usize {
        4 + LABEL + 1 + self.digits + 1 + 8 + 2
    }

    /// The line of a kind of finding, in what it is said of.
    pub(crate) fn kind(
        &self,
        text: &mut String,
        counts: &Counts,
        kind: Kind,
        style: Style,
        (samples, many): (&[String], u64),
    ) {
        let count = counts.of(kind);
        let measure = match counts.population(kind) {
            Population::MainRows => format!("{:>8}", share(count, counts.main_rows)),
            Population::ReferenceRows => plural(count, "row"),
            Population::ReferenceKeys => plural(count, "key"),
            Population::ReferenceRanges => plural(count, "range"),
            Population::ReferenceColumns => plural(count, "column"),
        };
        // The words after `repeated` and `chosen` are not samples.
        let many =
            if matches!(kind, Kind::Repeated | Kind::Chosen) { samples.len() as u64 } else { many };
        self.line(text, (kind.label(), count, &measure), style, (samples, many));
    }

    /// A line with its label, count and measure, and samples of what was counted with how many they
    /// are of; a sample may have several lines.
    pub(crate) fn line(
        &self,
        text: &mut String,
        (label, count, measure): (&str, u64, &str),
        style: Style,
        (samples, many): (&[String], u64),
    ) {
        let style = if count == 0 { FAINT } else { style };
        let indent = self.indent();
        let digits = self.digits;
        let line = format!("    {label:LABEL$} {:>digits$} {measure:8}", number(count));
        let line = line.trim_end();
        let _ = write!(text, "{style}{line}{style:#}");
        for (nth, sample) in samples.iter().enumerate() {
            let indent = if nth == 0 { indent - line.chars().count() } else { indent };
            let mut pieces = sample.split('\n');
            let _ = writeln!(text, "{:indent$}{}", "", pieces.next().unwrap_or_default());
            for piece in pieces {
                let _ = writeln!(text, "{:1$}{piece}", "", self.indent() + 2);
            }
        }
        let rest = many.saturating_sub(samples.len() as u64);
        if samples.is_empty() {
            text.push('\n');
        } else if rest > 0 {
            let _ = writeln!(text, "{:indent$}{FAINT}and {} more{FAINT:#}", "", number(rest));
        }
    }

    /// The line that the ones before it add up to.
    pub(crate) fn total(&self, text: &mut String, rows: u64) {
        let measure = format!("{:>8}", share(rows, rows));
        self.line(text, ("in all", rows, &measure), PLAIN, (&[], 0));
    }
}

pub(crate) fn plural(count: u64, thing: &str) -> String {
    format!("{thing}{}", if count == 1 { "" } else { "s" })
}
