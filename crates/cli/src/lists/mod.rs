//! Every finding in full: a folder with one list for each kind, in the form it has or else as CSV.
//!
//! The lists of main rows are written while the pass runs, those of reference rows after it. Each kind
//! has its file even when it is empty, so that no list of an earlier run is taken as one of this run.

mod columns;
mod nearest;

use std::io;
use std::path::{Path, PathBuf};

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{
    AskedBy, Change, ChangedBy, ChangingRow, Findings, Kind, MainFinding, Recorder,
};
use gather_keys_core::key::Unreadable;
use gather_keys_core::lookup::{Answer, EntryId, Lookup, Miss, Reference, RowId};
use gather_keys_core::table::{Headers, Row};
use gather_keys_formats::commit::Finished;
use gather_keys_formats::{Error, SideForm, SideWriter, WholeFile};

use crate::wording;
use columns::{Columns, compared_otherwise, main_names, reference_names};
use nearest::Nearest;

/// The list of changed cells, and the columns after its first ones.
const CHANGES: (&str, [&str; 4]) = ("changes.csv", ["header", "before", "after", "reference row"]);

/// The first columns of every list.
const PLACE: [&str; 4] = ["reference", "table", "row", "line"];

/// A list being written.
type List = SideWriter<WholeFile>;

/// Begins a list in the form that it has.
fn begin(path: &Path, file: WholeFile) -> Result<List, Error> {
    SideWriter::new(path.display().to_string(), file, SideForm::of_path(path))
}

/// The lists being written.
pub(crate) struct Lists {
    files: Vec<(Kind, List)>,
    changes: List,
    nearest: Nearest,
    main: Headers,
    main_key: Columns,
    reference_key: Columns,
    taken: Columns,
    record: csv::StringRecord,
}

/// The files of the lists, which nobody sees yet.
#[derive(Debug)]
pub(crate) struct Files {
    folder: PathBuf,
    /// In the order of [`paths`].
    files: Vec<WholeFile>,
}

impl Files {
    /// Begins a file for each list in `folder`, which is made with them if it is not there.
    pub(crate) fn create(folder: &Path, overwrite: bool) -> Result<Self, Error> {
        if folder.exists() && !folder.is_dir() {
            return Err(refused(folder, io::ErrorKind::NotADirectory.into()));
        }
        let create = |path: PathBuf| WholeFile::create_with_folder(&path, overwrite);
        let files = paths(folder).into_iter().map(create).collect::<Result<_, _>>()?;
        Ok(Self { folder: folder.to_owned(), files })
    }
}

/// The files that the lists of a folder are.
pub(crate) fn paths(folder: &Path) -> Vec<PathBuf> {
    let kinds = Kind::listed().map(|kind| path(folder, kind));
    kinds.chain([folder.join(CHANGES.0), folder.join(nearest::NAME)]).collect()
}

fn path(folder: &Path, kind: Kind) -> PathBuf {
    folder.join(format!("{}.csv", kind.label().replace(' ', "-")))
}

impl Lists {
    /// Begins to write the lists of an enrichment.
    pub(crate) fn begin(files: Files, enrichment: &Enrichment) -> Result<Self, Error> {
        let references = || enrichment.lookups().map(Lookup::reference);
        let headers = enrichment.headers();
        let Files { folder, files } = files;
        let mut files = files.into_iter();
        let of_kinds: Vec<_> = Kind::listed().zip(files.by_ref()).collect();
        // Files come in the order of the paths: the kinds, the changes, the nearest keys.
        let (Some(changes), Some(nearest)) = (files.next(), files.next()) else {
            return Err(refused(&folder, io::ErrorKind::NotFound.into()));
        };
        let mut lists = Self {
            files: Vec::new(),
            changes: begin(&folder.join(CHANGES.0), changes)?,
            nearest: Nearest::begin(&folder, nearest, enrichment)?,
            main: headers.clone(),
            main_key: Columns::of(enrichment.lookups().map(|lookup| main_names(headers, lookup))),
            reference_key: Columns::of(enrichment.lookups().map(reference_names)),
            taken: Columns::of(
                references()
                    .map(|r| r.taken().iter().map(|&column| r.headers().address(column)).collect()),
            ),
            record: csv::StringRecord::new(),
        };
        for (kind, file) in of_kinds {
            lists.files.push((kind, begin(&path(&folder, kind), file)?));
            let headers = lists.headers(kind);
            lists.record.extend(&headers);
            lists.write(kind)?;
        }
        lists.record.extend(PLACE.into_iter().chain(CHANGES.1));
        lists.write_change()?;
        Ok(lists)
    }

