//! A template whose headers are found, making values of rows.
//!
//! Every row passes through here. A placeholder without steps gives the cell itself, most steps give a
//! slice of their input, and new text goes to buffers that are kept from row to row.

use super::{Placeholder, Segment, StepUse, Template};
use crate::Result;
use crate::table::Headers;
use crate::template::steps::Done;
use crate::value::is_blank;

/// A template for the rows of one table. Its placeholders are known by their column.
#[derive(Debug, Clone)]
pub struct BoundTemplate {
    template: Template,
    /// The column of each placeholder, in order.
    columns: Vec<usize>,
}

/// The state of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum PartState {
    /// There is a value.
    Whole,
    /// A placeholder is blank.
    Blank,
    /// A step could not read what it got.
    Malformed,
}

/// Working space for making values; what it holds between rows means nothing.
#[derive(Debug, Default)]
pub struct StepBuffers {
    value: String,
    next: String,
    composed: String,
}

/// How one placeholder came to its value, for a person to read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trace {
    /// The column, from 0.
    pub column: usize,
    /// The cell as it was read.
    pub read: String,
    /// Whether it is one of the texts that count as blank.
    pub counts_as_blank: bool,
    /// The result of each step, up to the one that could not read its value.
    pub steps: Vec<TraceStep>,
}

/// The result of one step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TraceStep {
    /// The step as it was written.
    pub step: String,
    /// The value after it; `None` when it could not be read.
    pub value: Option<String>,
}

impl Template {
    /// Finds the headers of the template with `find`, which gives the column of each.
    ///
    /// # Errors
    /// The errors of `find`.
    pub(crate) fn bind_with(
        &self,
        find: impl FnMut(&str) -> Result<usize>,
    ) -> Result<BoundTemplate> {
        let columns = self.headers().map(find).collect::<Result<_>>()?;
        Ok(BoundTemplate { template: self.clone(), columns })
    }

    /// The template with the column of each placeholder given.
    pub(crate) fn at(self, columns: Vec<usize>) -> BoundTemplate {
        debug_assert_eq!(columns.len(), self.placeholders().count());
        BoundTemplate { template: self, columns }
    }

    /// Finds the headers of the template in a table.
    ///
    /// # Errors
    /// When the table has no such header, or several.
    pub fn bind(&self, headers: &Headers) -> Result<BoundTemplate> {
        self.bind_with(|header| Ok(headers.find(header)?.column))
    }
}

impl BoundTemplate {
    /// The template.
    pub fn template(&self) -> &Template {
        &self.template
    }

    /// The column of each placeholder, in order.
    pub fn columns(&self) -> &[usize] {
        &self.columns
    }

