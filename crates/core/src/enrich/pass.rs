//! The pass over the main table.
//!
//! Each block goes through the lookups one after the other. Between them stand its rows so far,
//! with the cells that were added to each: a lookup may use what an earlier one took, and one that
//! takes from every reference row makes several rows of one.

use super::Taking;
use crate::findings::{Findings, Recorder, Tally};
use crate::lookup::{Answer, Asking, Lookup};
use crate::table::{Block, Headers, Row, Sink, Source};

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
    /// How many of them have been counted.
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

/// How one lookup came to its answer for a row, and what it was given.
#[derive(Debug)]
pub struct Followed {
    /// The cells that earlier lookups have added to the row.
    pub added: Block,
    /// The answer.
    pub answer: Answer,
}

impl Answered {
    /// Counts the answers to one row of the block. The copies that an earlier lookup made of it are
    /// one row, unless they may differ in what this lookup asks with.
    fn tell<E>(
        &mut self,
        tally: &mut Tally,
        lookup: &Lookup,
        (block, row): (&Block, usize),
        recorder: &mut Option<&mut dyn Recorder<Error = E>>,
    ) -> Result<(), E> {
        let first = self.told;
        while self.rows.of.get(self.told) == Some(&row) {
            let nth = self.told;
            self.told += 1;
            if nth == first || tally.counts_copies() {
                let row = Row::of(block, row).with(&self.rows.added, nth);
                tally.note(lookup, row, self.answers[nth], recorder)?;
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

    /// Runs the main table through the lookups into the sink, and gives back what was found. A
    /// `recorder` is told every finding of a main row on the way.
    ///
    /// # Errors
    /// Those of the source, the sink and the recorder.
    pub fn run<E>(
        &self,
        main: &mut (impl Source<Error = E> + ?Sized),
        sink: &mut (impl Sink<Error = E> + ?Sized),
        mut recorder: Option<&mut dyn Recorder<Error = E>>,
    ) -> Result<Findings, E> {
        let recording = recorder.is_some();
        let tally = |(nth, lookup)| Tally::new(nth, lookup, self.is_chained(lookup), recording);
        let mut tallies: Vec<Tally> = self.lookups().enumerate().map(tally).collect();
        let (mut main_rows, mut written) = (0, 0);
        let mut block = Block::default();
        let mut stages: Vec<Answered> = self.lookups().map(|_| Answered::default()).collect();
        let (mut out, mut asking) = (Rows::default(), Asking::default());
        sink.write_headers(main.headers(), &self.added)?;
        while main.read_block(&mut block)? {
            self.answer(&block, &mut stages, &mut out, &mut asking);
            main_rows += block.rows() as u64;
            for stage in &mut stages {
                stage.told = 0;
            }
            for row in 0..block.rows() {
                for ((tally, lookup), stage) in
                    tallies.iter_mut().zip(self.lookups()).zip(&mut stages)
                {
                    stage.tell(tally, lookup, (&block, row), &mut recorder)?;
                }
            }
            written += out.of.len() as u64;
            sink.write_block(&block, &out.of, &out.added)?;
        }
        let lookups = tallies.into_iter().zip(self.lookups());
        let lookups = lookups.map(|(tally, lookup)| tally.finish(lookup)).collect();
        Ok(Findings { main_rows, written, lookups })
    }

    /// Answers every row of a block. Blocks don't depend on each other.
    fn answer(&self, block: &Block, stages: &mut [Answered], out: &mut Rows, asking: &mut Asking) {
        out.of.clear();
        out.of.extend(0..block.rows());
        out.added.reset(0);
        let mut keeps: Vec<bool> = Vec::new();
        for ((lookup, taking), stage) in self.lookups.iter().zip(stages) {
            std::mem::swap(&mut stage.rows, out);
            stage.answers.clear();
            out.of.clear();
            out.added.reset(stage.rows.added.columns() + taking.cells.len());
            let mut kept = Vec::new();
            for (nth, &of) in stage.rows.of.iter().enumerate() {
                let row = Row::of(block, of).with(&stage.rows.added, nth);
                let answer = lookup.answer(row, asking);
                stage.answers.push(answer);
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
                        let rows = lookup.reference().rows_among(&holders);
                        let first_of = |row| {
                            holders.iter().find(|&&holder| lookup.reference().row(holder) == row)
                        };
                        rows.into_iter().filter_map(first_of).for_each(|&holder| add(Some(holder)));
                    }
                    Answer::Matched(holder) | Answer::Chosen { holder, .. } => add(Some(holder)),
                    _ => add(None),
                }
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
