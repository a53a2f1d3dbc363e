//! From `columns` and `drop` to the columns of the output.

use super::columns::selected;
use crate::plan::{Columns, Selection};
use crate::table::Headers;
use crate::{Error, Result};

/// The columns of the enriched table with these headers that the output has, in order and with their names.
pub(super) fn chosen_columns(
    headers: &Headers,
    columns: &[Columns],
    drop: &[Selection],
    find: &mut impl FnMut(&Headers, &str) -> Result<usize>,
) -> Result<Vec<(usize, String)>> {
    let mut dropped = Vec::new();
    for selection in drop {
        dropped.extend(selected(selection, headers, &[], find)?);
    }
    // A column that is named by itself is not brought again by a run, a pattern or `*`.
    let mut named = Vec::new();
    for one in columns {
        let Columns::One { header, .. } = one else { continue };
        let column = find(headers, header)?;
        if dropped.contains(&column) {
            return Err(Error::NamedAndDropped { header: headers.address(column) });
        }
        named.push(column);
    }
    let mut brought = named.clone();
    let mut many = Vec::new();
    for one in columns {
        let Columns::Many(selection) = one else { continue };
        let is_new = |column: &usize| !brought.contains(column) && !dropped.contains(column);
        let new: Vec<usize> = match selection {
            Selection::All => Vec::new(),
            _ => selected(selection, headers, &[], find)?.into_iter().filter(is_new).collect(),
        };
        brought.extend(&new);
        many.push(new);
    }
    let is_left = |column: &usize| !brought.contains(column) && !dropped.contains(column);
    let mut rest: Vec<usize> = (0..headers.len()).filter(is_left).collect();
    let own_name = |column: usize| (column, headers.name(column).to_owned());
    if columns.is_empty() {
        return some(rest.into_iter().map(own_name).collect());
    }
    let (mut named, mut many) = (named.into_iter(), many.into_iter());
    let mut chosen = Vec::new();
    for one in columns {
        match one {
            Columns::One { rename, .. } => chosen.extend(named.next().map(|column| match rename {
                Some(name) => (column, name.clone()),
                None => own_name(column),
            })),
            Columns::Many(selection) => {
                let new = many.next().unwrap_or_default();
                let new =
                    if *selection == Selection::All { std::mem::take(&mut rest) } else { new };
                chosen.extend(new.into_iter().map(own_name));
            }
        }
    }
    for (nth, (column, name)) in chosen.iter().enumerate() {
        let is_given =
            |(other, of): &(usize, String)| *other == *column || *of != headers.name(*other);
        let others = chosen[..nth].iter().filter(|(_, other)| other == name);
        let is_renamed = name != headers.name(*column);
        if others.clone().any(|other| is_renamed || is_given(other)) {
            return Err(Error::OutputTwice { name: name.clone() });
        }
    }
    some(chosen)
}

fn some(chosen: Vec<(usize, String)>) -> Result<Vec<(usize, String)>> {
    if chosen.is_empty() { Err(Error::NothingLeft) } else { Ok(chosen) }
}
