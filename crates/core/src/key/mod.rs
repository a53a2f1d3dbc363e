//! Keys: what rows are matched on.
//!
//! A row of a block goes in; its packed key comes out, with each part after its length. Two rows have equal keys
//! exactly when their packed keys are equal.

mod packed_keys;

pub(crate) use packed_keys::{PackedKeys, pack_cells};

use crate::table::{Block, Packer, Row, packed};
use crate::template::{BoundTemplate, PartState, StepBuffers, Trace};
use crate::value::is_blank;

/// The key of one table: the templates that its parts are made with, in the order in which they
/// are compared with the other table's.
#[derive(Debug, Clone)]
pub struct Key {
    parts: Vec<BoundTemplate>,
    columns: Vec<usize>,
    blanks: Vec<String>,
    /// The column of each part, when every part is the value of one as it is.
    verbatim: Option<Vec<usize>>,
}

/// A value that a step could not read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unreadable {
    /// The column that it comes from, from 0.
    pub column: usize,
    /// The step as it was written.
    pub step: String,
    /// The value that the step was given.
    pub value: String,
}

impl Unreadable {
    /// A value that can't be known by more and less.
    pub(crate) fn within(bound: &BoundTemplate, value: String) -> Self {
        let column = bound.columns().first().copied().unwrap_or_default();
        Self { column, step: "within".to_owned(), value }
    }
}

impl Key {
    /// A key of these parts. Cells that are one of `blanks`, apart from surrounding white space, count as
    /// blank.
    pub fn new(parts: Vec<BoundTemplate>, blanks: Vec<String>) -> Self {
        let mut columns = Vec::new();
        for &column in parts.iter().flat_map(BoundTemplate::columns) {
            if !columns.contains(&column) {
                columns.push(column);
            }
        }
        let is_verbatim = |part: &BoundTemplate| part.template().as_header().is_some();
        let verbatim = (blanks.is_empty() && parts.iter().all(is_verbatim))
            .then(|| parts.iter().flat_map(BoundTemplate::columns).copied().collect());
        Self { parts, columns, blanks, verbatim }
    }

    /// The templates of its parts.
    pub fn parts(&self) -> &[BoundTemplate] {
        &self.parts
    }

    /// The texts that count as blank.
    pub fn blanks(&self) -> &[String] {
        &self.blanks
    }

    /// The columns that it is made from, each once.
    pub fn columns(&self) -> &[usize] {
        &self.columns
    }

    /// Whether every part is the value of a column as it is, so that the parts are compared as they were
    /// read.
    pub fn is_verbatim(&self) -> bool {
        self.verbatim.is_some()
    }

    /// Appends the packed key of a row to `packed`. Of a key that is not whole, only the number of
    /// parts is right.
    #[inline]
    pub(crate) fn pack(
        &self,
        row: Row<'_>,
        packer: &mut Packer,
        steps: &mut StepBuffers,
    ) -> PartState {
        let mut state = PartState::Whole;
        if let Some(columns) = &self.verbatim {
            for &column in columns {
                let mut cell = row.cell(column);
                if is_blank(cell) {
                    // Blank is blank, however many spaces it has.
                    (state, cell) = (PartState::Blank, "");
                }
                packer.push(cell);
            }
            return state;
        }
        for part in 0..self.parts.len() {
            state = state.max(self.pack_part(part, row, packer, steps));
        }
        state
    }

    /// Appends one part of the packed key of a row.
    #[inline]
    pub(crate) fn pack_part(
        &self,
        part: usize,
        row: Row<'_>,
        packer: &mut Packer,
        steps: &mut StepBuffers,
    ) -> PartState {
        self.parts[part].value(
            |column| row.cell(column),
            &self.blanks,
            steps,
            |state, value| {
                packer.push(if state == PartState::Blank { "" } else { value });
                state
            },
        )
    }

    /// The place of each part among the cells that a block holds, where every part is one of them as it
    /// is.
    pub(crate) fn places(&self, block: &Block) -> Option<Vec<usize>> {
        let columns = self.verbatim.as_ref()?;
        columns.iter().map(|&column| block.kept_columns().kept_place(column)).collect()
    }

    /// The cells that a row's key is made from, as they were read, in the order of the columns.
    pub fn as_read<'b>(&self, row: Row<'b>) -> impl Iterator<Item = &'b str> {
        self.columns.iter().map(move |&column| row.cell(column))
    }

    /// The parts of a row's key as they are compared; blank where a step could not read its value.
    pub fn as_compared(&self, row: Row<'_>) -> Vec<String> {
        let mut packer = Packer::default();
        self.pack(row, &mut packer, &mut StepBuffers::default());
        packed::Cells::new(packer.text()).map(str::to_owned).collect()
    }

    /// Appends the parts of a row's key as they are compared, one after the other.
    pub(crate) fn write_compared(&self, row: Row<'_>, between: &str, text: &mut String) {
        let mut push = |nth: usize, part: &str| {
            text.push_str(if nth > 0 { between } else { "" });
            text.push_str(part);
        };
        if let Some(columns) = &self.verbatim {
            for (nth, &column) in columns.iter().enumerate() {
                let cell = row.cell(column);
                push(nth, if is_blank(cell) { "" } else { cell });
            }
            return;
        }
        let mut packer = Packer::default();
        self.pack(row, &mut packer, &mut StepBuffers::default());
        packed::Cells::new(packer.text()).enumerate().for_each(|(nth, part)| push(nth, part));
    }

    /// How each part of a key comes about, from the cells as they were read, in the order of the
    /// columns.
    pub fn trace<S: AsRef<str>>(&self, as_read: &[S]) -> Vec<Vec<Trace>> {
        let cell = |column: usize| {
            let place = self.columns.iter().position(|&other| other == column);
            place.and_then(|place| as_read.get(place)).map_or("", AsRef::as_ref)
        };
        self.parts.iter().map(|part| part.trace(cell, &self.blanks)).collect()
    }

    /// The first step that could not read its value, from the cells as they were read.
    pub fn unreadable<S: AsRef<str>>(&self, as_read: &[S]) -> Option<Unreadable> {
        let traces = self.trace(as_read).into_iter().flatten();
        let mut bad = traces.filter_map(|trace| {
            let (step, value) = trace.unreadable()?;
            let (step, value) = (step.to_owned(), value.to_owned());
            Some(Unreadable { column: trace.column, step, value })
        });
        bad.next()
    }

    /// For each column a part that is its value as it is; `None` when some column has none.
    pub(crate) fn verbatim_parts(&self) -> Option<Vec<usize>> {
        let part_of =
            |&column: &usize| self.parts.iter().position(|part| part.columns() == [column]);
        self.columns.iter().map(part_of).collect()
    }
}
