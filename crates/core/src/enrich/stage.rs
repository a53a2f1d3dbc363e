//! A block of main rows on its way through the lookups.
//!
//! Each lookup is a stage. Between two stages, a row of the block has become zero or more output rows, each with the
//! cells that lookups have added so far. A later lookup may use cells that an earlier one added or updated, and a
//! lookup that takes from every reference row makes several rows of one. Blocks are independent, so that several
//! are processed at once.

use std::ops::Range;

use super::corrections::{CorrectedCell, Corrections};
use super::joined::JoinedTexts;
use super::pass_through::RawOutput;
use super::row_output::{Outcome, RowSoFar};
use super::updated_cells::{Recording, UpdatedCells, UpdatedRow, is_kept};
use super::{RowOutput, Updating};
use crate::findings::{Recorder, Tallied, Tally, Written};
use crate::lookup::{Answer, EntryId, Lookup, ProbeBuffers};
use crate::table::{Block, Overlay, Row, RowOutcomes};

/// The lookups of a run, with what each adds.
#[derive(Debug)]
pub(super) struct Stages {
    pub(super) lookups: Vec<(Lookup, RowOutput)>,
    pub(super) overlay: Overlay,
    pub(super) corrections: Option<Corrections>,
}

/// How the rows of a block leave the stages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Assembly {
    /// As blocks of cells.
    Cells,
    /// As slices of the references, where cells need no change.
    Raw,
}

/// The answers of one lookup to the rows of a block, and what it writes into them.
#[derive(Debug, Default)]
pub(super) struct StageResult {
    /// The answer of each row that came to the lookup.
    pub(super) answers: Vec<Answer>,
    /// The rows that came to it.
    pub(super) rows: RowBatch,
    /// The counts of each kind of finding among them.
    pub(super) tallied: Tallied,
    /// How many of the rows have been reported.
    pub(super) reported: usize,
    /// For each row that it makes the one it is made of, by their numbers; empty where each row becomes one.
    pub(super) made_of: Vec<u32>,
    /// The cells that it updates.
    pub(super) updated: UpdatedCells,
    /// Texts that were joined of the rows of keys.
    pub(super) joined: JoinedTexts,
    /// What it adds to each row, when rows leave as [`Assembly::Raw`].
    pub(super) raw: RawOutput,
}

/// The output rows of a block so far.
#[derive(Debug, Default)]
pub(super) struct RowBatch {
    /// For each output row the row of the block that it is made of, in order; one may occur several times.
    pub(super) of: Vec<usize>,
    /// The cells after a row's own: overlaid ones, then added ones.
    pub(super) added: Block,
}

/// How many bytes the output rows of a block may take before the block is processed a few rows at a time, and how many
/// the output rows of a single main row may take. A key on many rows of both tables makes many rows, or long cells.
const MOST_OF_BLOCK: usize = 16 << 20;
const MOST_OF_ROW: usize = 256 << 20;

/// The workspace of a thread; kept from block to block.
#[derive(Debug, Default)]
pub(super) struct Workspace<R> {
    /// The first row of the block that is processed, and how many rows are.
    pub(super) first: usize,
    pub(super) count: usize,
    /// Whether the output became too large, so that the rows have to be processed a few at a time.
    pub(super) is_crowded: bool,
    pub(super) stages: Vec<StageResult>,
    pub(super) out: RowBatch,
    /// Which of the rows that the last lookup makes go out.
    pub(super) kept: Vec<bool>,
    pub(super) corrected: Vec<CorrectedCell>,
    pub(super) buffers: ProbeBuffers,
    /// What became of the rows that go out, where the renderer shows it.
    pub(super) outcomes: RowOutcomes,
    pub(super) rendered: R,
}

impl<R> Workspace<R> {
    /// Begins with rows of a block, as they were read.
    pub(super) fn begin(&mut self, block: &Block, rows: Range<usize>, overlay: &Overlay) {
        (self.first, self.count, self.is_crowded) = (rows.start, rows.len(), false);
        self.out.begin(block, rows, overlay);
    }

    /// Finds what became of the rows that go out in the lookups from number `from` on; rows that are appended have been
    /// through these only.
    pub(super) fn find_outcomes(&mut self, from: usize) {
        let Self { stages, out, kept, outcomes, .. } = self;
        outcomes.reset(out.of.len(), stages.len(), from > 0);
        // The numbers of the rows, among all that the lookup makes.
        let mut made: Vec<usize> =
            (0..).filter(|made| is_kept(kept, *made)).take(out.of.len()).collect();
        for (lookup, stage) in stages.iter().enumerate().skip(from).rev() {
            for (nth, row) in made.iter_mut().enumerate() {
                *row = stage.made_of.get(*row).map_or(*row, |row| *row as usize);
                if let Some(answer) = stage.answers.get(*row) {
                    outcomes.set(nth, lookup, answer.outcome());
                }
            }
        }
    }
}

