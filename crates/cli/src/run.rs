//! A run: the whole way from what was asked for to the output and the summary.
//!
//! [`Run::once`] reads in the order of what happens: open the tables, load the references, pass the
//! main table through, judge the gates, look at what has moved since the run before, let the
//! outputs appear, and tell all of it.

mod appear;
mod changed_output;
mod in_database;
mod own;
mod written_into;

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Gate, GateResult};
use gather_keys_core::lookup::Lookup;
use gather_keys_core::receipt::{KeysSeen, Receipt};
use gather_keys_core::report::Document;
use gather_keys_core::table::Source;
use gather_keys_formats::commit::{begin_run, recover};
use gather_keys_formats::delimited::HeaderRow;
use gather_keys_formats::workbook::{Edited as EditedSheet, Links};
use gather_keys_formats::{
    Address, Described, Error as FormatError, Format, InputFile, Stamp, WholeFile,
};

use crate::call::{Call, Destination, EditsRule};
use crate::clashes;
use crate::commands::Outcome;
use crate::corrections::CorrectionsFile;
use crate::diagnoses::diagnoses;
use crate::error::Result;
use crate::found_sheet::found_sheet;
use crate::inputs::{Inputs, Loaded, OpenTable, Seen};
use crate::lists::{self, Lists};
use crate::matched_sample::MatchedSample;
use crate::nearby;
use crate::output::{Form, Output};
use crate::pass::{PassResult, Unfinished, pass};
use crate::progress::Progress;
use crate::receipts::{self, Draft, Notes, OnDisk};
use crate::report::{self, Reports};
use crate::summary::{self, Refusal, Summary};
use crate::targets::{Targets, file_name};
use crate::terminal::{say, show};
use crate::typed::{Asked, as_receipt_has_it, as_report_has_it};
use crate::wording::{joined, wrapped};
use appear::stamp;
use changed_output::{Edited, Kept};
pub(crate) use own::Own;
use written_into::drops_rows;

/// Carries out a run and reports what was found.
pub(crate) fn carry_out(asked: &Asked, call: Call) -> Result<Outcome> {
    carry_out_again(asked, call, &mut Own::default())
}

/// Carries out what was asked for, as one of several runs that may replace what those before it wrote.
pub(crate) fn carry_out_again(asked: &Asked, call: Call, own: &mut Own) -> Result<Outcome> {
    clashes::refuse(asked, &call)?;
    begin_run();
    let targets = clashes::targets(asked, &call);
    let completed = recover(targets.iter().map(PathBuf::as_path));
    if let Some(within) = call.in_database.clone() {
        return in_database::carry_out(asked, &call, &within);
    }
    let mut run = Run::new(asked, call, own)?;
    let outcome = loop {
        if let Some(outcome) = run.once()? {
            break outcome;
        }
        // Changes made by hand are corrections now, and the output is made again with them.
        run.call.edits = EditsRule::Discard;
    };
    let mut reported = String::new();
    if !completed.is_empty() {
        let names: Vec<String> = completed.iter().map(|path| file_name(path)).collect();
        let note = format!(
            "note: an earlier run was ended while its files appeared; {} completed before this one.",
            if names.len() == 1 {
                format!("{} was", names[0])
            } else {
                format!("{} were", joined(&names, "and"))
            }
        );
        let _ = writeln!(reported, "{}\n", wrapped(&note, 0, "      "));
    }
    reported.push_str(&run.reported);
    put_out(&run.call, run.printed.as_deref(), &reported)?;
    own.note(run.appeared);
    Ok(outcome)
}

/// Shows what a run has to say: without an output the findings are the result, in words or as a report.
fn put_out(call: &Call, printed: Option<&str>, reported: &str) -> Result<()> {
    if let Some(printed) = printed {
        show(printed)?;
    }
    if call.into == Destination::Nothing && printed.is_none() {
        show(reported)?;
    } else {
        say(reported);
    }
    Ok(())
}

