//! A run: the whole way from what was asked for to the output and the summary.
//!
//! [`Run::once`] reads in the order of what happens: open the tables, load the references, pass the
//! main table through, judge the gates, look at what has moved since the run before, let the
//! outputs appear, and tell all of it.

use std::fmt::Write as _;
use std::io::Write;
use std::path::{Path, PathBuf};

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Gate, GateResult};
use gather_keys_core::receipt::{KeysSeen, Receipt};
use gather_keys_core::report::Report;
use gather_keys_core::table::Source;
use gather_keys_formats::delimited::HeaderRow;
use gather_keys_formats::{Address, Described, Packing, WholeFile, keep_copy};
use jiff::Timestamp;

use crate::call::{Call, Destination, EditsRule};
use crate::clashes;
use crate::commands::Outcome;
use crate::corrections::{self, CorrectionsFile};
use crate::diagnoses::diagnoses;
use crate::edits::Edits;
use crate::error::{Error, Result};
use crate::inputs::{Inputs, Loaded, OpenTable, Seen};
use crate::lists::{self, Lists};
use crate::nearby;
use crate::output::{Form, MainFile, Output};
use crate::pass::{Came, Written, pass};
use crate::progress::Progress;
use crate::receipts::{self, Draft, Notes, OnDisk};
use crate::report::{self, Reports};
use crate::summary::{self, Summary};
use crate::typed::{Asked, as_plan_at, as_receipt_has_it};
use crate::wording::{counted, joined, wrapped};

/// Carries out what was asked for and tells what was found.
pub(crate) fn carry_out(asked: &Asked, call: Call) -> Result<Outcome> {
    clashes::refuse(asked, &call)?;
    let mut run = Run::new(asked, call)?;
    let outcome = loop {
        if let Some(outcome) = run.once()? {
            break outcome;
        }
        // Changes made by hand are corrections now, which the output is made anew with.
        run.call.edits = EditsRule::Discard;
    };
    // Nobody is left to tell when standard error is closed.
    let _ = anstream::stderr().write_all(run.told.as_bytes());
    Ok(outcome)
}

/// A run on its way.
struct Run<'a> {
    asked: &'a Asked,
    call: Call,
    /// The receipt of the run before.
    before: Option<Receipt>,
    /// What is at the place of the output already.
    on_disk: OnDisk,
    /// How many changes made by hand have become corrections.
    kept: Option<usize>,
    /// What there is to tell in the end.
    told: String,
}

/// What a pass over the main table came to.
struct Passed {
    main: OpenTable,
    enrichment: Enrichment,
    findings: Findings,
    /// The columns that are written as text since no type holds all their cells.
    mixed: Vec<String>,
    diagnoses: Vec<Option<Diagnosis>>,
    output: Option<Output>,
    lists: Option<Lists>,
    reports: Reports,
    draft: Option<Draft>,
    corrections: Option<CorrectionsFile>,
}

/// The time, as it stands in the name of a copy that is kept.
fn stamp() -> String {
    Timestamp::now().strftime("%Y%m%dT%H%M%SZ").to_string()
}

/// What is to be done about an output that was changed by hand.
enum Edited {
    /// It may be replaced; what there is to say of it.
    Replace(Vec<String>),
    /// It may not; what was changed.
    Refuse(String),
    /// So many changes are corrections now.
    Kept(usize),
}

impl<'a> Run<'a> {
    fn new(asked: &'a Asked, call: Call) -> Result<Self> {
        let before = call.receipt.as_deref().map(receipts::read).transpose()?.flatten();
        let on_disk = match (&before, &call.receipt, &call.into) {
            (Some(before), Some(receipt), Destination::Output(output)) => match output.path() {
                Some(path) => receipts::on_disk(before, receipt, path)?,
                None => OnDisk::Other,
            },
            _ => OnDisk::Other,
        };
        Ok(Self { asked, call, before, on_disk, kept: None, told: String::new() })
    }

