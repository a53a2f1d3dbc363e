//! The pass over the main table.
//!
//! Blocks of main rows go through the lookups, several at once, each as [`super::stage`] has it;
//! what must be told in order is told when a block's turn comes. Behind the last of them come the
//! rows that are added from references.

use std::sync::{Mutex, PoisonError};

use super::appending::givers;
use super::corrections::Corrections;
use super::hands::Hands;
use super::spans::Shared;
use super::stage::{Answered, Rows, Space, Stages};
use super::taking::{Earlier, Given};
use super::{Status, Taking, Written, WrittenCounts};
use crate::Error;
use crate::findings::{Appended, Findings, Recorder, SAMPLES, Tally, TimesAsked, UpdateFindings};
use crate::in_parallel::in_parallel;
use crate::lookup::{Answer, Asking, Lookup};
use crate::table::in_order::in_order;
use crate::table::{
    Block, Headers, Overlay, OwnCells, Plainly, Rendered, Renderer, Row, Sink, Source, TakesOver,
};

/// Lookups ready to be run over a main table.
#[derive(Debug)]
pub struct Enrichment {
    pub(super) stages: Stages,
    headers: Headers,
    added: Vec<String>,
    /// Whether unmatched keys are kept, so that their reasons can be sought.
    explaining: bool,
    /// How many samples are kept of each trouble.
    pub(super) sampled: usize,
    /// How much memory references may take, in bytes, where it is bounded.
    pub(super) memory: Option<u64>,
}

/// How one lookup came to its answer for a row, and what it was given.
#[derive(Debug)]
pub struct Followed {
    /// The cells that stand beside the row's own when it comes to this lookup.
    pub added: Block,
    /// The answer.
    pub answer: Answer,
    /// The cells it updates: the column, what becomes of the cell, what stood there and what the
    /// reference holds.
    pub updated: Vec<(usize, Written, String, String)>,
}

/// How the main table is gone through.
#[derive(Debug, Clone, Copy)]
pub(super) struct Way<'w> {
    /// On how many threads.
    pub(super) threads: usize,
    /// The columns that are looked at.
    pub(super) wanted: &'w [usize],
    /// Whether every finding is told.
    pub(super) recording: bool,
}

/// How many rows are added at a time.
const APPENDED_AT_ONCE: usize = 4096;

impl Enrichment {
    /// Puts lookups together, each with what it gives, and with the headers of all added columns, in
    /// order.
    pub fn new(lookups: Vec<(Lookup, Taking)>, main: &Headers, added: Vec<String>) -> Self {
        let headers = main.clone().with(&added);
        let stages = Stages { lookups, overlay: Overlay::default(), corrections: None };
        let (explaining, sampled, memory) = (false, SAMPLES, None);
        let mut all = Self { stages, headers, added, explaining, sampled, memory };
        all.lay_over();
        all
    }

    /// The same with unmatched keys kept in the findings, so that their reasons can be sought.
    #[must_use]
    pub fn explaining(mut self, yes: bool) -> Self {
        self.explaining = yes;
        self
    }

    /// The same with so many samples kept of each trouble.
    #[must_use]
    pub fn sampling(mut self, sampled: usize) -> Self {
        self.sampled = sampled;
        self
    }

    /// The same with so many bytes of memory for the rows of references, of which those that are kept
    /// in shares get what the others leave.
    #[must_use]
    pub fn within(mut self, memory: Option<u64>) -> Self {
        self.memory = memory;
        self
    }

    /// The same with corrections put in place behind the lookups.
    #[must_use]
    pub fn corrected(mut self, corrections: Option<Corrections>) -> Self {
        self.stages.corrections = corrections;
        self.lay_over();
        let own = self.own();
        let Stages { lookups, corrections, .. } = &mut self.stages;
        // For each lookup the columns it gives, and those of its added ones that tell its status.
        let mut first = own;
        let given: Vec<(Vec<usize>, Vec<usize>)> = lookups
            .iter()
            .map(|(_, taking)| {
                let added = first..first + taking.cells.len();
                first = added.end;
                let status = taking.status_cells().map(|nth| added.start + nth).collect();
                let updates = taking.updates.iter().map(|one| one.column);
                (added.chain(updates).collect(), status)
            })
            .collect();
        if let Some(corrections) = corrections {
            corrections.tell_in(|column| {
                // A column of the main table's own is nobody's answer.
                let giving = |(columns, _): &&(Vec<usize>, Vec<usize>)| columns.contains(&column);
                let telling = given.iter().filter(giving);
                telling.flat_map(|(_, status)| status.iter().copied()).collect()
            });
        }
        self
    }

