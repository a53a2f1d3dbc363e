//! From the findings of a run to its report.

use super::{
    AliasTold, BoundTold, CountTold, FORM, FixTold, GateTold, PartTold, ReasonTold, ReferenceTold,
    Report, RowTold, SharedTold, TableTold, UnlikeTold, UnmatchedTold, WrittenTold,
};
use crate::diagnosis::Diagnosis;
use crate::enrich::Enrichment;
use crate::findings::{
    Counts, Findings, GateResult, Kind, LookupFindings, Population, Sample, UnmatchedKey,
};
use crate::lookup::{AliasState, EntryId, Lookup, Reference, RowId};
use crate::table::Headers;

/// How many rows or keys of a kind a report lists.
pub const LISTED: usize = 100;

/// The material of a report.
#[derive(Debug)]
pub struct Gathering<'a> {
    /// The version of the program.
    pub version: &'a str,
    /// The name of the main table.
    pub main: &'a str,
    /// The lookups.
    pub enrichment: &'a Enrichment,
    /// The findings.
    pub findings: &'a Findings,
    /// Why keys are unmatched, for each lookup.
    pub diagnoses: &'a [Option<Diagnosis>],
    /// What to do about the troubles of each lookup, in addition to fixes.
    pub advice: Vec<Vec<String>>,
    /// How what was required came out.
    pub gates: &'a [GateResult],
    /// The name of the output, and whether it may appear.
    pub output: Option<(&'a str, bool)>,
    /// How many rows or keys of a kind are listed.
    pub listed: usize,
    /// The call, and the plan of the run.
    pub command: Option<String>,
    /// See [`Gathering::command`].
    pub plan: Option<String>,
    /// The changes since the run before.
    pub since: Vec<String>,
    /// What was changed by hand in the output that is there.
    pub edits: Vec<String>,
}

impl Gathering<'_> {
    /// The report.
    pub fn report(&self) -> Report {
        let Self { enrichment, findings, .. } = self;
        let each = enrichment.lookups().zip(&findings.lookups).zip(self.diagnoses);
        let headers = enrichment.headers();
        let references = each.enumerate().map(|(nth, ((lookup, found), diagnosis))| {
            let advice = self.advice.get(nth).cloned().unwrap_or_default();
            reference(lookup, found, (diagnosis.as_ref(), headers), (advice, self.listed))
        });
        let gates = self.gates.iter().map(GateTold::from);
        Report {
            form: FORM,
            version: self.version.to_owned(),
            title: self.title(),
            outcome: self.outcome(),
            command: self.command.clone(),
            plan: self.plan.clone(),
            since: self.since.clone(),
            edits: self.edits.clone(),
            main: TableTold { name: self.main.to_owned(), rows: findings.main_rows },
            written: self.output.map(|(name, appeared)| WrittenTold {
                name: name.to_owned(),
                rows: if appeared { findings.written } else { 0 },
                added: enrichment.output().added(),
                appeared,
            }),
            references: references.collect(),
            gates: gates.collect(),
        }
    }

    /// What was done, in the words of the tables.
    fn title(&self) -> String {
        let names = self.enrichment.lookups().map(|lookup| lookup.reference().name());
        let names: Vec<&str> = names.collect();
        let references = match &names[..] {
            [] => String::new(),
            [one] => (*one).to_owned(),
            [all @ .., last] => format!("{} and {last}", all.join(", ")),
        };
        let main = self.main;
        match self.output {
            None => format!("{main} checked against {references}"),
            Some((_, true)) => format!("{main} enriched from {references}"),
            Some((_, false)) => format!("{main} not enriched from {references}"),
        }
    }

    /// What was written.
    fn outcome(&self) -> String {
        let rows = self.findings.written;
        let rows = if rows == 1 { "1 row was".to_owned() } else { format!("{rows} rows were") };
        let Some((name, appeared)) = self.output else {
            return "Nothing was to be written.".to_owned();
        };
        let cause = match (appeared, self.gates.iter().all(|gate| gate.holds)) {
            (true, _) => return format!("{rows} written to {name}."),
            (false, true) if !self.edits.is_empty() => "it was changed after the last run",
            (false, _) => "something that is required does not hold",
        };
        format!("Nothing was written to {name}, since {cause}.")
    }
}

