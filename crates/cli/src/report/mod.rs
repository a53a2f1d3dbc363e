//! Reports of a run, as a page, as Markdown or as JSON: one model, three forms.

mod markdown;
mod page;

use std::io::Write;
use std::path::Path;

use gather_keys_core::findings::GateResult;
use gather_keys_core::report::{Document, Gathering, LISTED, Report};
use gather_keys_formats::WholeFile;
use gather_keys_formats::commit::Finished;

use crate::error::{Error, Result};
use crate::summary::Summary;

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

/// The report of a summary, with the results of the gates, and the output's name and whether it appears.
pub(crate) fn of(
    summary: &Summary<'_>,
    gates: &[GateResult],
    output: Option<(&str, bool)>,
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
    };
    gathering.report()
}
