//! The pass where a reference does not fit in memory.
//!
//! The main table is read once, into [`ProbeRuns`]. Each partition of each spilled reference is read once: the
//! statistics of its keys are counted, and the rows that each run asks for are set aside. Then one window of runs
//! after the other goes through the lookups in the order of the main table, with a reference of just the rows that
//! the window asks for.

use super::Enrichment;
use super::ordered_output::OrderedOutput;
use super::pass::PassOptions;
use crate::Error;
use crate::findings::RequestedRows;
use crate::lookup::{KeyStatistics, Lookup, ProbeBuffers};
use crate::spill::{ProbeRuns, SortedRecords};
use crate::table::in_order::in_order;
use crate::table::{Block, Row, Sink, Source};

/// The findings of a spilled reference after the pass.
pub(super) struct SpilledFindings {
    /// The number of its lookup.
    pub(super) nth: usize,
    pub(super) keys: KeyStatistics,
    pub(super) requested: RequestedRows,
}

/// A block as bytes, with the hashes it asks for of each spilled reference.
#[derive(Default)]
struct SpooledBlock {
    bytes: Vec<u8>,
    hashes: Vec<Vec<u32>>,
    buffers: ProbeBuffers,
}

impl Enrichment {
    /// The numbers of the lookups with a spilled reference.
    pub(super) fn spilled(&self) -> Vec<usize> {
        let all = self.lookups().enumerate();
        let spilled = all.filter(|(_, lookup)| lookup.reference().is_spilled());
        spilled.map(|(nth, _)| nth).collect()
    }

    /// Sends the main table through the lookups window by window. Returns how many rows it has, and the findings
    /// for each spilled reference.
    pub(super) fn run_bounded<S, K>(
        &mut self,
        main: &mut S,
        options: PassOptions<'_>,
        (renderer, ordered): (&K::Renderer, &mut OrderedOutput<'_, '_, K>),
    ) -> Result<(u64, Vec<SpilledFindings>), S::Error>
    where
        S: Source<Error: From<Error> + Send> + Send,
        K: Sink<Error = S::Error> + Send,
    {
        let (spilled, threads) = (self.spilled(), options.threads);
        let taken: u64 = self.lookups().map(|lookup| lookup.reference().cost()).sum();
        let memory = self.memory.unwrap_or_default().saturating_sub(taken);
        let mut runs = self.read_runs(main, &spilled, options, memory)?;
        let mut all = Vec::new();
        for (place, &nth) in spilled.iter().enumerate() {
            let reference = self.stages.lookups[nth].0.reference();
            let mut keys = KeyStatistics::default();
            if let Some(partitions) = reference.partitions() {
                let examine =
                    |bytes: &[u8]| Ok(reference.of_partition(bytes)?.key_statistics(self.sampled));
                let statistics = runs.match_partitions(place, partitions, threads, examine)?;
                for one in statistics {
                    keys.add(one, self.sampled);
                }
            }
            let requested = RequestedRows::none(reference.rows());
            all.push(SpilledFindings { nth, keys, requested });
        }
        // The spilled references, once others are in their place.
        let mut originals = Vec::new();
        let mut next = 0;
        while next < runs.len() {
            let window = runs.window(next, memory);
            next = window.end;
            for (place, &nth) in spilled.iter().enumerate() {
                let lookup = &mut self.stages.lookups[nth].0;
                let original = originals.get(place).unwrap_or_else(|| lookup.reference());
                let records = runs.records(place, window.clone(), threads)?;
                let reference = original.of_records(&records, threads)?;
                ordered.tallies[nth].begin_window(&reference);
                let before = lookup.replace_reference(reference);
                if originals.len() == place {
                    originals.push(before);
                }
            }
            let mut source = runs.main_rows(&window, main.headers().clone());
            self.go_through(&mut source, options, renderer, ordered)?;
            for SpilledFindings { nth, requested, .. } in &mut all {
                let reference = self.stages.lookups[*nth].0.reference();
                ordered.tallies[*nth].end_window(reference, requested);
            }
        }
        for (original, SpilledFindings { nth, keys, requested }) in originals.into_iter().zip(&all)
        {
            let unused = requested.unused(original.rows()).take(self.sampled);
            let sampled = ordered.tallies[*nth].sampled_positions();
            let positions = keys.positions().chain(unused).chain(sampled).collect();
            let samples = match original.partitions() {
                Some(partitions) => SortedRecords::at(positions, partitions, threads)?,
                None => continue,
            };
            let samples = original.of_records(&samples, threads)?;
            let reference = original.with_samples(keys, samples);
            self.stages.lookups[*nth].0.replace_reference(reference);
        }
        Ok((runs.rows(), all))
    }

    /// Reads the main table to its end, into runs.
    fn read_runs<S>(
        &self,
        main: &mut S,
        spilled: &[usize],
        options: PassOptions<'_>,
        memory: u64,
    ) -> Result<ProbeRuns, S::Error>
    where
        S: Source<Error: From<Error> + Send> + Send,
    {
        let lookups: Vec<&Lookup> =
            spilled.iter().map(|&nth| &self.stages.lookups[nth].0).collect();
        let partitions: Vec<_> =
            lookups.iter().filter_map(|lookup| lookup.reference().partitions()).collect();
        let mut runs = ProbeRuns::new(&partitions, memory)?;
        let workspace =
            || SpooledBlock { hashes: vec![Vec::new(); lookups.len()], ..SpooledBlock::default() };
        let process = |spooled: &mut SpooledBlock, block: &Block| {
            let SpooledBlock { bytes, hashes, buffers } = spooled;
            block.store(bytes);
            for (lookup, hashes) in lookups.iter().zip(hashes) {
                hashes.clear();
                for row in 0..block.rows() {
                    let hash = lookup.hash_of(Row::of(block, row), buffers);
                    ProbeRuns::add_hash(hashes, hash);
                }
            }
        };
        let consume = |spooled: &mut SpooledBlock, block: &Block| {
            Ok(runs.push(block, &spooled.bytes, &spooled.hashes)?)
        };
        in_order(main, options.threads, options.columns, workspace, process, consume)?;
        runs.end_run()?;
        Ok(runs)
    }
}