fn reference(
    lookup: &Lookup,
    found: &LookupFindings,
    (diagnosis, headers): (Option<&Diagnosis>, &Headers),
    (advice, listed): (Vec<String>, usize),
) -> ReferenceTold {
    let reference = lookup.reference();
    let counts = &found.counts;
    let keys = found.unmatched.keys();
    let reasons = diagnosis.map(|diagnosis| diagnosis.reasons(keys)).unwrap_or_default();
    let troubles = [Kind::Ambiguous, Kind::BlankKey, Kind::Malformed, Kind::NoHeader];
    ReferenceTold {
        name: reference.name().to_owned(),
        tables: reference
            .tables()
            .map(|(name, rows)| TableTold { name: name.to_owned(), rows })
            .collect(),
        rows: counts.reference_rows,
        keys: counts.reference_keys,
        ranges: counts.ranges,
        counted: if counts.counts_copies { "main rows and their copies" } else { "main rows" },
        on: lookup.on().to_vec(),
        main_key: lookup.key().columns().iter().map(|&column| headers.address(column)).collect(),
        reference_key: reference
            .key()
            .columns()
            .iter()
            .map(|&column| reference.headers().address(column))
            .collect(),
        outcomes: Kind::OUTCOMES.map(|kind| count(counts, kind)).to_vec(),
        of_these: Kind::ALL
            .into_iter()
            .filter(|kind| kind.population() == Population::MainRows && !kind.info().is_outcome)
            .map(|kind| count(counts, kind))
            .collect(),
        reference_findings: Kind::ALL
            .into_iter()
            .filter(|kind| kind.population() != Population::MainRows)
            .map(|kind| count(counts, kind))
            .collect(),
        reasons_bound: diagnosis.and_then(|diagnosis| BoundTold::of(diagnosis, found)),
        parts: parts(lookup, &reasons),
        reasons: reasons
            .iter()
            .map(|&(reason, rows, first)| ReasonTold {
                reason: reason.of(lookup),
                rows,
                example: keys.get(first).map(|key| unmatched_key(lookup, key, diagnosis, first)),
            })
            .collect(),
        fixes: diagnosis.map_or(Vec::new(), |diagnosis| diagnosis.fixes.iter().map(fix).collect()),
        advice,
        unmatched: unmatched(lookup, found, (diagnosis, listed)),
        main_rows: troubles
            .into_iter()
            .flat_map(|kind| found.samples(kind).iter().map(move |sample| (kind, sample)))
            .map(|(kind, sample)| main_row(reference, kind, sample))
            .collect(),
        shared_keys: found
            .groups(lookup)
            .take(listed)
            .map(|group| shared(reference, &group))
            .collect(),
        unused: found.unused(lookup).take(listed).map(|row| unused(reference, row)).collect(),
        aliases: lookup
            .aliases()
            .map(|(alias, state)| {
                let (state, rows) = match state {
                    AliasState::Used(rows) if rows > 0 => ("used", rows),
                    AliasState::Used(_) => ("not asked for", 0),
                    AliasState::Gone => ("its reference key is gone", 0),
                    AliasState::Needless => ("the main key is found by itself", 0),
                    AliasState::Again => ("a row before is of the same main key", 0),
                    AliasState::Broken => ("a part is blank or can't be read", 0),
                };
                AliasTold {
                    row: alias.row,
                    key: alias.main.clone(),
                    stands_for: alias.reference.clone(),
                    state: state.to_owned(),
                    rows,
                }
            })
            .collect(),
    }
}

fn count(counts: &Counts, kind: Kind) -> CountTold {
    CountTold { kind: kind.label().to_owned(), count: counts.of(kind) }
}

/// How many rows each part is in the way of.
fn parts(lookup: &Lookup, reasons: &[(&crate::diagnosis::Reason, u64, usize)]) -> Vec<PartTold> {
    let names = lookup.part_names();
    let mut rows = vec![0; names.len()];
    for (reason, count, _) in reasons {
        for part in reason.parts() {
            rows[part] += count;
        }
    }
    let reported = names.into_iter().zip(rows);
    let mut reported: Vec<PartTold> =
        reported.map(|(part, rows)| PartTold { part, rows }).collect();
    reported.retain(|part| part.rows > 0);
    reported.sort_by_key(|part| std::cmp::Reverse(part.rows));
    reported
}