    /// Finds out which own columns stand anew among the added cells.
    fn lay_over(&mut self) {
        let own = self.own();
        let updates = self.stages.lookups.iter().flat_map(|(_, taking)| &taking.updates);
        let updated = updates.map(|one| one.column);
        let corrected = self.stages.corrections.iter().flat_map(Corrections::written);
        self.stages.overlay = Overlay::of(updated.chain(corrected).filter(|&column| column < own));
    }

    /// How many columns the main table has of its own.
    fn own(&self) -> usize {
        self.headers.len() - self.added.len()
    }

    /// The lookups, in order.
    pub fn lookups(&self) -> impl ExactSizeIterator<Item = &Lookup> + Clone {
        self.stages.lookups.iter().map(|(lookup, _)| lookup)
    }

    /// What each lookup gives, in order.
    pub fn takings(&self) -> impl ExactSizeIterator<Item = &Taking> + Clone {
        self.stages.lookups.iter().map(|(_, taking)| taking)
    }

    /// The main table's own columns that are written anew in some rows.
    pub fn overlay(&self) -> &Overlay {
        &self.stages.overlay
    }

    /// The main table's headers, with those of the added columns behind them.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// The headers of the columns they add.
    pub fn added(&self) -> &[String] {
        &self.added
    }

    /// Whether a lookup uses a column that an earlier one may have added or updated.
    pub fn is_chained(&self, lookup: &Lookup) -> bool {
        let own = self.own();
        lookup.columns().iter().any(|&column| self.overlay().place_of(column, own).is_some())
    }

