//! `enrich` and `check`: one run over the main table, with and without a table to write.

use std::io::Write;
use std::path::{Path, PathBuf};

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Gate, GateResult, Recorder};
use gather_keys_core::table::{Discard, Headers, Source};
use gather_keys_formats::Address;
use gather_keys_formats::delimited::Writer;

use super::Outcome;
use crate::arguments::{Check, Enrich, Run, TableArguments};
use crate::call::{Call, NeedsTake};
use crate::error::{Error, Result};
use crate::inputs::{Inputs, OpenTable};
use crate::lists::{self, Lists};
use crate::output::{self, Output};
use crate::progress::Progress;
use crate::summary::{self, Summary};
use crate::wording::{counted, joined, wrapped};

/// Writes the main table with the taken columns beside its rows.
pub(crate) fn enrich(enrich: Enrich, tables: Vec<TableArguments>) -> Result<Outcome> {
    let Enrich { tables: named, output, run } = enrich;
    let call = Call::new(&named, tables, &run.require, NeedsTake::Yes)?;
    carry_out(call, Some(&Address::new(&output)), &run)
}

/// Tells what an enrichment would find.
pub(crate) fn check(check: Check, tables: Vec<TableArguments>) -> Result<Outcome> {
    let Check { tables: named, run } = check;
    let call = Call::new(&named, tables, &run.require, NeedsTake::No)?;
    carry_out(call, None, &run)
}

fn carry_out(call: Call, address: Option<&Address>, run: &Run) -> Result<Outcome> {
    let folder = run.lists.as_deref();
    refuse_inputs(&call, address, folder)?;
    let gates = call.gates.clone();
    let inputs = Inputs::open(call)?;
    let held = !gates.is_empty();
    let mut output = address.map(|at| Output::create(at, run.overwrite, held)).transpose()?;

    let mut text = String::new();
    if run.verbose {
        text.push_str(&summary::read_as(&inputs.read_as()));
    }
    text.push_str(&summary::notes(&inputs.notes));

    let progress = Progress::start(&inputs.meter, inputs.size, run.progress, run.quiet);
    let threads = run.threads();
    let (mut main, enrichment) = inputs.load(threads)?;
    let mut lists =
        folder.map(|folder| Lists::create(folder, run.overwrite, &enrichment)).transpose()?;
    let findings = pass(&mut main, &enrichment, output.as_mut(), lists.as_mut(), threads)?;
    drop(progress);

    let results = judge(&gates, &enrichment, &findings);
    let outcome =
        if results.iter().all(|gate| gate.holds) { Outcome::Done } else { Outcome::Stopped };
    let mut written = Vec::new();
    if let Some(output) = output {
        written.push(match outcome {
            Outcome::Done => table_written(&output.name(), main.headers(), &enrichment, &findings),
            Outcome::Stopped => format!("{} was not written.", output.name()),
        });
        if outcome == Outcome::Done {
            output.commit()?;
        }
    }
    if let (Some(lists), Some(folder)) = (lists, folder) {
        lists.commit()?;
        written.push(lists::told(folder));
    }

    let headers = main.headers();
    let summary = Summary {
        main: headers,
        enrichment: &enrichment,
        findings: &findings,
        listed: folder.is_some(),
    };
    text.push_str(&summary.text());
    if !written.is_empty() || !results.is_empty() {
        text.push('\n');
    }
    for sentence in written {
        text.push_str(&wrapped(&sentence, 0, "  "));
        text.push('\n');
    }
    if run.quiet {
        text.clear();
    }
    text.push_str(&summary::gates(&results, run.quiet));
    // Nobody is left to tell when standard error is closed.
    let _ = anstream::stderr().write_all(text.as_bytes());
    Ok(outcome)
}

/// Every output of a run is checked against every input before anything is opened for writing.
fn refuse_inputs(call: &Call, address: Option<&Address>, lists: Option<&Path>) -> Result<()> {
    let inputs: Vec<&Address> = call.inputs().collect();
    let lists = lists.map(lists::paths).unwrap_or_default();
    let table = address.and_then(Address::path);
    if let Some(list) = table.and_then(|table| lists.iter().find(|list| is_same(table, list))) {
        return Err(Error::OutputIsList { name: list.display().to_string() });
    }
    output::refuse_inputs(table.into_iter().chain(lists.iter().map(PathBuf::as_path)), &inputs)?;
    match address {
        Some(Address::Standard) => output::refuse_standard(&inputs),
        _ => Ok(()),
    }
}

/// Whether two paths lead to one place, whether or not there is something yet.
fn is_same(one: &Path, other: &Path) -> bool {
    let place = |path: &Path| {
        let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let folder = whole.parent().and_then(|folder| folder.canonicalize().ok());
        folder.zip(whole.file_name()).map_or(whole.clone(), |(folder, name)| folder.join(name))
    };
    place(one) == place(other)
}

/// The pass over the main table, into the output if there is one.
fn pass(
    main: &mut OpenTable,
    enrichment: &Enrichment,
    output: Option<&mut Output>,
    lists: Option<&mut Lists>,
    threads: usize,
) -> Result<Findings> {
    let mut lists = lists;
    let recorder = lists
        .as_deref_mut()
        .map(|lists| lists as &mut (dyn Recorder<Error = gather_keys_formats::Error> + Send));
    let findings = match output {
        None => enrichment.run(main, &mut Discard::default(), recorder, threads)?,
        Some(output) => {
            let mut writer = Writer::new(output.name(), output, main.layout().clone());
            let findings = enrichment.run(main, &mut writer, recorder, threads)?;
            writer.finish()?;
            findings
        }
    };
    if let Some(lists) = lists {
        lists.reference_rows(enrichment, &findings)?;
    }
    Ok(findings)
}

fn judge(gates: &[Gate], enrichment: &Enrichment, findings: &Findings) -> Vec<GateResult> {
    let lookups = enrichment.lookups().zip(&findings.lookups);
    let named = lookups.map(|(lookup, found)| (lookup.reference().name(), &found.counts));
    let named: Vec<_> = named.collect();
    gates.iter().flat_map(|gate| gate.results(named.iter().copied())).collect()
}

/// The sentence that says what was written and where.
fn table_written(
    name: &str,
    main: &Headers,
    enrichment: &Enrichment,
    findings: &Findings,
) -> String {
    let rows = if findings.written == findings.main_rows {
        counted(findings.main_rows, "row")
    } else {
        let of = counted(findings.main_rows, "main row");
        format!("{} from {of}", counted(findings.written, "row"))
    };
    format!(
        "Wrote {rows} to {name}: {} of {} and {} ({}).",
        counted(main.len() as u64, "column"),
        main.table(),
        counted(enrichment.added().len() as u64, "added column"),
        joined(enrichment.added(), "and"),
    )
}
