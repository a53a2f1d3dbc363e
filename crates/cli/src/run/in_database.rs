//! A run inside a database: the server joins and writes, and this program reads what only it can read, judges the gates
//! and says what was found.
//!
//! [`carry_out`] reads in the order of what happens: the tables are looked at, the statements are made and carried out, the
//! findings come here, the gates are judged, and the output appears with all files, or nothing does.

mod receipted;

use std::path::{Path, PathBuf};

use gather_keys_core::enrich::{Corrections, Enrichment, EnrichmentBuilder, Resolved};
use gather_keys_core::findings::{Findings, KEPT, Kind, SAMPLES};
use gather_keys_core::lookup::AliasKeys;
use gather_keys_core::plan::{Mark, On, ReferencePlan, Take};
use gather_keys_core::report::{Document, LISTED, Report};
use gather_keys_core::sql::{Asking, CorrectionQueries, RowName, Script, Shown, StoredTable};
use gather_keys_formats::commit::{Finished, commit};
use gather_keys_formats::postgresql::{
    Answering, Counter, Crossing, InDatabase, Most, ServerAddress, Watcher,
};
use gather_keys_formats::workbook::Edited;
use gather_keys_formats::{Address, Error as FormatError, SideFile, Untapped, WholeFile};

use super::written_into::drops_rows;
use super::{Told, judge, put_out};
use crate::aliases;
use crate::call::{Call, Destination, EditsRule, Table, WithinDatabase};
use crate::commands::Outcome;
use crate::corrections::CorrectionsFile;
use crate::diagnoses::diagnoses;
use crate::error::{Error, Result};
use crate::inputs::{OpenTable, arranged, seed};
use crate::lists::{self, Lists};
use crate::matched_sample::MatchedSample;
use crate::progress::Steps;
use crate::receipts::{Draft, Notes};
use crate::report::{self, Reports};
use crate::signals::{cancel_with, let_end};
use crate::summary::{self, Refusal, Summary};
use crate::targets::{self, written};
use crate::typed::{Asked, as_plan_at, as_report_has_it};
use crate::wording::{counted, joined, number};
use receipted::Receipted;

/// How many rows of a reference come here, so that reasons can be sought among them.
const ROWS: usize = 100_000;

/// What is done after the steps of the script.
const AFTER: [&str; 2] = ["What was found.", "The output: the rows with their answers."];

/// A reference, in the database.
struct Reference {
    table: StoredTable,
    found: Resolved,
    aliases: Option<AliasKeys>,
}

/// The files of a run, which nobody sees yet.
struct Files {
    lists: Option<Lists>,
    reports: Reports,
    plan: Option<WholeFile>,
    receipt: Option<Receipted>,
}

/// Carries out a run inside the database of its main table.
pub(super) fn carry_out(asked: &Asked, call: &Call, within: &WithinDatabase) -> Result<Outcome> {
    let outcome = run(asked, call, within);
    if outcome.is_err() {
        let_end();
    }
    cancel_with(None);
    outcome
}