/// A run on its way.
struct Run<'a> {
    asked: &'a Asked,
    call: Call,
    /// The outputs of earlier runs of this process.
    own: &'a Own,
    /// The receipt of the run before, and what its file was.
    before: Option<Receipt>,
    receipt_was: Option<Stamp>,
    /// The table that is at the place of the output.
    on_disk: OnDisk,
    /// The changes made by hand that have become corrections.
    kept: Option<Kept>,
    /// The files that have appeared.
    appeared: Vec<PathBuf>,
    /// The notes at the end of a run.
    reported: String,
    /// The report that goes to standard output.
    printed: Option<String>,
}

/// The result of a pass over the main table.
struct Passed {
    main: OpenTable,
    enrichment: Enrichment,
    findings: Findings,
    /// The columns that are written as text since no type holds all their cells.
    mixed: Vec<String>,
    /// What was found while a workbook was written.
    edited: EditedSheet,
    diagnoses: Vec<Option<Diagnosis>>,
    /// The matched rows that are shown, in words.
    sampled: String,
    output: Option<Output>,
    lists: Option<Lists>,
    reports: Reports,
    /// The files of the receipt, the plan that is saved, the corrections, and the plan that they are entered into.
    files: [Option<WholeFile>; 4],
    /// The files that were read.
    read: Vec<InputFile>,
    draft: Option<Draft>,
    corrections: Option<CorrectionsFile>,
}

impl<'a> Run<'a> {
    fn new(asked: &'a Asked, mut call: Call, own: &'a Own) -> Result<Self> {
        let before = call.receipt.as_deref().map(receipts::read).transpose()?.flatten();
        let (before, receipt_was) = before.unzip();
        let on_disk = match (&before, &call.receipt, &call.into) {
            (Some(before), Some(receipt), into) => {
                let output = match into {
                    Destination::Output(output) => output.path(),
                    Destination::Main => workbook_of(&call.main.address),
                    Destination::Nothing => None,
                };
                let found = output.map(|path| receipts::on_disk(before, receipt, path));
                found.transpose()?.unwrap_or(OnDisk::Other)
            }
            _ => OnDisk::Other,
        };
        if let (Some(output), Destination::Main) =
            (before.as_ref().and_then(|one| one.output.as_ref()), &call.into)
            && !matches!(on_disk, OnDisk::Other)
        {
            // Columns that the run before added are written anew.
            call.main.described.without.clone_from(&output.added);
        }
        Ok(Self {
            asked,
            call,
            own,
            before,
            receipt_was,
            on_disk,
            kept: None,
            appeared: Vec::new(),
            reported: String::new(),
            printed: None,
        })
    }

