//! The outcomes of updated cells, the appended rows, and the outcomes of corrections.

use std::fmt::Write;

use gather_keys_core::enrich::{Replacing, RowOutput};
use gather_keys_core::findings::{Appended, LookupFindings, UpdateFindings};
use gather_keys_core::findings::{Corrected, NotAppended, Written};
use gather_keys_core::plan::Replace;

use super::{SHOWN, Summary, paragraph};
use crate::lines::Lines;
use crate::places::labelled;
use crate::terminal::{STRONG, TROUBLE};
use crate::wording::{self, counted, joined, number};

impl Summary<'_> {
    /// The outcomes of the cells of updated columns, and the appended rows.
    pub(super) fn updates(&self, text: &mut String, taking: &RowOutput, found: &LookupFindings) {
        if !found.updates.is_empty() || found.appended.is_some() {
            let _ = writeln!(text, "  Written into {}", self.main.table());
        }
        for update in &found.updates {
            let header = wording::cell(&self.enrichment.headers().address(update.column), 24);
            let reported = joined(&told_cells(update, taking.replacing), "and");
            paragraph(text, 4, &format!("{header}: {reported}"));
        }
        if let Some(appended) = &found.appended {
            appended_rows(text, appended);
        }
    }

    /// The outcomes of corrections.
    pub(super) fn corrected(&self, text: &mut String, file: &str) {
        let all = &self.findings.corrected;
        let lines = Lines::up_to(self.findings.main_rows);
        let reported = |one: &&&Corrected| {
            let key = one.correction.key.iter().map(String::as_str);
            let behind = format!(" ({})", one.correction.header);
            labelled(&format!("row {}", number(one.correction.row)), key, &behind, lines.room())
        };
        let (changing, others): (Vec<&Corrected>, Vec<&Corrected>) =
            all.iter().partition(|one| one.changed > 0);
        let (needless, gone): (Vec<&Corrected>, Vec<&Corrected>) =
            others.into_iter().partition(|one| one.same > 0);
        let cells: u64 = changing.iter().map(|one| one.changed).sum();
        let facts = match (all.len(), changing.len()) {
            (0, _) => ": it has no corrections.".to_owned(),
            (_, 0) => format!(
                ": {}, none of which changes a cell.",
                counted(all.len() as u64, "correction")
            ),
            (_, some) => format!(
                ": {} of {} {} {}.",
                number(some as u64),
                counted(all.len() as u64, "correction"),
                if some == 1 { "changes" } else { "change" },
                counted(cells, "cell")
            ),
        };
        let facts = wording::wrapped(&facts, file.chars().count(), "  ");
        let _ = writeln!(text, "{STRONG}{file}{STRONG:#}{facts}");
        for (label, such) in [("needless", &needless), ("gone", &gone)] {
            if such.is_empty() && !self.verbose {
                continue;
            }
            let samples: Vec<String> = such.iter().take(SHOWN).map(|one| reported(&one)).collect();
            let many = such.len() as u64;
            lines.line(text, (label, many, ""), TROUBLE, (&samples, many));
        }
        let them = |count: usize| if count == 1 { "it" } else { "them" };
        if !needless.is_empty() {
            let words = format!(
                "needless: the tables give that value themselves now; take {} out of {file}.",
                them(needless.len())
            );
            paragraph(text, 2, &words);
        }
        if !gone.is_empty() {
            let words = format!(
                "gone: no row of {} has that key any more; correct the key, or take {} out.",
                self.main.table(),
                them(gone.len())
            );
            paragraph(text, 2, &words);
        }
    }
}

/// How many cells of a column were filled, replaced, and so on.
fn told_cells(update: &UpdateFindings, replacing: Replacing) -> Vec<String> {
    let reported = Written::ALL.iter().filter_map(|&written| {
        let count = update.written.of(written);
        let words = match (written, replacing.replace) {
            (Written::Same, _) => "the same already",
            (Written::Left, Replace::All) => "left where the reference is blank",
            (Written::Left, Replace::Blanks) => "left as they were",
            (written, _) => written.label(),
        };
        (count > 0).then(|| format!("{} {words}", number(count)))
    });
    reported.collect()
}

fn appended_rows(text: &mut String, appended: &Appended) {
    let rows = counted(appended.rows, "reference row");
    let verb = if appended.rows == 1 { "is" } else { "are" };
    paragraph(text, 4, &format!("{rows} without a main row {verb} added at the end"));
    if appended.lost > 0 {
        let (rows, have) = match appended.lost {
            1 => ("1 of them has".to_owned(), "its"),
            more => (format!("{} of them have", number(more)), "their"),
        };
        let words = format!(
            "{rows} a key that the main table's steps would change, so the next run would add {have} \
             row again: put the same steps on both sides of the key"
        );
        paragraph(text, 4, &words);
    }
    let NotAppended { blank_key, malformed, ambiguous, inseparable } = appended.not;
    let reasons = [
        (blank_key, "a blank key"),
        (malformed, "a malformed key"),
        (ambiguous, "a key on rows that disagree"),
        (inseparable, "a key that can't be split into the main table's columns"),
    ];
    let reasons = reasons.iter().filter(|(count, _)| *count > 0);
    let reasons: Vec<String> =
        reasons.map(|(count, why)| format!("{} with {why}", number(*count))).collect();
    if !reasons.is_empty() {
        let verb = if appended.not.all() == 1 { "is" } else { "are" };
        paragraph(text, 4, &format!("{} {verb} not added", joined(&reasons, "and")));
    }
}
