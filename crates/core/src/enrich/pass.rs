//! The pass over the main table.
//!
//! Blocks of main rows go through the [stages](super::stage), several at once; the [ordered
//! output](super::ordered_output) consumes them in the order of the main table. In the end come the rows that are
//! appended from references.

mod append;
mod trace;

pub use trace::LookupTrace;

use std::sync::{Mutex, PoisonError};

use super::RowOutput;
use super::bounded::SpilledFindings;
use super::corrections::Corrections;
use super::ordered_output::OrderedOutput;
use super::stage::{Assembly, StageResult, Stages, Workspace};
use super::updated_cells::Recording;
use crate::Error;
use crate::findings::{
    Appended, Findings, LookupFindings, Recorder, SAMPLES, Tally, UpdateFindings, WrittenCounts,
};
use crate::lookup::Lookup;
use crate::parallel::in_parallel;
use crate::table::in_order::in_order;
use crate::table::{
    Block, Headers, OutputColumns, Overlay, OwnCells, PassThrough, RawForm, Rendered, Renderer,
    Sink, Source, ascending,
};

/// Lookups ready to be run over a main table.
#[derive(Debug)]
pub struct Enrichment {
    pub(super) stages: Stages,
    main: Headers,
    headers: Headers,
    added: Vec<String>,
    /// The columns of the output with their names, where they are chosen.
    chosen: Option<Vec<(usize, String)>>,
    output: OutputColumns,
    /// Whether unmatched keys are kept, so that their reasons can be found.
    explaining: bool,
    /// How many samples are kept of each kind of finding.
    pub(super) sampled: usize,
    /// How many bytes of memory references may take, where there is a limit.
    pub(super) memory: Option<u64>,
}

/// How a pass goes through the main table.
#[derive(Debug, Clone, Copy)]
pub(super) struct PassOptions<'w> {
    /// How many threads it may use.
    pub(super) threads: usize,
    /// The columns that are read.
    pub(super) columns: &'w [usize],
    pub(super) recording: Recording,
}

/// How a renderer passes cells of a raw form through.
type RawPassThrough<'r, R> = (RawForm, &'r dyn PassThrough<R>);

impl Enrichment {
    /// Joins lookups, each with what it adds. `added` has the headers of all added columns, in order, and `chosen` the
    /// columns of the output where these are not all.
    pub(super) fn new(
        lookups: Vec<(Lookup, RowOutput)>,
        main: &Headers,
        added: Vec<String>,
        chosen: Option<Vec<(usize, String)>>,
    ) -> Self {
        let headers = main.clone().with(&added);
        let stages = Stages { lookups, overlay: Overlay::default(), corrections: None };
        let output = OutputColumns::all(main, &added, Overlay::default());
        let (main, explaining, sampled, memory) = (main.clone(), false, SAMPLES, None);
        let mut all =
            Self { stages, main, headers, added, chosen, output, explaining, sampled, memory };
        all.lay_over();
        for nth in 0..all.stages.lookups.len() {
            if all.is_chained(nth) {
                all.stages.lookups[nth].0.count_copies();
            }
        }
        all
    }

    /// Keeps unmatched keys in the findings, so that their reasons can be found. Off by default.
    #[must_use]
    pub fn explaining(mut self, yes: bool) -> Self {
        self.explaining = yes;
        self
    }

    /// Sets how many samples are kept of each kind of finding. The default is [`SAMPLES`].
    #[must_use]
    pub fn sampling(mut self, sampled: usize) -> Self {
        self.sampled = sampled;
        self
    }

    /// Limits the memory for the rows of references, in bytes; spilled references share what the others leave.
    #[must_use]
    pub fn memory_limit(mut self, memory: Option<u64>) -> Self {
        self.memory = memory;
        self
    }

    /// Applies corrections after the lookups.
    #[must_use]
    pub fn corrected(mut self, corrections: Option<Corrections>) -> Self {
        self.stages.corrections = corrections;
        self.lay_over();
        let own = self.own();
        let Stages { lookups, corrections, .. } = &mut self.stages;
        if let Some(corrections) = corrections {
            corrections.find_status(own, &lookups.iter().map(|(_, output)| output));
        }
        self
    }