    /// Does all of it; `None` when it is to be done once more, with the corrections that were made.
    fn once(&mut self) -> Result<Option<Outcome>> {
        let mut targets = self.targets()?;
        let inputs = Inputs::open(&self.call, self.kept.as_ref().map(|kept| &kept.file));
        let inputs = inputs.map_err(|error| {
            let reported = self.before.as_ref().zip(self.call.receipt.as_deref());
            self.asked.located(nearby::lost(error, reported))
        })?;
        // Nobody reads what a quiet run would say, so it is not even put into words.
        let quiet = self.call.messages.quiet;
        let mut text = if quiet { String::new() } else { self.notes(&inputs) };
        let reported = inputs.read_as();
        let written = targets.output.as_mut().and_then(Output::server);
        if let Some(written) = written.and_then(|writer| writer.identity().cloned()) {
            // The server decides which table an address means.
            if inputs.identities().any(|input| *input == written) {
                let name = targets.output.as_ref().map(Output::name).unwrap_or_default();
                return Err(FormatError::OutputIsInput { name }.into());
            }
        }
        let is_part = |output: &&Address| clashes::is_worksheet(output) || output.is_database();
        if let Destination::Output(output) = &self.call.into
            && is_part(&output)
        {
            clashes::refuse_part(output, inputs.parts())?;
        }
        if let Some(output) = self.in_place(&inputs)? {
            targets.output = Some(output);
        }
        let passed = self.pass(inputs, targets)?;
        let mut results = judge(&self.call.gates.counts, &passed.enrichment, &passed.findings);
        for gate in &self.call.gates.same_columns {
            results.extend(gate.results(&passed.enrichment, self.before.as_ref()));
        }
        let holds = results.iter().all(|gate| gate.holds);
        let mut outcome = if holds { Outcome::Done } else { Outcome::Stopped };
        let mut may_appear = holds || self.call.gates.write_anyway;

        let moved = self.moved(&passed);
        let since = moved.as_deref().map(summary::since).unwrap_or_default();
        let mut said = {
            let found = (&passed.enrichment, &passed.findings);
            summary::of_tables(&reported, passed.main.headers(), found)
        };
        let mut refusal: Option<Refusal> = None;
        let mut keeps_replaced = false;
        if may_appear {
            match self.edited(&passed)? {
                Edited::Replace { said: sentences, keeps } => {
                    said.extend(sentences);
                    keeps_replaced = keeps;
                }
                Edited::Refuse(reported) => {
                    (may_appear, outcome, refusal) = (false, Outcome::Stopped, Some(reported));
                }
                Edited::Kept(kept) => {
                    self.kept = Some(*kept);
                    return Ok(None);
                }
            }
        }
        let file = self.call.corrections.as_deref().map(|file| file.display().to_string());
        let summary = Summary {
            main: passed.main.headers(),
            enrichment: &passed.enrichment,
            findings: &passed.findings,
            diagnoses: &passed.diagnoses,
            gates: &results,
            verbose: self.call.messages.verbose,
            in_plan: self.asked.file.is_some(),
            listed: self.call.lists.is_some(),
            corrections: file.as_deref(),
        };
        let found = if quiet { String::new() } else { summary.text() };
        let sampled = passed.sampled.clone();
        let name = passed.output.as_ref().map(Output::name);
        let output = name.as_deref().map(|name| (name, may_appear));
        let report = self.call.wants_report().then(|| {
            let context = report::Context {
                command: report::command(),
                plan: as_report_has_it(&self.asked.plan),
                since: moved.unwrap_or_default(),
                edits: refusal.as_ref().map(Refusal::sentences).unwrap_or_default(),
            };
            report::of(&summary, &results, output, context)
        });
        self.printed = report.as_ref().filter(|_| self.call.prints_report).map(Document::json);
        let mut written = self.appear(passed, may_appear, keeps_replaced, report.as_ref())?;
        written.append(&mut said);
        let parts = Told { written: &written, since: &since, found: &found, sampled: &sampled };
        parts.put_together(&mut text, quiet, !results.is_empty());
        // What stops a run comes last.
        results.sort_by_key(|gate| !gate.holds);
        text.push_str(&summary::gates(&results, quiet));
        let refusal = refusal.as_ref().map(Refusal::text).unwrap_or_default();
        text.push_str(if text.is_empty() { refusal.trim_start() } else { &refusal });
        self.reported = text;
        Ok(Some(outcome))
    }

    /// The notes before a run.
    fn notes(&self, inputs: &Inputs) -> String {
        let mut text = String::new();
        if !self.asked.overridden.is_empty() {
            let options = joined(&self.asked.overridden, "and");
            let verb = if self.asked.overridden.len() == 1 { "replaces" } else { "replace" };
            let note = format!("note: {options} {verb} the plan's own.");
            let _ = writeln!(text, "{}\n", wrapped(&note, 0, "      "));
        }
        text.push_str(&summary::read_as(&inputs.read_as(), self.call.messages.verbose));
        text.push_str(&summary::notes(inputs.notes()));
        let planned = self.asked.plan.references.iter();
        for (reference, (_, plan)) in planned.zip(&self.call.references) {
            if reference.name.is_none() && numbered(&reference.table.text, &plan.name) {
                let note = format!(
                    "note: {} is a reference again, called {}; --name gives it a name of its own.",
                    reference.table.text, plan.name
                );
                let _ = writeln!(text, "{}\n", wrapped(&note, 0, "      "));
            }
        }
        for (table, plan) in &self.call.references {
            if table.addresses().any(|address| is_same(address, &self.call.main.address)) {
                let note = format!(
                    "note: {} is on both sides, as the main table and as {}.",
                    self.call.main.address, plan.name
                );
                let _ = writeln!(text, "{}\n", wrapped(&note, 0, "      "));
            }
        }
        text
    }