fn run(asked: &Asked, call: &Call, within: &WithinDatabase) -> Result<Outcome> {
    refuse(call)?;
    let Address::Server(server) = &call.main.address else {
        return Err(Error::MainNotInDatabase { name: call.main.address.to_string() });
    };
    let (mut files, lists) = Files::begin(asked, call)?;
    let mut database = InDatabase::begin(server)?;
    cancel_with(Some(database.canceller()));
    if let Some(path) = &within.show_sql {
        database.show(WholeFile::create(path, call.overwrite)?)?;
    }
    if let Some(refusal) = set_target(&mut database, call, server, files.receipt.as_ref())? {
        put_out(call, None, refusal.trim_start())?;
        return Ok(Outcome::Stopped);
    }
    let main = look_at(&mut database, &call.main, server)?;
    let watch = || database.watcher().ok().map(far);
    let shown = (call.messages.progress, call.messages.quiet);
    let mut steps = Steps::start(shown, watch);
    let found = find(&mut database, asked, call, (&main, within, &mut steps))?;
    let mut results = judge(&call.gates.counts, &found.enrichment, &found.findings);
    for gate in &call.gates.same_columns {
        let before = files.receipt.as_ref().and_then(Receipted::before);
        results.extend(gate.results(&found.enrichment, before));
    }
    let holds = results.iter().all(|gate| gate.holds);
    let may_appear = holds || call.gates.write_anyway;
    if let Some(begun) = lists {
        files.lists = Some(found.listed(&mut database, begun)?);
    }
    let noted = files.receipt.is_some();
    let noted = noted.then(|| Receipted::noted(&mut database, call, &main, &found)).transpose()?;
    let of = found.script.steps.len() + AFTER.len();
    steps.show(of, of, AFTER[1]);
    let found = found.written(&mut database, call, &main, may_appear)?;
    drop(steps);
    let sampled = found.sampled(&mut database, call)?;
    let receipt = files.receipt.as_ref();
    let noted = receipt.zip(noted);
    let draft = noted.map(|(receipt, noted)| receipt.draft((asked, call), &found, noted));
    let draft = draft.transpose()?;
    let moved = receipt.zip(draft.as_ref()).and_then(|(receipt, draft)| receipt.moved(draft));
    let since = moved.as_deref().map(summary::since).unwrap_or_default();
    let diagnoses = diagnoses(call, &found.enrichment, &found.findings, &[])?;
    if let Some(lists) = &mut files.lists {
        lists.reasons(&found.enrichment, &found.findings, &diagnoses)?;
        lists.reference_rows(&found.enrichment, &found.findings)?;
    }
    let corrections = call.corrections.as_ref().map(|path| path.display().to_string());
    let summary = Summary {
        main: &main.headers,
        enrichment: &found.enrichment,
        findings: &found.findings,
        diagnoses: &diagnoses,
        gates: &results,
        verbose: call.messages.verbose,
        in_plan: asked.file.is_some(),
        listed: call.lists.is_some(),
        corrections: corrections.as_deref(),
    };
    let quiet = call.messages.quiet;
    let text_of_findings = if quiet { String::new() } else { summary.text() };
    let writes = call.into != Destination::Nothing;
    let name = database.name().to_owned();
    let report = call.wants_report().then(|| {
        let context = report::Context {
            command: report::command(),
            plan: as_report_has_it(&asked.plan),
            since: moved.unwrap_or_default(),
            edits: Vec::new(),
        };
        report::of(&summary, &results, writes.then_some((&name[..], may_appear)), context)
    });
    let printed = report.as_ref().filter(|_| call.prints_report).map(Document::json);
    let mut said = found.said(&database, call, &main, may_appear);
    let shown = within.show_sql.as_deref().zip(database.take_shown()?);
    let appears = writes && may_appear;
    let summed = draft.filter(|_| appears).map(|draft| {
        let sum = database.sum_of_output()?;
        Ok::<_, Error>((draft, (sum.bytes, sum.digest)))
    });
    let ready =
        files.finish((asked, call), report.as_ref(), (shown, summed.transpose()?), &mut said)?;
    let appeared = commit(ready, || if appears { database.commit() } else { Ok(()) })?;
    said.extend(targets::reported(&appeared));

    let mut text = if quiet { String::new() } else { found.notes };
    let parts = Told { written: &said, since: &since, found: &text_of_findings, sampled: &sampled };
    parts.put_together(&mut text, quiet, !results.is_empty());
    // What stops a run comes last.
    results.sort_by_key(|gate| !gate.holds);
    text.push_str(&summary::gates(&results, quiet));
    put_out(call, printed.as_deref(), &text)?;
    Ok(if holds { Outcome::Done } else { Outcome::Stopped })
}

/// The file of the statements, with its path.
type Statements<'p> = Option<(&'p Path, WholeFile)>;

/// What a receipt says, and the sum of the output.
type Summed = Option<(Draft, (u64, String))>;

impl Files {
    /// Begins the files, and those of the lists.
    fn begin(asked: &Asked, call: &Call) -> Result<(Self, Option<lists::Files>)> {
        let plan = asked.save.as_deref().map(|path| WholeFile::create(path, call.overwrite));
        let receipt = Receipted::begin(call)?;
        // What the run before wrote may be replaced.
        let replaces = |paths: &[PathBuf]| {
            call.overwrite || receipt.as_ref().is_some_and(|receipt| receipt.has_written(paths))
        };
        let lists = call.lists.as_deref();
        let lists = lists
            .map(|folder| lists::Files::create(folder, replaces(&lists::paths(folder))))
            .transpose()?;
        let reports = Reports::create(&call.reports, replaces(&call.reports))?;
        Ok((Self { lists: None, reports, plan: plan.transpose()?, receipt }, lists))
    }

