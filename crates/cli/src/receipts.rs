//! Receipts of runs: what is noted during a run, and the file that is made of it.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Change, Findings, Kind, MainFinding, Recorder};
use gather_keys_core::lookup::Reference;
use gather_keys_core::receipt::{File, Found, Input, KeysSeen, Output, Receipt, columns_of, moved};
use gather_keys_formats::commit::Finished;
use gather_keys_formats::{Address, Described, Error, InputFile, Stamp, Sum, WholeFile};
use jiff::Timestamp;

use crate::corrections::CorrectionsFile;
use crate::edits::{Table, marks_of};
use crate::error::Result;
use crate::inputs::Seen;
use crate::lists::Lists;
use crate::matched_sample::MatchedSample;

pub(crate) use gather_keys_core::receipt::Moved;

/// The receipt of the run before, if there was one, and what its file is.
pub(crate) fn read(path: &Path) -> Result<Option<(Receipt, Stamp)>> {
    if !path.exists() {
        return Ok(None);
    }
    let name = path.display().to_string();
    let unreadable = |cause| Error::Read { name: name.clone(), cause };
    let file = InputFile::open(path).map_err(unreadable)?;
    let text = Address::File(path.to_owned()).text_of(&mut file.reader())?;
    Ok(Some((Receipt::read(&name, &text)?, file.stamp())))
}

/// Notes unmatched keys during a run, and passes all findings on to the lists.
pub(crate) struct Notes<'l> {
    lists: Option<&'l mut Lists>,
    /// For each lookup; none when nobody wants to know.
    unmatched: Vec<KeysSeen>,
    /// The matched rows that are shown.
    pub(crate) sample: Option<MatchedSample>,
}

impl<'l> Notes<'l> {
    /// Notes for `lookups` lookups.
    pub(crate) fn new(lists: Option<&'l mut Lists>, lookups: usize, keeps_keys: bool) -> Self {
        let lookups = if keeps_keys { lookups } else { 0 };
        Self { lists, unmatched: vec![KeysSeen::default(); lookups], sample: None }
    }

    /// Whether anything is to be noted.
    pub(crate) fn are_wanted(&self) -> bool {
        self.lists.is_some() || !self.unmatched.is_empty() || self.sample.is_some()
    }

    /// The unmatched keys of each lookup, and the matched rows that are shown.
    pub(crate) fn finish(self) -> (Vec<KeysSeen>, Option<MatchedSample>) {
        (self.unmatched, self.sample)
    }
}

impl Recorder for Notes<'_> {
    type Error = gather_keys_formats::Error;

    fn main_row(&mut self, finding: &MainFinding<'_>) -> std::result::Result<(), Self::Error> {
        if let (Kind::Unmatched, Some(seen)) = (finding.kind, self.unmatched.get_mut(finding.nth)) {
            let key = finding.lookup.key().as_compared(finding.row);
            seen.see(key.iter().map(String::as_str));
        }
        if finding.kind == Kind::Matched {
            if let Some(sample) = &mut self.sample {
                sample.take(finding);
            }
            return Ok(());
        }
        self.lists.as_mut().map_or(Ok(()), |lists| lists.main_row(finding))
    }

    fn wants_matched(&self) -> bool {
        self.sample.is_some()
    }

    fn wants_repeated(&self) -> bool {
        self.lists.is_some()
    }

    fn changed(&mut self, change: &Change<'_>) -> std::result::Result<(), Self::Error> {
        self.lists.as_mut().map_or(Ok(()), |lists| lists.changed(change))
    }
}

/// The material of a receipt.
pub(crate) struct Run<'a> {
    /// The text of the plan.
    pub(crate) plan: &'a str,
    pub(crate) tables: Vec<ReadTable>,
    pub(crate) corrections: Option<&'a CorrectionsFile>,
    /// The files of aliases, each with the name of its reference and how many it holds.
    pub(crate) aliases: Vec<(&'a str, &'a Path, usize)>,
    pub(crate) enrichment: &'a Enrichment,
    pub(crate) findings: &'a Findings,
    /// For each reference its unmatched and its duplicate keys.
    pub(crate) keys: Vec<(KeysSeen, KeysSeen)>,
}