/// Whether the output of `count` rows has become too large.
fn is_crowded(count: usize, bytes: usize) -> bool {
    bytes > if count > 1 { MOST_OF_BLOCK } else { MOST_OF_ROW }
}

impl RowBatch {
    /// Begins with rows of a block, as they were read.
    fn begin(&mut self, block: &Block, rows: Range<usize>, overlay: &Overlay) {
        self.of.clear();
        self.of.extend(rows.clone());
        self.added.reset(overlay.len());
        for row in if overlay.is_empty() { 0..0 } else { rows } {
            for &column in overlay.columns() {
                self.added.push_cell_of(block.cell(row, column), block.kind(row, column));
            }
        }
    }

    /// About how many bytes the rows take.
    fn bytes(&self) -> usize {
        const OF_ROW: usize = 32;
        const OF_CELL: usize = size_of::<u32>();
        self.added.text_length() + self.of.len() * (OF_ROW + OF_CELL * self.added.columns())
    }

    /// A row, with all its cells.
    pub(super) fn row<'a>(&'a self, nth: usize, block: &'a Block, overlay: &'a Overlay) -> Row<'a> {
        Row::of(block, self.of[nth]).with(&self.added, nth).over(overlay)
    }
}

impl StageResult {
    /// The answers to be counted, each with its number. Copies that an earlier lookup made of a row count as one
    /// row, unless `copies` says that they may ask for different keys.
    pub(super) fn counted(&self, copies: bool) -> impl Iterator<Item = (usize, Answer)> + '_ {
        let rows = self.rows.of.iter().enumerate();
        let is_first = move |(nth, row): &(usize, &usize)| {
            copies || *nth == 0 || self.rows.of[nth - 1] != **row
        };
        rows.filter(is_first).map(|(nth, _)| (nth, self.answers[nth]))
    }

    /// Reports the answers to one row of the block.
    pub(super) fn report<E>(
        &mut self,
        tally: &mut Tally,
        lookup: &Lookup,
        (block, overlay, row): (&Block, &Overlay, usize),
        recorder: &mut Option<&mut (dyn Recorder<Error = E> + Send)>,
    ) -> Result<(), E> {
        let first = self.reported;
        while self.rows.of.get(self.reported) == Some(&row) {
            let nth = self.reported;
            self.reported += 1;
            if nth == first || tally.counts_copies() {
                let row = self.rows.row(nth, block, overlay);
                tally.report(lookup, row, self.answers[nth], recorder)?;
            }
        }
        Ok(())
    }

    /// Which of the rows that came to it become rows that go out, given which of the rows that it makes do.
    fn kept_before(&self, kept: Vec<bool>) -> Vec<bool> {
        if kept.is_empty() || self.made_of.is_empty() {
            return kept;
        }
        let mut before = vec![false; self.rows.of.len()];
        for (made, &row) in self.made_of.iter().enumerate() {
            before[row as usize] |= is_kept(&kept, made);
        }
        before
    }
}

impl Stages {
    /// Sends the rows in `workspace.out` through the lookups from number `from` on.
    pub(super) fn process<R>(
        &self,
        block: &Block,
        from: usize,
        (recording, assembly): (Recording, Assembly),
        workspace: &mut Workspace<R>,
    ) {
        workspace.buffers.begin_block();
        // Which rows of the last stage go out; empty while all of them do.
        let mut keeps: Vec<bool> = Vec::new();
        for nth in from..self.lookups.len() {
            keeps = self.process_stage(block, nth, &keeps, (recording, assembly), workspace);
            if workspace.is_crowded {
                return;
            }
        }
        let Workspace { stages, out, kept, corrected, .. } = workspace;
        if recording == Recording::Trace {
            keeps.clear();
        }
        kept.clone_from(&keeps);
        if keeps.contains(&false) {
            let all = std::mem::take(out);
            out.added.reset(all.added.columns());
            for (nth, &of) in all.of.iter().enumerate() {
                if is_kept(&keeps, nth) {
                    out.of.push(of);
                    out.added.push_row_of(&all.added, nth);
                }
            }
        }
        let corrections = self.corrections.iter();
        *corrected = corrections.flat_map(|all| all.apply(block, out, &self.overlay)).collect();
        for ((_, output), stage) in self.lookups[from..].iter().zip(&mut stages[from..]).rev() {
            stage.updated.count(&keeps, output.updates.len());
            keeps = stage.kept_before(keeps);
        }
    }