    /// Ends the files of a run, so that they can appear, and says which there are.
    fn finish(
        self,
        (asked, call): (&Asked, &Call),
        report: Option<&Report>,
        (shown, summed): (Statements<'_>, Summed),
        said: &mut Vec<String>,
    ) -> Result<Vec<Finished>> {
        let mut listed = Vec::new();
        if let (Some(lists), Some(folder)) = (self.lists, &call.lists) {
            listed.extend(lists::paths(folder).into_iter().zip(lists.finish()?));
            said.push(lists::reported(folder));
        }
        if let Some(report) = report.filter(|_| !call.reports.is_empty()) {
            listed.extend(call.reports.iter().cloned().zip(self.reports.finish(report)?));
            let names = call.reports.iter().map(|path| path.display().to_string());
            let names: Vec<String> = names.collect();
            let what = if names.len() == 1 { "report" } else { "reports" };
            said.push(format!("Wrote the {what} {}.", joined(&names, "and")));
        }
        let mut ready = Vec::new();
        if let (Some(receipt), Some(summed), Some(address)) = (self.receipt, summed, call.output())
        {
            let lists: Vec<_> = listed.iter().map(|(path, file)| (path.clone(), file)).collect();
            let (file, sentence) = receipt.finish(summed, address, &lists)?;
            ready.push(file);
            said.extend(sentence);
        }
        ready.extend(listed.into_iter().map(|(_, file)| file));
        if let Some((path, file)) = shown {
            ready.push(file.finish()?);
            said.push(format!("Wrote the statements to {}.", path.display()));
        }
        if let (Some(file), Some(path)) = (self.plan, &asked.save) {
            ready.push(written(file, as_plan_at(&asked.plan, path).as_bytes())?);
            let name = path.display();
            said.push(format!("Wrote the plan {name}; to run it again: gather-keys enrich {name}"));
        }
        Ok(ready)
    }
}

/// What was found, and what is to be written.
struct Found {
    script: Script,
    enrichment: Enrichment,
    /// The tables of the references.
    tables: Vec<StoredTable>,
    corrections: Option<(CorrectionsFile, Corrections)>,
    findings: Findings,
    /// Notes on names, and on findings that rest on a part of the rows.
    notes: String,
    bounded: Vec<String>,
}

impl Found {
    /// The corrections, with the queries for what became of them.
    fn corrected(&self) -> Option<(&CorrectionQueries, &Corrections)> {
        let corrections = self.corrections.as_ref().map(|(_, corrections)| corrections);
        self.script.corrected.as_ref().zip(corrections)
    }

    /// The lists of what was found, with the first main rows of each kind.
    fn listed(&self, database: &mut InDatabase, files: lists::Files) -> Result<Lists> {
        let mut lists = Lists::begin(files, &self.enrichment)?;
        let lookups = self.enrichment.lookups().enumerate().zip(&self.script.lookups);
        for (lookup, queries) in lookups {
            database.record(queries, lookup, KEPT, &mut lists)?;
            database.record_changes(queries, lookup, KEPT, &mut lists)?;
        }
        if let Some(corrected) = self.corrected() {
            let name = self.script.lookups.first().map_or(&RowName::None, |one| &one.rows.name);
            database.record_corrected(corrected, name, KEPT, &mut lists)?;
        }
        Ok(lists)
    }

    /// Matched keys to look at, if these are wanted, in words.
    fn sampled(&self, database: &mut InDatabase, call: &Call) -> Result<String> {
        let Some(shows) = call.shows else { return Ok(String::new()) };
        let mut notes = Notes::new(None, 0, false);
        notes.sample = Some(MatchedSample::new(shows, &self.enrichment));
        for (lookup, queries) in self.enrichment.lookups().enumerate().zip(&self.script.lookups) {
            database.record_matched(queries, lookup, shown(call), &mut notes)?;
        }
        let sample = notes.finish().1;
        Ok(sample.map_or(String::new(), |sample| sample.text(&self.enrichment, &self.findings)))
    }

