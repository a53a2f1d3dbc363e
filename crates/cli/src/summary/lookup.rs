//! The summary of references: a line for each, or a table of several; below it, of those in trouble, the findings
//! with the first few of each, why it is so and what to do. In full, every count.

use std::fmt::Write;

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::{RowOutput, Unmatched};
use gather_keys_core::findings::{Counts, Kind, LookupFindings, Population, Sample};
use gather_keys_core::lookup::{Group, Lookup, Reference, RowId, Rule};

use super::advice::{ABOUT_ALIASES, ABOUT_KEY, Advice};
use super::reasons::reasons;
use super::{SHOWN, Summary, paragraph};
use crate::lines::Lines;
use crate::places::{self, labelled, named_place, reference_place, unread};
use crate::terminal::{GOOD, PLAIN, STRONG, Style, TROUBLE};
use crate::wording::{self, counted, number};

/// How wide the name of a reference may be in a table.
const NAME: usize = 24;

/// The kinds that a full summary shows of rows of the main table, and of the reference.
const OF_MAIN_ROWS: [Kind; 7] = [
    Kind::Matched,
    Kind::Chosen,
    Kind::Unmatched,
    Kind::NoHeader,
    Kind::Ambiguous,
    Kind::BlankKey,
    Kind::Malformed,
];
const OF_REFERENCE: [Kind; 5] =
    [Kind::Duplicate, Kind::Conflicting, Kind::Collapsed, Kind::Unused, Kind::Repeated];

/// One reference of a run: its lookup, what is taken from it, what was found, and why keys are unmatched.
#[derive(Debug, Clone, Copy)]
pub(super) struct Looked<'a> {
    pub(super) lookup: &'a Lookup,
    pub(super) taking: &'a RowOutput,
    pub(super) found: &'a LookupFindings,
    pub(super) diagnosis: Option<&'a Diagnosis>,
}

impl Looked<'_> {
    /// The kinds that are in trouble, the most important first. Rows that are not in a list of changes, or that are
    /// what is asked for, are none; nor is a key on rows that disagree where a rule chooses one.
    pub(super) fn troubles(&self) -> Vec<Kind> {
        let counts = &self.found.counts;
        let is_asked = matches!(self.taking.unmatched, Unmatched::Only);
        let is_delta = self.taking.appending.is_some();
        let is_trouble = |kind: &Kind| match kind {
            Kind::Unmatched => !is_asked && !is_delta,
            Kind::Conflicting => !is_settled(self.lookup.reference().rule()),
            _ => true,
        };
        let mut all: Vec<Kind> = Kind::troubles().filter(is_trouble).collect();
        // The rows of such keys are there already.
        let is_seen = |kind| kind == Kind::Conflicting && counts.of(Kind::Ambiguous) > 0;
        all.retain(|&kind| counts.of(kind) > 0 && !is_seen(kind));
        let weight = |kind: &Kind| match counts.population(*kind) {
            Population::MainRows => counts.of(*kind),
            _ => 0,
        };
        all.sort_by_key(|kind| std::cmp::Reverse(weight(kind)));
        all
    }
}

/// Whether a rule chooses among rows of any values.
pub(super) fn is_settled(rule: Rule) -> bool {
    !matches!(rule, Rule::Report | Rule::Highest | Rule::Lowest)
}

