//! From the names in a plan to the columns of the tables at hand.

use crate::Result;
use crate::key::Key;
use crate::plan::{ReferencePlan, Take};
use crate::table::Headers;
use crate::table::without_clash;

/// A reference's plan with its columns found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resolved {
    /// The key of the main table.
    pub main_key: Key,
    /// The key of the reference, part by part beside the main table's.
    pub reference_key: Key,
    /// The reference's columns to take, from 0.
    pub taken: Vec<usize>,
    /// What each of them is to be called.
    pub names: Vec<String>,
    /// What the person should know about how the names were read.
    pub notes: Vec<Note>,
}

/// Something that was done a little differently than asked, and is said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Note {
    /// A header was found by ignoring case and surplus space.
    LooseHeader {
        /// The table.
        table: String,
        /// The name that was asked for.
        asked: String,
        /// The header that was taken.
        found: String,
    },
    /// An added column got another name, since the wanted one was there already.
    Renamed {
        /// The wanted name.
        wanted: String,
        /// The name it got.
        given: String,
    },
}

/// Finds the columns that a plan names.
///
/// # Errors
/// When a table has no such header, or several.
pub fn resolve(plan: &ReferencePlan, main: &Headers, reference: &Headers) -> Result<Resolved> {
    let mut notes = Vec::new();
    let mut find = |headers: &Headers, name: &str| -> Result<usize> {
        let found = headers.find(name)?;
        let note = Note::LooseHeader {
            table: headers.table().to_owned(),
            asked: name.to_owned(),
            found: headers.name(found.column).to_owned(),
        };
        if !found.exact && !notes.contains(&note) {
            notes.push(note);
        }
        Ok(found.column)
    };
    let mut columns = (Vec::new(), Vec::new());
    for part in &plan.on {
        columns.0.push(find(main, &part.main)?);
        columns.1.push(find(reference, &part.reference)?);
    }
    let mut taken = Vec::new();
    let mut names = Vec::new();
    if let Some(take) = &plan.take {
        for Take { header, rename } in take {
            let column = find(reference, header)?;
            taken.push(column);
            names.push(rename.as_deref().unwrap_or(reference.name(column)).to_owned());
        }
    } else {
        taken = (0..reference.len()).filter(|column| !columns.1.contains(column)).collect();
        names = taken.iter().map(|&column| reference.name(column).to_owned()).collect();
    }
    let (main_key, reference_key) = (Key::new(columns.0), Key::new(columns.1));
    Ok(Resolved { main_key, reference_key, taken, names, notes })
}

/// The headers of all added columns, none of them like a header that stands before it, with a note
/// for each that had to be renamed. Each reference is given by its name and its columns' names.
pub fn added_names<'a>(
    main: &Headers,
    references: impl IntoIterator<Item = (&'a str, &'a [String])>,
) -> (Vec<String>, Vec<Note>) {
    let mut all: Vec<String> = main.iter().map(str::to_owned).collect();
    let mut notes = Vec::new();
    for (reference, wanted) in references {
        let given = without_clash(&all, wanted, reference);
        for (wanted, given) in wanted.iter().zip(&given).filter(|(wanted, given)| wanted != given) {
            notes.push(Note::Renamed { wanted: wanted.clone(), given: given.clone() });
        }
        all.extend(given);
    }
    (all.split_off(main.len()), notes)
}
