//! Pass-through: output rows whose taken cells are copied from the references as they are.
//!
//! Where all lookups only add taken cells, and the format writes cells in the raw form in which the references
//! store them, a row's cells need not be assembled: it is enough to note where they are. A row whose answer is not
//! one reference row, or with a cell that is not in the raw form, gets its cells in a block.

use super::RowOutput;
use super::stage::{Stages, Workspace};
use crate::lookup::{Answer, Reference};
use crate::table::{Block, PassThrough, RawColumns, RawForm, RawSlice};

/// What one lookup adds to the rows of a block.
#[derive(Debug, Default)]
pub(super) struct RawOutput {
    slices: Vec<RawSlice>,
    /// The added cells of rows that have no slice.
    cells: Block,
}

impl RawOutput {
    /// Begins a block, to whose rows the lookup adds `columns` cells.
    pub(super) fn begin(&mut self, columns: usize) {
        self.slices.clear();
        self.cells.reset(columns);
    }

    /// How many bytes the cells in the block take.
    pub(super) fn cells_length(&self) -> usize {
        self.cells.text_length()
    }

    /// Adds the slice of a row; `false` when it has to be assembled of cells. `start` is where the taken cells of
    /// its answer begin, if that is known.
    #[inline]
    pub(super) fn push_slice(
        &mut self,
        reference: &Reference,
        output: &RowOutput,
        answer: Answer,
        start: Option<usize>,
    ) -> bool {
        let slice = match answer {
            Answer::Matched(entry) | Answer::Chosen { entry, .. } => {
                reference.raw_slice(entry, start)
            }
            _ => output.leaves_blank(answer).then_some(RawSlice::Blank),
        };
        self.slices.extend(slice);
        slice.is_some()
    }

    /// The block for the cells of the next row, which has no slice.
    pub(super) fn push_cells(&mut self) -> &mut Block {
        self.slices.push(RawSlice::InCells);
        &mut self.cells
    }
}

impl Stages {
    /// Whether every row may leave in this raw form: the references store it, and the lookups only add cells.
    pub(super) fn are_raw(&self, raw_form: RawForm) -> bool {
        self.overlay.is_empty()
            && self.corrections.is_none()
            && self.lookups.iter().all(|(lookup, output)| {
                let reference = lookup.reference();
                reference.raw_form() == Some(raw_form)
                    && output.only_adds(reference.taken().len())
                    && !lookup.takes_every()
            })
    }

    /// Renders a block that was processed as [`Assembly::Raw`](super::stage::Assembly::Raw).
    pub(super) fn render_raw<R>(
        &self,
        block: &Block,
        (raw_form, pass_through): (RawForm, &dyn PassThrough<R>),
        workspace: &mut Workspace<R>,
    ) {
        let Workspace { stages, rendered, .. } = workspace;
        let blank = |(_, output): &(_, RowOutput)| raw_form.blank(output.cells.len());
        let blank: Vec<String> = self.lookups.iter().map(blank).collect();
        let columns: Vec<RawColumns<'_>> = (self.lookups.iter().zip(&*stages).zip(&blank))
            .map(|(((lookup, output), stage), blank)| {
                let slices = (lookup.reference().arena(), &stage.raw.slices[..]);
                RawColumns::new(slices, (blank, output.cells.len()), &stage.raw.cells)
            })
            .collect();
        pass_through.render_pass_through(block, &columns, rendered);
    }
}