    fn headers(&self, kind: Kind) -> Vec<String> {
        let none: &[String] = &[];
        let (key, last): (&[String], &[&str]) = match kind {
            Kind::Matched | Kind::BlankKey => (&self.main_key.headers, &[]),
            Kind::Unmatched => (&self.main_key.headers, &["reason", "nearest"]),
            Kind::NoHeader => (&self.main_key.headers, &["header", "nearest"]),
            Kind::Ambiguous => (&self.main_key.headers, &["reference rows"]),
            Kind::Chosen => (&self.main_key.headers, &["reference rows", "chosen row"]),
            Kind::Repeated => (&self.main_key.headers, &["first row"]),
            Kind::Malformed => (none, &["column", "step", "value"]),
            Kind::Unused => (&self.reference_key.headers, &[]),
            Kind::Duplicate | Kind::Conflicting | Kind::Collapsed => {
                (&self.reference_key.headers, &[])
            }
        };
        let taken = match kind {
            Kind::Duplicate | Kind::Conflicting | Kind::Collapsed => &self.taken.headers,
            _ => none,
        };
        let last = last.iter().map(|&header| header.to_owned()).chain(taken.iter().cloned());
        let mut headers: Vec<String> = PLACE.map(str::to_owned).to_vec();
        for mut header in key.iter().cloned().chain(last) {
            while headers.contains(&header) {
                header.push_str(" (column)");
            }
            headers.push(header);
        }
        headers
    }

    fn begin_row(&mut self, reference: &str, table: &str, row: u64, line: u64) {
        self.record.clear();
        self.record.push_field(reference);
        self.record.push_field(table);
        self.record.push_field(&row.to_string());
        self.record.push_field(&line.to_string());
    }

    /// Begins a row that has a name instead of a number and a line.
    fn begin_named(&mut self, reference: &str, table: &str, name: &str) {
        self.record.clear();
        self.record.extend([reference, table, name, ""]);
    }

    fn begin_reference(&mut self, reference: &Reference, row: RowId) {
        let table = reference.table(row).unwrap_or(reference.headers().table());
        match reference.name_of(row) {
            Some(name) => self.begin_named(reference.name(), table, name),
            None => {
                self.begin_row(reference.name(), table, reference.number(row), reference.line(row));
            }
        }
    }

    fn write(&mut self, kind: Kind) -> Result<(), Error> {
        let Some((_, file)) = self.files.iter_mut().find(|(other, _)| *other == kind) else {
            return Ok(());
        };
        let written = file.write(&self.record);
        self.record.clear();
        written
    }

    fn write_change(&mut self) -> Result<(), Error> {
        let written = self.changes.write(&self.record);
        self.record.clear();
        written
    }

