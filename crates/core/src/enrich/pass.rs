//! The pass over the main table.

use super::Taking;
use crate::findings::{Findings, Recorder, Tally};
use crate::lookup::{Answer, Lookup, Rule};
use crate::table::{Block, Sink, Source};
use crate::template::Work;

/// Lookups ready to be run over a main table.
#[derive(Debug)]
pub struct Enrichment {
    lookups: Vec<(Lookup, Taking)>,
    added: Vec<String>,
}

/// What the lookups say of the rows of one block.
#[derive(Debug, Default)]
struct Answered {
    /// The answers of the first row, in the order of the lookups, then those of the second, …
    answers: Vec<Answer>,
    /// The rows of the block that go into the output, in order; one may come several times.
    rows: Vec<usize>,
    /// The added cells of every output row.
    added: Block,
    /// Working space for a key, and for its parts.
    key: String,
    work: Work,
}

impl Enrichment {
    /// Puts lookups together, each with what it adds, and with the headers of all added columns, in
    /// order.
    pub fn new(lookups: Vec<(Lookup, Taking)>, added: Vec<String>) -> Self {
        Self { lookups, added }
    }

    /// The lookups, in order.
    pub fn lookups(&self) -> impl ExactSizeIterator<Item = &Lookup> + Clone {
        self.lookups.iter().map(|(lookup, _)| lookup)
    }

    /// The headers of the columns they add.
    pub fn added(&self) -> &[String] {
        &self.added
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
        let tally = |(nth, lookup)| Tally::new(nth, lookup, recording);
        let mut tallies: Vec<Tally> = self.lookups().enumerate().map(tally).collect();
        let (mut main_rows, mut written) = (0, 0);
        let mut block = Block::default();
        let mut answered = Answered::default();
        sink.write_headers(main.headers(), &self.added)?;
        while main.read_block(&mut block)? {
            self.answer(&block, &mut answered);
            main_rows += block.rows() as u64;
            let mut answers = answered.answers.iter();
            for row in 0..block.rows() {
                for ((tally, lookup), answer) in
                    tallies.iter_mut().zip(self.lookups()).zip(&mut answers)
                {
                    tally.note(lookup, (&block, row), *answer, &mut recorder)?;
                }
            }
            written += answered.rows.len() as u64;
            sink.write_block(&block, &answered.rows, &answered.added)?;
        }
        let lookups = tallies.into_iter().zip(self.lookups());
        let lookups = lookups.map(|(tally, lookup)| tally.finish(lookup)).collect();
        Ok(Findings { main_rows, written, lookups })
    }

    /// Answers every row of a block. Blocks don't depend on each other.
    fn answer(&self, block: &Block, answered: &mut Answered) {
        let Answered { answers, rows, added, key, work } = answered;
        answers.clear();
        rows.clear();
        added.reset(self.added.len());
        for row in 0..block.rows() {
            let from = answers.len();
            for (lookup, _) in &self.lookups {
                answers.push(lookup.answer(block, row, key, work));
            }
            let answers = &answers[from..];
            let mut kept = self.lookups.iter().zip(answers);
            if kept.all(|((_, taking), &answer)| taking.keeps(answer)) {
                self.write_out((block, row), answers, rows, added);
            }
        }
    }

    /// Adds the output rows of one main row: one, unless a lookup takes from every reference row;
    /// then one for each, and where several lookups do, for each combination.
    fn write_out(
        &self,
        (block, row): (&Block, usize),
        answers: &[Answer],
        rows: &mut Vec<usize>,
        added: &mut Block,
    ) {
        let every = |(lookup, answer): (&Lookup, Answer)| match answer {
            Answer::All(first) if lookup.reference().rule() == Rule::Every => {
                Some(lookup.reference().rows_of(first).count())
            }
            _ => None,
        };
        let lookups = || self.lookups.iter().zip(answers.iter().copied());
        let copies: usize = lookups().filter_map(|((l, _), answer)| every((l, answer))).product();
        for copy in 0..copies {
            // The last lookup's rows change fastest.
            let mut per = copies;
            for ((lookup, taking), answer) in lookups() {
                let one = match (answer, every((lookup, answer))) {
                    (Answer::All(first), Some(count)) => {
                        per /= count;
                        lookup.reference().rows_of(first).nth(copy / per % count)
                    }
                    (Answer::Matched(row) | Answer::Chosen { row, .. }, _) => Some(row),
                    _ => None,
                };
                taking.add(lookup, (block, row), answer, one, added);
            }
            rows.push(row);
        }
    }
}