    /// Does all of it; `None` when it is to be done once more, with the corrections that were made.
    fn once(&mut self) -> Result<Option<Outcome>> {
        let main = MainFile::at(&self.call.main.address);
        let inputs = Inputs::open(&self.call);
        let inputs = inputs.map_err(|error| {
            let told = self.before.as_ref().zip(self.call.receipt.as_deref());
            self.asked.located(nearby::lost(error, told))
        })?;
        // Nobody reads what a quiet run would say, so it is not even put into words.
        let quiet = self.call.quiet;
        let mut text = if quiet { String::new() } else { self.notes(&inputs) };
        let told = inputs.read_as();
        let passed = self.pass(inputs, main.as_ref())?;
        let results = judge(&self.call.gates, &passed.enrichment, &passed.findings);
        let holds = results.iter().all(|gate| gate.holds);
        let mut outcome = if holds { Outcome::Done } else { Outcome::Stopped };
        let mut may_appear = holds || self.call.write_anyway;

        let since = self.moved(&passed);
        let mut said = summary::error_cells(&told);
        let mut refusal = String::new();
        if may_appear {
            match self.edited(&passed)? {
                Edited::Replace(sentences) => said.extend(sentences),
                Edited::Refuse(told) => {
                    (may_appear, outcome, refusal) = (false, Outcome::Stopped, told);
                }
                Edited::Kept(count) => {
                    self.kept = Some(count);
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
            in_plan: self.asked.file.is_some(),
            listed: self.call.lists.is_some(),
            corrections: file.as_deref(),
        };
        if !quiet {
            text.push_str(&summary.text());
        }
        let name = passed.output.as_ref().map(Output::name);
        let output = name.as_deref().map(|name| (name, may_appear));
        let is_wanted = !self.call.reports.is_empty();
        let report = is_wanted.then(|| report::of(&summary, &results, output));
        said.extend(self.appear(passed, may_appear, report.as_ref())?);
        said.extend(self.save_plan()?);
        if !quiet {
            if !since.is_empty() || !said.is_empty() || !results.is_empty() {
                text.push('\n');
            }
            text.push_str(&since);
            if !since.is_empty() && !said.is_empty() {
                text.push('\n');
            }
            for sentence in said {
                let _ = writeln!(text, "{}", wrapped(&sentence, 0, "  "));
            }
        }
        self.told = text;
        self.told.push_str(&refusal);
        self.told.push_str(&summary::gates(&results, quiet));
        Ok(Some(outcome))
    }

    /// What there is to say before anything is found.
    fn notes(&self, inputs: &Inputs) -> String {
        let mut text = String::new();
        if !self.asked.stands_in.is_empty() {
            let options = joined(&self.asked.stands_in, "and");
            let verb = if self.asked.stands_in.len() == 1 { "stands" } else { "stand" };
            let note = format!("note: {options} {verb} in for what the plan says.");
            let _ = writeln!(text, "{}\n", wrapped(&note, 0, "      "));
        }
        text.push_str(&summary::read_as(&inputs.read_as(), self.call.verbose));
        text.push_str(&summary::notes(&inputs.notes));
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

    /// Loads the references and passes the main table through, into files that don't appear yet.
    fn pass(&self, inputs: Inputs, file: Option<&MainFile>) -> Result<Passed> {
        let call = &self.call;
        let replaces = call.overwrite || !matches!(self.on_disk, OnDisk::Other);
        let held = !call.gates.is_empty() && !call.write_anyway;
        let sums = call.receipt.is_some();
        let overwrite = call.overwrite || self.has_reported();
        let reports = Reports::create(&call.reports, overwrite)?;
        let mut output = match (&call.into, file) {
            (Destination::Nothing, _) => None,
            (Destination::Output(address), _) => {
                Some(Output::create(address, replaces, held, sums)?)
            }
            (Destination::Main { .. }, Some(_)) if !inputs.main.is_text() => {
                return Err(Error::NotWritable { name: call.main.address.to_string() });
            }
            (Destination::Main { backup }, Some(file)) => {
                Some(Output::in_place(file, backup.then(stamp), sums)?)
            }
            (Destination::Main { .. }, None) => return Err(Error::InPlaceOfStandard),
        };
        let progress = Progress::start(&inputs.meter, inputs.size, call.progress, call.quiet);
        let corrections = inputs.corrections.clone();
        let plainly = call.output().filter(|address| address.is_text());
        let plainly =
            plainly.and_then(|_| self.output_form(&inputs.main).1.layout.dialect.plainly());
        let Loaded { mut main, mut enrichment, mut seen, stored } =
            inputs.load(call, call.threads, plainly)?;
        let create = |folder: &Path| {
            let overwrite = call.overwrite || self.has_listed(folder);
            Lists::create(folder, overwrite, &enrichment)
        };
        let mut lists = call.lists.as_deref().map(create).transpose()?;
        let keeps_keys = call.receipt.is_some();
        let mut notes = Notes::new(lists.as_mut(), enrichment.lookups().len(), keeps_keys);
        let is_server = matches!(call.output(), Some(Address::Server(_)));
        let is_database = !is_server && call.output().is_some_and(Address::is_database);
        let form_of = |output| {
            let address = call.output().unwrap_or(&Address::Standard);
            if address.is_workbook() {
                Written::Workbook(output, address.part(), call.plain)
            } else if let Some(lines) = address.is_json() {
                Written::Json(output, lines, address.path().and_then(Packing::of))
            } else if let Some(kind) = address.is_columnar() {
                Written::Columnar(output, kind, stored)
            } else {
                Written::Text(output, self.output_form(&main).1)
            }
        };
        let into = match output.as_mut() {
            None => None,
            Some(output) if is_server => output.server().map(Written::Server),
            Some(output) if is_database => output.database().map(Written::Database),
            Some(output) => Some(form_of(output)),
        };
        let Came { findings, mixed } =
            pass(&mut main, &mut enrichment, into, &mut notes, call.threads)?;
        let unmatched = notes.unmatched();
        let diagnoses = diagnoses(call, &enrichment, &findings)?;
        if let Some(lists) = &mut lists {
            lists.reasons(&enrichment, &findings, &diagnoses)?;
            lists.reference_rows(&enrichment, &findings)?;
        }
        drop(progress);
        seen[0].rows = findings.main_rows;
        let draft = self.draft((&enrichment, &findings), unmatched, seen, corrections.as_ref())?;
        Ok(Passed {
            main,
            enrichment,
            findings,
            mixed,
            diagnoses,
            output,
            lists,
            reports,
            draft,
            corrections,
        })
    }

    /// The form that the output is written in, and how it is read again.
    fn output_form(&self, main: &OpenTable) -> (Described, Form) {
        let output = self.call.output().unwrap_or(&Address::Standard);
        let mut form = Form::like(main.layout(), output, self.call.output_encoding);
        if matches!(self.call.into, Destination::Main { .. }) {
            form.packing = main.read_as().packing;
        }
        if !output.is_text() || matches!(output, Address::Server(_)) {
            return (Described::default(), form);
        }
        let headers = match form.layout.header_row {
            Some(_) => HeaderRow::First,
            None => HeaderRow::Absent,
        };
        let dialect = form.layout.dialect;
        let described = Described {
            format: None,
            delimiter: Some(dialect.delimiter),
            encoding: Some(dialect.encoding),
            headers,
            pads: false,
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
        let corrections = self.call.corrections.as_deref().zip(corrections);
        let lookups = enrichment.lookups().zip(&self.call.references);
        let aliases = lookups.filter_map(|(lookup, (table, _))| {
            let file = table.aliases.as_ref()?.path()?;
            Some((lookup.reference().name(), file, lookup.aliases().count()))
        });
        let run = receipts::Run {
            plan: &plan,
            seen,
            aliases: aliases.collect(),
            corrections: corrections.map(|(path, file)| (path, &file.key[..], file.len())),
            enrichment,
            findings,
            unmatched,
        };
        Draft::new(run, path).map(Some)
    }

    /// What has moved since the run before.
    fn moved(&self, passed: &Passed) -> String {
        let (Some(draft), Some(before)) = (&passed.draft, &self.before) else {
            return String::new();
        };
        let is_in_place = matches!(self.call.into, Destination::Main { .. });
        summary::moved(&draft.moved_since(before, is_in_place))
    }

    /// Looks what was changed by hand in the output that is there, and does about it what the person
    /// said.
    fn edited(&self, passed: &Passed) -> Result<Edited> {
        let told = self.before.as_ref().and_then(|before| before.output.as_ref());
        let fresh = passed.output.as_ref().and_then(Output::beside);
        let path = self.call.output().and_then(Address::path);
        let (OnDisk::Changed, Some(told), Some(fresh), Some(path)) =
            (&self.on_disk, told, fresh, path)
        else {
            return Ok(Edited::Replace(Vec::new()));
        };
        if self.kept.is_some() {
            return Ok(Edited::Replace(Vec::new()));
        }
        let form = self.output_form(&passed.main).0;
        let edits = Edits::find(path, fresh, told, &form)?;
        let name = path.display();
        if edits.is_empty() {
            let words = format!("{name} was saved in another form since, but no cell was changed.");
            return Ok(Edited::Replace(vec![words]));
        }
        match self.call.edits {
            EditsRule::Discard => {
                let copy = keep_copy(path, &stamp())?;
                let words = format!("{name} was changed by hand; what it was is kept as ");
                Ok(Edited::Replace(vec![words + &file_name(&copy) + "."]))
            }
            EditsRule::Keep if !edits.is_unclear() => {
                let Some(file) = &self.call.corrections else { return Err(Error::EditsUnplaced) };
                let there = passed.corrections.as_ref();
                let (key, new) = edits.corrections(&passed.enrichment, fresh, &form, there)?;
                let note = format!("kept from {name}");
                corrections::add(file, &key, &new, &note)?;
                Ok(Edited::Kept(new.len()))
            }
            EditsRule::Keep | EditsRule::Refuse => {
                let has_file = self.call.corrections.is_some();
                Ok(Edited::Refuse(summary::edits(&name.to_string(), &edits, has_file)))
            }
        }
    }

    /// Lets the outputs appear, and says so.
    fn appear(
        &self,
        passed: Passed,
        may_appear: bool,
        report: Option<&Report>,
    ) -> Result<Vec<String>> {
        let Passed { main, enrichment, findings, mixed, output, lists, reports, draft, .. } =
            passed;
        let call = &self.call;
        let mut said = Vec::new();
        if let (Some(kept), Some(file)) = (self.kept, &call.corrections) {
            let changes = counted(kept as u64, "change");
            let file = file.display();
            said.push(format!("Kept {changes} made by hand as corrections in {file}."));
            if let Some(plan) = self.asked.file.as_ref().filter(|_| self.asked.types_corrections())
            {
                said.push(format!(
                    "Add `corrections = \"{file}\"` to {}, so that they hold in every run.",
                    plan.path.display()
                ));
            }
        }
        let mut sum = None;
        if let Some(output) = output {
            let name = output.name();
            let is_in_place = matches!(call.into, Destination::Main { .. });
            if !may_appear {
                said.push(format!("{name} was not written."));
            } else if is_in_place && summary::leaves_all(&enrichment, &findings) {
                said.push(format!("{name} stays as it is: nothing in it changes."));
            } else {
                said.push(summary::table_written(&name, main.headers(), &enrichment, &findings));
                said.extend(summary::as_text(&name, &mixed));
                let appeared = output.commit()?;
                let kept = appeared.backup.iter();
                said.extend(kept.map(|to| format!("What it was is kept as {}.", file_name(to))));
                sum = appeared.sum;
            }
        }
        let mut list_paths = Vec::new();
        if let (Some(lists), Some(folder)) = (lists, &call.lists) {
            lists.commit()?;
            said.push(lists::told(folder));
            list_paths = lists::paths(folder);
        }
        if let Some(report) = report {
            reports.write(report)?;
            let names: Vec<String> =
                call.reports.iter().map(|path| path.display().to_string()).collect();
            let what = if names.len() == 1 { "report" } else { "reports" };
            said.push(format!("Wrote the {what} {}.", joined(&names, "and")));
            list_paths.extend(call.reports.iter().cloned());
        }
        if let (Some(draft), Some(sum), Some(address)) = (draft, sum, call.output()) {
            let form = &self.output_form(&main).0;
            draft.write(&receipts::Written { address, sum, form, lists: list_paths })?;
            if let Some(path) = call.receipt.as_ref().filter(|_| self.before.is_none()) {
                said.push(format!("Wrote the receipt {}.", path.display()));
            }
        }
        Ok(said)
    }

    /// Writes what was asked for as a plan, if that was asked for too.
    fn save_plan(&self) -> Result<Option<String>> {
        let Some(path) = &self.asked.save else { return Ok(None) };
        let mut file = WholeFile::create(path, self.call.overwrite)?;
        let name = path.display().to_string();
        let refused = |cause| gather_keys_formats::Error::Write { name: name.clone(), cause };
        file.write_all(as_plan_at(&self.asked.plan, path).as_bytes()).map_err(refused)?;
        file.commit()?;
        Ok(Some(format!("Wrote the plan {name}; to run it again: gather-keys enrich {name}")))
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
        let is_ours = |path: &Path| {
            let told = before.lists.iter().find(|list| {
                std::path::absolute(receipts::path_of(list, receipt)).ok()
                    == std::path::absolute(path).ok()
            });
            told.is_some_and(|told| {
                let now = gather_keys_formats::Sum::of_file(path).map(|sum| sum.told());
                now.is_ok_and(|now| now == (told.bytes, told.digest.clone()))
            })
        };
        paths.iter().filter(|path| path.exists()).all(|path| is_ours(path))
    }
}

/// Whether two addresses are of one table.
fn is_same(one: &Address, other: &Address) -> bool {
    // A pipe must not be opened just to be looked at.
    let is_same = |(one, other): (&Path, &Path)| {
        one.is_file() && other.is_file() && same_file::is_same_file(one, other).unwrap_or(false)
    };
    one.part() == other.part() && one.path().zip(other.path()).is_some_and(is_same)
}

fn file_name(path: &Path) -> String {
    path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned()
}

fn judge(gates: &[Gate], enrichment: &Enrichment, findings: &Findings) -> Vec<GateResult> {
    let lookups = enrichment.lookups().zip(&findings.lookups);
    let named = lookups.map(|(lookup, found)| (lookup.reference().name(), &found.counts));
    let named: Vec<_> = named.collect();
    gates.iter().flat_map(|gate| gate.results(named.iter().copied())).collect()
}