    /// Writes the list of unmatched rows with their reasons, and that of the nearest keys.
    pub(crate) fn reasons(
        &mut self,
        enrichment: &Enrichment,
        findings: &Findings,
        diagnoses: &[Option<Diagnosis>],
    ) -> Result<(), Error> {
        let reported = self.nearest.write(enrichment, findings, diagnoses)?;
        let Self { nearest, files, .. } = self;
        let unmatched = files.iter_mut().find(|(kind, _)| *kind == Kind::Unmatched);
        let Some((_, file)) = unmatched else { return Ok(()) };
        nearest.release(&reported, |record| file.write(record))
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
                for &entry in &group.entries {
                    let row = reference.row(entry);
                    self.reference_row(nth, lookup, kind, row, Some(entry))?;
                    if group.collapsed {
                        self.reference_row(nth, lookup, Kind::Collapsed, row, Some(entry))?;
                    }
                }
            }
            for &row in reference.malformed() {
                self.begin_reference(reference, row);
                self.unreadable(reference.headers(), reference.unreadable(row));
                self.write(Kind::Malformed)?;
            }
            for row in found.unused(lookup) {
                let entry = reference.entry_of(row);
                self.reference_row(nth, lookup, Kind::Unused, row, entry)?;
            }
        }
        Ok(())
    }

    fn reference_row(
        &mut self,
        nth: usize,
        lookup: &Lookup,
        kind: Kind,
        row: RowId,
        entry: Option<EntryId>,
    ) -> Result<(), Error> {
        let reference = lookup.reference();
        self.begin_reference(reference, row);
        let mut cells: Vec<String> =
            reference.row_as_read(row).into_iter().map(str::to_owned).collect();
        let any = reference.searched().first();
        for (at, part) in reference.key().parts().iter().enumerate() {
            if part.template().as_header().is_none() || part.columns().first() == any {
                let compared = entry.and_then(|entry| reference.as_compared(entry).nth(at));
                cells.push(compared.unwrap_or_default().to_owned());
            }
        }
        cells.extend(reference.range_as_read(row));
        let column = entry.and_then(|entry| reference.column(entry));
        cells.extend(column.map(|column| reference.headers().address(column)));
        self.record.extend(self.reference_key.spread(nth, cells.iter().map(String::as_str)));
        if kind != Kind::Unused {
            self.record.extend(self.taken.spread(nth, reference.taken_cells(row)));
        }
        self.write(kind)
    }

    /// Appends what could not be read of a key: column, step and value.
    fn unreadable(&mut self, headers: &Headers, unreadable: Option<Unreadable>) {
        if let Some(Unreadable { column, step, value }) = unreadable {
            self.record.extend([headers.address(column), step, value]);
        }
    }

    /// Ends the lists, so that they can appear.
    pub(crate) fn finish(self) -> Result<Vec<Finished>, Error> {
        let of_kinds = self.files.into_iter().map(|(_, list)| list);
        let all = of_kinds.chain([self.changes, self.nearest.list]);
        all.map(|list| list.finish()?.finish()).collect()
    }
}

