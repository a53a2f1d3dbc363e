//! An output that a person has changed since it was written: what was changed, and what happens to it.

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::lookup::Lookup;
use gather_keys_core::table::ascending;
use gather_keys_formats::{Address, Error as FormatError, InputFile, Stamp};

use super::{Passed, Run};
use crate::call::EditsRule;
use crate::corrections::CorrectionsFile;
use crate::edits::{self, Edits};
use crate::error::{Error, Result};
use crate::output::Output;
use crate::receipts::OnDisk;
use crate::summary::Refusal;

/// Changes made by hand that have become corrections, which are written with the rest of the run.
pub(super) struct Kept {
    pub(super) changes: usize,
    pub(super) file: CorrectionsFile,
    pub(super) content: Vec<u8>,
    /// The output that they were found in.
    pub(super) output: Stamp,
}

/// What to do about an output that was changed by hand.
pub(super) enum Edited {
    /// It may be replaced; carries the notes about it.
    Replace {
        said: Vec<String>,
        /// Whether the replaced file is kept.
        keeps: bool,
    },
    /// It may not be replaced; carries the changes.
    Refuse(Refusal),
    /// The changes are corrections now.
    Kept(Box<Kept>),
}

impl Run<'_> {
    /// Finds what was changed by hand in the existing output, and does what the person said about it.
    pub(super) fn edited(&self, passed: &Passed) -> Result<Edited> {
        let reported = self.before.as_ref().and_then(|before| before.output.as_ref());
        let fresh = passed.output.as_ref().map(Output::written).transpose()?.flatten();
        let (OnDisk::Changed, Some(reported), Some(fresh), Some(address), Some(path)) = (
            &self.on_disk,
            reported,
            fresh,
            self.call.output(),
            self.call.output().and_then(Address::path),
        ) else {
            return Ok(Edited::Replace { said: Vec::new(), keeps: false });
        };
        if self.kept.is_some() {
            return Ok(Edited::Replace { said: Vec::new(), keeps: false });
        }
        let Some((place, form)) = self.written_table(&passed.main) else {
            return Ok(Edited::Replace { said: Vec::new(), keeps: false });
        };
        let unreadable = |cause| FormatError::Read { name: path.display().to_string(), cause };
        let there = InputFile::open(path).map_err(unreadable)?;
        let is_part = !reported.marked.is_empty();
        let columns = Some(&reported.marked[..]).filter(|_| is_part);
        let (place, form, now) = (&place, &form, marked(&passed.enrichment));
        let table = |file, columns| edits::Table { address: place, file, form, columns };
        let headers = passed.enrichment.output().headers();
        let all: Vec<String> = (0..headers.len()).map(|column| headers.address(column)).collect();
        let whole = table(&fresh, Some(&all[..]).filter(|_| is_part));
        let fresh = table(&fresh, Some(&now[..]).filter(|_| is_part));
        let there_table = table(&there, columns);
        if let Err(Error::Table(FormatError::NoPart { .. })) = there_table.headers() {
            // Somebody removed the worksheet, or renamed it.
            return Ok(Edited::Replace { said: Vec::new(), keeps: true });
        }
        if columns.is_some() && there_table.headers().is_err() {
            let words = format!(
                "Columns of {} were removed or renamed after the last run, so it is not known whether \
                 somebody changed what that run wrote.",
                path.display()
            );
            return Ok(Edited::Replace { said: vec![words], keeps: true });
        }
        let known = passed.corrections.as_ref();
        // The rows of a table that is written into are at their places.
        let keys = if is_part { Vec::new() } else { Edits::keys(&passed.enrichment, known)? };
        let name = path.display();
        let discards = self.call.edits == EditsRule::Discard;
        let mut edits = match Edits::find(there_table, fresh, reported, &keys) {
            Ok(edits) => edits,
            Err(_) if discards => {
                let said = vec![format!("{name} was changed, and could not be read.")];
                return Ok(Edited::Replace { said, keeps: true });
            }
            Err(cause) => {
                let (name, cause) = (name.to_string(), Box::new(cause));
                return Err(Error::EditsUnreadable { name, cause });
            }
        };
        if edits.is_empty()
            && let Some(edited) = self.of_equal_cells(address, discards)
        {
            return Ok(edited);
        }
        match self.call.edits {
            EditsRule::Discard => Ok(Edited::Replace {
                said: vec![format!("{name} was changed by hand.")],
                keeps: true,
            }),
            EditsRule::Keep if edits.has_same_cells() => Ok(Edited::Replace {
                said: vec![format!(
                    "{name} was sorted or filtered after the last run, but no cell was changed, so there \
                     is nothing to keep."
                )],
                keeps: true,
            }),
            EditsRule::Keep if !edits.is_unclear() => {
                let Some(file) = &self.call.corrections else { return Err(Error::EditsUnplaced) };
                if is_part {
                    edits.widen(whole)?;
                }
                let (key, new) = edits.corrections(&passed.enrichment, whole, known)?;
                let note = format!("kept from {name}");
                let (file, content) = CorrectionsFile::with(known, file, &key, &new, &note)?;
                let (changes, output) = (new.len(), there.stamp());
                Ok(Edited::Kept(Box::new(Kept { changes, file, content, output })))
            }
            EditsRule::Keep | EditsRule::Refuse => {
                let has_file = self.call.corrections.is_some();
                Ok(Edited::Refuse(Refusal::of_edits(&name.to_string(), &edits, has_file)))
            }
        }
    }

    /// What to do about an output of which no cell was changed, though its file was; `None` where it is said to be
    /// replaced.
    fn of_equal_cells(&self, address: &Address, discards: bool) -> Option<Edited> {
        let replace = |words: Option<String>, keeps| {
            Some(Edited::Replace { said: words.into_iter().collect(), keeps })
        };
        if self.writes_into_main() {
            return replace(None, false);
        }
        if self.keeps_rest() {
            let words = format!(
                "{address} was saved by another program after the last run: colours and comments that \
                 somebody gave to this worksheet are replaced with it."
            );
            return replace(Some(words), true);
        }
        if discards {
            return None;
        }
        let name = address.path().map(|path| path.display().to_string()).unwrap_or_default();
        if address.is_workbook() {
            // Additions to it are not cells that this program wrote.
            return Some(Edited::Refuse(Refusal::of_additions(&name)));
        }
        let words = format!(
            "{name} was saved in another form after the last run, but no cell was changed."
        );
        replace(Some(words), false)
    }
}

/// The headers of the columns of a table that is written into in which changes by hand matter: those of keys, and those
/// that are written.
pub(super) fn marked(enrichment: &Enrichment) -> Vec<String> {
    let headers = enrichment.headers();
    let own = headers.len() - enrichment.added().len();
    let keys = enrichment.lookups().flat_map(Lookup::columns);
    let updated = enrichment.row_outputs().flat_map(|output| output.updates.iter());
    let columns = keys.chain(updated.map(|updating| updating.column)).chain(own..headers.len());
    ascending(&columns.collect::<Vec<_>>()).iter().map(|&column| headers.address(column)).collect()
}
