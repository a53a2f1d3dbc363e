//! The lists of a tested key: every row that shares its key, and every row without one.

use std::path::{Path, PathBuf};

use gather_keys_core::lookup::{Reference, RowId};
use gather_keys_formats::commit::Finished;
use gather_keys_formats::{SideForm, SideWriter, WholeFile};

use crate::error::Result;
use crate::targets::Ready;

/// The lists, each for a kind of trouble.
const NAMES: [&str; 3] = ["repeated.csv", "blank-key.csv", "malformed.csv"];

/// The first columns of every list.
const PLACE: [&str; 2] = ["row", "line"];

/// The files of the lists, which nobody sees yet.
pub(super) struct Files {
    folder: PathBuf,
    files: Vec<(PathBuf, WholeFile)>,
}

impl Files {
    /// Begins a file for each list in a folder.
    pub(super) fn create(folder: &Path, overwrite: bool) -> Result<Self> {
        let mut files = Vec::new();
        for name in NAMES {
            let path = folder.join(name);
            let file = WholeFile::create_with_folder(&path, overwrite)?;
            files.push((path, file));
        }
        Ok(Self { folder: folder.to_owned(), files })
    }

    /// Writes the lists, which appear together. Gives the sentence that says where they are.
    pub(super) fn write(self, census: &Reference) -> Result<String> {
        let headers = census.headers();
        let columns: Vec<String> =
            census.key_columns().iter().map(|&column| headers.address(column)).collect();
        let mut ready = Ready::default();
        for (nth, (path, file)) in self.files.into_iter().enumerate() {
            let name = path.display().to_string();
            let mut list = SideWriter::new(name, file, SideForm::of_path(&path))?;
            let mut record = csv::StringRecord::new();
            let last: &[&str] = match nth {
                0 => &["rows with this key"],
                1 => &[],
                _ => &["column", "step", "value"],
            };
            let key = columns.iter().map(String::as_str);
            record.extend(PLACE.into_iter().chain(key).chain(last.iter().copied()));
            list.write(&record)?;
            let mut write = |row: RowId, more: &[String]| {
                record.clear();
                record.push_field(&census.number(row).to_string());
                record.push_field(&census.line(row).to_string());
                record.extend(census.row_as_read(row));
                record.extend(more);
                list.write(&record)
            };
            match nth {
                0 => {
                    for group in census.groups() {
                        let count = [group.rows.len().to_string()];
                        group.rows.iter().try_for_each(|&row| write(row, &count))?;
                    }
                }
                1 => census.keyless().iter().try_for_each(|&row| write(row, &[]))?,
                _ => {
                    for &row in census.malformed() {
                        let bad = census.unreadable(row);
                        let bad = bad.map(|bad| [headers.address(bad.column), bad.step, bad.value]);
                        write(row, &bad.unwrap_or_default())?;
                    }
                }
            }
            let finished: Finished = list.finish()?.finish()?;
            ready.listed.push((path, finished));
        }
        ready.commit()?;
        Ok(format!("Wrote {} lists to the folder {}.", NAMES.len(), self.folder.display()))
    }
}
