//! The pass over the main table.
//!
//! Each block goes through the lookups one after the other. Between them stand its rows so far,
//! with the cells that were added to each: a lookup may use what an earlier one took, and one that
//! takes from every reference row makes several rows of one. Blocks don't depend on each other, so
//! that several are at work at once; what must be told in order is told when a block's turn comes.

use super::Taking;
use crate::Error;
use crate::findings::{Findings, Recorder, Tallied, Tally};
use crate::lookup::{Answer, Asking, Lookup};
use crate::table::in_order::in_order;
use crate::table::{Block, Headers, Rendered, Renderer, Row, Sink, Source};

/// Lookups ready to be run over a main table.
#[derive(Debug)]
pub struct Enrichment {
    lookups: Vec<(Lookup, Taking)>,
    headers: Headers,
    added: Vec<String>,
}

/// What one lookup says of the rows of a block.
#[derive(Debug, Default)]
struct Answered {
    /// The answer of each row that came to it.
    answers: Vec<Answer>,
    /// The rows that came to it.
    rows: Rows,
    /// How often each finding occurs among them.
    tallied: Tallied,
    /// How many of them have been told.
    told: usize,
}

/// The rows of a block on their way through the lookups.
#[derive(Debug, Default)]
struct Rows {
    /// For each, the row of the block that it is made of, in order; one may come several times.
    of: Vec<usize>,
    /// The cells that were added to each so far.
    added: Block,
}

/// What a thread works with; kept from block to block.
struct Space<R> {
    stages: Vec<Answered>,
    out: Rows,
    asking: Asking,
    rendered: R,
}

/// How one lookup came to its answer for a row, and what it was given.
#[derive(Debug)]
pub struct Followed {
    /// The cells that earlier lookups have added to the row.
    pub added: Block,
    /// The answer.
    pub answer: Answer,
}

impl Answered {
    /// The answers to be counted, each with its place. The copies that an earlier lookup made of a
    /// row are one row, unless they may differ in what this lookup asks with.
    fn counted(&self, copies: bool) -> impl Iterator<Item = (usize, Answer)> + '_ {
        let rows = self.rows.of.iter().enumerate();
        let is_first = move |(nth, row): &(usize, &usize)| {
            copies || *nth == 0 || self.rows.of[nth - 1] != **row
        };
        rows.filter(is_first).map(|(nth, _)| (nth, self.answers[nth]))
    }

    /// Tells of the answers to one row of the block.
    fn tell<E>(
        &mut self,
        tally: &mut Tally,
        lookup: &Lookup,
        (block, row): (&Block, usize),
        recorder: &mut Option<&mut (dyn Recorder<Error = E> + Send)>,
    ) -> Result<(), E> {
        let first = self.told;
        while self.rows.of.get(self.told) == Some(&row) {
            let nth = self.told;
            self.told += 1;
            if nth == first || tally.counts_copies() {
                let row = Row::of(block, row).with(&self.rows.added, nth);
                tally.tell(lookup, row, self.answers[nth], recorder)?;
            }
        }
        Ok(())
    }
}

impl Enrichment {
    /// Puts lookups together, each with what it adds, and with the headers of all added columns, in
    /// order.
    pub fn new(lookups: Vec<(Lookup, Taking)>, main: &Headers, added: Vec<String>) -> Self {
        let headers = main.clone().with(&added);
        Self { lookups, headers, added }
    }

    /// The lookups, in order.
    pub fn lookups(&self) -> impl ExactSizeIterator<Item = &Lookup> + Clone {
        self.lookups.iter().map(|(lookup, _)| lookup)
    }

    /// The main table's headers, with those of the added columns behind them.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// The headers of the columns they add.
    pub fn added(&self) -> &[String] {
        &self.added
    }

    /// Whether a lookup uses a column that an earlier one added.
    pub fn is_chained(&self, lookup: &Lookup) -> bool {
        let own = self.headers.len() - self.added.len();
        lookup.columns().iter().any(|&column| column >= own)
    }