    /// Begins every file of the run but the main file.
    fn targets(&self) -> Result<Targets> {
        let call = &self.call;
        let is_own = |path: &Path| !path.exists() || self.own.has(path);
        let of_output = call.output().and_then(Address::path).is_some_and(is_own);
        let replaces = call.overwrite || of_output || !matches!(self.on_disk, OnDisk::Other);
        let has_gates = !call.gates.counts.is_empty() || !call.gates.same_columns.is_empty();
        let held = has_gates && !call.gates.write_anyway;
        let sums = call.receipt.is_some();
        let mut output = match &call.into {
            Destination::Output(address) => {
                self.refuse_losses(address)?;
                let is_ours = of_output || matches!(self.on_disk, OnDisk::AsWritten);
                let kept = (call.backup && !is_ours).then(stamp);
                Some(match address.path().filter(|_| self.keeps_rest()) {
                    Some(path) => Output::in_workbook(path, replaces, kept, sums)?,
                    None => Output::create(address, replaces, held, sums)?,
                })
            }
            Destination::Nothing | Destination::Main => None,
        };
        let lists = call.lists.as_deref().map(|folder| {
            let overwrite = call.overwrite
                || self.has_listed(folder)
                || lists::paths(folder).iter().all(|path| is_own(path));
            lists::Files::create(folder, overwrite)
        });
        let overwrite =
            call.overwrite || self.has_reported() || call.reports.iter().all(|path| is_own(path));
        let reports = Reports::create(&call.reports, overwrite)?;
        let receipt = call.receipt.as_deref().map(|path| WholeFile::create(path, true));
        let plan = self.asked.save.as_deref();
        let plan = plan.map(|path| WholeFile::create(path, call.overwrite));
        let corrections = self.kept.as_ref().and(call.corrections.as_deref());
        let corrections = corrections.map(|path| WholeFile::create(path, true));
        let entered = self.kept.as_ref().and_then(|_| self.asked.with_corrections());
        let entered = entered.map(|(path, _)| WholeFile::create(path, true));
        let changed = |path: &Path| FormatError::TargetChanged { name: path.display().to_string() };
        if let (Some(path), Some(was)) = (&call.receipt, self.receipt_was)
            && Stamp::of_path(path).ok() != Some(was)
        {
            return Err(changed(path).into());
        }
        let place = call.output().and_then(Address::path);
        if let (Some(path), Some(kept)) = (place, &self.kept)
            && Stamp::of_path(path).ok() != Some(kept.output)
        {
            return Err(changed(path).into());
        }
        let has_others = lists.is_some() || receipt.is_some() || plan.is_some();
        if let Some(output) = output.as_mut().filter(|_| has_others || call.wants_report()) {
            output.outlives_reader();
        }
        Ok(Targets {
            output,
            lists: lists.transpose()?,
            reports,
            receipt: receipt.transpose()?,
            plan: plan.transpose()?,
            corrections: corrections.transpose()?,
            entered: entered.transpose()?,
        })
    }

