//! The list of unmatched keys with their nearest keys, one pair a row; and the unmatched rows, which wait
//! until the reasons of their keys are known.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::Seek;
use std::path::{Path, PathBuf};

use csv::StringRecord;
use gather_keys_core::diagnosis::{Diagnosis, Explained};
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, LookupFindings, UnmatchedKey};
use gather_keys_core::lookup::Lookup;
use gather_keys_core::table::Row;
use gather_keys_formats::{Address, Error, SideFile, WholeFile};

use super::columns::Columns;
use super::{List, begin, cause, refused};
use crate::aliases::{self, APPROVE};
use crate::wording::counted;

/// The name of the list.
pub(super) const NAME: &str = "nearest.csv";

/// The reason of a key and the nearest one, by its lookup and the key.
pub(super) type Told = HashMap<(String, String), [String; 2]>;

/// The list being written, and the rows that are held back.
pub(super) struct Nearest {
    path: PathBuf,
    pub(super) list: List,
    /// The unmatched rows, each with which lookup it is of and its key after it.
    spool: csv::Writer<File>,
    /// The main keys, and the reference keys.
    pairs: (Columns, Columns),
    /// The pairs that a list of an earlier run had approved.
    approved: HashSet<Vec<String>>,
}

impl Nearest {
    /// Begins the list of a folder in its file.
    pub(super) fn begin(
        folder: &Path,
        file: WholeFile,
        enrichment: &Enrichment,
    ) -> Result<Self, Error> {
        let path = folder.join(NAME);
        let approved = approved(&path);
        let list = begin(&path, file)?;
        let spool = tempfile::tempfile().map_err(|cause| refused(folder, cause))?;
        let spool = csv::WriterBuilder::new().flexible(true).from_writer(spool);
        let headers = enrichment.headers();
        let pairs = enrichment.lookups().map(|lookup| aliases::headers(lookup, headers));
        let (ours, theirs): (Vec<_>, Vec<_>) = pairs.unzip();
        let pairs = (Columns::of(ours.into_iter()), Columns::of(theirs.into_iter()));
        let mut nearest = Self { path, list, spool, pairs, approved };
        let mut record = StringRecord::from(vec!["reference"]);
        record.extend(nearest.pairs.0.headers.iter().chain(&nearest.pairs.1.headers));
        record.extend(["reason", "distance", "rows", APPROVE]);
        nearest.list.write(&record)?;
        Ok(nearest)
    }

    /// Holds an unmatched row back until its reason is known.
    pub(super) fn hold(
        &mut self,
        record: &mut StringRecord,
        nth: usize,
        lookup: &Lookup,
        row: Row<'_>,
    ) -> Result<(), Error> {
        record.push_field(&nth.to_string());
        let key = lookup.key().as_compared(row);
        record.push_field(&as_one(key.iter().map(String::as_str)));
        let written = self.spool.write_record(&*record);
        record.clear();
        written.map_err(|error| refused(&self.path, cause(error)))
    }

    /// Writes the list, and gives the reason of each key.
    pub(super) fn write(
        &mut self,
        enrichment: &Enrichment,
        findings: &Findings,
        diagnoses: &[Option<Diagnosis>],
    ) -> Result<Told, Error> {
        let mut reported = Told::new();
        let lookups = enrichment.lookups().zip(&findings.lookups).zip(diagnoses).enumerate();
        for (nth, ((lookup, found), diagnosis)) in lookups {
            let Some(diagnosis) = diagnosis else { continue };
            for one in shared_parts(lookup, found, diagnosis) {
                let (ours, theirs) = (&one.ours[..], &one.theirs[..]);
                let pair = (ours.iter().map(String::as_str), theirs.iter().map(String::as_str));
                self.pair(nth, lookup, pair, [&one.reason, &one.distance, &one.rows.to_string()])?;
            }
            for (key, explained) in found.unmatched.keys().iter().zip(&diagnosis.explained) {
                let reason = explained.reason.of(lookup);
                let mut nearest = String::new();
                if let Some(entry) = explained.nearest {
                    let cells = lookup.reference().as_read(entry);
                    nearest = cells.join(", ");
                    let distance = explained.distance.map(|distance| distance.to_string());
                    let pair = (key.read(), cells.iter().copied());
                    let facts = [&reason[..], &distance.unwrap_or_default(), &key.rows.to_string()];
                    self.pair(nth, lookup, pair, facts)?;
                }
                reported.insert((nth.to_string(), as_one(key.parts())), [reason, nearest]);
            }
        }
        Ok(reported)
    }

    /// Hands the rows that were held back on, with their reasons.
    pub(super) fn release(
        &mut self,
        reported: &Told,
        mut take: impl FnMut(&StringRecord) -> Result<(), Error>,
    ) -> Result<(), Error> {
        let file = self.path.clone();
        self.spool.flush().map_err(|cause| refused(&file, cause))?;
        let mut spool = self.spool.get_ref();
        spool.rewind().map_err(|cause| refused(&file, cause))?;
        let mut reader = csv::ReaderBuilder::new();
        let reader = reader
            .has_headers(false)
            .flexible(true)
            .from_reader(spool.try_clone().map_err(|cause| refused(&file, cause))?);
        for record in reader.into_records() {
            let record = record.map_err(|error| refused(&file, cause(error)))?;
            // Its own cells are followed by the lookup and the key.
            let own = record.len().saturating_sub(2);
            let last = |nth: usize| record.get(own + nth).unwrap_or_default().to_owned();
            let mut whole: StringRecord = record.iter().take(own).collect();
            if let Some(reported) = reported.get(&(last(0), last(1))) {
                whole.truncate(own.saturating_sub(2));
                whole.extend(reported);
            }
            take(&whole)?;
        }
        Ok(())
    }