    /// Runs the main table through the lookups into the sink on so many threads, and gives back what
    /// was found. A `recorder` is told every finding of a main row on the way. What comes out does
    /// not depend on the number of threads.
    ///
    /// # Errors
    /// Those of the source, the sink and the recorder, and [`Error::TooManyCopies`].
    pub fn run<S, K>(
        &self,
        main: &mut S,
        sink: &mut K,
        mut recorder: Option<&mut (dyn Recorder<Error = S::Error> + Send)>,
        threads: usize,
    ) -> Result<Findings, S::Error>
    where
        S: Source<Error: From<Error> + Send> + Send,
        K: Sink<Error = S::Error> + Send,
    {
        let recording = recorder.is_some();
        let tally = |(nth, lookup)| Tally::new(nth, lookup, self.is_chained(lookup), recording);
        let mut tallies: Vec<Tally> = self.lookups().enumerate().map(tally).collect();
        let asked: Vec<_> = tallies.iter().map(Tally::asked).collect();
        let (mut main_rows, mut written) = (0, 0);
        let main_name = main.headers().table().to_owned();
        sink.write_headers(main.headers(), &self.added)?;
        let renderer = sink.renderer();
        let space = || Space {
            stages: self.lookups().map(|_| Answered::default()).collect(),
            out: Rows::default(),
            asking: Asking::default(),
            rendered: Rendered::<K>::default(),
        };
        let work = |space: &mut Space<Rendered<K>>, block: &Block| {
            let Space { stages, out, asking, rendered } = space;
            self.answer(block, stages, out, asking);
            if out.added.is_too_large() {
                // The run ends when the block's turn comes.
                return;
            }
            for ((stage, lookup), asked) in stages.iter_mut().zip(self.lookups()).zip(&asked) {
                let mut tallied = std::mem::take(&mut stage.tallied);
                tallied.clear();
                for (nth, answer) in stage.counted(self.is_chained(lookup)) {
                    let row = || Row::of(block, stage.rows.of[nth]).with(&stage.rows.added, nth);
                    tallied.count(lookup, asked, answer, nth, row);
                }
                stage.tallied = tallied;
            }
            renderer.render(block, &out.of, &out.added, rendered);
        };
        let hand_on = |space: &mut Space<Rendered<K>>, block: &Block| {
            let Space { stages, out, rendered, .. } = space;
            if out.added.is_too_large() {
                let table = main_name.clone();
                return Err(Error::TooManyCopies { table, row: block.row_number(0) }.into());
            }
            main_rows += block.rows() as u64;
            written += out.of.len() as u64;
            for (tally, stage) in tallies.iter_mut().zip(&mut *stages) {
                tally.add(&stage.tallied);
                stage.told = 0;
            }
            if recording {
                for row in 0..block.rows() {
                    let stages = stages.iter_mut();
                    for ((tally, lookup), stage) in
                        tallies.iter_mut().zip(self.lookups()).zip(stages)
                    {
                        stage.tell(tally, lookup, (block, row), &mut recorder)?;
                    }
                }
            } else {
                for ((tally, lookup), stage) in tallies.iter_mut().zip(self.lookups()).zip(stages) {
                    for &nth in stage.tallied.troubles() {
                        if tally.has_all_samples() {
                            break;
                        }
                        let row = Row::of(block, stage.rows.of[nth]).with(&stage.rows.added, nth);
                        tally.tell(lookup, row, stage.answers[nth], &mut recorder)?;
                    }
                }
            }
            sink.write(rendered)
        };
        // A match by position must know where a row stands while it is worked on.
        let by_position = self.lookups().any(|lookup| lookup.reference().is_by_position());
        let threads = if by_position { 1 } else { threads };
        in_order(main, threads, &self.wanted(), space, work, hand_on)?;
        let lookups = tallies.into_iter().zip(self.lookups());
        let lookups = lookups.map(|(tally, lookup)| tally.finish(lookup)).collect();
        Ok(Findings { main_rows, written, lookups })
    }

    /// The main table's columns that are looked at.
    fn wanted(&self) -> Vec<usize> {
        let own = self.headers.len() - self.added.len();
        self.lookups().flat_map(Lookup::columns).filter(|&column| column < own).collect()
    }

    /// Answers every row of a block. Blocks don't depend on each other.
    fn answer(&self, block: &Block, stages: &mut [Answered], out: &mut Rows, asking: &mut Asking) {
        out.of.clear();
        out.of.extend(0..block.rows());
        out.added.reset(0);
        let mut keeps: Vec<bool> = Vec::new();
        for ((lookup, taking), stage) in self.lookups.iter().zip(stages) {
            std::mem::swap(&mut stage.rows, out);
            out.of.clear();
            out.added.reset(stage.rows.added.columns() + taking.cells.len());
            let mut kept = Vec::new();
            let row = |nth: usize| Row::of(block, stage.rows.of[nth]).with(&stage.rows.added, nth);
            lookup.answer_all(stage.rows.of.len(), row, asking, &mut stage.answers);
            let names = !lookup.namings().is_empty();
            for (nth, &of) in stage.rows.of.iter().enumerate() {
                if out.added.is_too_large() {
                    break;
                }
                let (row, answer) = (row(nth), stage.answers[nth]);
                if names {
                    lookup.name_columns(row, asking);
                }
                let keep = taking.keeps(answer) && keeps.get(nth).is_none_or(|keep| *keep);
                let mut add = |one| {
                    out.added.push_cells_of(&stage.rows.added, nth);
                    taking.add(lookup, row, (answer, one), asking.named(), &mut out.added);
                    out.of.push(of);
                    if !keep || !kept.is_empty() {
                        kept.resize(out.of.len() - 1, true);
                        kept.push(keep);
                    }
                };
                match answer {
                    Answer::All { .. } if lookup.takes_every() => {
                        let holders = lookup.holders(row, answer);
                        let each = lookup.reference().first_in_rows(&holders);
                        for holder in each {
                            add(Some(holder));
                        }
                    }
                    Answer::Matched(holder) | Answer::Chosen { holder, .. } => add(Some(holder)),
                    _ => add(None),
                }
            }
            if out.added.is_too_large() {
                return;
            }
            keeps = kept;
        }
        if keeps.contains(&false) {
            let all = std::mem::take(out);
            out.added.reset(all.added.columns());
            for (nth, &of) in all.of.iter().enumerate() {
                if keeps.get(nth).is_none_or(|keep| *keep) {
                    out.of.push(of);
                    out.added.push_cells_of(&all.added, nth);
                }
            }
        }
    }

    /// Follows one row of a block through the lookups; where one takes from several reference rows,
    /// on the first of them.
    pub fn follow(&self, block: &Block, row: usize) -> Vec<Followed> {
        let mut asking = Asking::default();
        let mut added = Block::new(0);
        let mut all = Vec::new();
        for (lookup, taking) in &self.lookups {
            let before = added;
            let row = Row::of(block, row).with(&before, 0);
            let answer = lookup.answer(row, &mut asking);
            let one = match answer {
                Answer::All { first, .. } if lookup.takes_every() => Some(first),
                Answer::Matched(holder) | Answer::Chosen { holder, .. } => Some(holder),
                _ => None,
            };
            added = Block::new(before.columns() + taking.cells.len());
            added.push_cells_of(&before, 0);
            taking.add(lookup, row, (answer, one), asking.named(), &mut added);
            all.push(Followed { added: before, answer });
        }
        all
    }
}