    /// Overlays the own columns that updates and corrections write.
    fn lay_over(&mut self) {
        let own = self.own();
        let updates = self.stages.lookups.iter().flat_map(|(_, taking)| &taking.updates);
        let updated = updates.map(|one| one.column);
        let corrected = self.stages.corrections.iter().flat_map(Corrections::written);
        let overlay = Overlay::of(updated.chain(corrected).filter(|&column| column < own));
        let all = OutputColumns::all(&self.main, &self.added, overlay.clone());
        self.output = self.chosen.as_ref().map_or(all.clone(), |chosen| all.chosen(chosen));
        self.stages.overlay = overlay;
    }

    /// How many columns the main table has.
    fn own(&self) -> usize {
        self.headers.len() - self.added.len()
    }

    /// The lookups, in order.
    pub fn lookups(&self) -> impl ExactSizeIterator<Item = &Lookup> + Clone {
        self.stages.lookups.iter().map(|(lookup, _)| lookup)
    }

    /// What each lookup adds, in order.
    pub fn row_outputs(&self) -> impl ExactSizeIterator<Item = &RowOutput> + Clone {
        self.stages.lookups.iter().map(|(_, taking)| taking)
    }

    /// The lookups with what each adds, in order, once nothing is to be run any more.
    pub fn into_lookups(self) -> impl Iterator<Item = (Lookup, RowOutput)> {
        self.stages.lookups.into_iter()
    }

    /// The main table's columns that updates and corrections write.
    pub fn overlay(&self) -> &Overlay {
        &self.stages.overlay
    }

    /// The columns of the output.
    pub fn output(&self) -> &OutputColumns {
        &self.output
    }

    /// The main table's headers, then those of the added columns.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// The headers of the added columns.
    pub fn added(&self) -> &[String] {
        &self.added
    }

    /// Whether a lookup, by its number, uses a column that an earlier one adds or updates.
    fn is_chained(&self, nth: usize) -> bool {
        let own = self.own();
        let Some((lookup, _)) = self.stages.lookups.get(nth) else { return false };
        let is_updated = |column: usize| {
            let earlier = self.stages.lookups[..nth].iter();
            earlier.flat_map(|(_, output)| &output.updates).any(|one| one.column == column)
        };
        lookup.columns().into_iter().any(|column| column >= own || is_updated(column))
    }

    /// Runs the main table through the lookups into the sink, on up to `threads` threads, and returns the findings. A
    /// `recorder` receives every finding of a main row on the way. The output depends neither on the number of
    /// threads nor on whether references fit in memory.
    ///
    /// A spilled reference holds only the rows that the findings name afterwards, so that it can't be run again.
    ///
    /// # Errors
    /// The errors of the source, the sink and the recorder, [`Error::TooManyCopies`], and
    /// [`Error::Scratch`].
    pub fn run<S, K>(
        &mut self,
        main: &mut S,
        sink: &mut K,
        recorder: Option<&mut (dyn Recorder<Error = S::Error> + Send)>,
        threads: usize,
    ) -> Result<Findings, S::Error>
    where
        S: Source<Error: From<Error> + Send> + Send,
        K: Sink<Error = S::Error> + Send,
    {
        let recording = if recorder.is_some() { Recording::Changes } else { Recording::Nothing };
        let wants = |what: fn(&(dyn Recorder<Error = S::Error> + Send)) -> bool| {
            recorder.as_ref().is_some_and(|recorder| what(&**recorder))
        };
        let repeated = wants(|recorder| recorder.wants_repeated());
        let reports_all = repeated || wants(|recorder| recorder.wants_matched());
        sink.write_headers(&self.output)?;
        let (renderer, wants) = (sink.renderer(&self.output), sink.wants());
        let mut ordered = OrderedOutput {
            tallies: self.tallies(repeated),
            updates: self
                .row_outputs()
                .map(|output| vec![WrittenCounts::default(); output.updates.len()])
                .collect(),
            written: 0,
            recorder,
            reports_all,
            sink,
            main: main.headers().table().to_owned(),
            total_row: None,
        };
        // A match by position needs the position of a row while its block is processed.
        let by_position = self.lookups().any(|lookup| lookup.reference().is_by_position());
        let threads = if by_position { 1 } else { threads };
        let mut columns = self.read_columns();
        match wants {
            OwnCells::WithoutBytes if main.has_row_bytes() => {
                columns.extend(self.output.ends_of_runs());
            }
            OwnCells::All | OwnCells::WithoutBytes => columns.extend(self.output.own_columns()),
            OwnCells::None => {}
        }
        let columns = ascending(&columns);
        let options = PassOptions { threads, columns: &columns, recording };
        let (main_rows, spilled) = if self.spilled().is_empty() {
            (self.go_through(main, options, &renderer, &mut ordered)?, Vec::new())
        } else {
            self.run_bounded(main, options, (&renderer, &mut ordered))?
        };
        let appended = self.append_all(main_rows, recording, &renderer, &mut ordered)?;
        let OrderedOutput { tallies, updates, written, total_row, .. } = ordered;
        let lookups = self.lookup_findings(tallies, updates, appended, &spilled);
        let corrected = self.stages.corrections.as_ref().map(Corrections::outcomes);
        let corrected = corrected.unwrap_or_default();
        Ok(Findings { main_rows, written, lookups, corrected, total_row })
    }

