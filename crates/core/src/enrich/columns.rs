//! From what is to be taken to the columns of a reference.

use super::{AddedCell, Updating};
use crate::lookup::{HeaderTemplate, TakenColumns};
use crate::plan::{Mark, ReferencePlan, Selection, Take, Update};
use crate::table::Headers;
use crate::template::BoundTemplate;
use crate::{Error, Result};

/// The columns that are kept of the reference, the cells made from them, and their names.
#[derive(Debug, Default)]
pub(super) struct Added {
    pub(super) taken: TakenColumns,
    pub(super) named_columns: Vec<HeaderTemplate>,
    pub(super) cells: Vec<AddedCell>,
    pub(super) names: Vec<String>,
    /// The columns to update.
    pub(super) updates: Vec<Updating>,
}

impl Added {
    fn take(&mut self, column: usize, name: String) {
        self.cells.push(AddedCell::Taken(self.taken.columns.len()));
        self.taken.columns.push(column);
        self.names.push(name);
    }
}

/// Finds what a plan adds and updates. The keys are the columns of the main table's and of the reference's.
pub(super) fn added_columns(
    plan: &ReferencePlan,
    (main, reference): (&Headers, &Headers),
    (main_key, key): (&[usize], &[usize]),
    searched: &[usize],
    find: &mut impl FnMut(&Headers, &str) -> Result<usize>,
) -> Result<Added> {
    let all = [Take::Many(Selection::All)];
    let take = plan.take.as_deref().unwrap_or(&all);
    let mut left = Vec::new();
    for selection in &plan.leave {
        left.extend(selected(selection, reference, key, find)?);
    }
    // A header that is named by itself is not brought again by a run or pattern.
    for one in take {
        if let Take::Column { header, .. } = one {
            left.push(find(reference, header)?);
        }
    }
    let updates = updates(plan, (main, reference), (main_key, key), &left, find)?;
    // Nor is one that is written into a column that is there.
    left.extend(updates.iter().map(|&(_, theirs)| theirs));
    let mut added = Added::default();
    let mut templates: Vec<BoundTemplate> = Vec::new();
    for one in take {
        match one {
            Take::Column { header, rename } => {
                let column = find(reference, header)?;
                added.take(column, rename.as_deref().unwrap_or(reference.name(column)).to_owned());
            }
            Take::Many(selection) => {
                for column in selected(selection, reference, key, find)? {
                    if !left.contains(&column) && !added.taken.columns.contains(&column) {
                        added.take(column, reference.name(column).to_owned());
                    }
                }
            }
            Take::Named { template, rename } => {
                added.cells.push(AddedCell::Named(templates.len()));
                added.names.push(rename.clone().unwrap_or_else(|| template.to_string()));
                templates.push(template.bind_with(|name| find(main, name))?);
            }
            Take::Mark { mark, rename } => {
                if *mark == Mark::Column {
                    if searched.is_empty() {
                        return Err(Error::NoColumn { reference: plan.name.clone() });
                    }
                    added.taken.in_column = true;
                }
                let name = || format!("{} {}", plan.name, mark.name());
                added.cells.push(AddedCell::Mark(*mark));
                added.names.push(rename.clone().unwrap_or_else(name));
            }
        }
    }
    for (column, theirs) in updates {
        let place = added.taken.columns.iter().position(|&other| other == theirs);
        let taken = place.unwrap_or_else(|| {
            added.taken.columns.push(theirs);
            added.taken.columns.len() - 1
        });
        added.updates.push(Updating { column, taken });
    }
    added.taken.always = added.taken.columns.len();
    for template in templates {
        let naming = naming(template, reference, key, searched, &mut added.taken)?;
        added.named_columns.push(naming);
    }
    Ok(added)
}