    /// Runs the main table through the lookups into the sink on so many threads, and gives back what
    /// was found. A `recorder` is told every finding of a main row on the way. What comes out does
    /// not depend on the number of threads, nor on whether references fit into memory.
    ///
    /// Afterwards a reference that does not holds just the rows that the findings tell of, so that it
    /// can't be run again.
    ///
    /// # Errors
    /// Those of the source, the sink and the recorder, [`Error::TooManyCopies`], and
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
        let recording = recorder.is_some();
        let tells_all = recorder.as_ref().is_some_and(|recorder| recorder.wants_repeated());
        let tally = |(nth, lookup)| {
            let tally = Tally::new(nth, lookup, self.is_chained(lookup), tells_all);
            let tally = tally.sampling(self.sampled);
            if self.explaining { tally.keeping_unmatched(lookup) } else { tally }
        };
        let tallies: Vec<Tally> = self.lookups().enumerate().map(tally).collect();
        sink.write_headers(main.headers(), &self.added)?;
        let (renderer, wants) = (sink.renderer(self.overlay().clone()), sink.wants());
        let updates =
            self.takings().map(|taking| vec![WrittenCounts::default(); taking.updates.len()]);
        let mut hands = Hands {
            tallies,
            updates: updates.collect(),
            written: 0,
            recorder,
            tells_all,
            sink,
            main: main.headers().table().to_owned(),
        };
        // A match by position must know where a row stands while it is worked on.
        let by_position = self.lookups().any(|lookup| lookup.reference().is_by_position());
        let threads = if by_position { 1 } else { threads };
        let wants_all = match wants {
            OwnCells::All => true,
            OwnCells::WithoutBytes => !main.has_row_bytes(),
            OwnCells::None => false,
        };
        let wanted = if wants_all { (0..self.own()).collect() } else { self.wanted() };
        let way = Way { threads, wanted: &wanted, recording };
        let mut sharing = Vec::new();
        let main_rows = if self.in_shares().is_empty() {
            self.go_through(main, way, &renderer, &mut hands)?
        } else {
            let (rows, told) = self.run_in_spans(main, way, (&renderer, &mut hands))?;
            sharing = told;
            rows
        };
        let space = || self.space::<Rendered<K>>();
        let mut appended = Vec::new();
        let mut row = main_rows;
        for nth in 0..self.stages.lookups.len() {
            let appends = self.stages.lookups[nth].1.appending.is_some();
            let asked =
                if appends { hands.tallies[nth].asked().clone() } else { TimesAsked::default() };
            let mut work = |block: &Block, out: Rows| {
                // What they become is bounded as if they were one row.
                let mut space = Space { out, count: 1, ..space() };
                self.work(block, nth + 1, recording, &renderer, &mut space);
                hands.take(self, block, nth + 1, &mut space)
            };
            appended.push(self.append(nth, &asked, &mut row, &mut work)?);
        }
        let Hands { tallies, updates, written, .. } = hands;
        let updates = updates.into_iter().zip(self.takings()).map(|(counts, taking)| {
            let columns = taking.updates.iter().map(|one| one.column);
            let all = columns.zip(counts);
            all.map(|(column, written)| UpdateFindings { column, written }).collect()
        });
        let told = tallies.into_iter().zip(self.lookups()).zip(updates).zip(appended);
        let mut sharing = sharing.into_iter().peekable();
        let lookups = told.enumerate().map(|(nth, (((tally, lookup), updates), appended))| {
            match sharing.next_if(|shared: &Shared| shared.nth == nth) {
                Some(shared) => {
                    tally.finish_in_shares(lookup, (&shared.keys, &shared.asked), updates)
                }
                None => tally.finish(lookup, updates, appended),
            }
        });
        let lookups = lookups.collect();
        let corrected = self.stages.corrections.as_ref().map(Corrections::told);
        Ok(Findings { main_rows, written, lookups, corrected: corrected.unwrap_or_default() })
    }

    /// What a thread works with.
    fn space<R: Default>(&self) -> Space<R> {
        Space { stages: self.lookups().map(|_| Answered::default()).collect(), ..Space::default() }
    }

    /// Sends a table, or a span of it, through all lookups; gives how many rows it has.
    pub(super) fn go_through<S, K>(
        &self,
        main: &mut S,
        way: Way<'_>,
        renderer: &K::Renderer,
        hands: &mut Hands<'_, '_, K>,
    ) -> Result<u64, S::Error>
    where
        S: Source<Error: From<Error> + Send> + Send,
        K: Sink<Error = S::Error> + Send,
    {
        let mut rows = 0;
        let over = renderer.takes_over().filter(|(plainly, _)| self.stages.are_written(*plainly));
        let work = |space: &mut Space<Rendered<K>>, block: &Block| {
            space.begin(block, 0..block.rows(), self.overlay());
            match over {
                Some(over) => self.work_over(block, over, space),
                None => self.work(block, 0, way.recording, renderer, space),
            }
        };
        let (spaces, mut few) = (Mutex::default(), usize::MAX);
        let hand_on = |space: &mut Space<Rendered<K>>, block: &Block| {
            rows += block.rows() as u64;
            if space.is_crowded && space.count > 1 {
                return self.work_by_few(block, way, renderer, (&spaces, &mut few), hands);
            }
            hands.take(self, block, 0, space)
        };
        in_order(main, way.threads, way.wanted, || self.space(), work, hand_on)?;
        Ok(rows)
    }

    /// Works on the rows of a block that become too much together: a few rows at a time on each thread, handed on in
    /// order.
    fn work_by_few<K: Sink<Error: From<Error>>>(
        &self,
        block: &Block,
        way: Way<'_>,
        renderer: &K::Renderer,
        (spaces, few): (&Mutex<Vec<Space<Rendered<K>>>>, &mut usize),
        hands: &mut Hands<'_, '_, K>,
    ) -> Result<(), K::Error> {
        let spaces = || spaces.lock().unwrap_or_else(PoisonError::into_inner);
        // As many as were not too much in the block before, or twice as many.
        *few = few.saturating_mul(2).min(block.rows().div_ceil(2));
        let mut first = 0;
        while first < block.rows() {
            let begins = (first..block.rows()).step_by(*few).take(way.threads);
            let ranges: Vec<_> = begins.map(|at| at..block.rows().min(at + *few)).collect();
            let done = in_parallel(&ranges, way.threads, |rows| {
                let free = spaces().pop();
                let mut space = free.unwrap_or_else(|| self.space::<Rendered<K>>());
                space.begin(block, rows.clone(), self.overlay());
                self.work(block, 0, way.recording, renderer, &mut space);
                space
            });
            let mut is_in_order = true;
            for (rows, mut space) in ranges.into_iter().zip(done) {
                is_in_order &= !space.is_crowded || rows.len() == 1;
                if is_in_order {
                    hands.take(self, block, 0, &mut space)?;
                    first = rows.end;
                }
                spaces().push(space);
            }
            if !is_in_order {
                *few = few.div_ceil(2);
            }
        }
        Ok(())
    }

    /// Answers a block from one lookup on, counts what was found and renders what goes out.
    fn work<R: Renderer>(
        &self,
        block: &Block,
        from: usize,
        recording: bool,
        renderer: &R,
        space: &mut Space<R::Rendered>,
    ) {
        self.stages.answer(block, from, recording, space);
        if space.is_crowded {
            // It is worked on by few rows, or the run ends, when the block's turn comes.
            return;
        }
        self.count(block, from, space);
        renderer.render(block, &space.out.of, &space.out.added, &mut space.rendered);
    }

    /// The same from the first lookup on, with taken cells that go out as they stand in the references.
    fn work_over<R>(
        &self,
        block: &Block,
        over: (Plainly, &dyn TakesOver<R>),
        space: &mut Space<R>,
    ) {
        self.stages.answer_over(block, space);
        if space.is_crowded {
            return;
        }
        self.count(block, 0, space);
        self.stages.render_over(block, over, space);
    }

    /// Counts what lookups from one on found in a block.
    fn count<R>(&self, block: &Block, from: usize, space: &mut Space<R>) {
        let stages = space.stages[from..].iter_mut();
        for (stage, lookup) in stages.zip(self.lookups().skip(from)) {
            let mut tallied = std::mem::take(&mut stage.tallied);
            tallied.clear();
            // There are no copies where there are as many rows, since none has gone by now.
            let each = self.is_chained(lookup) || stage.rows.of.len() == block.rows();
            let row = |nth: usize| stage.rows.row(nth, block, self.overlay());
            tallied.count_all(lookup, stage.counted(each), row);
            stage.tallied = tallied;
        }
    }

    /// Adds the rows of a reference that nothing asked for, where it is to be so, in blocks that
    /// `work` sends through the lookups behind it. `row` is the number of the last row so far.
    fn append<E>(
        &self,
        nth: usize,
        asked: &TimesAsked,
        row: &mut u64,
        mut work: impl FnMut(&Block, Rows) -> Result<(), E>,
    ) -> Result<Option<Appended>, E> {
        let (lookup, taking) = &self.stages.lookups[nth];
        let Some(appending) = &taking.appending else { return Ok(None) };
        let reference = lookup.reference();
        let (givers, mut not) = givers(lookup, reference.unused(|holder| asked.has(holder)));
        let before: usize =
            self.stages.lookups[..nth].iter().map(|(_, taking)| taking.cells.len()).sum();
        let (own, overlay) = (self.own(), self.overlay());
        let (mut rows, mut lost) = (0, 0);
        for givers in givers.chunks(APPENDED_AT_ONCE) {
            let mut block = Block::new(own);
            let mut earlier = Block::new(overlay.len() + before);
            let mut kept = Vec::new();
            for &(answer, one) in givers {
                let holder = one.or_else(|| answer.first());
                let cells =
                    holder.and_then(|one| appending.key_cells(reference, reference.row(one)));
                let Some(cells) = cells else {
                    not.not_apart += 1;
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
            let mut out = Rows::default();
            out.added.reset(earlier.columns() + taking.cells.len());
            for (nth, &(answer, one)) in kept.iter().enumerate() {
                let row = Row::of(&block, nth).with(&earlier, nth).over(overlay);
                let holders = lookup.holders_of_key(row);
                let holder = one.or_else(|| answer.first());
                let is_found = holder.is_some_and(|holder| holders.contains(&holder));
                lost +=
                    u64::from(!is_found && !reference.is_by_position() && lookup.value().is_none());
                let earlier = Earlier { row, block: &earlier, nth, overlay };
                let added = &mut out.added;
                let given = Given { answer, one, at: None, named: &[], joined: None };
                taking.update(lookup, earlier, given, added, |_, _, _, _| {});
                taking.add(lookup, row, given, Status::Appended, added);
                out.of.push(nth);
            }
            *row += kept.len() as u64;
            rows += kept.len() as u64;
            work(&block, out)?;
        }
        Ok(Some(Appended { rows, not, lost }))
    }

    /// The main table's columns that are looked at.
    fn wanted(&self) -> Vec<usize> {
        let own = self.own();
        let corrections = self.stages.corrections.iter().flat_map(Corrections::columns);
        let asked = self.lookups().flat_map(Lookup::columns).chain(corrections);
        let overlaid = self.overlay().columns().iter().copied();
        asked.filter(|&column| column < own).chain(overlaid).collect()
    }

    /// Follows one row of a block through the lookups; where one takes from several reference rows,
    /// on the first of them.
    pub fn follow(&self, block: &Block, row: usize) -> Vec<Followed> {
        let mut asking = Asking::default();
        let overlay = self.overlay();
        let mut added = Block::new(overlay.len());
        overlay.columns().iter().for_each(|&column| added.push_cell(block.cell(row, column)));
        let mut all = Vec::new();
        for (lookup, taking) in &self.stages.lookups {
            let before = added;
            let row = Row::of(block, row).with(&before, 0).over(overlay);
            let answer = lookup.answer(row, &mut asking);
            let one = match answer {
                Answer::All { first, .. } if lookup.takes_every() => Some(first),
                Answer::Matched(holder) | Answer::Chosen { holder, .. } => Some(holder),
                _ => None,
            };
            added = Block::new(before.columns() + taking.cells.len());
            let earlier = Earlier { row, block: &before, nth: 0, overlay };
            let mut updated = Vec::new();
            let told = |one: &super::Updating, written, now: &str, new: &str| {
                updated.push((one.column, written, now.to_owned(), new.to_owned()));
            };
            let given = Given { answer, one, at: None, named: asking.named(), joined: None };
            taking.give(lookup, earlier, given, &mut added, told);
            all.push(Followed { added: before, answer, updated });
        }
        all
    }
}
