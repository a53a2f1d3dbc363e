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
use gather_keys_core::lookup::{Lookup, Reference, RowId};
use gather_keys_core::table::Headers;
use gather_keys_formats::{Error, WholeFile};

use crate::wording;

/// The kinds that are listed.
const LISTED: [Kind; 7] = [
    Kind::Unmatched,
    Kind::Ambiguous,
    Kind::BlankKey,
    Kind::Duplicate,
    Kind::Conflicting,
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
    fn of<'a>(tables: impl Iterator<Item = (&'a Headers, &'a [usize])>) -> Self {
        let mut all = Self::default();
        for (headers, columns) in tables {
            let place = |&column: &usize| {
                let header = headers.address(column);
                all.headers.iter().position(|other| *other == header).unwrap_or_else(|| {
                    all.headers.push(header);
                    all.headers.len() - 1
                })
            };
            let places = columns.iter().map(place).collect();
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
        let references = || enrichment.lookups().iter().map(Lookup::reference);
        let mut lists = Self {
            files: Vec::new(),
            folder: Folder::create(folder)?,
            main_key: Columns::of(
                enrichment.lookups().iter().map(|lookup| (main, lookup.key().columns())),
            ),
            reference_key: Columns::of(references().map(|r| (r.headers(), r.key().columns()))),
            taken: Columns::of(references().map(|r| (r.headers(), r.taken()))),
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
            Kind::Repeated => (&self.main_key.headers, &["first row".to_owned()]),
            Kind::Unused => (&self.reference_key.headers, none),
            Kind::Duplicate | Kind::Conflicting => {
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
        let lookups = enrichment.lookups().iter().zip(&findings.lookups).enumerate();
        for (nth, (lookup, found)) in lookups {
            let reference = lookup.reference();
            for group in reference.groups() {
                let kind = if group.conflicting { Kind::Conflicting } else { Kind::Duplicate };
                for row in group.rows {
                    self.reference_row(nth, reference, kind, row)?;
                }
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
        self.record.extend(self.reference_key.spread(nth, reference.key_parts(row)));
        if kind != Kind::Unused {
            self.record.extend(self.taken.spread(nth, reference.taken_cells(row)));
        }
        self.write(kind)
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
        let MainFinding { nth, lookup, kind, block, row, first, asked_by } = *finding;
        let reference = lookup.reference();
        self.begin(reference.name(), block.row_number(row), block.line(row));
        self.record.extend(self.main_key.spread(nth, lookup.key().parts(block, row)));
        if let (Kind::Ambiguous, Some(first)) = (kind, first) {
            let rows = reference.rows_of(first).map(|row| row.number().to_string());
            self.record.push_field(&rows.collect::<Vec<_>>().join("; "));
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
