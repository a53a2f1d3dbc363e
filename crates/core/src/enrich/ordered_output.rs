//! The ordered output: what happens to finished blocks, in the order of the main table.
//!
//! Counts are summed up, findings and changes go to the recorder, and the rendered rows to the sink.

use super::Enrichment;
use super::stage::{StageResult, Workspace};
use crate::Error;
use crate::findings::{Change, ChangedBy, ChangingRow, Recorder, Tally, WrittenCounts};
use crate::table::{Block, Rendered, Row, RowOutcome, Sink, TotalRow};

/// Consumes finished blocks in main-table order.
pub(super) struct OrderedOutput<'r, 's, K: Sink> {
    /// The count of each lookup.
    pub(super) tallies: Vec<Tally>,
    /// For each lookup, what became of the cells of each update.
    pub(super) updates: Vec<Vec<WrittenCounts>>,
    /// How many rows have gone out.
    pub(super) written: u64,
    pub(super) recorder: Option<&'r mut (dyn Recorder<Error = K::Error> + Send)>,
    /// Whether every row is reported to the recorder, not only those in trouble.
    pub(super) reports_all: bool,
    pub(super) sink: &'s mut K,
    /// The name of the main table.
    pub(super) main: String,
    /// The last row so far, if it has no answer and looks like a total.
    pub(super) total_row: Option<TotalRow>,
}

impl<K: Sink<Error: From<Error>>> OrderedOutput<'_, '_, K> {
    /// Consumes a block that was processed from lookup `from` on.
    pub(super) fn take(
        &mut self,
        enrichment: &Enrichment,
        block: &Block,
        from: usize,
        workspace: &mut Workspace<Rendered<K>>,
    ) -> Result<(), K::Error> {
        if workspace.is_crowded {
            let (table, row) = (self.main.clone(), block.row_number(workspace.first));
            return Err(Error::TooManyCopies { table, row }.into());
        }
        self.written += workspace.out.of.len() as u64;
        if from == 0 && block.rows() > 0 {
            let is_answered = |stage: &StageResult| {
                let last = stage.answers.last();
                last.is_none_or(|answer| answer.outcome() == RowOutcome::Matched)
            };
            let is_in_trouble = !workspace.stages.iter().all(is_answered);
            self.total_row = is_in_trouble.then(|| TotalRow::last_of(block)).flatten();
        }
        let tallies = &mut self.tallies[from..];
        for ((tally, stage), updates) in
            tallies.iter_mut().zip(&mut workspace.stages[from..]).zip(&mut self.updates[from..])
        {
            tally.add(&stage.tallied);
            updates.iter_mut().zip(&stage.updated.counts).for_each(|(all, more)| all.add(more));
            stage.reported = 0;
        }
        self.report(enrichment, block, from, workspace)?;
        if self.recorder.is_some() {
            self.record_changes(enrichment, block, from, workspace)?;
        }
        self.sink.write_at(block.line(0), &mut workspace.rendered)
    }

    /// Reports the answers to the rows of a block, in order.
    fn report(
        &mut self,
        enrichment: &Enrichment,
        block: &Block,
        from: usize,
        workspace: &mut Workspace<Rendered<K>>,
    ) -> Result<(), K::Error> {
        let Self { tallies, recorder, reports_all, .. } = self;
        let (tallies, stages) = (&mut tallies[from..], &mut workspace.stages[from..]);
        let (lookups, overlay) = (|| enrichment.lookups().skip(from), enrichment.overlay());
        if *reports_all {
            for row in 0..block.rows() {
                for ((tally, lookup), stage) in tallies.iter_mut().zip(lookups()).zip(&mut *stages)
                {
                    stage.report(tally, lookup, (block, overlay, row), recorder)?;
                }
            }
            return Ok(());
        }
        for ((tally, lookup), stage) in tallies.iter_mut().zip(lookups()).zip(&*stages) {
            for &nth in stage.tallied.troubles() {
                if recorder.is_none() && tally.has_all_samples() {
                    break;
                }
                let row = stage.rows.row(nth, block, overlay);
                tally.report(lookup, row, stage.answers[nth], recorder)?;
            }
        }
        Ok(())
    }

    /// Sends the changed cells of a block to the recorder, in the order of the rows.
    fn record_changes(
        &mut self,
        enrichment: &Enrichment,
        block: &Block,
        from: usize,
        workspace: &Workspace<Rendered<K>>,
    ) -> Result<(), K::Error> {
        let Some(recorder) = &mut self.recorder else { return Ok(()) };
        let Workspace { stages, corrected, .. } = workspace;
        let stages = enrichment.lookups().zip(stages).enumerate().skip(from);
        let updates = stages.flat_map(|(nth, (lookup, stage))| {
            stage.updated.reported.iter().map(move |cell| Change {
                by: ChangedBy::Lookup { nth, lookup, row: cell.of.from.map(ChangingRow::Here) },
                row: Row::of(block, cell.of.row),
                name: None,
                column: cell.column,
                before: &cell.before,
                after: &cell.after,
            })
        });
        let corrections = corrected.iter().map(|cell| Change {
            by: ChangedBy::Correction(cell.by),
            row: Row::of(block, cell.row),
            name: None,
            column: cell.column,
            before: &cell.before,
            after: &cell.after,
        });
        let mut all: Vec<Change<'_>> = updates.chain(corrections).collect();
        all.sort_by_key(|change| change.row.number());
        all.iter().try_for_each(|change| recorder.changed(change))
    }
}