/// The columns to update, each with the column of the reference that is written into it. The reference's columns
/// `left`, which are taken or are to be left out, are brought by their own names only.
fn updates(
    plan: &ReferencePlan,
    (main, reference): (&Headers, &Headers),
    (main_key, key): (&[usize], &[usize]),
    left: &[usize],
    find: &mut impl FnMut(&Headers, &str) -> Result<usize>,
) -> Result<Vec<(usize, usize)>> {
    let mut updates: Vec<(usize, usize)> = Vec::new();
    for update in &plan.update {
        let Update::Column { main: ours, reference: theirs } = update else { continue };
        let theirs = find(reference, theirs)?;
        let column = match find(main, ours) {
            Err(Error::HeaderUnknown { nearest, .. }) if nearest.is_empty() => {
                return Err(Error::NothingToUpdate {
                    main: main.table().to_owned(),
                    header: ours.clone(),
                    all: main.iter().map(str::to_owned).collect(),
                });
            }
            found => found?,
        };
        if updates.iter().any(|&(other, _)| other == column) {
            let (reference, header) = (plan.name.clone(), main.address(column));
            return Err(Error::UpdatedTwice { reference, header });
        }
        updates.push((column, theirs));
    }
    for update in &plan.update {
        let Update::Many(selection) = update else { continue };
        let mut is_any = false;
        for column in selected(selection, main, main_key, find)? {
            let theirs = match find(reference, main.name(column)) {
                Err(Error::HeaderUnknown { .. }) => continue,
                theirs => theirs?,
            };
            if main_key.contains(&column) || key.contains(&theirs) || left.contains(&theirs) {
                continue;
            }
            is_any = true;
            // Two columns of one header are not told apart.
            find(main, main.name(column))?;
            if updates.iter().all(|&(other, _)| other != column) {
                updates.push((column, theirs));
            }
        }
        if !is_any {
            return Err(Error::NothingShared {
                reference: plan.name.clone(),
                all: reference.iter().map(str::to_owned).collect(),
            });
        }
    }
    Ok(updates)
}

/// The columns that main rows may name by a template, kept after the others.
fn naming(
    template: BoundTemplate,
    reference: &Headers,
    key: &[usize],
    searched: &[usize],
    taken: &mut TakenColumns,
) -> Result<HeaderTemplate> {
    let (before, behind) = template.template().ends();
    let (before, behind) = (Headers::loosened(before), Headers::loosened(behind));
    let may_be = |column: &usize| {
        let header = Headers::loosened(reference.name(*column));
        let is_key = key.contains(column) && !searched.contains(column);
        !is_key && header.starts_with(&before) && header.ends_with(&behind)
    };
    let columns: Vec<usize> = (0..reference.len()).filter(may_be).collect();
    if columns.is_empty() {
        return Err(Error::NothingNamed {
            table: reference.table().to_owned(),
            template: template.template().to_string(),
            all: reference.iter().map(str::to_owned).collect(),
        });
    }
    let placed = columns.into_iter().map(|column| {
        let place = taken.columns.iter().position(|&other| other == column);
        let place = place.unwrap_or_else(|| {
            taken.columns.push(column);
            taken.columns.len() - 1
        });
        (column, place)
    });
    let placed: Vec<(usize, usize)> = placed.collect();
    Ok(HeaderTemplate::new(template, &placed, reference))
}

/// The columns of a selection, in order. `key` has the columns that `*` does not bring.
pub(super) fn selected(
    selection: &Selection,
    table: &Headers,
    key: &[usize],
    find: &mut impl FnMut(&Headers, &str) -> Result<usize>,
) -> Result<Vec<usize>> {
    match selection {
        Selection::Header(header) => Ok(vec![find(table, header)?]),
        Selection::Run { first, last } => {
            let (from, to) = (find(table, first)?, find(table, last)?);
            if to < from {
                let table = table.table().to_owned();
                return Err(Error::RunBackwards {
                    table,
                    first: first.clone(),
                    last: last.clone(),
                });
            }
            Ok((from..=to).collect())
        }
        Selection::Like(pattern) => like(table, pattern),
        Selection::All => Ok((0..table.len()).filter(|column| !key.contains(column)).collect()),
    }
}

/// The columns that are selected, in the order in which they are, each once.
///
/// # Errors
/// When the table has no such header, or several.
pub fn selected_columns(selections: &[Selection], headers: &Headers) -> Result<Vec<usize>> {
    let find = &mut |headers: &Headers, name: &str| Ok(headers.find(name)?.column);
    let mut columns = Vec::new();
    for selection in selections {
        for column in selected(selection, headers, &columns, find)? {
            if !columns.contains(&column) {
                columns.push(column);
            }
        }
    }
    Ok(columns)
}

/// The columns that are named to be shown, in order; marks are not among them.
///
/// # Errors
/// When a table has no such header, or several.
pub fn shown_columns(take: &[Take], headers: &Headers) -> Result<Vec<usize>> {
    let plain = |one: &Take| matches!(one, Take::Column { .. } | Take::Many(_));
    let take = take.iter().filter(|one| plain(one)).cloned().collect();
    let plan = ReferencePlan { take: Some(take), ..ReferencePlan::default() };
    let find = &mut |headers: &Headers, name: &str| Ok(headers.find(name)?.column);
    Ok(added_columns(&plan, (headers, headers), (&[], &[]), &[], find)?.taken.columns)
}

/// The columns whose headers match a pattern in which `*` stands for any text.
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
