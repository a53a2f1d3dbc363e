//! Every finding in full: a folder with one CSV for each kind.
//!
//! The lists of main rows are written while the pass runs, those of reference rows after it. Each
//! file stands for its kind even when it is empty, so that no list of an earlier run is taken for
//! one of this run.

use std::collections::{HashMap, HashSet};
use std::fs::{self, File};
use std::io::{self, Seek};
use std::path::{Path, PathBuf};

use gather_keys_core::diagnosis::{Diagnosis, Explained};
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{
    Change, ChangedBy, Findings, Kind, MainFinding, Recorder, UnmatchedKey,
};
use gather_keys_core::key::Unreadable;
use gather_keys_core::lookup::{Answer, Holder, Lookup, Miss, Reference, RowId};
use gather_keys_core::table::{Headers, Row};
use gather_keys_formats::{Error, WholeFile};

use crate::aliases::{self, APPROVE};
use crate::wording;

/// The kinds that are listed.
const LISTED: [Kind; 11] = [
    Kind::Chosen,
    Kind::Unmatched,
    Kind::NoHeader,
    Kind::Ambiguous,
    Kind::BlankKey,
    Kind::Malformed,
    Kind::Duplicate,
    Kind::Conflicting,
    Kind::Collapsed,
    Kind::Unused,
    Kind::Repeated,
];

/// The list of changed cells, and the columns behind its first ones.
const CHANGES: (&str, [&str; 4]) = ("changes.csv", ["header", "before", "after", "reference row"]);

/// The list of unmatched keys with those that come nearest.
const NEAREST: &str = "nearest.csv";

/// The first columns of every list.
const PLACE: [&str; 4] = ["reference", "table", "row", "line"];

