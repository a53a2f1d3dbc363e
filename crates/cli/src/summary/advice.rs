//! Advice for each trouble.

use std::fmt;

use gather_keys_core::diagnosis::{Diagnosis, dated_part};
use gather_keys_core::findings::{Counts, Kind, LookupFindings};
use gather_keys_core::lookup::{Lookup, Reference, Rule, Unsound};

use super::Summary;
use super::lookup::is_settled;
use crate::aliases;
use crate::places::{reference_place, unread};
use crate::wording::{counted, joined, number};

/// What aliases are called in advice.
pub(super) const ABOUT_ALIASES: &str = "aliases";

/// What the key as a whole is called in advice.
pub(super) const ABOUT_KEY: &str = "key";

/// What to do about something.
#[derive(Debug)]
pub(crate) struct Advice {
    /// The label of a kind of finding, or another short word.
    pub(crate) about: &'static str,
    /// A sentence or two.
    pub(crate) words: String,
}

impl fmt::Display for Advice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.about, self.words)
    }
}

impl Summary<'_> {
    /// What to do about each trouble, in addition to fixes of the key.
    pub(crate) fn advice(
        &self,
        lookup: &Lookup,
        found: &LookupFindings,
        diagnosis: Option<&Diagnosis>,
    ) -> Vec<Advice> {
        let counts = &found.counts;
        let of_aliases = aliases::reported(lookup).into_iter();
        let mut all: Vec<Advice> =
            of_aliases.map(|words| Advice { about: ABOUT_ALIASES, words }).collect();
        let reference = lookup.reference();
        let name = reference.name();
        all.extend(unsound(reference));
        all.extend(advice_on_unmatched(lookup, counts, diagnosis));
        all.extend(advice_on_dates(lookup, found));
        let settled = is_settled(reference.rule());
        if counts.of(Kind::Ambiguous) > 0 || (counts.of(Kind::Conflicting) > 0 && !settled) {
            let kind =
                if counts.of(Kind::Ambiguous) > 0 { Kind::Ambiguous } else { Kind::Conflicting };
            let words = match reference.rule() {
                Rule::Highest | Rule::Lowest => {
                    "the rule can't choose where a value is neither a number nor a date, or where \
                     rows of the same value disagree; correct these rows"
                }
                _ => {
                    "keep one row for each key, take only columns on which they agree, or choose \
                     with --when-duplicate which row counts"
                }
            };
            let words = format!(
                "rows of {name} {} disagree on {}; {words}.",
                if lookup.range_value().is_some() {
                    "whose ranges overlap"
                } else {
                    "that share a key"
                },
                disputed(reference),
            );
            all.push(Advice { about: kind.label(), words });
        }
        if counts.of(Kind::BlankKey) > 0 {
            let headers = self.enrichment.headers();
            let (own, taken): (Vec<usize>, Vec<usize>) =
                found.blank_columns.iter().partition(|&&column| column < self.main.len());
            let names = |columns: &[usize]| {
                let names = columns.iter().map(|&column| headers.address(column));
                joined(&names.collect::<Vec<_>>(), "and")
            };
            let mut fixes = Vec::new();
            if !own.is_empty() {
                fixes.push(format!("fill in {} where blank in {}", names(&own), self.main.table()));
            }
            if !taken.is_empty() {
                let is = if taken.len() == 1 { "is" } else { "are" };
                fixes.push(format!(
                    "{} {is} blank where an earlier reference gives no answer: fix that first",
                    names(&taken)
                ));
            }
            if counts.of(Kind::BlankKey) * 5 >= counts.main_rows * 4 {
                fixes.push("that is nearly every row, so another column may be meant".to_owned());
            }
            let words = format!("{}.", fixes.join("; "));
            all.push(Advice { about: Kind::BlankKey.label(), words });
        }
        if counts.of(Kind::Malformed) > 0 {
            let words = format!(
                "correct these values in {}, or put a step before the one that can't \
                 read them.",
                self.main.table()
            );
            all.push(Advice { about: Kind::Malformed.label(), words });
        }
        if counts.malformed_rows > 0 {
            let first = reference.malformed().first().map(|&row| {
                let place = reference_place(reference, row);
                let unreadable = reference.unreadable(row);
                unreadable.map(|bad| unread(&place, reference.headers(), &bad, 60))
            });
            let words = format!(
                "{} of {name} {} a malformed key, which no row can match; {}.",
                counted(counts.malformed_rows, "row"),
                if counts.malformed_rows == 1 { "has" } else { "have" },
                first.flatten().unwrap_or_default(),
            );
            all.push(Advice { about: Kind::Malformed.label(), words });
        }
        if counts.keyless_rows > 0 {
            let range = reference.keyless().first().and_then(|&row| reference.range_as_read(row));
            let (what, fix) = match range {
                None => ("key", String::new()),
                Some(_) => (
                    "key or bound",
                    "; replace a blank bound with a step, such as `| or \
                     \"9999-12-31\"`"
                        .to_owned(),
                ),
            };
            let words = format!(
                "{} of {name} {} a blank {what}, which no row can match{fix}.",
                counted(counts.keyless_rows, "row"),
                if counts.keyless_rows == 1 { "has" } else { "have" },
            );
            all.push(Advice { about: Kind::Unused.label(), words });
        }
        all
    }
}

