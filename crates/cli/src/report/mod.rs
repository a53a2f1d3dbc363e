//! Reports of a run, as a page, as Markdown or as JSON: one model, three forms.

mod markdown;
mod page;

use std::io::Write;
use std::path::Path;

use gather_keys_core::findings::GateResult;
use gather_keys_core::report::{Document, Gathering, LISTED, Report, SharedTold};
use gather_keys_formats::commit::Finished;
use gather_keys_formats::{WholeFile, without_passwords};

use crate::error::{Error, Result};
use crate::process_title::arguments;
use crate::summary::Summary;
use crate::wording::{counted, number, shell_word};

/// The forms of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    Page,
    Markdown,
    Json,
}

impl Form {
    /// The form that a file's ending asks for.
    fn of(path: &Path) -> Result<Self> {
        let ending = path.extension().unwrap_or_default().to_string_lossy().to_lowercase();
        match &ending[..] {
            "html" | "htm" => Ok(Self::Page),
            "md" | "markdown" => Ok(Self::Markdown),
            "json" => Ok(Self::Json),
            _ => Err(Error::ReportForm { name: path.display().to_string() }),
        }
    }
}

/// The files of the reports of a run, which don't appear before they are written.
#[derive(Debug)]
pub(crate) struct Reports(Vec<(String, Form, WholeFile)>);

impl Reports {
    /// Begins a report at each of the paths.
    pub(crate) fn create(paths: &[impl AsRef<Path>], overwrite: bool) -> Result<Self> {
        let begin = |path: &Path| {
            let form = Form::of(path)?;
            Ok((path.display().to_string(), form, WholeFile::create(path, overwrite)?))
        };
        Ok(Self(paths.iter().map(|path| begin(path.as_ref())).collect::<Result<_>>()?))
    }

    /// Writes them, so that they can appear.
    pub(crate) fn finish(self, report: &Report) -> Result<Vec<Finished>> {
        let mut finished = Vec::new();
        for (name, form, mut file) in self.0 {
            let text = match form {
                Form::Page => page::page(report),
                Form::Markdown => Ok(markdown::markdown(report)),
                Form::Json => Ok(report.json()),
            };
            let refused = |cause| gather_keys_formats::Error::Write { name: name.clone(), cause };
            let text = text.map_err(|cause| refused(std::io::Error::other(cause)))?;
            file.write_all(text.as_bytes()).map_err(refused)?;
            finished.push(file.finish()?);
        }
        Ok(finished)
    }
}

/// The circumstances of a run.
pub(crate) struct Context {
    /// The call, and the plan of the run.
    pub(crate) command: String,
    pub(crate) plan: String,
    /// The changes since the run before, and the ones made by hand.
    pub(crate) since: Vec<String>,
    pub(crate) edits: Vec<String>,
}

/// The call, as a shell takes it and without passwords.
pub(crate) fn command() -> String {
    let words = arguments().iter().skip(1);
    let words = words.map(|word| shell_word(&without_passwords(&word.to_string_lossy())));
    std::iter::once("gather-keys".to_owned()).chain(words).collect::<Vec<_>>().join(" ")
}

/// A main row for the eye, by its name or its number.
fn row_of(name: Option<&str>, row: u64) -> String {
    name.map_or_else(|| number(row), str::to_owned)
}

/// The rows of a key, by their names or numbers.
fn rows_of(key: &SharedTold) -> String {
    match &key.names[..] {
        [] => key.rows.iter().map(|&row| number(row)).collect::<Vec<_>>().join(", "),
        names => names.join(", "),
    }
}

/// Cells in this many columns; the last one has all that are left.
fn in_columns(cells: &[String], columns: usize) -> Vec<Vec<String>> {
    let mut all: Vec<Vec<String>> = vec![Vec::new(); columns];
    for (nth, cell) in cells.iter().enumerate() {
        let at = nth.min(columns.saturating_sub(1));
        all.get_mut(at).into_iter().for_each(|column| column.push(cell.clone()));
    }
    all
}

/// What was written, for a person.
fn outcome(report: &Report) -> String {
    match &report.written {
        Some(written) if written.appeared => {
            format!("{} written to {}.", rows_were(written.rows), written.name)
        }
        _ => report.outcome.clone(),
    }
}

fn rows_were(rows: u64) -> String {
    format!("{} {}", counted(rows, "row"), if rows == 1 { "was" } else { "were" })
}

/// The report of a summary, with the results of the gates, and the output's name and whether it appears.
pub(crate) fn of(
    summary: &Summary<'_>,
    gates: &[GateResult],
    output: Option<(&str, bool)>,
    context: Context,
) -> Report {
    let lookups = summary.enrichment.lookups().zip(&summary.findings.lookups);
    let advice = lookups
        .zip(summary.diagnoses)
        .map(|((lookup, found), diagnosis)| summary.advice(lookup, found, diagnosis.as_ref()))
        .map(|all| all.iter().map(ToString::to_string).collect());
    let gathering = Gathering {
        version: env!("CARGO_PKG_VERSION"),
        main: summary.main.table(),
        enrichment: summary.enrichment,
        findings: summary.findings,
        diagnoses: summary.diagnoses,
        advice: advice.collect(),
        gates,
        output,
        listed: LISTED,
        command: Some(context.command),
        plan: Some(context.plan),
        since: context.since,
        edits: context.edits,
    };
    gathering.report()
}
