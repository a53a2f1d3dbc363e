//! What is proposed, for a person.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::Path;

use gather_keys_core::findings::Kind;
use gather_keys_core::plan::Plan;
use gather_keys_core::report::NotRead;
use gather_keys_core::survey::{LOOKED_AT, Suggestions, UnlikeValues, Wanted};
use gather_keys_core::table::Headers;

use super::proposed_plan::command;
use super::reach::{LeftOut, Looked, Reach};
use super::trial::Tried;
use crate::terminal::{FAINT, GOOD, STRONG, TROUBLE};
use crate::wording::{self, counted, joined, number, share};

/// What was found.
pub(super) struct Told<'t> {
    pub(super) main: &'t str,
    pub(super) tables: &'t [Looked],
    pub(super) not_read: &'t [NotRead],
    /// The columns that were asked for, and where those come from that the main table does not have.
    pub(super) wanted: &'t [String],
    pub(super) found: Vec<(&'t String, &'t Option<Wanted>)>,
    /// The tables of the plan.
    pub(super) used: &'t [usize],
    pub(super) plan: Option<&'t Plan>,
    /// The plan as it was saved.
    pub(super) saved: Option<&'t Path>,
}

impl Told<'_> {
    /// The keys of the only reference, with all that is known of them.
    pub(super) fn of_one(&self) -> String {
        let mut text = String::new();
        let (ours, theirs) = (self.main, &self.tables[0].name);
        let Some(reach) = &self.tables[0].reached else {
            let words = format!(
                "No columns of {ours} and {theirs} hold the same values, however they are \
                 spelled. `gather-keys survey` shows what they hold."
            );
            let _ = writeln!(text, "{}", wording::wrapped(&words, 0, ""));
            return text;
        };
        let _ = writeln!(text, "{STRONG}The key of {ours} in {theirs}{STRONG:#}\n");
        for (nth, tried) in reach.keys.iter().enumerate() {
            if nth > 0 {
                let _ = writeln!(text, "\n{STRONG}The runner-up{STRONG:#}\n");
            }
            tell(&mut text, tried, theirs);
        }
        bounds(&mut text, &reach.found);
        self.tell_plan(&mut text);
        text
    }

    /// All tables, in short.
    pub(super) fn of_many(&self) -> String {
        let mut text = String::new();
        let all = counted((self.tables.len() + self.not_read.len()) as u64, "table");
        let used = number(self.used.len() as u64);
        let main = self.main;
        let _ = if self.wanted.is_empty() {
            writeln!(text, "{STRONG}{main} leads to {used} of {all}{STRONG:#}")
        } else {
            writeln!(text, "{STRONG}What is wanted for {main} is in {used} of {all}{STRONG:#}")
        };
        self.tell_wanted(&mut text);
        let tables = (0..self.tables.len()).map(|nth| (nth, &self.tables[nth]));
        let reached: Vec<(usize, &Looked, &Reach)> =
            tables.filter_map(|(nth, table)| Some((nth, table, table.reached.as_ref()?))).collect();
        let is_used = |(nth, ..): &&(usize, &Looked, &Reach)| self.used.contains(nth);
        for (nth, table, reach) in reached.iter().filter(is_used) {
            self.tell_table(&mut text, *nth, table, reach);
        }
        if self.wanted.is_empty() {
            self.tell_others(&mut text, &reached);
        }
        for (nth, NotRead { table, why }) in self.not_read.iter().enumerate() {
            let is_named = why.contains(&table[..]);
            let words = if is_named { why.clone() } else { format!("{table}: {why}") };
            let words = wording::wrapped(&format!("Not read: {words}"), 0, "  ");
            let gap = if nth == 0 { "\n" } else { "" };
            let _ = writeln!(text, "{gap}{TROUBLE}{words}{TROUBLE:#}");
        }
        self.tell_plan(&mut text);
        text
    }

    /// The tables of which nothing is taken.
    fn tell_others(&self, text: &mut String, reached: &[(usize, &Looked, &Reach)]) {
        let is_left = |(nth, ..): &&(usize, &Looked, &Reach)| !self.used.contains(nth);
        let left: Vec<&(usize, &Looked, &Reach)> = reached.iter().filter(is_left).collect();
        if !left.is_empty() {
            let _ = writeln!(text, "\n{STRONG}Found, but left out{STRONG:#}");
            for (_, table, reach) in left {
                self.tell_left_out(text, table, reach);
            }
        }
        let others: Vec<String> = self
            .tables
            .iter()
            .filter(|table| table.reached.is_none())
            .map(|table| table.name.clone())
            .collect();
        if !others.is_empty() {
            let words = format!("No key leads to {}", joined(&others, "or"));
            let _ = writeln!(text, "\n{}", wording::wrapped(&words, 0, "  "));
        }
    }

    fn tell_table(&self, text: &mut String, nth: usize, table: &Looked, reach: &Reach) {
        let best = &reach.keys[0];
        let way = reach.via.map(|via| format!(", by way of {}", self.tables[via].name));
        let _ = writeln!(text, "\n{STRONG}{}{STRONG:#}{}", table.name, way.unwrap_or_default());
        let _ = writeln!(text, "{}", wording::wrapped(&format!("  {}", key(best)), 0, "    "));
        let unlike = best.key.parts.iter().filter_map(|part| part.unlike.as_ref()).map(unlike);
        let facts = [Some(matches(best)), others(best), one_row(best, &table.name)];
        let facts: Vec<String> = unlike.chain(facts.into_iter().flatten()).collect();
        let _ =
            writeln!(text, "  {GOOD}{}{GOOD:#}", wording::wrapped(&facts.join("; "), 2, "    "));
        let brings = match self.plan.filter(|_| !self.wanted.is_empty()) {
            None => format!("brings {}", best.key.take.join(", ")),
            Some(plan) => {
                let place = self.used.iter().position(|used| *used == nth);
                let take = place.and_then(|place| plan.references.get(place));
                let take = take.iter().flat_map(|reference| &reference.take.0);
                let take: Vec<&str> = take.map(|take| &take.text[..]).collect();
                format!("take {}", take.join(", "))
            }
        };
        let _ = writeln!(text, "  {}", wording::wrapped(&brings, 2, "    "));
        let is_near = |other: &&Tried| other.matched() * 10 >= best.matched() * 8;
        if let Some(other) = reach.keys.get(1).filter(is_near) {
            let other = format!("or: {}, which {}", key(other), matches(other));
            let _ = writeln!(text, "  {FAINT}{}{FAINT:#}", wording::wrapped(&other, 2, "    "));
        }
    }

    /// Where each wanted column comes from.
    fn tell_wanted(&self, text: &mut String) {
        if self.wanted.is_empty() {
            return;
        }
        let _ = writeln!(text, "\n{STRONG}Where the wanted columns are{STRONG:#}");
        for header in self.wanted {
            let found =
                self.found.iter().find(|(asked, _)| *asked == header).map(|(_, found)| found);
            let words = match found {
                None => format!("{header}: in {} already", self.main),
                Some(None) => self.not_found(header),
                Some(Some(Wanted { column, is_near, others })) => {
                    let own = self.name(*column);
                    let near = if *is_near { " (as it is spelled there)" } else { "" };
                    let others: Vec<String> =
                        others.iter().map(|&other| self.name(other)).collect();
                    let also = if others.is_empty() {
                        String::new()
                    } else {
                        format!("; also: {}", others.join(", "))
                    };
                    format!("{header}: {own}{near}{also}")
                }
            };
            let _ = writeln!(text, "  {}", wording::wrapped(&words, 2, "    "));
        }
    }

    /// A column with its table and the way there.
    fn name(&self, (table, column): (usize, usize)) -> String {
        let Looked { name, headers, .. } = &self.tables[table];
        let way =
            self.tables[table].via().map(|via| format!(", by way of {}", self.tables[via].name));
        format!("{} of {name}{}", headers.address(column), way.unwrap_or_default())
    }

    /// What is known of a header that no table has that can be reached.
    fn not_found(&self, header: &str) -> String {
        let has_it =
            |table: &&Looked| table.headers.iter().any(|own| own.eq_ignore_ascii_case(header));
        let having: Vec<String> =
            self.tables.iter().filter(has_it).map(|table| table.name.clone()).collect();
        if !having.is_empty() {
            let having = joined(&having, "and");
            return format!("{header}: in {having}, which no key of {} leads to", self.main);
        }
        let all: BTreeSet<&str> =
            self.tables.iter().flat_map(|table| table.headers.iter()).collect();
        let near = Headers::new("", all).near(header);
        let near =
            if near.is_empty() { String::new() } else { format!("; near it: {}", near.join(", ")) };
        format!("{header}: no table has such a header{near}")
    }

    /// A table that is left out, and why.
    fn tell_left_out(&self, text: &mut String, table: &Looked, reach: &Reach) {
        let best = &reach.keys[0];
        let why = match reach.left_out {
            Some(LeftOut::Known(other)) => {
                format!("{} brings the same columns", self.tables[other].name)
            }
            left_out => left_out.map_or("", LeftOut::reason).to_owned(),
        };
        let facts = match reach.left_out {
            Some(LeftOut::Several) => others(best),
            Some(LeftOut::Few) => Some(matches(best)),
            _ => None,
        };
        let facts = facts.map(|facts| format!(": {facts}")).unwrap_or_default();
        let words = format!("  {}, by {}: {why}{facts}", table.name, key(best));
        let _ = writeln!(text, "{}", wording::wrapped(&words, 0, "    "));
    }

    /// The command, and the plan if it was saved.
    fn tell_plan(&self, text: &mut String) {
        if let Some(plan) = self.plan {
            let _ = writeln!(text, "\n{STRONG}Ready to run{STRONG:#}\n");
            let _ = writeln!(text, "  {}", command(plan, " \\\n  "));
        }
        if let Some(path) = self.saved {
            let name = path.display();
            let _ = writeln!(text, "\nWrote the plan {name}; to run it: gather-keys enrich {name}");
        }
    }
}

