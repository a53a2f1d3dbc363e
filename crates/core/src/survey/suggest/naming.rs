//! Columns worth taking, and values of the main table that name columns.

use std::collections::{HashMap, HashSet};

use super::Side;
use super::column::{Column, Form};
use super::pairs::Pair;
use crate::plan::quoted_header;
use crate::table::Headers;
use crate::template::{apply_all, read_steps};

/// Steps that make headers of values: of codes, dates, and months by name or number.
const STEPS: [&str; 8] =
    ["", "first 7", "first 4", "first 3", "last 4", "month", "month | pad 2", "number"];

/// How many values are compared with headers.
const COMPARED: usize = 1000;

/// A main column that names headers of the reference: the column, the step that makes its values headers,
/// and the columns they name.
pub(super) struct Named {
    pub(super) template: String,
    pub(super) name: String,
    pub(super) columns: Vec<usize>,
}

/// Whether the values of a main column are headers of the reference.
pub(super) fn naming(left: &[Column], theirs: &Headers, ours: &Headers) -> Option<Named> {
    let headers: Vec<&str> = theirs.iter().collect();
    let mut places: HashMap<&str, usize> = HashMap::new();
    for (place, header) in headers.iter().enumerate() {
        places.entry(header).or_insert(place);
    }
    for column in left.iter().filter(|column| column.cut.is_none()) {
        let values: HashSet<&String> = column.spellings(Form::Loose).values().collect();
        if values.len() < 2 {
            continue;
        }
        let mut values: Vec<&String> = values.into_iter().collect();
        values.sort_unstable();
        let every = values.len().div_ceil(COMPARED).max(1);
        let values: Vec<&String> = values.into_iter().step_by(every).collect();
        for step in STEPS {
            let read = read_steps("take", step).unwrap_or_default();
            let place = |value: &String| places.get(&apply_all(&read, value)?[..]).copied();
            let named: Vec<usize> = values.iter().filter_map(|value| place(value)).collect();
            let mut columns = named.clone();
            columns.sort_unstable();
            columns.dedup();
            if columns.len() > 1 && named.len() * 10 >= values.len() * 8 {
                let header = quoted_header(&ours.address(column.of));
                let name = ours.name(column.of).to_owned();
                // Headers of the same form name columns too, though no row names them.
                let form = |header: &str| -> String {
                    header
                        .chars()
                        .map(|sign| if sign.is_ascii_digit() { '0' } else { sign })
                        .collect()
                };
                let first = form(headers[columns[0]]);
                let is_like = first.contains('0');
                columns
                    .extend((0..headers.len()).filter(|&at| is_like && form(headers[at]) == first));
                columns.sort_unstable();
                columns.dedup();
                let step = if step.is_empty() { String::new() } else { format!(" | {step}") };
                return Some(Named { template: format!("{{{header}{step}}}"), name, columns });
            }
        }
    }
    None
}

/// The columns worth taking, as they are to be written: what is not in the key, varies, and is not in
/// the main table already.
pub(super) fn take(
    naming: Option<&Named>,
    (right, theirs): Side<'_>,
    ours: &Headers,
    in_key: &[usize],
    set: &[Pair],
) -> Vec<String> {
    let named: HashSet<usize> = naming.iter().flat_map(|named| &named.columns).copied().collect();
    let own: HashSet<String> = ours.iter().map(str::to_ascii_lowercase).collect();
    let mut all: Vec<String> = Vec::new();
    let is_worth = |column: &&Column| {
        let header = theirs.name(column.of);
        column.cut.is_none()
            && !in_key.contains(&column.of)
            && !named.contains(&column.of)
            && column.filled(Form::Loose) > 0
            && !own.contains(&header.to_ascii_lowercase())
    };
    for column in right.iter().filter(is_worth) {
        all.push(quoted_header(&theirs.address(column.of)));
    }
    if let Some(named) = naming {
        let name = format!("{} by {}", stem(theirs.table()), named.name);
        all.push(format!("{} as {}", named.template, quoted_header(&name)));
    }
    let is_reverse = set.iter().any(|pair| pair.reference.len() > 1);
    if is_reverse {
        all.push("@column as Column".to_owned());
    }
    if all.is_empty() {
        let is_other =
            |column: &&Column| !in_key.contains(&column.of) && !named.contains(&column.of);
        let others = right.iter().filter(|column| column.cut.is_none()).filter(is_other);
        all.extend(others.map(|column| quoted_header(&theirs.address(column.of))));
    }
    if all.is_empty() {
        all.push("@row as Row".to_owned());
    }
    all
}

/// The name of a table without its folder, its file where it is a part of one, and its extension.
fn stem(table: &str) -> &str {
    let name = table.rsplit(['/', '\\', '#']).next().unwrap_or(table);
    match name.split('.').next() {
        None | Some("") => "Value",
        Some(stem) => stem,
    }
}
