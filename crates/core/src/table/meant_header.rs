//! What a person may have meant by a header that a table does not have: several headers in one, a column's letter or
//! number, or the header of a table that was cut at the wrong delimiter.

use std::fmt;

use super::Headers;

/// What may have been meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum MeantHeader {
    /// Several headers, with this text between them, which is none that separates headers.
    Several(Vec<String>, String),
    /// A column by its place, and its header.
    Place(String),
    /// A header with another name after `=`, for which there is another word: the header, and the name.
    Renamed(String, String),
    /// A header within another one, from which this delimiter separates it.
    Within(String, char),
}

/// The characters that separate cells in other files.
const DELIMITERS: [char; 4] = [';', '\t', '|', ','];

/// What may have been meant by a header that is not among `all`.
pub(crate) fn meant_header(asked: &str, all: &[String]) -> Option<MeantHeader> {
    let find = |name: &str| {
        let loose = Headers::loosened(name);
        all.iter().find(|header| Headers::loosened(header) == loose && !loose.is_empty())
    };
    // A table that was cut at the wrong delimiter has the right one in most headers.
    let is_wrong = |sign: char| {
        let holders = all.iter().filter(|header| header.contains(sign)).count();
        holders * 2 >= all.len()
    };
    for header in all {
        let mut delimiters =
            DELIMITERS.into_iter().filter(|sign| is_wrong(*sign) && header.contains(*sign));
        let holds = |sign: &char| {
            header.split(*sign).any(|piece| Headers::loosened(piece) == Headers::loosened(asked))
        };
        if let Some(delimiter) = delimiters.find(holds) {
            return Some(MeantHeader::Within(header.clone(), delimiter));
        }
    }
    if let Some(column) = place(asked).filter(|column| *column < all.len()) {
        return Some(MeantHeader::Place(all[column].clone()));
    }
    if let Some((header, name)) = asked.split_once('=')
        && let Some(header) = find(header)
    {
        return Some(MeantHeader::Renamed(header.clone(), name.trim().to_owned()));
    }
    // Those that are the least likely to be in a header first.
    let is_listed = asked.contains(';') && all.iter().all(|header| !header.contains(';'));
    if is_listed {
        let pieces = asked.split(';').map(|piece| piece.trim().to_owned());
        let pieces = pieces.filter(|piece| !piece.is_empty()).collect::<Vec<_>>();
        return (pieces.len() > 1).then(|| MeantHeader::Several(pieces, ";".to_owned()));
    }
    for between in ["&", "+", "/", "|", "-", "_", " "] {
        let pieces: Vec<&str> = asked.split(between).map(str::trim).collect();
        if pieces.len() > 1 {
            let found: Option<Vec<String>> =
                pieces.iter().map(|piece| find(piece).cloned()).collect();
            if let Some(found) = found {
                return Some(MeantHeader::Several(found, between.to_owned()));
            }
        }
    }
    None
}

/// The column, from 0, that a person counted: `3`, `C` or `C2`.
fn place(asked: &str) -> Option<usize> {
    let asked = asked.trim();
    if let Ok(number) = asked.parse::<usize>() {
        return number.checked_sub(1);
    }
    let letters = asked.trim_end_matches(|sign: char| sign.is_ascii_digit());
    let is_place = (1..=2).contains(&letters.len())
        && letters.bytes().all(|letter| letter.is_ascii_uppercase());
    let count = |all: usize, letter: u8| all * 26 + usize::from(letter - b'A') + 1;
    is_place.then(|| letters.bytes().fold(0, count) - 1)
}

impl fmt::Display for MeantHeader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Several(headers, between) => {
                let list = headers.join(", ");
                let made: Vec<String> =
                    headers.iter().map(|header| format!("{{{header}}}")).collect();
                match &between[..] {
                    " " | ";" => write!(f, "several are separated by commas: `{list}`"),
                    _ => write!(
                        f,
                        "several are separated by commas, `{list}`; for one text made of them write `{}`",
                        made.join(between)
                    ),
                }
            }
            Self::Renamed(header, name) => {
                write!(f, "another name follows `as`: `{header} as {name}`")
            }
            Self::Place(header) => {
                write!(f, "columns are named by their headers, and this one is `{header}`")
            }
            Self::Within(header, delimiter) => {
                let sign =
                    if *delimiter == '\t' { "a tab".to_owned() } else { format!("`{delimiter}`") };
                write!(f, "it is in the header `{header}`: is {sign} the delimiter of the table?")
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_meant_is_found() {
        let all = |names: &[&str]| names.iter().map(|&name| name.to_owned()).collect::<Vec<_>>();
        let hives = all(&["Site code", "Tag", "Keeper"]);
        for (asked, want) in [
            ("Keeper; tag; Line", "several are separated by commas: `Keeper, tag, Line`"),
            ("Keeper Tag", "several are separated by commas: `Keeper, Tag`"),
            (
                "Site code/Tag",
                "several are separated by commas, `Site code, Tag`; for one text made of them write `{Site code}/{Tag}`",
            ),
            ("3", "columns are named by their headers, and this one is `Keeper`"),
            ("B", "columns are named by their headers, and this one is `Tag`"),
            ("C2", "columns are named by their headers, and this one is `Keeper`"),
        ] {
            let meant = meant_header(asked, &hives).map(|meant| meant.to_string());
            assert_eq!(meant.as_deref(), Some(want), "{asked}");
        }
        let meant = meant_header("Keeper = Name", &hives).map(|meant| meant.to_string());
        assert_eq!(meant.as_deref(), Some("another name follows `as`: `Keeper as Name`"));
        for asked in ["Keeper Phone", "0", "4", "D", "Hive", "", " ", ";"] {
            assert_eq!(meant_header(asked, &hives), None, "{asked}");
        }
        // One header with a delimiter in it does not mean that.
        assert_eq!(meant_header("North", &all(&["Batch", "Fell, North", "Hive"])), None);
        let cut = all(&["Batch;Apiary", "Note\tHive"]);
        let meant = meant_header("apiary", &cut).map(|meant| meant.to_string());
        let want = "it is in the header `Batch;Apiary`: is `;` the delimiter of the table?";
        assert_eq!(meant.as_deref(), Some(want));
        assert!(matches!(meant_header("Hive", &cut), Some(MeantHeader::Within(_, '\t'))));
    }
}
