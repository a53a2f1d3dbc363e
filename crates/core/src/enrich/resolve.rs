//! From the names in a plan to the columns of the tables at hand.

use super::{AddedCell, Taking, Unmatched};
use crate::key::Key;
use crate::lookup::Rule;
use crate::plan::{OnPart, ReferencePlan, Take, WhenDuplicate, WhenUnmatched};
use crate::table::{Headers, without_clash};
use crate::template::{Bound, Template};
use crate::{Error, Result};

/// A reference's plan with its columns found.
#[derive(Debug, Clone)]
pub struct Resolved {
    /// The key of the main table.
    pub main_key: Key,
    /// The key of the reference, part by part beside the main table's.
    pub reference_key: Key,
    /// What to do with keys whose rows disagree.
    pub rule: Rule,
    /// What rows are put in order by, where the rule asks for it.
    pub rank: Option<Bound>,
    /// The reference's columns to take, from 0.
    pub taken: Vec<usize>,
    /// The cells that are added, made from these columns and from marks.
    pub taking: Taking,
    /// What each of the added columns is to be called.
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
    let (rule, rank) = match &plan.when_duplicate {
        WhenDuplicate::Report | WhenDuplicate::Stop => (Rule::Report, None),
        WhenDuplicate::First => (Rule::First, None),
        WhenDuplicate::Last => (Rule::Last, None),
        WhenDuplicate::Highest(rank) => (Rule::Highest, Some(rank)),
        WhenDuplicate::Lowest(rank) => (Rule::Lowest, Some(rank)),
        WhenDuplicate::Every => (Rule::Every, None),
        WhenDuplicate::List => (Rule::List, None),
    };
    let rank = rank.map(|rank| rank.bind_with(|name| find(reference.headers, name))).transpose()?;
    let reference = reference.headers;
    let key_columns = reference_key.columns();
    let Columns { taken, cells, names } = match &plan.take {
        Some(take) => columns(take, plan, reference, key_columns, &mut find)?,
        None => columns(&[Take::All], plan, reference, key_columns, &mut find)?,
    };
    let unmatched = match &plan.when_unmatched {
        WhenUnmatched::Blank | WhenUnmatched::Stop => Unmatched::Blank,
        WhenUnmatched::Drop => Unmatched::Drop,
        WhenUnmatched::Only => Unmatched::Only,
        WhenUnmatched::Fill(text) => Unmatched::Fill(text.clone()),
    };
    let taking = Taking { cells, unmatched };
    Ok(Resolved { main_key, reference_key, rule, rank, taken, taking, names, notes })
}

/// What is added: the columns that are kept of the reference, the cells made from them and their
/// names.
#[derive(Default)]
struct Columns {
    taken: Vec<usize>,
    cells: Vec<AddedCell>,
    names: Vec<String>,
}

impl Columns {
    fn take(&mut self, column: usize, name: String) {
        self.cells.push(AddedCell::Taken(self.taken.len()));
        self.taken.push(column);
        self.names.push(name);
    }
}

fn columns(
    take: &[Take],
    plan: &ReferencePlan,
    reference: &Headers,
    key: &[usize],
    find: &mut impl FnMut(&Headers, &str) -> Result<usize>,
) -> Result<Columns> {
    let mut left = Vec::new();
    for leave in &plan.leave {
        match leave {
            Take::Like(pattern) => left.extend(like(reference, pattern)?),
            Take::Column { header, .. } => left.push(find(reference, header)?),
            Take::Run { .. } | Take::All | Take::Mark { .. } => {}
        }
    }
    // What is named by itself is not brought again by a run or likeness.
    for one in take {
        if let Take::Column { header, .. } = one {
            left.push(find(reference, header)?);
        }
    }
    let mut all = Columns::default();
    for one in take {
        let brought: Vec<usize> = match one {
            Take::Column { header, rename } => {
                let column = find(reference, header)?;
                all.take(column, rename.as_deref().unwrap_or(reference.name(column)).to_owned());
                continue;
            }
            Take::Mark { mark, rename } => {
                let name = || format!("{} {}", plan.name, mark.name());
                all.cells.push(AddedCell::Mark(*mark));
                all.names.push(rename.clone().unwrap_or_else(name));
                continue;
            }
            Take::Run { first, last } => {
                let (from, to) = (find(reference, first)?, find(reference, last)?);
                if to < from {
                    let table = reference.table().to_owned();
                    let (first, last) = (first.clone(), last.clone());
                    return Err(Error::RunBackwards { table, first, last });
                }
                (from..=to).collect()
            }
            Take::Like(pattern) => like(reference, pattern)?,
            Take::All => (0..reference.len()).filter(|column| !key.contains(column)).collect(),
        };
        for column in brought {
            if !left.contains(&column) && !all.taken.contains(&column) {
                all.take(column, reference.name(column).to_owned());
            }
        }
    }
    Ok(all)
}

/// The columns that are named to be shown, in order; marks are not among them.
///
/// # Errors
/// When a table has no such header, or several.
pub fn shown_columns(take: &[Take], headers: &Headers) -> Result<Vec<usize>> {
    let plan = ReferencePlan::default();
    let find = &mut |headers: &Headers, name: &str| Ok(headers.find(name)?.column);
    Ok(columns(take, &plan, headers, &[], find)?.taken)
}

/// The columns whose headers are like a text in which `*` stands for any text.
fn like(headers: &Headers, pattern: &str) -> Result<Vec<usize>> {
    let fits = |column: &usize| is_like(headers.name(*column), pattern);
    let columns: Vec<usize> = (0..headers.len()).filter(fits).collect();
    if columns.is_empty() {
        return Err(Error::NothingLike {
            table: headers.table().to_owned(),
            pattern: pattern.to_owned(),
            all: headers.iter().map(str::to_owned).collect(),
        });
    }
    Ok(columns)
}

fn is_like(text: &str, pattern: &str) -> bool {
    let Some((first, rest)) = pattern.split_once('*') else { return text == pattern };
    let Some(mut text) = text.strip_prefix(first) else { return false };
    let mut pieces: Vec<&str> = rest.split('*').collect();
    let last = pieces.pop().unwrap_or_default();
    for piece in pieces {
        match text.find(piece) {
            Some(at) => text = &text[at + piece.len()..],
            None => return false,
        }
    }
    text.ends_with(last)
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