/// A key as it is written.
fn key(tried: &Tried) -> String {
    let parts: Vec<&str> = tried.key.parts.iter().map(|part| &part.on[..]).collect();
    let within = tried.within.as_ref().map(|within| format!(", within {within}"));
    format!("{}{}", parts.join(", "), within.unwrap_or_default())
}

/// How many values are made one although their letters differ.
fn unlike(UnlikeValues { count, of, example: [main, reference] }: &UnlikeValues) -> String {
    format!(
        "the letters of {} of {} compared differ, as `{main}` with `{reference}`",
        number(*count as u64),
        counted(*of as u64, "value")
    )
}

/// How many rows a key matches.
fn matches(tried: &Tried) -> String {
    let (matched, rows) = (tried.matched(), tried.counts.main_rows);
    let all = counted(rows, "row");
    format!("matches {} of {all} ({})", number(matched), share(matched, rows))
}

/// How many rows it does not match, by the outcome.
fn others(tried: &Tried) -> Option<String> {
    let kinds = [Kind::Unmatched, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed];
    let others: Vec<String> = kinds
        .into_iter()
        .filter(|kind| tried.counts.of(*kind) > 0)
        .map(|kind| format!("{} {}", number(tried.counts.of(kind)), kind.label()))
        .collect();
    (!others.is_empty()).then(|| others.join(", "))
}

