//! Every finding in full: a folder with one CSV for each kind.
//!
//! The lists of main rows are written while the pass runs, those of reference rows after it. Each
//! file stands for its kind even when it is empty, so that no list of an earlier run is taken for
//! one of this run.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Kind, MainFinding, Recorder};
use gather_keys_core::key::{Key, Unreadable};
use gather_keys_core::lookup::{Lookup, Reference, RowId};
use gather_keys_core::table::Headers;
use gather_keys_core::template::Bound;
use gather_keys_formats::{Error, WholeFile};

use crate::wording;

/// The kinds that are listed.
const LISTED: [Kind; 10] = [
    Kind::Chosen,
    Kind::Unmatched,
    Kind::Ambiguous,
    Kind::BlankKey,
    Kind::Malformed,
    Kind::Duplicate,
    Kind::Conflicting,
    Kind::Collapsed,
    Kind::Unused,
    Kind::Repeated,
];

/// The first columns of every list.
const PLACE: [&str; 3] = ["reference", "row", "line"];

/// The lists being written.
#[derive(Debug)]
pub(crate) struct Lists {
    files: Vec<(Kind, csv::Writer<WholeFile>)>,
    folder: Folder,
    main: Headers,
    main_key: Columns,
    reference_key: Columns,
    taken: Columns,
    record: csv::StringRecord,
}

/// The folder of the lists. One that was made for them goes when they never appear.
#[derive(Debug)]
struct Folder {
    path: PathBuf,
    is_new: bool,
}

impl Folder {
    fn create(path: &Path) -> Result<Self, Error> {
        let is_new = !path.exists();
        let made = if is_new || path.is_dir() {
            fs::create_dir_all(path)
        } else {
            Err(io::ErrorKind::NotADirectory.into())
        };
        made.map_err(|cause| refused(path, cause))?;
        Ok(Self { path: path.to_owned(), is_new })
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        if self.is_new {
            // Only an empty folder can be removed this way; one with lists in it stays.
            let _ = fs::remove_dir(&self.path);
        }
    }
}

/// The union of columns that several references use of one list, each under one header.
#[derive(Debug, Default)]
struct Columns {
    headers: Vec<String>,
    /// For each reference, where its columns stand among the headers.
    places: Vec<Vec<usize>>,
}

impl Columns {
    fn of(references: impl Iterator<Item = Vec<String>>) -> Self {
        let mut all = Self::default();
        for names in references {
            let place = |name: String| {
                all.headers.iter().position(|other| *other == name).unwrap_or_else(|| {
                    all.headers.push(name);
                    all.headers.len() - 1
                })
            };
            let places = names.into_iter().map(place).collect();
            all.places.push(places);
        }
        all
    }

    /// The cells of reference `nth`, each under its header; the others blank.
    fn spread<'a>(
        &self,
        nth: usize,
        cells: impl Iterator<Item = &'a str>,
    ) -> impl Iterator<Item = &'a str> {
        let mut spread = vec![""; self.headers.len()];
        for (&place, cell) in self.places[nth].iter().zip(cells) {
            spread[place] = cell;
        }
        spread.into_iter()
    }
}

/// The headers of a key in the lists: the columns it was read from, and where that is something
/// else the parts that were compared.
fn key_names(headers: &Headers, key: &Key) -> Vec<String> {
    let read = key.columns().iter().map(|&column| headers.address(column));
    let parts = compared_parts(key).map(|part| format!("{} (compared)", part.template()));
    read.chain(parts).collect()
}

/// The parts of a key that are compared as something else than what was read.
fn compared_parts(key: &Key) -> impl Iterator<Item = &Bound> {
    key.parts().iter().filter(|part| part.template().as_header().is_none())
}

/// The compared values of those parts.
fn compared_values<'v, V: AsRef<str>>(key: &Key, all: &'v [V]) -> impl Iterator<Item = &'v str> {
    let is_other = |part: &Bound| part.template().as_header().is_none();
    let others: Vec<bool> = key.parts().iter().map(is_other).collect();
    all.iter().zip(others).filter(|(_, other)| *other).map(|(value, _)| value.as_ref())
}

/// The files that the lists of a folder are.
pub(crate) fn paths(folder: &Path) -> Vec<PathBuf> {
    LISTED.into_iter().map(|kind| path(folder, kind)).collect()
}

fn path(folder: &Path, kind: Kind) -> PathBuf {
    folder.join(format!("{}.csv", kind.label().replace(' ', "-")))
}

impl Lists {
    /// Begins the lists in `folder`, which is made if it is not there.
    pub(crate) fn create(
        folder: &Path,
        overwrite: bool,
        main: &Headers,
        enrichment: &Enrichment,
    ) -> Result<Self, Error> {
        let references = || enrichment.lookups().map(Lookup::reference);
        let mut lists = Self {
            files: Vec::new(),
            folder: Folder::create(folder)?,
            main: main.clone(),
            main_key: Columns::of(enrichment.lookups().map(|lookup| key_names(main, lookup.key()))),
            reference_key: Columns::of(references().map(|r| key_names(r.headers(), r.key()))),
            taken: Columns::of(
                references()
                    .map(|r| r.taken().iter().map(|&column| r.headers().address(column)).collect()),
            ),
            record: csv::StringRecord::new(),
        };
        for kind in LISTED {
            let file = WholeFile::create(&path(folder, kind), overwrite)?;
            lists.files.push((kind, csv::Writer::from_writer(file)));
            let headers = lists.headers(kind);
            lists.record.extend(&headers);
            lists.write(kind)?;
        }
        Ok(lists)
    }

