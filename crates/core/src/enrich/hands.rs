//! What is done with blocks in the order of the main table, once they are worked on: what was found is
//! summed up and told, and what goes out is handed to the sink.

use super::stage::Space;
use super::{Enrichment, WrittenCounts};
use crate::Error;
use crate::findings::{Change, ChangedBy, Recorder, Tally};
use crate::table::{Block, Rendered, Row, Sink};

/// Those who take what is done with a block, in the order of the main table.
pub(super) struct Hands<'r, 's, K: Sink> {
    pub(super) tallies: Vec<Tally>,
    pub(super) updates: Vec<Vec<WrittenCounts>>,
    pub(super) written: u64,
    pub(super) recorder: Option<&'r mut (dyn Recorder<Error = K::Error> + Send)>,
    /// Whether every row is told, not only those in trouble.
    pub(super) tells_all: bool,
    pub(super) sink: &'s mut K,
    pub(super) main: String,
}

impl<K: Sink<Error: From<Error>>> Hands<'_, '_, K> {
    /// Takes what was done with a block from one lookup on.
    pub(super) fn take(
        &mut self,
        enrichment: &Enrichment,
        block: &Block,
        from: usize,
        space: &mut Space<Rendered<K>>,
    ) -> Result<(), K::Error> {
        if space.is_crowded {
            let (table, row) = (self.main.clone(), block.row_number(space.first));
            return Err(Error::TooManyCopies { table, row }.into());
        }
        let Space { stages, out, rendered, corrected, .. } = space;
        self.written += out.of.len() as u64;
        let stages = &mut stages[from..];
        let overlay = enrichment.overlay();
        let recorder = &mut self.recorder;
        let tallies = &mut self.tallies[from..];
        for ((tally, stage), updates) in
            tallies.iter_mut().zip(&mut *stages).zip(&mut self.updates[from..])
        {
            tally.add(&stage.tallied);
            updates.iter_mut().zip(&stage.counts).for_each(|(all, more)| all.add(more));
            stage.told = 0;
        }
        let lookups = || enrichment.lookups().skip(from);
        if self.tells_all {
            for row in 0..block.rows() {
                for ((tally, lookup), stage) in tallies.iter_mut().zip(lookups()).zip(&mut *stages)
                {
                    stage.tell(tally, lookup, (block, overlay, row), recorder)?;
                }
            }
        } else {
            for ((tally, lookup), stage) in tallies.iter_mut().zip(lookups()).zip(&*stages) {
                for &nth in stage.tallied.troubles() {
                    if recorder.is_none() && tally.has_all_samples() {
                        break;
                    }
                    let row = stage.rows.row(nth, block, overlay);
                    tally.tell(lookup, row, stage.answers[nth], recorder)?;
                }
            }
        }
        if let Some(recorder) = recorder {
            let changes = lookups().zip(&*stages).enumerate().flat_map(|(nth, (lookup, stage))| {
                stage.changes.iter().map(move |cell| Change {
                    by: ChangedBy::Lookup { nth: from + nth, lookup, row: cell.from },
                    row: Row::of(block, cell.row),
                    column: cell.column,
                    before: &cell.before,
                    after: &cell.after,
                })
            });
            let corrections = corrected.iter().map(|cell| Change {
                by: ChangedBy::Correction(cell.by),
                row: Row::of(block, cell.row),
                column: cell.column,
                before: &cell.before,
                after: &cell.after,
            });
            let mut all: Vec<Change<'_>> = changes.chain(corrections).collect();
            all.sort_by_key(|change| change.row.number());
            all.iter().try_for_each(|change| recorder.changed(change))?;
        }
        self.sink.write(rendered)
    }
}
