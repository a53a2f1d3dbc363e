//! An output that a person has changed since it was written: what was changed, and what happens to it.

use gather_keys_formats::{Address, Error as FormatError, InputFile, Stamp};

use super::{Passed, Run};
use crate::call::EditsRule;
use crate::corrections::CorrectionsFile;
use crate::edits::{self, Edits};
use crate::error::{Error, Result};
use crate::output::Output;
use crate::receipts::OnDisk;
use crate::summary;

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
    Refuse(String),
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
        let form = &self.output_form(&passed.main).0;
        let unreadable = |cause| FormatError::Read { name: path.display().to_string(), cause };
        let there = InputFile::open(path).map_err(unreadable)?;
        let place = &Address::File(path.to_owned());
        let table = |file| edits::Table { address: place, file, form };
        let (there_table, fresh) = (table(&there), table(&fresh));
        let known = passed.corrections.as_ref();
        let keys = Edits::keys(&passed.enrichment, known)?;
        let name = path.display();
        let discards = self.call.edits == EditsRule::Discard;
        let edits = match Edits::find(there_table, fresh, reported, &keys) {
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
        if edits.is_empty() && address.is_workbook() && !discards {
            // Additions to it are not cells that this program wrote.
            return Ok(Edited::Refuse(summary::additions(&name.to_string())));
        }
        if edits.is_empty() && !discards {
            let words = format!(
                "{name} was saved in another form after the last run, but no cell was changed."
            );
            return Ok(Edited::Replace { said: vec![words], keeps: false });
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
                let (key, new) = edits.corrections(&passed.enrichment, fresh, known)?;
                let note = format!("kept from {name}");
                let (file, content) = CorrectionsFile::with(known, file, &key, &new, &note)?;
                let (changes, output) = (new.len(), there.stamp());
                Ok(Edited::Kept(Box::new(Kept { changes, file, content, output })))
            }
            EditsRule::Keep | EditsRule::Refuse => {
                let has_file = self.call.corrections.is_some();
                Ok(Edited::Refuse(summary::edits(&name.to_string(), &edits, has_file)))
            }
        }
    }
}
