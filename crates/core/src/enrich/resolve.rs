//! From the names in a plan to the columns of the tables at hand.

use crate::Result;
use crate::key::Key;
use crate::plan::{OnPart, ReferencePlan, Take};
use crate::table::{Headers, without_clash};
use crate::template::Template;

/// A reference's plan with its columns found.
#[derive(Debug, Clone)]
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

/// A table as a plan meets it.
#[derive(Debug, Clone, Copy)]
pub struct Side<'a> {
    /// Its headers.
    pub headers: &'a Headers,
    /// The texts that count as blank in its keys.
    pub blanks: &'a [String],
}

/// Finds the columns that a plan names.
///
/// # Errors
/// When a table has no such header, or several.
pub fn resolve(plan: &ReferencePlan, main: Side<'_>, reference: Side<'_>) -> Result<Resolved> {
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
    let mut parts = (Vec::new(), Vec::new());
    for OnPart { main: ours, reference: theirs } in &plan.on {
        let mut bind = |template: &Template, side: Side<'_>| {
            template.clone().cleaned(&plan.clean).bind_with(|name| find(side.headers, name))
        };
        parts.0.push(bind(ours, main)?);
        parts.1.push(bind(theirs, reference)?);
    }
    let main_key = Key::new(parts.0, main.blanks.to_vec());
    let reference_key = Key::new(parts.1, reference.blanks.to_vec());
    let reference = reference.headers;
    let mut taken = Vec::new();
    let mut names = Vec::new();
    if let Some(take) = &plan.take {
        for Take { header, rename } in take {
            let column = find(reference, header)?;
            taken.push(column);
            names.push(rename.as_deref().unwrap_or(reference.name(column)).to_owned());
        }
    } else {
        taken = (0..reference.len())
            .filter(|column| !reference_key.columns().contains(column))
            .collect();
        names = taken.iter().map(|&column| reference.name(column).to_owned()).collect();
    }
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