    /// Writes the output, where it may appear.
    fn written(
        mut self,
        database: &mut InDatabase,
        call: &Call,
        main: &StoredTable,
        may_appear: bool,
    ) -> Result<Self> {
        self.findings.written = match &call.into {
            Destination::Main if may_appear => {
                database.write_into(main, &self.script)?;
                self.findings.main_rows
            }
            Destination::Output(_) if may_appear => database.write(&self.script)?,
            _ => database.rows_of(&self.script)?,
        };
        Ok(self)
    }

    /// The sentences on what was written.
    fn said(
        &self,
        database: &InDatabase,
        call: &Call,
        main: &StoredTable,
        may_appear: bool,
    ) -> Vec<String> {
        let (name, Self { enrichment, findings, .. }) = (database.name(), self);
        let mut said = match &call.into {
            Destination::Nothing => Vec::new(),
            _ if !may_appear => vec![summary::not_written(name)],
            Destination::Main if summary::leaves_all(enrichment, findings) => {
                vec![format!("{name} stays as it is: nothing in it changes.")]
            }
            Destination::Main => {
                vec![summary::written_into(name, enrichment, findings, &Edited::default())]
            }
            Destination::Output(_) => {
                vec![summary::table_written(name, &main.headers, enrichment, findings)]
            }
        };
        said.extend(self.bounded.iter().cloned());
        if call.messages.verbose {
            let (sent, received) = database.traffic();
            said.push(format!(
                "The server joined the tables: {} bytes of values came from there, {} went there.",
                number(received),
                number(sent)
            ));
            said.extend(database.crossing().map(crossed));
        }
        said
    }
}

/// Says how far the server is with a step.
fn far(mut watcher: Watcher) -> impl FnMut() -> Option<String> + Send {
    move || {
        let Counter { unit, done, of } = watcher.counter()?;
        let done = number(done);
        Some(of.map_or_else(
            || format!("{done} {unit}"),
            |of| format!("{done} of {} {unit}", number(of)),
        ))
    }
}

/// What other servers sent to the one of the run, and what they did themselves.
fn crossed(crossing: &Crossing) -> String {
    let joins: Vec<String> = crossing.joined.iter().map(|tables| tables.join(" with ")).collect();
    let rows = counted(crossing.rows, "row");
    match &joins[..] {
        [] => format!(
            "For the answers and the output {rows} came from other servers, which joined no tables."
        ),
        joins => format!(
            "For the answers and the output {rows} came from other servers, which joined {}.",
            joined(joins, "and")
        ),
    }
}

/// Has the server answer, and finds out what came of it.
fn find(
    database: &mut InDatabase,
    asked: &Asked,
    call: &Call,
    (main, within, steps): (&StoredTable, &WithinDatabase, &mut Steps),
) -> Result<Found> {
    let mut builder =
        EnrichmentBuilder::new(&main.headers, seed()).blanks(call.main.blanks.clone());
    let references = references(database, call, within, &mut builder);
    let references = references.map_err(|error| asked.located(error))?;
    let asking = references.iter().zip(&call.references);
    let asking: Vec<Asking<'_>> = asking
        .map(|(Reference { table, found, aliases }, (_, plan))| Asking {
            name: &plan.name,
            found,
            match_blanks: plan.match_blanks,
            aliases: aliases.as_ref(),
            table,
        })
        .collect();
    let shared = database.shared_name()?;
    let corrections = call.corrections.as_deref().map(CorrectionsFile::read).transpose()?;
    let placed = corrections.map(|file| Ok::<_, Error>((file.placed_in(&builder)?, file)));
    let corrections = placed.transpose()?.map(|(corrections, file)| (file, corrections));
    let output = builder.output_columns();
    let placed = corrections.as_ref().map(|(_, corrections)| corrections);
    let script = Script::new(main, &asking, (&output, placed), shared.as_deref());
    drop(asking);
    let is_divided = |table: &StoredTable| !table.parts.is_empty();
    let are_divided = is_divided(main) || references.iter().any(|one| is_divided(&one.table));
    if call.messages.verbose && are_divided {
        database.count_crossing();
    }
    let of = script.steps.len() + AFTER.len();
    database.carry_out(&script, |told| steps.show(told.nth, of, &told.about))?;
    steps.show(of - 1, of, AFTER[0]);
    let notes = summary::notes(builder.notes());
    let tables = references.iter().map(|one| one.table.clone()).collect();
    let (enrichment, mut findings, bounded) =
        findings(database, call, &script, (main, references, builder))?;
    if let Some((queries, (_, corrections))) = script.corrected.as_ref().zip(corrections.as_ref()) {
        findings.corrected = database.corrected(queries, corrections)?;
    }
    Ok(Found { script, enrichment, tables, corrections, findings, notes, bounded })
}

/// Refuses what has no meaning inside a database, or is not done there.
fn refuse(call: &Call) -> Result<()> {
    let by_position = call.references.iter().any(|(_, plan)| plan.on == On::Position);
    let keeps_edits = call.edits == EditsRule::Keep;
    let options = [(keeps_edits, "--edits keep"), (by_position, "--on @row")];
    if call.into == Destination::Main
        && let Some((_, plan)) = call.references.iter().find(|(_, plan)| drops_rows(plan))
    {
        let (name, reference) = (call.main.address.to_string(), plan.name.clone());
        return Err(Error::InPlaceOtherRows { name, reference });
    }
    match options.into_iter().find(|(is_asked, _)| *is_asked) {
        Some((_, option)) => Err(Error::NotInDatabase { what: option.to_owned() }),
        None => Ok(()),
    }
}

/// What the server says of a table of the call.
fn look_at(
    database: &mut InDatabase,
    table: &Table,
    server: &ServerAddress,
) -> Result<StoredTable> {
    if !table.described.fill_down.is_empty() || table.described.skip_last > 0 {
        let option = if table.described.skip_last > 0 { "--skip-last" } else { "--fill-down" };
        return Err(Error::NotInDatabase { what: format!("{option} of a table of a server") });
    }
    let (mut stored, identity) = database.describe(server, &table.described.order_by)?;
    stored.headers = stored.headers.of_table(&table.together[..]);
    if database.identity() == Some(&identity) {
        let name = database.name().to_owned();
        return Err(FormatError::OutputIsInput { name }.into());
    }
    Ok(stored)
}

/// Names the table that is to be written. One that is as the run before wrote it is replaced; gives a refusal where somebody has
/// changed it since.
fn set_target(
    database: &mut InDatabase,
    call: &Call,
    main: &ServerAddress,
    receipt: Option<&Receipted>,
) -> Result<Option<String>> {
    let other = |name: String| Error::OutputNotInDatabase { name, database: main.database() };
    match &call.into {
        Destination::Output(address @ Address::Server(output)) if database.has(output)? => {
            let before = receipt.and_then(|receipt| receipt.output_at(address));
            database.set_target(output, call.overwrite || before.is_some())?;
            let Some(before) = before.filter(|_| database.identity().is_some()) else {
                return Ok(None);
            };
            let now = database.sum_of_output()?;
            let is_as_written = (now.bytes, &now.digest) == (before.bytes, &before.digest);
            let may_go = is_as_written || call.edits == EditsRule::Discard;
            return Ok((!may_go).then(|| Refusal::of_table(database.name()).text()));
        }
        Destination::Output(Address::Standard) => return Err(other("standard output".to_owned())),
        Destination::Output(output) => return Err(other(output.to_string())),
        Destination::Main => database.set_main_target(main)?,
        Destination::Nothing => {}
    }
    Ok(None)
}

/// Looks at the references, and copies those to the server that are elsewhere.
fn references(
    database: &mut InDatabase,
    call: &Call,
    within: &WithinDatabase,
    builder: &mut EnrichmentBuilder,
) -> Result<Vec<Reference>> {
    let mut all = Vec::new();
    for (nth, (table, plan)) in (1..).zip(&call.references) {
        let is_here = match &table.address {
            Address::Server(server) if table.others.is_empty() => database.has(server)?,
            _ => false,
        };
        let stored = match &table.address {
            Address::Server(server) if is_here => {
                let stored = look_at(database, table, server)?;
                if stored.order_by.is_empty() && takes_number(plan) {
                    return Err(Error::NumberNeedsOrder { reference: plan.name.clone() });
                }
                stored
            }
            _ => ship(database, nth, table, within.ship)?,
        };
        let found = builder.resolve(plan, &stored.headers, &table.blanks)?;
        let file = table.aliases.as_ref().map(SideFile::read).transpose()?;
        let keys = aliases::Keys::of_plan(plan, &found, &stored.headers);
        let aliases = file.map(|file| aliases::between(&keys, &file, builder.headers()));
        let aliases = aliases.transpose()?.map(|all| keys.with(all)).filter(|all| !all.is_empty());
        all.push(Reference { table: stored, found, aliases });
    }
    if !call.has_all_columns() {
        builder.choose(&call.columns, &call.dropped)?;
    }
    Ok(all)
}

/// How many matched keys are to be shown, and which.
fn shown(call: &Call) -> Shown {
    let (most, seed) = call.shows.unwrap_or_default();
    Shown { most, seed }
}

/// Whether the number of a row is taken.
fn takes_number(plan: &ReferencePlan) -> bool {
    let take = plan.take.iter().flatten();
    take.into_iter().any(|one| matches!(one, Take::Mark { mark: Mark::Row, .. }))
}

/// Copies a table to the server for the time of the run.
fn ship(database: &mut InDatabase, nth: usize, table: &Table, most: u64) -> Result<StoredTable> {
    let mut tables = Vec::new();
    for address in table.addresses() {
        tables.push(OpenTable::open(address, &table.described, &Untapped)?.0);
    }
    let Some(first) = tables.first() else { return Err(Error::NoReference) };
    let headers = gather_keys_core::table::Source::headers(first).clone();
    let headers = headers.of_table(&table.together[..]);
    let first = table.address.to_string();
    let sources = tables.iter_mut().map(|one| arranged(&headers, &first, one));
    let sources: Vec<_> = sources.collect::<Result<_>>()?;
    database.ship(nth, &headers, sources, most).map_err(|error| match error {
        FormatError::TooLargeToShip { name, most } => Error::TooLargeToShip { name, most },
        other => other.into(),
    })
}

/// What was found, and what is to be said where not all of it came here.
fn findings(
    database: &mut InDatabase,
    call: &Call,
    script: &Script,
    (main, references, mut builder): (&StoredTable, Vec<Reference>, EnrichmentBuilder),
) -> Result<(Enrichment, Findings, Vec<String>)> {
    let explains = call.explains();
    let sampled = if call.wants_report() { LISTED } else { SAMPLES };
    let most = Most {
        sampled,
        named: if call.lists.is_some() { KEPT } else { sampled },
        unmatched: if explains { KEPT } else { 0 },
        rows: if explains { ROWS } else { 0 },
        shown: shown(call),
    };
    let (mut lookups, mut bounded) = (Vec::new(), Vec::new());
    let all = references.into_iter().zip(&call.references).zip(&script.lookups);
    for ((Reference { table, found, aliases }, (_, plan)), queries) in all {
        let asked = Answering { plan, table: &table, found, aliases };
        let (lookup, output, found) = database.findings(queries, asked, builder.seed(), most)?;
        let counts = &found.counts;
        let is_long = |kind: Kind| counts.of(kind) > KEPT as u64;
        let changed: u64 = found.updates.iter().map(|one| one.written.changed()).sum();
        let are_long = changed > KEPT as u64 || Kind::listed().any(is_long);
        if call.lists.is_some() && are_long {
            let most = number(KEPT as u64);
            bounded.push(format!(
                "note: the lists have the first {most} of each kind of {}.",
                plan.name
            ));
        }
        let rows = found.counts.reference_rows;
        if explains && rows > ROWS as u64 && found.counts.of(Kind::Unmatched) > 0 {
            bounded.push(format!(
                "note: reasons and advice for {} rest on {} of its {} rows.",
                plan.name,
                number(ROWS as u64),
                number(rows)
            ));
        }
        builder.add(lookup, output);
        lookups.push(found);
    }
    let main_rows = lookups.iter().find(|found| !found.counts.counts_copies);
    let main_rows = match main_rows {
        Some(found) => found.counts.main_rows,
        None => database.rows_in(main)?,
    };
    let findings =
        Findings { main_rows, written: 0, lookups, corrected: Vec::new(), total_row: None };
    Ok((builder.finish(), findings, bounded))
}
