//! Where a missing table may be now: files near its place, with the content or the headers that the
//! receipt has of it.

use std::fs;
use std::path::{Path, PathBuf};

use gather_keys_core::receipt::{Input, Receipt};
use gather_keys_core::table::Source;
use gather_keys_formats::{Address, Described, Sum, Table, Untapped};

use crate::error::Error;
use crate::receipts;

/// How many files are looked at.
const MOST_FILES: usize = 2000;

/// How many are offered.
const MOST_OFFERED: usize = 3;

/// A file that may be the one that is gone.
#[derive(Debug)]
pub(crate) struct Nearby {
    pub(crate) path: PathBuf,
    /// Whether its content is the same, byte by byte; if not, it has the same headers.
    pub(crate) is_same: bool,
}

/// An error about a table that is not there, with what the receipt at a path knows of it.
pub(crate) fn lost(error: Error, reported: Option<(&Receipt, &Path)>) -> Error {
    let Error::Table(gather_keys_formats::Error::Missing { name, .. }) = &error else {
        return error;
    };
    let Some((before, receipt)) = reported else { return error };
    let whole = |path: &Path| std::path::absolute(path).ok();
    let reported = before.inputs.iter().find(|input| {
        from_root(&receipts::path_of(&input.file, receipt)) == whole(Path::new(name))
    });
    match reported {
        Some(reported) => Error::Lost {
            name: name.clone(),
            nearby: look(Path::new(name), reported),
            reported: Box::new(reported.clone()),
        },
        None => error,
    }
}

/// A path from the root on, without steps up and down again, whether or not there is something.
fn from_root(path: &Path) -> Option<PathBuf> {
    let mut plain = PathBuf::new();
    for part in std::path::absolute(path).ok()?.components() {
        match part {
            std::path::Component::ParentDir => {
                plain.pop();
            }
            other => plain.push(other),
        }
    }
    Some(plain)
}

/// Looks for a table in the folder where it was, in those below it and in the one above.
fn look(missing: &Path, reported: &Input) -> Vec<Nearby> {
    let folder = match missing.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder.to_owned(),
        _ => PathBuf::from("."),
    };
    let mut folders = vec![folder.clone()];
    folders.extend(entries(&folder).filter(|path| path.is_dir()));
    folders.extend([folder.join("..")].into_iter().filter(|above| above.is_dir()));
    let files = folders.iter().flat_map(|folder| entries(folder)).filter(|path| path.is_file());
    let ending = missing.extension();
    let files: Vec<PathBuf> =
        files.filter(|path| path.extension() == ending).take(MOST_FILES).collect();
    let found = |is_same: bool| move |path: &PathBuf| Nearby { path: plain(path), is_same };
    let mut nearby: Vec<Nearby> =
        files.iter().filter(|path| has_content(path, reported)).map(found(true)).collect();
    if nearby.is_empty() {
        nearby =
            files.iter().filter(|path| has_headers(path, reported)).map(found(false)).collect();
    }
    nearby.truncate(MOST_OFFERED);
    nearby
}

fn entries(folder: &Path) -> impl Iterator<Item = PathBuf> + use<> {
    let mut paths: Vec<PathBuf> = fs::read_dir(folder)
        .map(|entries| entries.flatten().map(|entry| entry.path()).collect())
        .unwrap_or_default();
    paths.sort();
    paths.into_iter()
}

fn has_content(path: &Path, reported: &Input) -> bool {
    path.metadata().is_ok_and(|facts| facts.len() == reported.file.bytes)
        && Sum::of_file(path).is_ok_and(|sum| sum.size_and_digest().1 == reported.file.digest)
}

fn has_headers(path: &Path, reported: &Input) -> bool {
    let address = Address::File(path.to_owned());
    let table = Table::open(&address, &Described::default(), &Untapped);
    table.is_ok_and(|(table, _)| table.headers().iter().eq(reported.headers.iter()))
}

/// A path without a needless `./` before it.
fn plain(path: &Path) -> PathBuf {
    path.strip_prefix(".").unwrap_or(path).to_owned()
}