    /// The count of each lookup, before the pass.
    fn tallies(&self, repeated: bool) -> Vec<Tally> {
        let tally = |(nth, lookup)| {
            let tally = Tally::new(nth, lookup, self.is_chained(nth), repeated);
            let tally = tally.sampling(self.sampled);
            if self.explaining { tally.keeping_unmatched(lookup) } else { tally }
        };
        self.lookups().enumerate().map(tally).collect()
    }

    /// The findings of each lookup, after the pass.
    fn lookup_findings(
        &self,
        tallies: Vec<Tally>,
        updates: Vec<Vec<WrittenCounts>>,
        appended: Vec<Option<Appended>>,
        spilled: &[SpilledFindings],
    ) -> Vec<LookupFindings> {
        let updates = updates.into_iter().zip(self.row_outputs()).map(|(counts, output)| {
            let columns = output.updates.iter().map(|one| one.column);
            let all = columns.zip(counts);
            all.map(|(column, written)| UpdateFindings { column, written }).collect()
        });
        let lookups = tallies.into_iter().zip(self.lookups()).zip(updates).zip(appended);
        let findings =
            lookups.enumerate().map(|(nth, (((tally, lookup), updates), appended))| match spilled
                .iter()
                .find(|spilled| spilled.nth == nth)
            {
                Some(one) => tally.finish_spilled(lookup, (&one.keys, &one.requested), updates),
                None => tally.finish(lookup, updates, appended),
            });
        findings.collect()
    }

    /// A workspace for one thread.
    fn workspace<R: Default>(&self) -> Workspace<R> {
        let stages = self.lookups().map(|_| StageResult::default()).collect();
        Workspace { stages, ..Workspace::default() }
    }

    /// Sends a table, or a window of it, through all lookups; returns how many rows it has.
    pub(super) fn go_through<S, K>(
        &self,
        main: &mut S,
        options: PassOptions<'_>,
        renderer: &K::Renderer,
        ordered: &mut OrderedOutput<'_, '_, K>,
    ) -> Result<u64, S::Error>
    where
        S: Source<Error: From<Error> + Send> + Send,
        K: Sink<Error = S::Error> + Send,
    {
        let mut rows = 0;
        let raw = renderer.pass_through();
        let raw = raw.filter(|(form, _)| self.stages.are_raw(*form));
        let process = |workspace: &mut Workspace<Rendered<K>>, block: &Block| {
            workspace.begin(block, 0..block.rows(), self.overlay());
            self.process(block, 0, options.recording, (renderer, raw), workspace);
        };
        let (free, mut few) = (Mutex::default(), usize::MAX);
        let consume = |workspace: &mut Workspace<Rendered<K>>, block: &Block| {
            rows += block.rows() as u64;
            if workspace.is_crowded && workspace.count > 1 {
                return self.process_by_few(block, options, renderer, (&free, &mut few), ordered);
            }
            ordered.take(self, block, 0, workspace)
        };
        in_order(main, options.threads, options.columns, || self.workspace(), process, consume)?;
        Ok(rows)
    }

