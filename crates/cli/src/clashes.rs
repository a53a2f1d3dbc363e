//! Outputs that would be written over inputs, or over each other.
//!
//! Every output of a run is checked against every input before anything is opened for writing.

use std::path::Path;

use gather_keys_formats::Address;

use crate::call::{Call, Destination};
use crate::error::{Error, Result};
use crate::typed::Asked;
use crate::{lists, output};

/// Refuses a run of which an output is an input, or two outputs are one.
pub(crate) fn refuse(asked: &Asked, call: &Call) -> Result<()> {
    let inputs: Vec<&Address> = call.inputs().collect();
    let lists = call.lists.as_deref().map(lists::paths).unwrap_or_default();
    let table = call.output().and_then(Address::path);
    let reports = call.reports.iter().map(AsRef::as_ref);
    let records = call.records().chain(asked.save.as_deref()).chain(reports);
    let beside: Vec<&Path> = lists.iter().map(AsRef::as_ref).chain(records).collect();
    if let Some(list) = table.and_then(|table| beside.iter().find(|list| is_same(table, list))) {
        return Err(Error::OutputIsList { name: list.display().to_string() });
    }
    for (nth, report) in call.reports.iter().enumerate() {
        let others = lists.iter().chain(&call.reports[..nth]).map(AsRef::as_ref);
        if others.chain(call.records()).any(|other| is_same(report, other)) {
            return Err(Error::ReportTwice { name: report.display().to_string() });
        }
    }
    output::refuse_inputs(beside, &inputs)?;
    match &call.into {
        Destination::Output(Address::Standard) => output::refuse_standard(&inputs),
        Destination::Output(output @ Address::Server(_)) if inputs.contains(&output) => {
            Err(gather_keys_formats::Error::OutputIsInput { name: output.to_string() }.into())
        }
        Destination::Output(address) => output::refuse_inputs(address.path(), &inputs),
        Destination::Main { .. } => {
            let references: Vec<&Address> = call.reference_inputs().collect();
            output::refuse_inputs(table, &references)
        }
        Destination::Nothing => Ok(()),
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
