//! What an answer rests on: the entries, values and headers that reports name.

use super::{Answer, EntryId, HeaderTemplate, Lookup};
use crate::key::Unreadable;
use crate::lookup::RowId;
use crate::table::{Packer, Row};
use crate::template::{BoundTemplate, PartState, StepBuffers};
use crate::value::{Point, is_blank};

impl Lookup {
    /// The entries that the answer to a main row rests on, in order.
    pub fn entries(&self, row: Row<'_>, answer: Answer) -> Vec<EntryId> {
        let Some(first) = answer.first() else { return Vec::new() };
        let first = self.reference.first_of(first);
        match self.point(row) {
            Some(point) => {
                let mut found = Vec::new();
                self.reference.in_range(first, point, &mut found);
                found
            }
            None => self.reference.entries_of(first).collect(),
        }
    }

    /// The entries of a main row's key, in the row's range if there is one, whatever columns the row names. Empty
    /// when no reference row holds the key, or the key is not whole.
    pub(crate) fn entries_of_key(&self, row: Row<'_>) -> Vec<EntryId> {
        if self.reference.is_by_position() {
            return self.reference.at_position(row.number()).into_iter().collect();
        }
        let mut key = Packer::default();
        let state = self.key.pack(row, &mut key, &mut StepBuffers::default());
        if state == PartState::Malformed {
            let found = self.find_unreadable(row);
            return found
                .map_or_else(Vec::new, |(first, _)| self.entries(row, Answer::Matched(first)));
        }
        let is_whole = state == PartState::Whole || self.reference.matches_blanks();
        let find = || {
            let alias =
                || self.aliases.as_ref().and_then(|all| all.find(&self.reference, key.bytes()));
            self.reference.find(key.bytes()).or_else(|| alias().map(|(first, _)| first))
        };
        match is_whole.then(find).flatten() {
            Some(first) => self.entries(row, Answer::Matched(first)),
            None => Vec::new(),
        }
    }

    /// Whether one row alone holds the key of an answer. May be `false` where that takes a search.
    pub(crate) fn is_held_once(&self, answer: Answer) -> bool {
        let once = |first| !self.reference.index.is_repeated(first);
        self.range_value.is_none() && answer.first().is_some_and(once)
    }

    /// The point of a main row's value, when it must be in a range.
    fn point(&self, row: Row<'_>) -> Option<Point> {
        let value = self.range_value.as_ref()?;
        let cell = |column| row.cell(column);
        value.value(cell, self.key.blanks(), &mut StepBuffers::default(), |_, value| {
            self.reference.point(value)
        })
    }

    /// The row whose range is nearest to the value of a main row that no range holds.
    pub fn nearest_range(&self, row: Row<'_>, first: EntryId) -> Option<RowId> {
        let point = self.point(row)?;
        self.reference.nearest_range(first, point)
    }

    /// The first header that a main row names and no column has, and the nearest headers.
    pub fn unknown_header(&self, row: Row<'_>) -> Option<(String, Vec<String>)> {
        self.header_templates.iter().find_map(|template| template.unknown(row, self.key.blanks()))
    }

    /// The cells of a row that its answer depends on, as they were read, in the order of
    /// [`Lookup::columns`].
    pub fn as_read<'b>(&self, row: Row<'b>) -> Vec<&'b str> {
        self.columns().into_iter().map(|column| row.cell(column)).collect()
    }

    /// The columns that make the key of a row blank, by their places in [`Lookup::columns`].
    pub(crate) fn blank_columns(&self, row: Row<'_>) -> Vec<usize> {
        let names = self.header_templates.iter().map(HeaderTemplate::template);
        let parts = self.key.parts().iter().chain(&self.range_value).chain(names);
        let (columns, blanks) = (self.columns(), self.key.blanks());
        let mut blank = Vec::new();
        for part in parts {
            let cell = |column| row.cell(column);
            let state = part.value(cell, blanks, &mut StepBuffers::default(), |state, _| state);
            if state == PartState::Blank {
                let values = part.placeholder_values(cell, blanks);
                let of_part = part.columns().iter().zip(values);
                let is_blank = |value: &Option<String>| value.as_deref().is_none_or(is_blank);
                let of_part =
                    of_part.filter(|(_, value)| is_blank(value)).map(|(column, _)| column);
                let places =
                    of_part.filter_map(|one| columns.iter().position(|other| other == one));
                blank.extend(places);
            }
        }
        blank
    }

    /// The first value of a main row that a step could not read.
    pub fn unreadable(&self, row: Row<'_>) -> Option<Unreadable> {
        let key: Vec<&str> = self.key.as_read(row).collect();
        if let Some(bad) = self.key.unreadable(&key) {
            return Some(bad);
        }
        let names = self.header_templates.iter().map(HeaderTemplate::template);
        for bound in self.range_value.iter().chain(names) {
            let traces = bound.trace(|column| row.cell(column), self.key.blanks());
            for trace in traces {
                if let Some((step, value)) = trace.unreadable() {
                    let (step, value) = (step.to_owned(), value.to_owned());
                    return Some(Unreadable { column: trace.column, step, value });
                }
            }
        }
        let bound: &BoundTemplate = self.range_value.as_ref()?;
        let cells: Vec<&str> = bound.columns().iter().map(|&column| row.cell(column)).collect();
        Some(Unreadable::within(bound, bound.of_cells(&cells).unwrap_or_default()))
    }
}
