//! Following one main row through every lookup.

use super::Enrichment;
use crate::enrich::corrections::Corrections;
use crate::enrich::stage::{Assembly, StageResult};
use crate::enrich::updated_cells::Recording;
use crate::findings::Written;
use crate::lookup::{Answer, Lookup};
use crate::table::Block;

/// The trace of one row through one lookup.
#[derive(Debug)]
pub struct LookupTrace {
    /// The cells after the row's own when it comes to the lookup: a block of one row.
    pub added: Block,
    /// The answer.
    pub answer: Answer,
    /// The updated cells: the column, what becomes of the cell, the cell before and the reference's cell.
    pub updated: Vec<(usize, Written, String, String)>,
}

impl Enrichment {
    /// The main table's columns that are read.
    pub(super) fn read_columns(&self) -> Vec<usize> {
        let own = self.own();
        let corrections = self.stages.corrections.iter().flat_map(Corrections::columns);
        let asked = self.lookups().flat_map(Lookup::columns).chain(corrections);
        let overlaid = self.overlay().columns().iter().copied();
        asked.filter(|&column| column < own).chain(overlaid).collect()
    }

    /// Traces one row of a block through the lookups, as a batch of one. Where a lookup makes several rows of it, the
    /// trace follows the first.
    ///
    /// # Panics
    /// When the block has no such row.
    pub fn trace(&self, block: &Block, row: usize) -> Vec<LookupTrace> {
        let mut workspace = self.workspace::<()>();
        workspace.begin(block, row..row + 1, self.overlay());
        self.stages.process(block, 0, (Recording::Trace, Assembly::Cells), &mut workspace);
        let trace = |stage: StageResult| {
            let answer = stage.answers.first().copied()?;
            let mut added = Block::new(stage.rows.added.columns());
            added.push_row_of(&stage.rows.added, 0);
            let updated = stage.updated.reported.into_iter();
            let updated = updated.map(|cell| (cell.column, cell.written, cell.before, cell.after));
            Some(LookupTrace { added, answer, updated: updated.collect() })
        };
        workspace.stages.into_iter().map_while(trace).collect()
    }
}
