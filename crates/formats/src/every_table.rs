//! Every table that a text means, each by itself: those of a folder, of a pattern, of a workbook or of a database.

use std::ffi::{OsStr, OsString};
use std::path::Path;

use crate::address::{Address, Opened, extension, quoted};
use crate::postgresql;
use crate::workbook::worksheets;
use crate::{Error, Format, Result, sqlite};

/// The extensions of delimited text that are looked for in a folder.
const TEXTS: [&str; 4] = ["csv", "tsv", "tab", "txt"];

impl Address {
    /// The addresses of every table that a person means by a text, as they would write them, in order: the tables in the
    /// files of a folder, the files that match a pattern, the worksheets of a workbook, or the tables of a database. A
    /// table that is meant by itself is given as it is.
    ///
    /// Hidden files of a folder and the folders in it are left out, and so are files with an extension that no table has.
    ///
    /// ```
    /// use gather_keys_formats::Address;
    ///
    /// assert_eq!(Address::every("hives.csv".as_ref()).unwrap(), ["hives.csv"]);
    /// ```
    ///
    /// # Errors
    /// When the folder, the workbook or the database can't be read, or nothing is like the pattern. What is in a folder or
    /// matches a pattern and can't be read is given as it is.
    pub fn every(text: &OsStr) -> Result<Vec<OsString>> {
        let path = Path::new(text);
        if Self::is_path(text) && path.is_dir() {
            let files = files(path)?;
            return Ok(files.into_iter().flat_map(|file| parts_or_itself(&file)).collect());
        }
        if !Self::is_glob(text) || path.exists() {
            return parts(text);
        }
        // A pattern of the tables of one database is not one of files.
        if let Self::Part(path, pattern) = Self::new(text)
            && path.is_file()
            && Self::File(path.clone()).is_database()
        {
            return matching(&path, &pattern);
        }
        let all = Self::all(text)?.into_iter().map(|address| match address {
            Self::File(path) => path.into_os_string(),
            other => other.to_string().into(),
        });
        Ok(all.flat_map(|file| parts_or_itself(&file)).collect())
    }
}

/// The tables of a database in a file whose names are like a pattern.
fn matching(path: &Path, pattern: &str) -> Result<Vec<OsString>> {
    let like = glob::Pattern::new(pattern).map_err(|error| Error::BadGlob {
        pattern: pattern.to_owned(),
        at: error.pos,
        fault: error.msg,
    })?;
    let all = sqlite::tables(&path.display().to_string(), path)?;
    let alike: Vec<OsString> = all
        .iter()
        .filter(|name| like.matches(name))
        .map(|name| part(path.as_os_str(), name))
        .collect();
    if alike.is_empty() {
        let (name, asked) = (path.display().to_string(), pattern.to_owned());
        return Err(Error::NoPart { name, what: "table", asked, all });
    }
    Ok(alike)
}

/// The files of a folder that may be tables, in the order of their names.
fn files(folder: &Path) -> Result<Vec<OsString>> {
    let unread = |cause| Error::Read { name: folder.display().to_string(), cause };
    let mut files = Vec::new();
    for entry in folder.read_dir().map_err(unread)? {
        let path = entry.map_err(unread)?.path();
        let path = path.strip_prefix(".").map(Path::to_owned).unwrap_or(path);
        let is_hidden =
            path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(['.', '~']));
        let extension = extension(&path).unwrap_or_default();
        let may_be =
            TEXTS.contains(&&extension[..]) || Format::of_extension(&extension) != Format::Text;
        if may_be && !is_hidden && path.is_file() {
            files.push(path.into_os_string());
        }
    }
    files.sort();
    Ok(files)
}

fn parts_or_itself(text: &OsStr) -> Vec<OsString> {
    parts(text).unwrap_or_else(|_| vec![text.to_owned()])
}

/// The parts of a file or a database, where it has several and the text names none.
fn parts(text: &OsStr) -> Result<Vec<OsString>> {
    let address = Address::new(text);
    let names = match &address {
        Address::File(path) => match address.format() {
            Format::Workbook => match address.open_file()? {
                Opened::File(file) => worksheets(&address.to_string(), &file)?
                    .iter()
                    .map(|name| quoted(name))
                    .collect(),
                Opened::Stream(_) => Vec::new(),
            },
            Format::Database => sqlite::tables(&address.to_string(), path)?,
            _ => Vec::new(),
        },
        Address::Server(server) if server.table().is_none() => postgresql::tables(server)?,
        _ => Vec::new(),
    };
    // A server is no table itself, however few it has.
    let is_server = matches!(&address, Address::Server(server) if server.table().is_none());
    if names.len() < 2 && !is_server {
        return Ok(vec![text.to_owned()]);
    }
    Ok(names.iter().map(|name| part(text, name)).collect())
}

/// The text that means a part.
fn part(whole: &OsStr, name: &str) -> OsString {
    let mut text = whole.to_owned();
    if !whole.as_encoded_bytes().ends_with(b"#") {
        text.push("#");
    }
    text.push(name);
    text
}