/// The lists being written.
#[derive(Debug)]
pub(crate) struct Lists {
    files: Vec<(Kind, csv::Writer<WholeFile>)>,
    changes: csv::Writer<WholeFile>,
    /// The unmatched rows, each with which lookup it is of and its key, until their reasons are known.
    unmatched: csv::Writer<File>,
    nearest: csv::Writer<WholeFile>,
    folder: Folder,
    main: Headers,
    main_key: Columns,
    reference_key: Columns,
    taken: Columns,
    /// The main keys and the reference keys in the list of nearest keys.
    pairs: (Columns, Columns),
    /// The pairs that a list of an earlier run had approved.
    approved: HashSet<Vec<String>>,
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

/// The headers of a main key in the lists: the columns it was read from, and where that is
/// something else the parts that were compared.
fn main_names(headers: &Headers, lookup: &Lookup) -> Vec<String> {
    let read = lookup.columns().into_iter().map(|column| headers.address(column));
    let parts = lookup.key().parts().iter().zip(compared_otherwise(lookup));
    let parts = parts.filter(|(_, otherwise)| *otherwise);
    let parts = parts.map(|(part, _)| format!("{} (compared)", part.template()));
    read.chain(parts).collect()
}

/// The headers of a reference's key in the lists: likewise, and behind them the range of the row
/// and the column that holds the value, where there are such.
fn reference_names(lookup: &Lookup) -> Vec<String> {
    let reference = lookup.reference();
    let headers = reference.headers();
    let read = reference.key_columns().into_iter().map(|column| headers.address(column));
    let parts = reference.key().parts().iter().zip(lookup.on());
    let any = reference.looked_in().first();
    let parts = parts
        .filter(|(part, _)| part.template().as_header().is_none() || part.columns().first() == any);
    let parts = parts.map(|(part, on)| {
        let is_any = part.columns().first() == any;
        let side = on.split_once(" = ").map_or(&on[..], |(_, side)| side);
        let written = if is_any { side.to_owned() } else { part.template().to_string() };
        format!("{written} (compared)")
    });
    let range = lookup.value().map(|_| "range".to_owned());
    let column = any.map(|_| "column".to_owned());
    read.chain(parts).chain(range).chain(column).collect()
}

/// For each part of the main key, whether it is compared as something else than what was read.
fn compared_otherwise(lookup: &Lookup) -> impl Iterator<Item = bool> {
    lookup.key().parts().iter().map(|part| part.template().as_header().is_none())
}

/// The files that the lists of a folder are.
pub(crate) fn paths(folder: &Path) -> Vec<PathBuf> {
    let kinds = LISTED.into_iter().map(|kind| path(folder, kind));
    kinds.chain([folder.join(CHANGES.0), folder.join(NEAREST)]).collect()
}

fn path(folder: &Path, kind: Kind) -> PathBuf {
    folder.join(format!("{}.csv", kind.label().replace(' ', "-")))
}

impl Lists {
    /// Begins the lists in `folder`, which is made if it is not there.
    pub(crate) fn create(
        folder: &Path,
        overwrite: bool,
        enrichment: &Enrichment,
    ) -> Result<Self, Error> {
        let references = || enrichment.lookups().map(Lookup::reference);
        let headers = enrichment.headers();
        let made = Folder::create(folder)?;
        let changes = WholeFile::create(&folder.join(CHANGES.0), overwrite)?;
        let approved = approved(&folder.join(NEAREST));
        let nearest = WholeFile::create(&folder.join(NEAREST), overwrite)?;
        let spool = tempfile::tempfile().map_err(|cause| refused(folder, cause))?;
        let pairs = enrichment.lookups().map(|lookup| aliases::headers(lookup, headers));
        let (ours, theirs): (Vec<_>, Vec<_>) = pairs.unzip();
        let mut lists = Self {
            files: Vec::new(),
            changes: csv::Writer::from_writer(changes),
            unmatched: csv::WriterBuilder::new().flexible(true).from_writer(spool),
            nearest: csv::Writer::from_writer(nearest),
            pairs: (Columns::of(ours.into_iter()), Columns::of(theirs.into_iter())),
            approved,
            folder: made,
            main: headers.clone(),
            main_key: Columns::of(enrichment.lookups().map(|lookup| main_names(headers, lookup))),
            reference_key: Columns::of(enrichment.lookups().map(reference_names)),
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
        lists.record.extend(PLACE.into_iter().chain(CHANGES.1));
        lists.write_change()?;
        lists.record.push_field("reference");
        let (ours, theirs) = (lists.pairs.0.headers.clone(), lists.pairs.1.headers.clone());
        lists.record.extend(ours.iter().chain(&theirs));
        lists.record.extend(["reason", "distance", "rows", APPROVE]);
        lists.write_nearest()?;
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

    fn begin(&mut self, reference: &str, table: &str, row: u64, line: u64) {
        self.record.clear();
        self.record.push_field(reference);
        self.record.push_field(table);
        self.record.push_field(&row.to_string());
        self.record.push_field(&line.to_string());
    }

    fn begin_reference(&mut self, reference: &Reference, row: RowId) {
        let table = reference.table(row).unwrap_or(reference.headers().table());
        self.begin(reference.name(), table, reference.number(row), reference.line(row));
    }

    fn write(&mut self, kind: Kind) -> Result<(), Error> {
        let Some((_, file)) = self.files.iter_mut().find(|(other, _)| *other == kind) else {
            return Ok(());
        };
        let written = file.write_record(&self.record);
        self.record.clear();
        written.map_err(|error| refused(&path(&self.folder.path, kind), error.into()))
    }

    fn write_change(&mut self) -> Result<(), Error> {
        let written = self.changes.write_record(&self.record);
        self.record.clear();
        written.map_err(|error| refused(&self.folder.path.join(CHANGES.0), error.into()))
    }

    fn write_nearest(&mut self) -> Result<(), Error> {
        let written = self.nearest.write_record(&self.record);
        self.record.clear();
        written.map_err(|error| refused(&self.folder.path.join(NEAREST), error.into()))
    }

    /// Writes the list of unmatched rows with their reasons, and that of the nearest keys.
    pub(crate) fn reasons(
        &mut self,
        enrichment: &Enrichment,
        findings: &Findings,
        diagnoses: &[Option<Diagnosis>],
    ) -> Result<(), Error> {
        let file = path(&self.folder.path, Kind::Unmatched);
        let mut told: HashMap<(String, String), [String; 2]> = HashMap::new();
        let lookups = enrichment.lookups().zip(&findings.lookups).zip(diagnoses).enumerate();
        for (nth, ((lookup, found), diagnosis)) in lookups {
            let Some(diagnosis) = diagnosis else { continue };
            for (key, explained) in found.unmatched.keys().iter().zip(&diagnosis.explained) {
                let reason = explained.reason.of(lookup);
                let mut nearest = String::new();
                if let Some(holder) = explained.nearest {
                    let cells = lookup.reference().as_read(holder);
                    nearest = cells.join(", ");
                    self.pair(nth, lookup, (key, explained), &cells, &reason)?;
                }
                told.insert((nth.to_string(), as_one(key.parts())), [reason, nearest]);
            }
        }
        self.unmatched.flush().map_err(|cause| refused(&file, cause))?;
        let mut spool = self.unmatched.get_ref();
        spool.rewind().map_err(|cause| refused(&file, cause))?;
        let mut reader = csv::ReaderBuilder::new();
        let reader = reader
            .has_headers(false)
            .flexible(true)
            .from_reader(spool.try_clone().map_err(|cause| refused(&file, cause))?);
        for record in reader.into_records() {
            let record = record.map_err(|error| refused(&file, error.into()))?;
            // Behind its own cells stand the lookup and the key.
            let own = record.len().saturating_sub(2);
            let last = |nth: usize| record.get(own + nth).unwrap_or_default().to_owned();
            self.record.extend(record.iter().take(own));
            if let Some(told) = told.get(&(last(0), last(1))) {
                self.record.truncate(own.saturating_sub(2));
                self.record.extend(told);
            }
            self.write(Kind::Unmatched)?;
        }
        Ok(())
    }

    /// Writes an unmatched key with the one that comes nearest.
    fn pair(
        &mut self,
        nth: usize,
        lookup: &Lookup,
        (key, explained): (&UnmatchedKey, &Explained),
        nearest: &[&str],
        reason: &str,
    ) -> Result<(), Error> {
        let reference = lookup.reference().name();
        let mut pair = vec![reference];
        pair.extend(self.pairs.0.spread(nth, key.read.iter().map(String::as_str)));
        pair.extend(self.pairs.1.spread(nth, nearest.iter().copied()));
        let known: Vec<String> = pair.iter().map(|&cell| cell.to_owned()).collect();
        let approve = if self.approved.contains(&known) { "yes" } else { "" };
        self.record.extend(pair);
        let distance = explained.distance.map_or(String::new(), |distance| distance.to_string());
        self.record.extend([reason, &distance, &key.rows.to_string(), approve]);
        self.write_nearest()
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
                for &holder in &group.holders {
                    let row = reference.row(holder);
                    self.reference_row(nth, lookup, kind, row, Some(holder))?;
                    if group.collapsed {
                        self.reference_row(nth, lookup, Kind::Collapsed, row, Some(holder))?;
                    }
                }
            }
            for &row in reference.malformed() {
                self.begin_reference(reference, row);
                self.unreadable(reference.headers(), reference.unreadable(row));
                self.write(Kind::Malformed)?;
            }
            for row in found.unused(lookup) {
                let holder = reference.holder_of(row);
                self.reference_row(nth, lookup, Kind::Unused, row, holder)?;
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
        holder: Option<Holder>,
    ) -> Result<(), Error> {
        let reference = lookup.reference();
        self.begin_reference(reference, row);
        let mut cells: Vec<String> =
            reference.row_as_read(row).into_iter().map(str::to_owned).collect();
        let any = reference.looked_in().first();
        for (at, part) in reference.key().parts().iter().enumerate() {
            if part.template().as_header().is_none() || part.columns().first() == any {
                let compared = holder.and_then(|holder| reference.as_compared(holder).nth(at));
                cells.push(compared.unwrap_or_default().to_owned());
            }
        }
        cells.extend(reference.range_as_read(row));
        let column = holder.and_then(|holder| reference.column(holder));
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

    /// Lets the lists appear.
    pub(crate) fn commit(self) -> Result<(), Error> {
        let folder = &self.folder.path;
        let files = self.files.into_iter().map(|(kind, file)| (path(folder, kind), file));
        let others = [(folder.join(CHANGES.0), self.changes), (folder.join(NEAREST), self.nearest)];
        for (path, file) in files.chain(others) {
            let file = file.into_inner().map_err(|error: csv::IntoInnerError<_>| {
                refused(&path, io::Error::from(error.error().kind()))
            });
            file?.commit()?;
        }
        Ok(())
    }
}

impl Recorder for Lists {
    type Error = Error;

    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), Error> {
        let MainFinding { nth, lookup, kind, row, answer, asked_by } = *finding;
        let reference = lookup.reference();
        let table = self.main.table().to_owned();
        self.begin(reference.name(), &table, row.number(), row.line());
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
                self.record.push_field(&nth.to_string());
                let key = lookup.key().as_compared(row);
                self.record.push_field(&as_one(key.iter().map(String::as_str)));
                let written = self.unmatched.write_record(&self.record);
                self.record.clear();
                let file = path(&self.folder.path, kind);
                return written.map_err(|error| refused(&file, error.into()));
            }
            Kind::NoHeader => {
                let (header, nearest) = lookup.unknown_header(row).unwrap_or_default();
                self.record.extend([header, nearest.join("; ")]);
            }
            Kind::Ambiguous | Kind::Chosen => {
                let told = told_holders(reference, &lookup.holders(row, answer));
                self.record.push_field(&told);
            }
            _ => {}
        }
        if kind == Kind::Chosen {
            let row = match answer {
                Answer::Chosen { holder, .. } => told_holders(reference, &[holder]),
                _ => "all".to_owned(),
            };
            self.record.push_field(&row);
        }
        if let Some(earlier) = asked_by {
            self.record.push_field(&earlier.to_string());
        }
        self.write(kind)
    }

