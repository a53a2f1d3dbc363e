//! The names that a file is kept under when another takes its place.

use std::path::{Path, PathBuf};

/// The names that a copy may have, in order: `NAME.backup-STAMP.ENDING`, and with a number where there is one
/// already.
pub(crate) fn names(path: &Path, stamp: &str) -> impl Iterator<Item = PathBuf> {
    let part = |part: Option<&std::ffi::OsStr>| part.unwrap_or_default().to_owned();
    let (stem, ending) = (part(path.file_stem()), part(path.extension()));
    let (path, stamp) = (path.to_owned(), stamp.to_owned());
    (1..1000).map(move |number| {
        let number = if number == 1 { String::new() } else { format!("-{number}") };
        let mut name = stem.clone();
        name.push(format!(".backup-{stamp}{number}"));
        if !ending.is_empty() {
            name.push(".");
            name.push(&ending);
        }
        path.with_file_name(name)
    })
}