/// A table that was read, the main table first.
pub(crate) struct ReadTable {
    /// Its role: `main`, or the name of a reference.
    pub(crate) role: String,
    pub(crate) address: Address,
    pub(crate) headers: Vec<String>,
    pub(crate) rows: u64,
    pub(crate) modified: Option<SystemTime>,
    /// Its size and digest.
    pub(crate) sum: (u64, String),
}

impl From<Seen> for ReadTable {
    fn from(seen: Seen) -> Self {
        let Seen { role, address, headers, rows, modified, sum, .. } = seen;
        let sum = sum.map(|sum| sum.size_and_digest()).unwrap_or_default();
        Self { role, address, headers, rows, modified, sum }
    }
}

/// The keys that several rows of a reference hold.
pub(crate) fn duplicate_keys(reference: &Reference) -> KeysSeen {
    let mut duplicate = KeysSeen::default();
    for group in reference.groups() {
        let key: Vec<&str> = reference.as_compared(group.entries[0]).collect();
        duplicate.see(key.iter().copied());
    }
    duplicate
}

/// An output that is about to appear.
pub(crate) struct Written<'a> {
    pub(crate) address: &'a Address,
    pub(crate) sum: (u64, String),
    /// Its content, for a file.
    pub(crate) content: Option<InputFile>,
    /// The table that was written, as it is read again; `None` where its cells are not known any more.
    pub(crate) table: Option<(Address, Described)>,
    /// The columns that were added to a table that was written into.
    pub(crate) added: &'a [String],
    /// The columns that are looked at for changes by hand, where these are not all.
    pub(crate) marked: Vec<String>,
    /// The lists and reports that appear with it.
    pub(crate) lists: &'a [(PathBuf, &'a Finished)],
}

/// A receipt that is all but finished, with the keys that it has marks of.
pub(crate) struct Draft {
    receipt: Receipt,
    keys: Vec<(KeysSeen, KeysSeen)>,
    path: PathBuf,
    headers: Vec<String>,
    rows: u64,
}

impl Draft {
    /// The receipt of a run, to be written to a path.
    pub(crate) fn new(run: Run<'_>, path: &Path) -> Result<Self> {
        let mut receipt = Receipt::new(env!("CARGO_PKG_VERSION"), run.plan);
        for seen in run.tables {
            let (bytes, digest) = seen.sum;
            let modified = seen.modified.and_then(|time| Timestamp::try_from(time).ok());
            let seconds = modified.and_then(|time| Timestamp::from_second(time.as_second()).ok());
            receipt.inputs.push(Input {
                role: seen.role,
                file: File { path: told_path(&seen.address, path), bytes, digest },
                modified: seconds.map(|time| time.to_string()),
                rows: seen.rows,
                headers: seen.headers,
            });
        }
        if let Some(file) = run.corrections {
            let (bytes, digest) = file.sum().size_and_digest();
            let address = Address::File(file.path().to_owned());
            receipt.inputs.push(Input {
                role: "corrections".to_owned(),
                file: File { path: told_path(&address, path), bytes, digest },
                modified: None,
                rows: file.len() as u64,
                headers: file.key.clone(),
            });
        }
        for (name, file, rows) in run.aliases {
            let (bytes, digest) = Sum::of_file(file)?.size_and_digest();
            let address = Address::File(file.to_owned());
            receipt.inputs.push(Input {
                role: format!("aliases of {name}"),
                file: File { path: told_path(&address, path), bytes, digest },
                modified: None,
                rows: rows as u64,
                headers: Vec::new(),
            });
        }
        let found = run.enrichment.lookups().zip(&run.findings.lookups).zip(&run.keys);
        for ((lookup, found), (unmatched, duplicate)) in found {
            let (reference, counts) = (lookup.reference(), &found.counts);
            let (name, columns) = (reference.name(), columns_of(reference));
            let marks = (unmatched.marks(), duplicate.marks());
            receipt.references.push(Found::new(name, columns, counts, marks.0, marks.1));
        }
        let headers = run.enrichment.output().headers().iter().map(str::to_owned).collect();
        let rows = run.findings.written;
        Ok(Self { receipt, keys: run.keys, path: path.to_owned(), headers, rows })
    }