impl Recorder for Lists {
    type Error = Error;

    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), Error> {
        let MainFinding { nth, lookup, kind, row, name, answer, asked_by } = *finding;
        let reference = lookup.reference();
        let table = self.main.table().to_owned();
        match name {
            Some(name) => self.begin_named(reference.name(), &table, name),
            None => self.begin_row(reference.name(), &table, row.number(), row.line()),
        }
        if kind == Kind::Malformed {
            let main = self.main.clone();
            self.unreadable(&main, lookup.unreadable(row));
            return self.write(kind);
        }
        let compared = lookup.key().as_compared(row);
        let compared = compared.iter().zip(compared_otherwise(lookup));
        let compared = compared.filter(|(_, otherwise)| *otherwise).map(|(value, _)| &value[..]);
        let read = lookup.as_read(row);
        self.record.extend(self.main_key.spread(nth, read.into_iter().chain(compared)));
        match kind {
            Kind::Unmatched => {
                self.record.extend(reason(lookup, row, answer));
                return self.nearest.hold(&mut self.record, nth, lookup, row);
            }
            Kind::NoHeader => {
                let (header, nearest) = lookup.unknown_header(row).unwrap_or_default();
                self.record.extend([header, nearest.join("; ")]);
            }
            Kind::Ambiguous | Kind::Chosen => {
                let reported = told_holders(reference, &lookup.entries(row, answer));
                self.record.push_field(&reported);
            }
            _ => {}
        }
        if kind == Kind::Chosen {
            let row = match answer {
                Answer::Chosen { entry, .. } => told_holders(reference, &[entry]),
                _ => "all".to_owned(),
            };
            self.record.push_field(&row);
        }
        match asked_by {
            Some(AskedBy::Row(earlier)) => self.record.push_field(&earlier.to_string()),
            Some(AskedBy::Named(earlier)) => self.record.push_field(earlier),
            None => {}
        }
        self.write(kind)
    }

    fn changed(&mut self, change: &Change<'_>) -> Result<(), Error> {
        let Change { by, row, name, column, before, after } = *change;
        let (reference, by) = match by {
            ChangedBy::Lookup { lookup, row, .. } => {
                let reference = lookup.reference();
                let row = match row {
                    Some(ChangingRow::Here(row)) => told_row(reference, row),
                    Some(ChangingRow::Named(name)) => name.to_owned(),
                    None => "several".to_owned(),
                };
                (reference.name(), row)
            }
            ChangedBy::Correction(row) => ("corrections", row.to_string()),
        };
        let table = self.main.table().to_owned();
        match name {
            Some(name) => self.begin_named(reference, &table, name),
            None => self.begin_row(reference, &table, row.number(), row.line()),
        }
        self.record.push_field(&self.main.address(column));
        self.record.extend([before, after, &by]);
        self.write_change()
    }
}

/// Why a row is unmatched, and what comes near.
fn reason(lookup: &Lookup, row: Row<'_>, answer: Answer) -> [String; 2] {
    let reference = lookup.reference();
    match answer {
        Answer::Unmatched(Miss::Range(first)) => {
            let nearest = lookup.nearest_range(row, first);
            let nearest = nearest.and_then(|row| reference.range_as_read(row));
            ["no range holds it".to_owned(), nearest.unwrap_or_default()]
        }
        Answer::Unmatched(Miss::Header) => {
            let (_, nearest) = lookup.unknown_header(row).unwrap_or_default();
            ["no such header".to_owned(), nearest.join("; ")]
        }
        _ if reference.is_by_position() => ["no such row".to_owned(), String::new()],
        _ => ["no such key".to_owned(), String::new()],
    }
}

/// A row of a reference: its name or number, with its table when there are several.
fn told_row(reference: &Reference, row: RowId) -> String {
    let number = reference.number(row);
    match (reference.name_of(row), reference.table(row)) {
        (Some(name), _) => name.to_owned(),
        (None, Some(table)) => format!("{table} {number}"),
        (None, None) => number.to_string(),
    }
}

/// The rows, or cells, that hold a key: `11; 110`, `3 in 250 g; 9 in 1 kg`.
fn told_holders(reference: &Reference, entries: &[EntryId]) -> String {
    let reported = entries.iter().map(|&entry| {
        let row = reference.row(entry);
        let row = told_row(reference, row);
        match reference.column(entry) {
            Some(column) => format!("{row} in {}", reference.headers().address(column)),
            None => row,
        }
    });
    reported.collect::<Vec<_>>().join("; ")
}

fn refused(path: &Path, cause: io::Error) -> Error {
    Error::Write { name: path.display().to_string(), cause }
}

/// The cause of an error of the rows that are held back.
fn cause(error: csv::Error) -> io::Error {
    match error.into_kind() {
        csv::ErrorKind::Io(cause) => cause,
        other => io::Error::other(format!("{other:?}")),
    }
}

/// The sentence that says where the lists are.
pub(crate) fn reported(folder: &Path) -> String {
    let count = wording::counted(Kind::listed().count() as u64 + 2, "list");
    format!("Wrote {count} of findings to the folder {}.", folder.display())
}