    /// Writes an unmatched key, or a part of it, with what comes nearest to it: `facts` are the reason, the distance and
    /// the number of rows.
    fn pair<'p>(
        &mut self,
        nth: usize,
        lookup: &'p Lookup,
        (ours, theirs): (impl Iterator<Item = &'p str>, impl Iterator<Item = &'p str>),
        facts: [&str; 3],
    ) -> Result<(), Error> {
        let reference = lookup.reference().name();
        let mut pair = vec![reference];
        pair.extend(self.pairs.0.spread(nth, ours));
        pair.extend(self.pairs.1.spread(nth, theirs));
        let known: Vec<String> = pair.iter().map(|&cell| cell.to_owned()).collect();
        let approve = if self.approved.contains(&known) { "yes" } else { "" };
        let mut record: StringRecord = pair.into_iter().collect();
        record.extend(facts);
        record.push_field(approve);
        self.list.write(&record)
    }
}

/// A value of one part that several unmatched keys have, and that comes near to the same value in all of them.
struct SharedPart {
    /// The cells of the main key and of the reference's; blank ones for other parts.
    ours: Vec<String>,
    theirs: Vec<String>,
    reason: String,
    distance: String,
    rows: u64,
}

/// Keys that share a value: the first of them and what is known of it, how many they are, and of how many rows.
type Sharing<'k> = (&'k UnmatchedKey, &'k Explained, u64, u64);

/// A value of a part: the number of the part, and the value as it is compared.
type OfPart<'k> = (usize, &'k str);

/// The values of single parts that are in the way of several keys. A value for which the keys come near to
/// different values is none.
fn shared_parts(lookup: &Lookup, found: &LookupFindings, diagnosis: &Diagnosis) -> Vec<SharedPart> {
    let reference = lookup.reference();
    let parts = aliases::parts(lookup);
    if parts.len() < 2 {
        return Vec::new();
    }
    // For each value its keys; none where they come near to different values.
    let mut shared: Vec<(OfPart<'_>, Option<Sharing<'_>>)> = Vec::new();
    let mut places: HashMap<OfPart<'_>, usize> = HashMap::new();
    for (key, explained) in found.unmatched.keys().iter().zip(&diagnosis.explained) {
        let Some(entry) = explained.nearest else { continue };
        let near = key.parts().zip(reference.as_compared(entry));
        let mut differing = near.enumerate().filter(|(_, (ours, theirs))| ours != theirs);
        let (Some((part, (value, near))), None) = (differing.next(), differing.next()) else {
            continue;
        };
        match places.get(&(part, value)) {
            None => {
                places.insert((part, value), shared.len());
                shared.push(((part, value), Some((key, explained, 1, key.rows))));
            }
            Some(&at) => {
                let known = &mut shared[at].1;
                *known = known.take().and_then(|(first, other, keys, rows)| {
                    let held = reference.as_compared(other.nearest?).nth(part)?;
                    (held == near).then_some((first, other, keys + 1, rows + key.rows))
                });
            }
        }
    }
    let several = shared.into_iter().filter_map(|((part, _), one)| {
        let (key, explained, keys, rows) = one.filter(|(_, _, keys, _)| *keys > 1)?;
        let only = |cells: Vec<&str>, places: &[usize]| -> Vec<String> {
            let cell =
                |(at, cell): (usize, &str)| if places.contains(&at) { cell } else { "" }.to_owned();
            cells.into_iter().enumerate().map(cell).collect()
        };
        let nearest = reference.as_read(explained.nearest?);
        Some(SharedPart {
            ours: only(key.read().collect(), &parts[part].ours),
            theirs: only(nearest, &parts[part].theirs),
            reason: format!("{} in {}", lookup.part_names()[part], counted(keys, "key")),
            distance: explained.distance.map_or(String::new(), |distance| distance.to_string()),
            rows,
        })
    });
    let mut several: Vec<SharedPart> = several.collect();
    several.sort_by_key(|one| std::cmp::Reverse(one.rows));
    several
}

/// The parts of a key as one text that no other key makes.
fn as_one<'k>(parts: impl Iterator<Item = &'k str>) -> String {
    parts.fold(String::new(), |all, part| format!("{all}{}:{part}", part.len()))
}

/// The pairs that a list of nearest keys has approved, in whatever form a spreadsheet has saved it; none where there is
/// no such list.
fn approved(path: &Path) -> HashSet<Vec<String>> {
    let mut all = HashSet::new();
    let Ok(table) = SideFile::read(&Address::File(path.to_owned())) else { return all };
    let place = |name: &str| table.headers().iter().position(|header| header == name);
    let (Some(approve), Some(reason)) = (place(APPROVE), place("reason")) else { return all };
    for row in table.rows().filter(|row| aliases::is_yes(row.cell(approve))) {
        all.insert((0..reason).map(|column| row.cell(column).to_owned()).collect());
    }
    all
}