    fn changed(&mut self, change: &Change<'_>) -> Result<(), Error> {
        let Change { by, row, column, before, after } = *change;
        let (name, by) = match by {
            ChangedBy::Lookup { lookup, row, .. } => {
                let reference = lookup.reference();
                let row = row.map_or_else(
                    || "several".to_owned(),
                    |row| match reference.table(row) {
                        Some(table) => format!("{table} {}", reference.number(row)),
                        None => reference.number(row).to_string(),
                    },
                );
                (reference.name(), row)
            }
            ChangedBy::Correction(row) => ("corrections", row.to_string()),
        };
        let table = self.main.table().to_owned();
        self.begin(name, &table, row.number(), row.line());
        self.record.push_field(&self.main.address(column));
        self.record.extend([before, after, &by]);
        self.write_change()
    }
}

/// The parts of a key as one text that no other key makes.
fn as_one<'k>(parts: impl Iterator<Item = &'k str>) -> String {
    parts.fold(String::new(), |all, part| format!("{all}{}:{part}", part.len()))
}

/// The pairs that a list of nearest keys has approved; none where there is no such list.
fn approved(path: &Path) -> HashSet<Vec<String>> {
    let mut all = HashSet::new();
    let Ok(mut reader) = csv::ReaderBuilder::new().flexible(true).from_path(path) else {
        return all;
    };
    let headers = reader.headers().cloned().unwrap_or_default();
    let (Some(approve), Some(reason)) = (
        headers.iter().position(|header| header == APPROVE),
        headers.iter().position(|header| header == "reason"),
    ) else {
        return all;
    };
    for record in reader.records().flatten() {
        if record.get(approve).is_some_and(aliases::is_yes) {
            all.insert(record.iter().take(reason).map(str::to_owned).collect());
        }
    }
    all
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

/// The rows, or cells, that hold a key: `11; 110`, `3 in 250 g; 9 in 1 kg`.
fn told_holders(reference: &Reference, holders: &[Holder]) -> String {
    let told = holders.iter().map(|&holder| {
        let row = reference.row(holder);
        let number = match reference.table(row) {
            Some(table) => format!("{table} {}", reference.number(row)),
            None => reference.number(row).to_string(),
        };
        match reference.column(holder) {
            Some(column) => format!("{number} in {}", reference.headers().address(column)),
            None => number,
        }
    });
    told.collect::<Vec<_>>().join("; ")
}

fn refused(path: &Path, cause: io::Error) -> Error {
    Error::Write { name: path.display().to_string(), cause }
}

/// The sentence that says where the lists are.
pub(crate) fn told(folder: &Path) -> String {
    let count = wording::counted(LISTED.len() as u64 + 2, "list");
    format!("Wrote {count} of findings to the folder {}.", folder.display())
}