    /// Sends the rows in `workspace.out` through one lookup. `kept` says which of them go out, and so does the
    /// result of the rows they become; both are empty while all rows do.
    fn process_stage<R>(
        &self,
        block: &Block,
        nth: usize,
        kept: &[bool],
        (recording, assembly): (Recording, Assembly),
        workspace: &mut Workspace<R>,
    ) -> Vec<bool> {
        let Workspace { count, is_crowded: crowded, stages, out, buffers, .. } = workspace;
        let ((lookup, output), overlay) = (&self.lookups[nth], &self.overlay);
        let StageResult { answers, rows, made_of, joined, updated, raw, .. } = &mut stages[nth];
        let is_raw = assembly == Assembly::Raw;
        if is_raw {
            rows.begin(block, 0..block.rows(), overlay);
            raw.begin(output.cells.len());
        } else {
            std::mem::swap(rows, out);
            out.of.clear();
            out.of.reserve(rows.of.len());
            out.added.reset(rows.added.columns() + output.cells.len());
        }
        made_of.clear();
        updated.begin();
        let rows = &*rows;
        let row = |nth: usize| rows.row(nth, block, overlay);
        let own = overlay.is_empty().then_some((block, &rows.of[..]));
        lookup.answer_batch((rows.of.len(), own), row, buffers, answers);
        let reference = lookup.reference();
        // With a range, the rows that answer depend on more than the key.
        let joined = lookup.range_value().is_none().then_some(&*joined);
        let names_columns = !lookup.named_columns().is_empty();
        let has_earlier = rows.added.columns() > 0;
        let makes_copies = lookup.takes_every();
        let is_simple = kept.is_empty() && output.is_all_taken(reference.taken().len());
        let mut keeps = Vec::new();
        for (nth, (&of, &answer)) in rows.of.iter().zip(&*answers).enumerate() {
            if is_crowded(*count, if is_raw { raw.cells_length() } else { out.bytes() }) {
                *crowded = true;
                return keeps;
            }
            let start = buffers.taken_start(nth);
            if is_raw {
                if raw.push_slice(reference, output, answer, start) {
                    continue;
                }
            } else if let (true, Some(_), Answer::Matched(entry)) = (is_simple, start, answer) {
                if has_earlier {
                    out.added.push_row_of(&rows.added, nth);
                }
                reference.push_taken(entry, start, &mut out.added);
                out.of.push(of);
                if makes_copies {
                    made_of.push(nth as u32);
                }
                continue;
            }
            let row = row(nth);
            if names_columns {
                lookup.name_columns(row, buffers);
            }
            let keep = output.keeps(answer) && is_kept(kept, nth);
            let so_far = RowSoFar { row, block: &rows.added, nth, overlay };
            let mut add = |one: Option<EntryId>| {
                let from = one.map(|one| reference.row(one));
                let made = UpdatedRow { row: of, made: out.of.len() as u32, from };
                let note = |updating: &Updating, what: Written, before: &str, after: &str| {
                    let number = output.updates.iter().position(|other| other == updating);
                    let update = (number.unwrap_or_default(), updating);
                    updated.note(recording, made, update, what, (before, after));
                };
                let named = buffers.named();
                let outcome = Outcome { answer, one, start, named, joined };
                if is_raw {
                    output.assemble(lookup, so_far, outcome, raw.push_cells(), note);
                    return;
                }
                output.assemble(lookup, so_far, outcome, &mut out.added, note);
                out.of.push(of);
                if makes_copies {
                    made_of.push(nth as u32);
                }
                if !keep || !keeps.is_empty() {
                    keeps.resize(out.of.len() - 1, true);
                    keeps.push(keep);
                }
            };
            match answer {
                Answer::All { .. } if makes_copies => {
                    let mut entries = reference.first_in_rows(&lookup.entries(row, answer));
                    if recording == Recording::Trace {
                        entries.truncate(1);
                    }
                    for entry in entries {
                        add(Some(entry));
                    }
                }
                Answer::Matched(entry) | Answer::Chosen { entry, .. } => add(Some(entry)),
                _ => add(None),
            }
        }
        *crowded |= !is_raw && is_crowded(*count, out.bytes());
        keeps
    }
}