impl Summary<'_> {
    /// A table of several references, a line each.
    pub(super) fn table(&self, text: &mut String, all: &[Looked<'_>]) {
        let names = all.iter().map(|one| one.lookup.reference().name().chars().count());
        let width = names.chain(["reference".len()]).max().unwrap_or_default().min(NAME);
        let rows = counted(self.findings.main_rows, "row");
        paragraph(text, 0, &format!("{rows} of {}, for each reference:", self.main.table()));
        let heads = ["rows", "matched", "unmatched", "ambiguous", "other trouble"];
        let mut line = |name: &str, style: Style, cells: [String; 5]| {
            let name = wording::cell(name, width);
            let gap = width.saturating_sub(name.chars().count());
            let _ = write!(text, "  {style}{name}{style:#}{:gap$}", "");
            for (nth, cell) in cells.iter().enumerate() {
                let room = if nth < 2 { 11 } else { heads[nth].len() + 2 };
                let _ = write!(text, "{cell:>room$}");
            }
            text.push('\n');
        };
        line("reference", PLAIN, heads.map(str::to_owned));
        for one in all {
            let counts = &one.found.counts;
            let other = counts.of(Kind::BlankKey) + counts.of(Kind::Malformed);
            let cells = [
                counts.reference_rows,
                counts.of(Kind::Matched),
                counts.of(Kind::Unmatched),
                counts.of(Kind::Ambiguous),
                other,
            ];
            let style = if one.troubles().is_empty() { GOOD } else { TROUBLE };
            line(one.lookup.reference().name(), style, cells.map(number));
        }
    }

    /// What there is to say of one reference: a line, and what unfolds below it. In a table it has its line already.
    pub(super) fn lookup(&self, text: &mut String, looked: Looked<'_>, in_table: bool) {
        let Looked { lookup, taking, found, diagnosis } = looked;
        let (reference, counts) = (lookup.reference(), &found.counts);
        let name = reference.name();
        let mut shown = looked.troubles();
        // And what a gate stumbles over.
        let fails = |kind: &Kind| {
            let mut gates = self.gates.iter().filter(|gate| !gate.holds && gate.reference == name);
            gates.any(|gate| gate.label == kind.label())
        };
        let stumbled = OF_REFERENCE.into_iter().filter(|kind| !shown.contains(kind) && fails(kind));
        let stumbled: Vec<Kind> = stumbled.collect();
        shown.extend(stumbled);
        let mut advice = self.advice(lookup, found, diagnosis);
        if !self.verbose {
            let is_wanted = |one: &Advice| match one.about {
                ABOUT_ALIASES | ABOUT_KEY => true,
                about => !shown.is_empty() && about != Kind::Unused.label(),
            };
            advice.retain(is_wanted);
        }
        let writes = !found.updates.is_empty() || found.appended.is_some();
        let unfolds = self.verbose || writes || !shown.is_empty() || !advice.is_empty();
        if in_table && !unfolds {
            return;
        }
        if in_table {
            text.push('\n');
        }
        let facts = format!(" ({}): {}.", held(reference, counts, self.verbose), outcome(looked));
        let facts = wording::wrapped(&facts, name.chars().count(), "  ");
        let _ = writeln!(text, "{STRONG}{name}{STRONG:#}{facts}");
        if !unfolds {
            return;
        }
        self.updates(text, taking, found);
        let lines = Lines::up_to(counts.main_rows.max(counts.reference_rows));
        for &kind in &shown {
            text.push('\n');
            self.kind(text, looked, kind, &lines, true);
            if let (Kind::Unmatched, Some(diagnosis)) = (kind, diagnosis) {
                reasons(text, lookup, found, diagnosis);
                self.fixes(text, lookup, found, &diagnosis.fixes);
            }
            for one in advice.extract_if(.., |one| one.about == kind.label()) {
                indented(text, &one.words);
            }
        }
        if self.verbose {
            let _ = writeln!(text, "\n  Rows of {}", self.main.table());
            for kind in OF_MAIN_ROWS {
                self.kind(text, looked, kind, &lines, false);
            }
            lines.total(text, counts.main_rows);
            let _ = writeln!(text, "\n  Keys and rows of {}", reference.headers().table());
            for kind in OF_REFERENCE {
                self.kind(text, looked, kind, &lines, !shown.contains(&kind));
            }
        }
        if !shown.is_empty() || self.verbose {
            self.repeated_rows(text, counts);
        }
        if !advice.is_empty() {
            text.push('\n');
        }
        for one in advice {
            paragraph(text, 2, &one.to_string());
        }
    }

    /// How many rows there are, where references before repeat them.
    fn repeated_rows(&self, text: &mut String, counts: &Counts) {
        if counts.main_rows != self.findings.main_rows {
            let repeated = format!(
                "in all: the {} of {}, as the references before repeat them",
                counted(self.findings.main_rows, "row"),
                self.main.table()
            );
            paragraph(text, 4, &repeated);
        }
    }

    /// The line of a kind of finding, with the first few of it if wanted.
    fn kind(
        &self,
        text: &mut String,
        looked: Looked<'_>,
        kind: Kind,
        lines: &Lines,
        with_samples: bool,
    ) {
        let Looked { lookup, found, .. } = looked;
        let (reference, counts) = (lookup.reference(), &found.counts);
        let is_possible = match kind {
            Kind::Chosen => rule_name(reference.rule()).is_some(),
            Kind::NoHeader => !lookup.named_columns().is_empty(),
            Kind::Malformed => {
                let reads = !lookup.key().is_verbatim() || lookup.range_value().is_some();
                reads || counts.of(kind) > 0
            }
            Kind::Duplicate | Kind::Conflicting | Kind::Repeated => !reference.is_by_position(),
            Kind::Collapsed => !reference.is_by_position() && !reference.is_verbatim(),
            _ => true,
        };
        if !is_possible {
            return;
        }
        let room = lines.room();
        let (style, samples) = match kind {
            Kind::Matched => (GOOD, Vec::new()),
            Kind::Chosen => (GOOD, chosen(reference.rule()).into_iter().collect()),
            Kind::Duplicate | Kind::Conflicting => {
                let is_conflict = kind == Kind::Conflicting;
                let groups = found.groups(lookup).filter(|one| one.conflicting == is_conflict);
                let samples = groups.take(SHOWN).map(|one| duplicate(reference, &one, room));
                (if is_conflict { TROUBLE } else { PLAIN }, samples.collect())
            }
            Kind::Collapsed => {
                let groups = found.groups(lookup).filter(|group| group.collapsed);
                (PLAIN, groups.take(SHOWN).map(|one| spellings(reference, &one, room)).collect())
            }
            Kind::Unused => {
                let unused = found.unused(lookup).take(SHOWN).map(|row| {
                    let place = reference_place(reference, row);
                    let read = reference.row_as_read(row);
                    labelled(&place, read.into_iter(), &range_behind(reference, row), room)
                });
                (PLAIN, unused.collect())
            }
            Kind::Repeated if counts.of(kind) == 0 => (PLAIN, Vec::new()),
            Kind::Repeated => {
                let words = format!("needed by several rows of {}", self.main.table());
                (PLAIN, vec![wording::cell(&words, room)])
            }
            _ => {
                let samples = found.samples(kind).iter().take(SHOWN);
                (TROUBLE, samples.map(|one| self.sample(lookup, kind, one, room)).collect())
            }
        };
        let many = counts.of(kind);
        // Each reason has its first row; where no range has the value, there is none.
        let is_explained =
            kind == Kind::Unmatched && looked.diagnosis.is_some() && counts.out_of_range == 0;
        let samples = if with_samples && !is_explained { &samples[..] } else { &[] };
        lines.kind(text, counts, kind, style, (samples, many));
    }

    /// A main row in trouble.
    fn sample(&self, lookup: &Lookup, kind: Kind, sample: &Sample, room: usize) -> String {
        let reference = lookup.reference();
        let place = named_place(sample.name.as_deref(), sample.row, sample.line);
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
                let is_named = reference.name_of(reference.row(entries[0])).is_some();
                let joint = if is_named || places.starts_with("rows") { "in " } else { "" };
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

/// Words below a line of counts.
pub(super) fn indented(text: &mut String, words: &str) {
    let _ = writeln!(text, "      {}", wording::wrapped(words, 6, "      "));
}

/// The rows of a key that several of them have.
fn duplicate(reference: &Reference, group: &Group, room: usize) -> String {
    let entries = places::entries(reference, &group.entries);
    let first = group.entries[0];
    if reference.searched().is_empty() {
        let range = range_behind(reference, group.rows[0]);
        labelled(&entries, reference.as_read(first).into_iter(), &range, room)
    } else {
        let key = wording::key(reference.as_compared(first), room);
        labelled(&key, std::iter::empty(), &format!(" ({entries})"), room)
    }
}

/// `219 of 240 rows are matched on Apiary, 12 of them by the rule `last`; 9 are not in it`.
fn outcome(looked: Looked<'_>) -> String {
    let counts = &looked.found.counts;
    let (matched, rows) = (counts.of(Kind::Matched), counts.main_rows);
    let matched_rows = match (matched, rows) {
        (_, 0) => "no row to match".to_owned(),
        (1, 1) => "the 1 row is matched".to_owned(),
        (all, rows) if all == rows => format!("all {} rows are matched", number(rows)),
        (some, rows) => {
            let verb = if some == 1 { "is" } else { "are" };
            format!("{} of {} {verb} matched", number(some), counted(rows, "row"))
        }
    };
    let how = match looked.lookup {
        lookup if lookup.reference().is_by_position() => "by position".to_owned(),
        lookup => format!("on {}", lookup.on().join(", ")),
    };
    let mut said = format!("{matched_rows} {how}");
    if let (Some(rule), chosen @ 1..) =
        (rule_name(looked.lookup.reference().rule()), counts.of(Kind::Chosen))
    {
        let how_many = if chosen == matched { "all".to_owned() } else { number(chosen) };
        let _ = write!(said, ", {how_many} of them by the rule `{rule}`");
    }
    let others = counts.of(Kind::Unmatched);
    if looked.taking.appending.is_some() && others > 0 {
        let verb = if others == 1 { "is" } else { "are" };
        let _ = write!(said, "; {} {verb} not in it", number(others));
    }
    said
}

/// How rows that disagree are chosen from, if by a rule.
fn chosen(rule: Rule) -> Option<String> {
    rule_name(rule).map(|rule| format!("chosen by the rule `{rule}`"))
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

/// `117 rows`, in full `117 rows with 111 keys`.
fn held(reference: &Reference, counts: &Counts, in_full: bool) -> String {
    let rows = counted(counts.reference_rows, "row");
    let keys = counted(counts.reference_keys, "key");
    if reference.is_filtered() {
        format!("{rows}, only the keys of main rows read")
    } else if reference.is_by_position() || reference.key().parts().is_empty() {
        rows
    } else if reference.is_spilled() {
        format!("{rows}, in temporary files")
    } else if in_full {
        format!("{rows} with {keys}")
    } else {
        rows
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