/// Whether every key is on one row.
fn one_row(tried: &Tried, theirs: &str) -> Option<String> {
    let counts = &tried.counts;
    let shared = counts.of(Kind::Duplicate) + counts.of(Kind::Conflicting);
    match shared {
        _ if tried.within.is_some() => None,
        0 => Some(format!("every key is on one row of {theirs}")),
        shared => Some(format!(
            "{} of {} {} on several rows of {theirs}",
            number(shared),
            counted(counts.reference_keys, "key"),
            if shared == 1 { "is" } else { "are" }
        )),
    }
}

/// A key with all that is known of it.
fn tell(text: &mut String, tried: &Tried, theirs: &str) {
    for part in &tried.key.parts {
        let _ = writeln!(text, "  {STRONG}{}{STRONG:#}", part.on);
        let _ = writeln!(
            text,
            "      {} of {} are in {theirs}",
            number(part.covered as u64),
            counted(part.values as u64, "different value")
        );
        if let Some(unlike) = &part.unlike {
            let words = wording::wrapped(&self::unlike(unlike), 6, "        ");
            let _ = writeln!(text, "      {TROUBLE}{words}{TROUBLE:#}");
        }
    }
    if let Some(within) = &tried.within {
        let _ =
            writeln!(text, "  {STRONG}{within}{STRONG:#}\n      picks the row among equal keys");
    }
    let _ = writeln!(text, "  {GOOD}{}{GOOD:#}", matches(tried));
    if let Some(others) = others(tried) {
        let _ = writeln!(text, "      {others}");
    }
    if let Some(one_row) = one_row(tried, theirs) {
        let _ = writeln!(text, "  {one_row}");
    }
}

/// A note for tables that were too large to be read as a whole.
fn bounds(text: &mut String, found: &Suggestions) {
    if found.looked_at[0] < LOOKED_AT[0] && found.looked_at[1] < LOOKED_AT[1] {
        return;
    }
    let words = format!(
        "Columns were compared by the first {} and {} of the two tables; the keys were then tried \
         on all of them.",
        counted(found.looked_at[0] as u64, "row"),
        number(found.looked_at[1] as u64)
    );
    let _ = writeln!(text, "\n{}", wording::wrapped(&words, 0, ""));
}
