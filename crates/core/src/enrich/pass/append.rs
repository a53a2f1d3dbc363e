//! Appending the unused rows of references, after the last main row.

use super::Enrichment;
use crate::Error;
use crate::enrich::appending::givers;
use crate::enrich::ordered_output::OrderedOutput;
use crate::enrich::row_output::{Outcome, RowSoFar};
use crate::enrich::stage::{RowBatch, Workspace};
use crate::enrich::updated_cells::Recording;
use crate::findings::{Appended, RequestCounts, Status};
use crate::table::{Block, Row, Sink};

/// How many rows are appended at a time.
const APPENDED_AT_ONCE: usize = 4096;

impl Enrichment {
    /// Appends the unused rows of every reference that is to append them, after `main_rows` rows.
    pub(super) fn append_all<K: Sink<Error: From<Error>>>(
        &self,
        main_rows: u64,
        recording: Recording,
        renderer: &K::Renderer,
        ordered: &mut OrderedOutput<'_, '_, K>,
    ) -> Result<Vec<Option<Appended>>, K::Error> {
        let mut row = main_rows;
        let mut all = Vec::new();
        for nth in 0..self.stages.lookups.len() {
            let appends = self.stages.lookups[nth].1.appending.is_some();
            let requested = if appends {
                ordered.tallies[nth].requested().clone()
            } else {
                RequestCounts::default()
            };
            let mut process = |block: &Block, out: RowBatch| {
                // The limit is that of the output of a single row.
                let mut workspace = Workspace { out, count: 1, ..self.workspace() };
                self.process(block, nth + 1, recording, (renderer, None), &mut workspace);
                ordered.take(self, block, nth + 1, &mut workspace)
            };
            all.push(self.append(nth, &requested, &mut row, &mut process)?);
        }
        Ok(all)
    }

    /// Appends the unused rows of a reference, if it is to append them, in blocks that `process` sends through the
    /// later lookups. `row` is the number of the last row so far.
    pub(super) fn append<E>(
        &self,
        nth: usize,
        requested: &RequestCounts,
        row: &mut u64,
        mut process: impl FnMut(&Block, RowBatch) -> Result<(), E>,
    ) -> Result<Option<Appended>, E> {
        let (lookup, output) = &self.stages.lookups[nth];
        let Some(appending) = &output.appending else { return Ok(None) };
        let reference = lookup.reference();
        let (givers, mut not) = givers(lookup, reference.unused(|entry| requested.has(entry)));
        let before: usize =
            self.stages.lookups[..nth].iter().map(|(_, output)| output.cells.len()).sum();
        let (own, overlay) = (self.own(), self.overlay());
        let (mut rows, mut lost) = (0, 0);
        for givers in givers.chunks(APPENDED_AT_ONCE) {
            let mut block = Block::new(own);
            let mut earlier = Block::new(overlay.len() + before);
            let mut kept = Vec::new();
            for &(answer, one) in givers {
                let entry = one.or_else(|| answer.first());
                let cells =
                    entry.and_then(|one| appending.key_cells(reference, reference.row(one)));
                let Some(cells) = cells else {
                    not.inseparable += 1;
                    continue;
                };
                let cell = |column: usize| {
                    let cell = cells.iter().find(|(other, _)| *other == column);
                    cell.map_or("", |(_, cell)| &cell[..])
                };
                (0..own).for_each(|column| block.push_cell(cell(column)));
                block.push_line(kept.len() as u64);
                overlay.columns().iter().for_each(|&column| earlier.push_cell(cell(column)));
                (own..own + before).for_each(|column| earlier.push_cell(cell(column)));
                kept.push((answer, one));
            }
            block.place(*row + 1, *row + 2);
            let mut out = RowBatch::default();
            out.added.reset(earlier.columns() + output.cells.len());
            for (nth, &(answer, one)) in kept.iter().enumerate() {
                let row = Row::of(&block, nth).with(&earlier, nth).over(overlay);
                let entries = lookup.entries_of_key(row);
                let entry = one.or_else(|| answer.first());
                let is_found = entry.is_some_and(|entry| entries.contains(&entry));
                lost += u64::from(
                    !is_found && !reference.is_by_position() && lookup.range_value().is_none(),
                );
                let so_far = RowSoFar { row, block: &earlier, nth, overlay };
                let added = &mut out.added;
                let outcome = Outcome { answer, one, start: None, named: &[], joined: None };
                output.update(lookup, so_far, outcome, added, |_, _, _, _| {});
                output.add(lookup, row, outcome, Status::Appended, added);
                out.of.push(nth);
            }
            *row += kept.len() as u64;
            rows += kept.len() as u64;
            process(&block, out)?;
        }
        Ok(Some(Appended { rows, not, lost }))
    }
}