    /// Processes a block whose output is too large a few rows at a time, on all threads, and consumes the results
    /// in order.
    fn process_by_few<K: Sink<Error: From<Error>>>(
        &self,
        block: &Block,
        options: PassOptions<'_>,
        renderer: &K::Renderer,
        (free, few): (&Mutex<Vec<Workspace<Rendered<K>>>>, &mut usize),
        ordered: &mut OrderedOutput<'_, '_, K>,
    ) -> Result<(), K::Error> {
        let free = || free.lock().unwrap_or_else(PoisonError::into_inner);
        // Twice as many rows as were not too many in the block before.
        *few = few.saturating_mul(2).min(block.rows().div_ceil(2));
        let mut first = 0;
        while first < block.rows() {
            let starts = (first..block.rows()).step_by(*few).take(options.threads);
            let ranges: Vec<_> = starts.map(|at| at..block.rows().min(at + *few)).collect();
            let done = in_parallel(&ranges, options.threads, |rows| {
                let used = free().pop();
                let mut workspace = used.unwrap_or_else(|| self.workspace::<Rendered<K>>());
                workspace.begin(block, rows.clone(), self.overlay());
                self.process(block, 0, options.recording, (renderer, None), &mut workspace);
                workspace
            });
            let mut is_in_order = true;
            for (rows, mut workspace) in ranges.into_iter().zip(done) {
                is_in_order &= !workspace.is_crowded || rows.len() == 1;
                if is_in_order {
                    ordered.take(self, block, 0, &mut workspace)?;
                    first = rows.end;
                }
                free().push(workspace);
            }
            if !is_in_order {
                *few = few.div_ceil(2);
            }
        }
        Ok(())
    }

    /// Sends the rows in `workspace.out` through the lookups from number `from` on, counts the answers, and renders
    /// the rows that go out. With `raw`, rows leave in the raw form.
    fn process<R: Renderer>(
        &self,
        block: &Block,
        from: usize,
        recording: Recording,
        (renderer, raw): (&R, Option<RawPassThrough<'_, R::Rendered>>),
        workspace: &mut Workspace<R::Rendered>,
    ) {
        let assembly = if raw.is_some() { Assembly::Raw } else { Assembly::Cells };
        self.stages.process(block, from, (recording, assembly), workspace);
        if workspace.is_crowded {
            // When the block's turn comes, it is processed by few rows, or the run ends.
            return;
        }
        self.count(block, from, workspace);
        match raw {
            Some(raw) => self.stages.render_raw(block, raw, workspace),
            None if renderer.wants_outcomes() => {
                workspace.find_outcomes(from);
                let Workspace { out, outcomes, rendered, .. } = workspace;
                renderer.render_with_outcomes(block, &out.of, &out.added, outcomes, rendered);
            }
            None => {
                let Workspace { out, rendered, .. } = workspace;
                renderer.render(block, &out.of, &out.added, rendered);
            }
        }
    }

    /// Counts the answers of the lookups from number `from` on.
    fn count<R>(&self, block: &Block, from: usize, workspace: &mut Workspace<R>) {
        let stages = workspace.stages.iter_mut().zip(self.lookups()).enumerate();
        for (nth, (stage, lookup)) in stages.skip(from) {
            let mut tallied = std::mem::take(&mut stage.tallied);
            tallied.clear();
            // Rows are dropped after the last stage only, so that as many rows means no copies.
            let each = self.is_chained(nth) || stage.rows.of.len() == block.rows();
            let row = |nth: usize| stage.rows.row(nth, block, self.overlay());
            tallied.count_all(lookup, stage.counted(each), row);
            stage.tallied = tallied;
        }
    }
}