fn fix(fix: &crate::diagnosis::Fix) -> FixTold {
    FixTold {
        on: fix.on.clone(),
        fixed: fix.fixed,
        unlike: fix.unlike,
        unlike_example: fix
            .unlike_example
            .clone()
            .map(|[main, reference]| UnlikeTold { main, reference }),
        newly_ambiguous: fix.newly_ambiguous,
        lost: fix.lost,
        joined: fix.joined,
    }
}

/// The cells that the key of a entry is made from.
fn held(reference: &Reference, entry: EntryId) -> Vec<String> {
    reference.as_read(entry).into_iter().map(str::to_owned).collect()
}

fn unmatched(
    lookup: &Lookup,
    found: &LookupFindings,
    (diagnosis, listed): (Option<&Diagnosis>, usize),
) -> Vec<UnmatchedTold> {
    let keys = found.unmatched.keys().iter().enumerate().take(listed);
    keys.map(|(nth, key)| unmatched_key(lookup, key, diagnosis, nth)).collect()
}

/// An unmatched key, of which the diagnosis has the number.
fn unmatched_key(
    lookup: &Lookup,
    key: &UnmatchedKey,
    diagnosis: Option<&Diagnosis>,
    nth: usize,
) -> UnmatchedTold {
    let explained = diagnosis.and_then(|diagnosis| diagnosis.explained.get(nth));
    let nearest = explained.and_then(|one| one.nearest);
    UnmatchedTold {
        key: key.read().map(str::to_owned).collect(),
        rows: key.rows,
        row: key.row,
        name: key.name.as_deref().map(str::to_owned),
        line: key.line,
        reason: explained.map_or(String::new(), |explained| explained.reason.of(lookup)),
        nearest: nearest.map(|entry| held(lookup.reference(), entry)),
        distance: explained.and_then(|one| one.distance).map(|distance| distance as u64),
    }
}

fn main_row(reference: &Reference, kind: Kind, sample: &Sample) -> RowTold {
    let more = match (&sample.unreadable, &sample.header) {
        (Some(unreadable), _) => format!("`{}` can't read {}", unreadable.step, unreadable.value),
        (None, Some((header, _))) => format!("there is no header {header}"),
        _ if sample.candidates.is_empty() => String::new(),
        _ => {
            let rows = sample.candidates.iter().map(|&entry| {
                let row = reference.row(entry);
                let name = reference.name_of(row).map(str::to_owned);
                let name = name.unwrap_or_else(|| reference.number(row).to_string());
                match reference.column(entry) {
                    Some(column) => format!("{name} in {}", reference.headers().address(column)),
                    None => name,
                }
            });
            let rows = rows.collect::<Vec<_>>().join(", ");
            let first = reference.row(sample.candidates[0]);
            if reference.name_of(first).is_some() { rows } else { format!("rows {rows}") }
        }
    };
    RowTold {
        kind: kind.label().to_owned(),
        table: None,
        row: sample.row,
        name: sample.name.clone(),
        line: sample.line,
        key: sample.key.clone(),
        more,
    }
}

fn shared(reference: &Reference, group: &crate::lookup::Group) -> SharedTold {
    let kind = if group.conflicting { Kind::Conflicting } else { Kind::Duplicate };
    SharedTold {
        kind: kind.label().to_owned(),
        key: held(reference, group.entries[0]),
        collapsed: group.collapsed,
        rows: group.rows.iter().map(|&row| reference.number(row)).collect(),
        names: group
            .rows
            .iter()
            .filter_map(|&row| reference.name_of(row))
            .map(str::to_owned)
            .collect(),
    }
}

fn unused(reference: &Reference, row: RowId) -> RowTold {
    RowTold {
        kind: Kind::Unused.label().to_owned(),
        table: reference.table(row).map(str::to_owned),
        row: reference.number(row),
        name: reference.name_of(row).map(str::to_owned),
        line: reference.line(row),
        key: reference.row_as_read(row).into_iter().map(str::to_owned).collect(),
        more: reference.range_as_read(row).unwrap_or_default(),
    }
}