    /// Makes the value of a row, whose cells `cell` returns by column, and passes it to `take`. Cells
    /// that are one of `blanks`, apart from surrounding white space, count as blank.
    ///
    /// The value of a part that is not whole is of no use but to be shown.
    #[inline]
    pub(crate) fn value<'c, T>(
        &self,
        cell: impl Fn(usize) -> &'c str,
        blanks: &[String],
        work: &mut StepBuffers,
        take: impl FnOnce(PartState, &str) -> T,
    ) -> T {
        if let [Segment::Placeholder(only)] = &self.template.segments[..] {
            let read = unblanked(cell(self.columns[0]), blanks);
            if only.steps.is_empty() {
                return take(state_of(only, read), read);
            }
            return match apply(&only.steps, read, &mut work.value, &mut work.next) {
                Some(value) => take(state_of(only, value), value),
                None => take(PartState::Malformed, ""),
            };
        }
        let mut state = PartState::Whole;
        work.composed.clear();
        let mut columns = self.columns.iter();
        for piece in &self.template.segments {
            match piece {
                Segment::Literal(text) => work.composed.push_str(text),
                Segment::Placeholder(placeholder) => {
                    let column = columns.next().map_or(0, |&column| column);
                    let read = unblanked(cell(column), blanks);
                    let steps = &placeholder.steps;
                    let made = match apply(steps, read, &mut work.value, &mut work.next) {
                        Some(value) => {
                            work.composed.push_str(value);
                            state_of(placeholder, value)
                        }
                        None => PartState::Malformed,
                    };
                    state = state.max(made);
                }
            }
        }
        if state == PartState::Whole && is_blank(&work.composed) {
            state = PartState::Blank;
        }
        take(state, &work.composed)
    }

    /// The value made of cells that are given in the order of the columns; `None` when a step could
    /// not read one.
    pub(crate) fn of_cells(&self, cells: &[&str]) -> Option<String> {
        let place = |column| self.columns.iter().position(|&other| other == column);
        let cell = |column| place(column).and_then(|at| cells.get(at)).map_or("", |cell| *cell);
        self.value(cell, &[], &mut StepBuffers::default(), |state, value| {
            (state != PartState::Malformed).then(|| value.to_owned())
        })
    }

    /// The value of each placeholder by itself, in order; `None` where a step could not read it.
    pub fn placeholder_values<'c>(
        &self,
        cell: impl Fn(usize) -> &'c str,
        blanks: &[String],
    ) -> Vec<Option<String>> {
        let traces = self.trace(cell, blanks).into_iter();
        traces.map(|trace| trace.value().map(str::to_owned)).collect()
    }

    /// How each placeholder comes to its value in a row.
    pub fn trace<'c>(&self, cell: impl Fn(usize) -> &'c str, blanks: &[String]) -> Vec<Trace> {
        let placeholders = self.template.placeholders().zip(&self.columns);
        let trace = |(placeholder, &column): (&Placeholder, &usize)| {
            let read = cell(column);
            let mut value = Some(unblanked(read, blanks).to_owned());
            let mut steps = Vec::new();
            for step in &placeholder.steps {
                let Some(before) = value else { break };
                value = apply_one(step, &before);
                steps.push(TraceStep { step: step.text().to_owned(), value: value.clone() });
            }
            let counts_as_blank = !read.is_empty() && unblanked(read, blanks).is_empty();
            Trace { column, read: read.to_owned(), counts_as_blank, steps }
        };
        placeholders.map(trace).collect()
    }
}

impl Trace {
    /// The value at the end; `None` when a step could not read it.
    pub fn value(&self) -> Option<&str> {
        match self.steps.last() {
            Some(last) => last.value.as_deref(),
            None if self.counts_as_blank => Some(""),
            None => Some(&self.read),
        }
    }

    /// The step that could not read the value, and what it was given.
    pub fn unreadable(&self) -> Option<(&str, &str)> {
        let at = self.steps.iter().position(|step| step.value.is_none())?;
        let before = match at.checked_sub(1) {
            Some(before) => self.steps[before].value.as_deref().unwrap_or_default(),
            None => &self.read,
        };
        Some((&self.steps[at].step, before))
    }
}

fn state_of(placeholder: &Placeholder, value: &str) -> PartState {
    if is_blank(value) && !placeholder.may_be_blank() { PartState::Blank } else { PartState::Whole }
}

/// The cell, or nothing if it is one of the texts that count as blank.
#[inline]
fn unblanked<'c>(cell: &'c str, blanks: &[String]) -> &'c str {
    if !blanks.is_empty() && blanks.iter().any(|blank| blank == cell.trim()) { "" } else { cell }
}

/// Applies steps to a value, one after the other; `None` when one could not read its value.
fn apply<'w>(
    steps: &[StepUse],
    read: &'w str,
    value: &'w mut String,
    next: &'w mut String,
) -> Option<&'w str> {
    // Where the value is: a slice of the cell until a step writes new text.
    let (mut written, mut span) = (false, 0..read.len());
    for step in steps {
        let now = if written { &value[span.clone()] } else { &read[span.clone()] };
        next.clear();
        match step.apply(now, next) {
            Done::Slice(piece) => span = span.start + piece.start..span.start + piece.end,
            Done::Written => {
                std::mem::swap(value, next);
                (written, span) = (true, 0..value.len());
            }
            Done::Unreadable => return None,
        }
    }
    Some(if written { &value[span] } else { &read[span] })
}

/// Applies steps to a value, one after the other; `None` when one could not read its value.
pub(crate) fn apply_all(steps: &[StepUse], read: &str) -> Option<String> {
    let (mut value, mut next) = (String::new(), String::new());
    apply(steps, read, &mut value, &mut next).map(str::to_owned)
}

fn apply_one(step: &StepUse, value: &str) -> Option<String> {
    let mut out = String::new();
    match step.apply(value, &mut out) {
        Done::Slice(piece) => Some(value[piece].to_owned()),
        Done::Written => Some(out),
        Done::Unreadable => None,
    }
}