    /// Loads the references and passes the main table through, into files that don't appear yet.
    fn pass(&self, inputs: Inputs, targets: Targets) -> Result<Passed> {
        let call = &self.call;
        let Targets { mut output, lists, reports, receipt, plan, corrections: file, entered } =
            targets;
        let progress = Progress::start(
            &inputs.meter,
            inputs.size,
            call.messages.progress,
            call.messages.quiet,
        );
        let corrections = inputs.corrections.clone();
        let raw_form = call.output().filter(|address| address.is_text());
        let raw_form = raw_form.and_then(|_| self.output_form(&inputs.main).1.layout.raw_form());
        let Loaded { mut main, mut enrichment, mut seen, others, types } =
            inputs.load(call, call.threads, raw_form)?;
        let mut lists = lists.map(|files| Lists::begin(files, &enrichment)).transpose()?;
        let keeps_keys = call.receipt.is_some();
        let mut notes = Notes::new(lists.as_mut(), enrichment.lookups().len(), keeps_keys);
        notes.sample = call.shows.map(|shows| MatchedSample::new(shows, &enrichment));
        let types = types.of_output(enrichment.output());
        let into = self.written(&main, &enrichment, types, output.as_mut())?;
        let PassResult { findings, mixed, workbook } =
            pass(&mut main, &mut enrichment, into, &mut notes, call.threads)?;
        let (unmatched, sample) = notes.finish();
        let sampled = sample.map(|sample| sample.text(&enrichment, &findings));
        let diagnoses = diagnoses(call, &enrichment, &findings, &seen)?;
        let found = || {
            let plans = call.references.iter().map(|(_, plan)| plan);
            let links = match call.into {
                Destination::Main => Links::Lines,
                _ if plans.clone().any(drops_rows) => Links::None,
                _ => Links::Rows,
            };
            found_sheet(&enrichment, &findings, &diagnoses, links)
        };
        let edited = match (workbook, &mut output) {
            (Some(Unfinished::New(workbook)), Some(output)) => {
                let long = workbook.finish(&found(), output)?;
                EditedSheet { long, ..EditedSheet::default() }
            }
            (Some(Unfinished::Main(editor)), Some(output)) => editor.finish(&found(), output)?,
            (Some(Unfinished::Added(sheet)), Some(output)) => sheet.finish(&found(), output)?,
            _ => EditedSheet::default(),
        };
        if let Some(lists) = &mut lists {
            lists.reasons(&enrichment, &findings, &diagnoses)?;
            lists.reference_rows(&enrichment, &findings)?;
        }
        drop(progress);
        seen[0].rows = findings.main_rows;
        let read = seen.iter().filter_map(|seen| seen.file.clone()).chain(others).collect();
        let draft = self.draft((&enrichment, &findings), unmatched, seen, corrections.as_ref())?;
        Ok(Passed {
            main,
            enrichment,
            findings,
            mixed,
            edited,
            diagnoses,
            sampled: sampled.unwrap_or_default(),
            output,
            lists,
            reports,
            files: [receipt, plan, file, entered],
            read,
            draft,
            corrections,
        })
    }

    /// The form that the output is written in, and how it is read again.
    fn output_form(&self, main: &OpenTable) -> (Described, Form) {
        let output = self.call.output().unwrap_or(&Address::Standard);
        let mut form = Form::like(main.layout(), output, self.call.style.text.encoding);
        if self.call.into == Destination::Main {
            form.packing = main.read_as().packing;
            // The lines before its headers are a part of the file too.
            form.layout.preamble = main.layout().preamble;
        }
        let style = &self.call.style.text;
        form.layout.guards_formulas = style.guards_formulas;
        let decimal_comma = style.decimal_comma || form.layout.decimal_comma;
        form.layout.with(main.headers(), style.delimiter, decimal_comma);
        let dialect = &mut form.layout.dialect;
        dialect.byte_order_mark |= style.byte_order_mark;
        if !output.is_text() || matches!(output, Address::Server(_)) {
            return (Described::default(), form);
        }
        let headers = match form.layout.header_row {
            Some(_) if !form.layout.preamble.is_empty() => self.call.main.described.headers,
            Some(_) => HeaderRow::First,
            None => HeaderRow::Absent,
        };
        let dialect = form.layout.dialect;
        let described = Described {
            format: None,
            delimiter: Some(dialect.delimiter),
            encoding: Some(dialect.encoding),
            headers,
            decimal_comma,
            pads: false,
            ..Described::default()
        };
        (described, form)
    }

