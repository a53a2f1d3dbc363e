//! Whether somebody has a workbook open in a spreadsheet program, by the file that such a program makes next to it.

use std::fs::{self, File};
use std::io::Read;
use std::path::Path;

use super::Refusal;
use crate::{Error, Result};

/// How many bytes of such a file are read.
const READ: u64 = 1024;

/// Finds the owner's name in such a file.
type Owner = fn(&[u8]) -> Option<String>;

/// Refuses a workbook that somebody has open in a spreadsheet program.
///
/// # Errors
/// [`Error::NotInto`] with [`Refusal::Open`] when a file next to it says so.
pub fn refuse_open(path: &Path) -> Result<()> {
    let real = crate::real_path(path);
    let Some(name) = real.file_name().and_then(|name| name.to_str()) else { return Ok(()) };
    // Names of the program's owner: with their length before them, or between commas.
    let files: [(String, Owner); 2] =
        [(format!("~${name}"), counted), (format!(".~lock.{name}#"), between_commas)];
    for (lock, owner) in files {
        let place = real.with_file_name(&lock);
        if fs::symlink_metadata(&place).is_err() {
            continue;
        }
        let mut text = Vec::new();
        // One that can't be read is there all the same.
        let read = File::open(&place).and_then(|file| file.take(READ).read_to_end(&mut text));
        let by = read.ok().and_then(|_| owner(&text)).filter(|by| !by.is_empty());
        let why = Refusal::Open { by, lock };
        return Err(Error::NotInto { name: path.display().to_string(), why });
    }
    Ok(())
}

fn counted(text: &[u8]) -> Option<String> {
    let (length, rest) = text.split_first()?;
    let name = rest.get(..usize::from(*length))?;
    let name: String = name.iter().map(|&byte| char::from(byte)).collect();
    Some(name.trim().to_owned())
}

fn between_commas(text: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(text);
    let mut fields = text.split(',').map(str::trim);
    let (full, user, host) = (fields.next()?, fields.next()?, fields.next()?);
    let name = if full.is_empty() { user } else { full };
    Some(if host.is_empty() { name.to_owned() } else { format!("{name} (on {host})") })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_owner_of_a_workbook_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let book = folder.path().join("co-op.xlsx");
        fs::write(&book, "").unwrap();
        assert!(refuse_open(&book).is_ok());
        for (lock, text, want) in [
            ("~$co-op.xlsx", &b"\x0fEdda Larkhollow      "[..], Some("Edda Larkhollow")),
            ("~$co-op.xlsx", b"", None),
            (
                ".~lock.co-op.xlsx#",
                b",edda,barn,30.11.2026 10:00,file:///x;",
                Some("edda (on barn)"),
            ),
            (".~lock.co-op.xlsx#", b"Edda Larkhollow,edda,,", Some("Edda Larkhollow")),
        ] {
            let place = folder.path().join(lock);
            fs::write(&place, text).unwrap();
            let Err(Error::NotInto { why: Refusal::Open { by, lock: named }, .. }) =
                refuse_open(&book)
            else {
                panic!("{lock} is no lock");
            };
            assert_eq!((by.as_deref(), &named[..]), (want, lock));
            fs::remove_file(place).unwrap();
        }
    }
}