/// The faults of a reference's key as a whole.
fn unsound(reference: &Reference) -> Vec<Advice> {
    let (name, headers) = (reference.name(), reference.headers());
    let survey =
        format!("`gather-keys survey {}` shows which columns identify a row", headers.table());
    let reported = reference.unsound().into_iter().map(|unsound| match unsound {
        Unsound::Constant(part) => {
            let part = &reference.key().parts()[part];
            let part = part.columns().iter().map(|&column| headers.address(column));
            format!(
                "{} is the same in every row of {name}, so it distinguishes none; leave it out, \
                 or name another column.",
                joined(&part.collect::<Vec<_>>(), "and")
            )
        }
        Unsound::Blank { column, rows } => format!(
            "{} is blank in {} of {} of {name}, so another column may be meant.",
            headers.address(column),
            number(rows),
            counted(reference.rows(), "row")
        ),
        Unsound::NoUnique => format!(
            "every key of {name} is on several of its rows, so a part may be missing; {survey}."
        ),
    });
    reported.map(|words| Advice { about: ABOUT_KEY, words }).collect()
}

/// Advice for unmatched rows, by their reason.
fn advice_on_unmatched(
    lookup: &Lookup,
    counts: &Counts,
    diagnosis: Option<&Diagnosis>,
) -> Vec<Advice> {
    let fixes = diagnosis.map_or(&[][..], |diagnosis| &diagnosis.fixes);
    let fixed = fixes.last().map_or(0, |fix| fix.fixed);
    let mut all = Vec::new();
    let reference = lookup.reference();
    let name = reference.name();
    let out_of_range = counts.out_of_range;
    let no_header = counts.of(Kind::NoHeader);
    let no_key = counts.of(Kind::Unmatched) - out_of_range - no_header;
    if no_key > 0 && reference.is_by_position() {
        let words = format!(
            "{name} has fewer rows; add the missing rows, or match it on a \
             key."
        );
        all.push(Advice { about: Kind::Unmatched.label(), words });
    } else if no_key > fixed {
        let which = if fixed > 0 { "for the others, " } else { "" };
        let them = match diagnosis {
            Some(_) => "add the missing rows, or correct these keys".to_owned(),
            None if reference.is_filtered() => format!(
                "`gather-keys check` of the same tables shows why, because it reads all of {name}"
            ),
            None if reference.is_spilled() => {
                format!("a run without `--memory` shows why, if all of {name} fits in memory")
            }
            None if counts.of(Kind::Unused) > 0 => {
                "compare their spelling with its unused keys, or add the missing rows".to_owned()
            }
            None => "add the missing rows to it".to_owned(),
        };
        let words = format!("{which}{name} has no such keys; {them}.");
        all.push(Advice { about: Kind::Unmatched.label(), words });
    }
    if out_of_range > 0 {
        let words = format!(
            "{name} has the key of {}, but no range with the value in it; \
             add a row for the gap, or correct the bounds or the value.",
            counted(out_of_range, "row"),
        );
        all.push(Advice { about: Kind::Unmatched.label(), words });
    }
    if no_header > 0 {
        let templates = lookup.named_columns().iter();
        let templates = templates.map(|naming| naming.template().template().to_string());
        let words = format!(
            "{} that {name} does not have; correct the value, add the column, or \
             let steps in `{}` make it a header.",
            if no_header == 1 {
                "1 row names a header".to_owned()
            } else {
                format!("{} name headers", counted(no_header, "row"))
            },
            joined(&templates.collect::<Vec<_>>(), "and"),
        );
        all.push(Advice { about: Kind::NoHeader.label(), words });
    }
    all
}

/// Advice for a key with a date that hardly any row has.
fn advice_on_dates(lookup: &Lookup, found: &LookupFindings) -> Option<Advice> {
    let counts = &found.counts;
    if counts.of(Kind::Unmatched) * 2 < counts.main_rows {
        return None;
    }
    let part = dated_part(lookup, found.unmatched.keys())?;
    let reference = lookup.reference();
    let ours = lookup.key().parts()[part].template().to_string();
    let theirs = reference.key().parts()[part].template().to_string();
    let words = format!(
        "{ours} must be the same day as {theirs} of {}; for the latest day at or before it, leave it \
         out of --on and add --within '{ours} in {theirs} ..'.",
        reference.name()
    );
    Some(Advice { about: Kind::Unmatched.label(), words })
}

fn disputed(reference: &Reference) -> String {
    let columns = reference.disputed().map(|column| reference.headers().address(column));
    joined(&columns.collect::<Vec<_>>(), "and")
}