    /// The changes since another receipt. A main file that is written into is unchanged if it is the
    /// output of the run before.
    pub(crate) fn moved_since(&self, before: &Receipt, is_in_place: bool) -> Vec<Moved> {
        let mut before = before.clone();
        if let (true, Some(output), Some(main)) =
            (is_in_place, &before.output, before.inputs.first_mut())
        {
            main.file = output.file.clone();
            main.rows = output.rows;
            // Columns that it added are left out of what is read.
            if output.added.is_empty() {
                main.headers.clone_from(&output.headers);
            }
        }
        moved(&before, &self.receipt, &self.keys)
    }

    /// Writes it to its file, so that it can appear with what it is about.
    pub(crate) fn finish(mut self, mut file: WholeFile, written: &Written<'_>) -> Result<Finished> {
        let (bytes, digest) = written.sum.clone();
        let marks = match (&written.content, &written.table) {
            (Some(content), Some((address, form))) => {
                let columns = Some(&written.marked[..]).filter(|marked| !marked.is_empty());
                let table = Table { address, file: content, form, columns };
                Some(marks_of(table, self.rows)?)
            }
            _ => None,
        };
        self.receipt.output = Some(Output {
            file: File { path: told_path(written.address, &self.path), bytes, digest },
            rows: self.rows,
            headers: self.headers,
            added: written.added.to_vec(),
            marked: written.marked.clone(),
            row_marks: marks,
        });
        for (list, finished) in written.lists {
            let Some(content) = finished.content()? else { continue };
            let (bytes, digest) =
                Sum::of_reader(&mut content.reader(), content.name())?.size_and_digest();
            let path = told_path(&Address::File(list.clone()), &self.path);
            self.receipt.lists.push(File { path, bytes, digest });
        }
        let name = self.path.display().to_string();
        let refused = |cause| Error::Write { name, cause };
        file.write_all(self.receipt.write().as_bytes()).map_err(refused)?;
        Ok(file.finish()?)
    }
}

/// A path as it is in a receipt.
fn told_path(address: &Address, receipt: &Path) -> String {
    if let Address::Server(server) = address {
        return server.to_string();
    }
    let Some(path) = address.path() else { return "-".to_owned() };
    let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let folder = whole(receipt).parent().map(Path::to_owned).unwrap_or_default();
    let path = pathdiff::diff_paths(whole(path), folder).unwrap_or_else(|| path.to_owned());
    path.to_string_lossy().replace('\\', "/")
}

/// A path in a receipt, relative to the current folder.
pub(crate) fn path_of(file: &File, receipt: &Path) -> PathBuf {
    let folder = receipt.parent().unwrap_or(Path::new(""));
    folder.join(&file.path)
}

/// Whether files that are there are as the run before wrote them, by its receipt.
pub(crate) fn has_written(before: &Receipt, receipt: &Path, paths: &[PathBuf]) -> bool {
    let is_ours = |path: &Path| {
        let reported = before.lists.iter().find(|list| {
            std::path::absolute(path_of(list, receipt)).ok() == std::path::absolute(path).ok()
        });
        reported.is_some_and(|reported| {
            let now = Sum::of_file(path).map(|sum| sum.size_and_digest());
            now.is_ok_and(|now| now == (reported.bytes, reported.digest.clone()))
        })
    };
    paths.iter().filter(|path| path.exists()).all(|path| is_ours(path))
}

/// Whether the output of a receipt is at a path, and what is there now.
pub(crate) enum OnDisk {
    /// Nothing, or another file than the receipt is about.
    Other,
    /// The content of the receipt.
    AsWritten,
    /// Something else.
    Changed,
}

/// Looks whether the output at a path is the one that a receipt is about, and still the same.
pub(crate) fn on_disk(before: &Receipt, receipt: &Path, output: &Path) -> Result<OnDisk> {
    let Some(reported) = &before.output else { return Ok(OnDisk::Other) };
    let place = |path: &Path| fs::canonicalize(path).ok();
    let there = place(output);
    if there.is_none() || there != place(&path_of(&reported.file, receipt)) {
        return Ok(OnDisk::Other);
    }
    let now = Sum::of_file(output)?.size_and_digest();
    Ok(if now == (reported.file.bytes, reported.file.digest.clone()) {
        OnDisk::AsWritten
    } else {
        OnDisk::Changed
    })
}
