//! The pass over the main table.

use crate::findings::{Findings, Recorder, Tally};
use crate::lookup::{Answer, Lookup};
use crate::table::{Block, Sink, Source};
use crate::template::Work;

/// Lookups ready to be run over a main table.
#[derive(Debug)]
pub struct Enrichment {
    lookups: Vec<Lookup>,
    added: Vec<String>,
}

/// What the lookups say of the rows of one block.
#[derive(Debug, Default)]
struct Answered {
    /// The answers of the first row, in the order of the lookups, then those of the second, …
    answers: Vec<Answer>,
    /// The taken cells of every row.
    added: Block,
    /// Working space for a key, and for its parts.
    key: String,
    work: Work,
}

impl Enrichment {
    /// Puts lookups together, with the headers of all columns that they add, in order.
    pub fn new(lookups: Vec<Lookup>, added: Vec<String>) -> Self {
        Self { lookups, added }
    }

    /// The lookups, in order.
    pub fn lookups(&self) -> &[Lookup] {
        &self.lookups
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
        let mut tallies: Vec<Tally> = self.lookups.iter().enumerate().map(tally).collect();
        let mut main_rows = 0;
        let mut block = Block::default();
        let mut answered = Answered::default();
        sink.write_headers(main.headers(), &self.added)?;
        while main.read_block(&mut block)? {
            self.answer(&block, &mut answered);
            main_rows += block.rows() as u64;
            let mut answers = answered.answers.iter();
            for row in 0..block.rows() {
                for ((tally, lookup), answer) in
                    tallies.iter_mut().zip(&self.lookups).zip(&mut answers)
                {
                    tally.note(lookup, (&block, row), *answer, &mut recorder)?;
                }
            }
            sink.write_block(&block, &answered.added)?;
        }
        let lookups = tallies.into_iter().zip(&self.lookups);
        let lookups = lookups.map(|(tally, lookup)| tally.finish(lookup)).collect();
        Ok(Findings { main_rows, lookups })
    }

    /// Answers every row of a block. Blocks don't depend on each other.
    fn answer(&self, block: &Block, answered: &mut Answered) {
        let Answered { answers, added, key, work } = answered;
        answers.clear();
        added.reset(self.added.len());
        for row in 0..block.rows() {
            for lookup in &self.lookups {
                let answer = lookup.answer(block, row, key, work);
                match answer {
                    Answer::Matched(first) => {
                        lookup
                            .reference()
                            .taken_cells(first)
                            .for_each(|cell| added.push_cell(cell));
                    }
                    Answer::Ambiguous(_)
                    | Answer::Unmatched
                    | Answer::BlankKey
                    | Answer::Malformed => {
                        lookup.reference().taken().iter().for_each(|_| added.push_cell(""));
                    }
                }
                answers.push(answer);
            }
        }
    }
}