    /// The receipt of the run, if there is to be one.
    fn draft(
        &self,
        (enrichment, findings): (&Enrichment, &Findings),
        unmatched: Vec<KeysSeen>,
        seen: Vec<Seen>,
        corrections: Option<&CorrectionsFile>,
    ) -> Result<Option<Draft>> {
        let Some(path) = &self.call.receipt else { return Ok(None) };
        let plan = as_receipt_has_it(&self.asked.plan, path);
        let lookups = enrichment.lookups().zip(&self.call.references);
        let aliases = lookups.filter_map(|(lookup, (table, _))| {
            let file = table.aliases.as_ref()?.path()?;
            Some((lookup.reference().name(), file, lookup.aliases().count()))
        });
        let references = enrichment.lookups().map(Lookup::reference);
        let duplicate = references.map(receipts::duplicate_keys);
        let run = receipts::Run {
            plan: &plan,
            tables: seen.into_iter().map(receipts::ReadTable::from).collect(),
            aliases: aliases.collect(),
            corrections,
            enrichment,
            findings,
            keys: unmatched.into_iter().zip(duplicate).collect(),
        };
        Draft::new(run, path).map(Some)
    }

    /// The changes since the run before, in words; `None` where nothing is known of that.
    fn moved(&self, passed: &Passed) -> Option<Vec<String>> {
        let (draft, before) = (passed.draft.as_ref()?, self.before.as_ref()?);
        Some(summary::moved(&draft.moved_since(before, self.writes_into_main())))
    }

    /// Whether the lists in a folder are those of the run before.
    fn has_listed(&self, folder: &Path) -> bool {
        self.has_written(&lists::paths(folder))
    }

    /// Whether the reports are those of the run before.
    fn has_reported(&self) -> bool {
        self.has_written(&self.call.reports)
    }

    /// Whether files that are there are as the run before wrote them.
    fn has_written(&self, paths: &[PathBuf]) -> bool {
        let (Some(before), Some(receipt)) = (&self.before, &self.call.receipt) else {
            return false;
        };
        receipts::has_written(before, receipt, paths)
    }
}

/// The parts of a summary.
struct Told<'t> {
    written: &'t [String],
    since: &'t str,
    found: &'t str,
    sampled: &'t str,
}

impl Told<'_> {
    /// Puts them one after the other; `has_gates` says whether the results of gates follow.
    fn put_together(&self, text: &mut String, quiet: bool, has_gates: bool) {
        let Self { written, since, found, sampled } = self;
        if quiet {
            // It was asked for by name.
            text.push_str(sampled.trim_start());
            return;
        }
        for sentence in *written {
            let _ = writeln!(text, "{}", wrapped(sentence, 0, "  "));
        }
        let is_apart = !written.is_empty() && (!since.is_empty() || found.contains("\n\n"));
        for part in [since, found] {
            if !part.is_empty() && is_apart {
                text.push('\n');
            }
            text.push_str(part);
        }
        text.push_str(sampled);
        if has_gates {
            text.push('\n');
        }
    }
}

/// Whether a reference has a number after its name, since it is not the first of its table.
fn numbered(table: &str, name: &str) -> bool {
    name.strip_prefix(&Address::stem_of_any(table.as_ref())).is_some_and(|rest| !rest.is_empty())
}

/// The path of an address, where its extension is one of workbooks.
fn workbook_of(address: &Address) -> Option<&Path> {
    address.path().filter(|_| address.format() == Format::Workbook)
}

/// Whether two addresses are of one table.
fn is_same(one: &Address, other: &Address) -> bool {
    // A pipe must not be opened just to be looked at.
    let is_same = |(one, other): (&Path, &Path)| {
        one.is_file() && other.is_file() && same_file::is_same_file(one, other).unwrap_or(false)
    };
    one.part() == other.part() && one.path().zip(other.path()).is_some_and(is_same)
}

fn judge(gates: &[Gate], enrichment: &Enrichment, findings: &Findings) -> Vec<GateResult> {
    let lookups = enrichment.lookups().zip(&findings.lookups);
    let named = lookups.map(|(lookup, found)| (lookup.reference().name(), &found.counts));
    let named: Vec<_> = named.collect();
    gates.iter().flat_map(|gate| gate.results(named.iter().copied())).collect()
}
