//! The files of a run, all begun before any work, so that whatever can't be written is known at once.
//!
//! They appear together, in [`Ready::commit`].

use std::io::Write;
use std::path::{Path, PathBuf};

use gather_keys_formats::commit::{Appeared, Finished, commit};
use gather_keys_formats::{Error as FormatError, WholeFile};

use crate::error::Result;
use crate::lists;
use crate::output::{Ended, Output};
use crate::report::Reports;

/// The files of a run, which nobody sees yet.
#[derive(Debug)]
pub(crate) struct Targets {
    pub(crate) output: Option<Output>,
    pub(crate) lists: Option<lists::Files>,
    pub(crate) reports: Reports,
    pub(crate) receipt: Option<WholeFile>,
    pub(crate) plan: Option<WholeFile>,
    /// The corrections, when changes made by hand become some.
    pub(crate) corrections: Option<WholeFile>,
    /// The plan of the run, when the corrections are entered into it.
    pub(crate) entered: Option<WholeFile>,
}

/// Files that are written, and have only to appear.
#[derive(Debug, Default)]
pub(crate) struct Ready {
    pub(crate) output: Option<Ended>,
    /// The lists and reports, each with its path.
    pub(crate) listed: Vec<(PathBuf, Finished)>,
    pub(crate) others: Vec<Finished>,
}

impl Ready {
    /// Lets everything appear: rows that were held back first, then the table of a database, then all files at
    /// once.
    pub(crate) fn commit(self) -> Result<Vec<Appeared>> {
        let Self { mut output, listed, others } = self;
        let mut files = Vec::new();
        if let Some(output) = &mut output {
            files.extend(output.file.take());
            output.send()?;
        }
        files.extend(listed.into_iter().map(|(_, file)| file));
        files.extend(others);
        Ok(commit(files, || output.map_or(Ok(()), Ended::end_transaction))?)
    }
}

/// Writes a small file, so that it can appear.
pub(crate) fn written(mut file: WholeFile, bytes: &[u8]) -> Result<Finished> {
    let written = file.write_all(bytes);
    let name = file.name().to_owned();
    written.map_err(|cause| FormatError::Write { name, cause })?;
    Ok(file.finish()?)
}

/// Notes about files that have appeared, a sentence each.
pub(crate) fn reported(appeared: &[Appeared]) -> Vec<String> {
    let mut reported = Vec::new();
    for Appeared { name, other_names, lost_owner, lost_attributes, .. } in appeared {
        if *other_names > 0 {
            let other = match other_names {
                1 => "another name (a hard link), which still leads".to_owned(),
                more => format!("{more} other names (hard links), which still lead"),
            };
            reported.push(format!("note: {name} had {other} to what it was before."));
        }
        if *lost_owner {
            reported.push(format!(
                "note: {name} belongs to you now, since only its owner could keep it as it was."
            ));
        }
        if !lost_attributes.is_empty() {
            let attributes = lost_attributes.join(", ");
            reported.push(format!("note: {name} could not keep its attributes {attributes}."));
        }
    }
    reported
}

/// The file name of a path, for sentences.
pub(crate) fn file_name(path: &Path) -> String {
    path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned()
}
