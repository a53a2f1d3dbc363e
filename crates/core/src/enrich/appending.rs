//! Reference rows that no main row asked for, as rows at the end of the output.
//!
//! An appended row has its key in the main table's columns, spelled as in the reference: no step of the
//! key changes it. Several rows with one key give one row if they agree or a rule decides, and none
//! otherwise.

use crate::findings::NotAppended;
use crate::lookup::{Answer, EntryId, Lookup, Reference, RowId};
use crate::template::BoundTemplate;
use crate::value::is_blank;

/// How the key of an added row comes into the main table's columns.
#[derive(Debug, Clone, Default)]
pub struct Appending {
    /// For each part what the main table makes it by, and what the reference does, both without the
    /// steps that every part goes through.
    parts: Vec<(BoundTemplate, BoundTemplate)>,
}

/// A row to be added: what its cells rest on, and the one entry they are taken from, if it is one.
pub(super) type Giver = (Answer, Option<EntryId>);

impl Appending {
    /// Parts of a key, given as the main table's and the reference's templates.
    pub(super) fn new(parts: Vec<(BoundTemplate, BoundTemplate)>) -> Self {
        Self { parts }
    }

    /// The parts: what the main table makes each of, and what the reference does.
    pub(crate) fn parts(&self) -> &[(BoundTemplate, BoundTemplate)] {
        &self.parts
    }

    /// The cells of the key that a row holds, each with the main table's column; `None` when it
    /// can't be split.
    pub(super) fn key_cells(
        &self,
        reference: &Reference,
        row: RowId,
    ) -> Option<Vec<(usize, String)>> {
        let (columns, read) = (reference.key_columns(), reference.row_as_read(row));
        let cell = |column: usize| {
            let place = columns.iter().position(|&other| other == column);
            place.and_then(|place| read.get(place)).copied().unwrap_or_default()
        };
        let mut cells: Vec<(usize, String)> = Vec::new();
        for (main, theirs) in &self.parts {
            let read: Vec<&str> = theirs.columns().iter().map(|&column| cell(column)).collect();
            let values = split(main, theirs, &read)?;
            for (&column, value) in main.columns().iter().zip(values) {
                if cells.iter().all(|(other, _)| *other != column) {
                    // White space alone is no spelling of a key.
                    cells.push((column, if is_blank(&value) { String::new() } else { value }));
                }
            }
        }
        Some(cells)
    }
}

/// The cells of a part in the main table, in the order of the columns there, from the reference's cells; `None`
/// when it can't be split.
pub(crate) fn split(
    main: &BoundTemplate,
    theirs: &BoundTemplate,
    read: &[&str],
) -> Option<Vec<String>> {
    let value = if theirs.template().is_bare() {
        read.first().copied().unwrap_or_default().to_owned()
    } else {
        theirs.of_cells(read)?
    };
    if main.template().is_bare() { Some(vec![value]) } else { main.template().split(&value).ok() }
}

/// The rows to be added for the unused rows of a reference, which are given in order.
pub(super) fn givers(
    lookup: &Lookup,
    unused: impl Iterator<Item = RowId>,
) -> (Vec<Giver>, NotAppended) {
    let reference = lookup.reference();
    let (mut givers, mut not) = (Vec::new(), NotAppended::default());
    for row in unused {
        if reference.keyless().binary_search(&row).is_ok() {
            not.blank_key += 1;
            continue;
        }
        if reference.malformed().binary_search(&row).is_ok() {
            not.malformed += 1;
            continue;
        }
        let Some(entry) = reference.entry_of(row) else { continue };
        let stands_alone = reference.is_by_position() || lookup.range_value().is_some();
        if stands_alone || lookup.takes_every() {
            // Findings of its key are of all rows that hold it.
            let first = if reference.is_by_position() { entry } else { reference.first_of(entry) };
            givers.push((Answer::Matched(first), Some(entry)));
            continue;
        }
        let first = reference.first_of(entry);
        match lookup.settle(first) {
            Answer::Ambiguous(_) => not.ambiguous += 1,
            // The rows of one key come as one, in the place of the first.
            _ if first != entry => {}
            answer @ (Answer::Matched(one) | Answer::Chosen { entry: one, .. }) => {
                givers.push((answer, Some(one)));
            }
            answer => givers.push((answer, None)),
        }
    }
    (givers, not)
}