    fn headers(&self, kind: Kind) -> Vec<String> {
        let none: &[String] = &[];
        let (key, last): (&[String], &[String]) = match kind {
            Kind::Matched | Kind::Unmatched | Kind::BlankKey => (&self.main_key.headers, none),
            Kind::Ambiguous => (&self.main_key.headers, &["reference rows".to_owned()]),
            Kind::Chosen => {
                (&self.main_key.headers, &["reference rows", "chosen row"].map(str::to_owned))
            }
            Kind::Repeated => (&self.main_key.headers, &["first row".to_owned()]),
            Kind::Malformed => (none, &["table", "column", "step", "value"].map(str::to_owned)),
            Kind::Unused => (&self.reference_key.headers, none),
            Kind::Duplicate | Kind::Conflicting | Kind::Collapsed => {
                (&self.reference_key.headers, &self.taken.headers)
            }
        };
        let mut headers: Vec<String> = PLACE.map(str::to_owned).to_vec();
        for header in key.iter().chain(last) {
            let mut header = header.clone();
            while headers.contains(&header) {
                header.push_str(" (column)");
            }
            headers.push(header);
        }
        headers
    }

    fn begin(&mut self, reference: &str, row: u64, line: u64) {
        self.record.clear();
        self.record.push_field(reference);
        self.record.push_field(&row.to_string());
        self.record.push_field(&line.to_string());
    }

    fn write(&mut self, kind: Kind) -> Result<(), Error> {
        let Some((_, file)) = self.files.iter_mut().find(|(other, _)| *other == kind) else {
            return Ok(());
        };
        let written = file.write_record(&self.record);
        self.record.clear();
        written.map_err(|error| refused(&path(&self.folder.path, kind), error.into()))
    }

    /// Writes the lists of reference rows.
    pub(crate) fn reference_rows(
        &mut self,
        enrichment: &Enrichment,
        findings: &Findings,
    ) -> Result<(), Error> {
        let lookups = enrichment.lookups().zip(&findings.lookups).enumerate();
        for (nth, (lookup, found)) in lookups {
            let reference = lookup.reference();
            for group in reference.groups() {
                let kind = if group.conflicting { Kind::Conflicting } else { Kind::Duplicate };
                for &row in &group.rows {
                    self.reference_row(nth, reference, kind, row)?;
                    if group.collapsed {
                        self.reference_row(nth, reference, Kind::Collapsed, row)?;
                    }
                }
            }
            for &row in reference.malformed() {
                self.begin(reference.name(), row.number(), reference.line(row));
                self.unreadable(reference.headers(), reference.key(), &reference.as_read(row));
                self.write(Kind::Malformed)?;
            }
            for row in found.unused(lookup) {
                self.reference_row(nth, reference, Kind::Unused, row)?;
            }
        }
        Ok(())
    }

    fn reference_row(
        &mut self,
        nth: usize,
        reference: &Reference,
        kind: Kind,
        row: RowId,
    ) -> Result<(), Error> {
        self.begin(reference.name(), row.number(), reference.line(row));
        let (read, compared) = (reference.as_read(row), reference.as_compared(row));
        let compared: Vec<&str> = compared.collect();
        let compared = compared_values(reference.key(), &compared);
        self.record.extend(self.reference_key.spread(nth, read.into_iter().chain(compared)));
        if kind != Kind::Unused {
            self.record.extend(self.taken.spread(nth, reference.taken_cells(row)));
        }
        self.write(kind)
    }

    /// Appends what could not be read of a key: table, column, step and value.
    fn unreadable<S: AsRef<str>>(&mut self, headers: &Headers, key: &Key, as_read: &[S]) {
        self.record.push_field(headers.table());
        if let Some(Unreadable { column, step, value }) = key.unreadable(as_read) {
            self.record.extend([headers.address(column), step, value]);
        }
    }

    /// Lets the lists appear.
    pub(crate) fn commit(self) -> Result<(), Error> {
        for (kind, file) in self.files {
            let file = file.into_inner();
            let refused = |error: csv::IntoInnerError<_>| {
                refused(&path(&self.folder.path, kind), io::Error::from(error.error().kind()))
            };
            file.map_err(refused)?.commit()?;
        }
        Ok(())
    }
}

impl Recorder for Lists {
    type Error = Error;

    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), Error> {
        let MainFinding { nth, lookup, kind, block, row, first, chosen, asked_by } = *finding;
        let reference = lookup.reference();
        self.begin(reference.name(), block.row_number(row), block.line(row));
        let key = lookup.key();
        let read: Vec<&str> = key.as_read(block, row).collect();
        if kind == Kind::Malformed {
            let main = self.main.clone();
            self.unreadable(&main, key, &read);
            return self.write(kind);
        }
        let compared = key.as_compared(block, row);
        let cells = read.into_iter().chain(compared_values(key, &compared));
        self.record.extend(self.main_key.spread(nth, cells));
        if let (Kind::Ambiguous | Kind::Chosen, Some(first)) = (kind, first) {
            let rows = reference.rows_of(first).map(|row| row.number().to_string());
            self.record.push_field(&rows.collect::<Vec<_>>().join("; "));
        }
        if kind == Kind::Chosen {
            let row = chosen.map_or("all".to_owned(), |row| row.number().to_string());
            self.record.push_field(&row);
        }
        if let Some(earlier) = asked_by {
            self.record.push_field(&earlier.to_string());
        }
        self.write(kind)
    }
}

fn refused(path: &Path, cause: io::Error) -> Error {
    Error::Write { name: path.display().to_string(), cause }
}

/// The sentence that says where the lists are.
pub(crate) fn told(folder: &Path) -> String {
    let count = wording::counted(LISTED.len() as u64, "list");
    format!("Wrote {count} of findings to the folder {}.", folder.display())
}
