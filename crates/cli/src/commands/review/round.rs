//! One pass over the tables with the answers so far, and the questions it leaves.

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::{AddedCell, Enrichment};
use gather_keys_core::findings::Findings;
use gather_keys_core::lookup::Lookup;
use gather_keys_core::review::{Gatherer, Question, questions};
use gather_keys_core::table::{Discard, Headers, Source};

use crate::call::Call;
use crate::diagnoses::diagnoses;
use crate::error::Result;
use crate::inputs::{Inputs, Loaded};
use crate::typed::Asked;

/// A pass, and what it found.
pub(super) struct Round {
    pub(super) main: Headers,
    pub(super) enrichment: Enrichment,
    pub(super) findings: Findings,
    pub(super) gathered: Gatherer<gather_keys_formats::Error>,
    pub(super) diagnoses: Vec<Option<Diagnosis>>,
}

impl Round {
    /// Passes the main table through its lookups.
    pub(super) fn pass(asked: &Asked, call: &Call) -> Result<Self> {
        let inputs = Inputs::open(call, None).map_err(|error| asked.located(error))?;
        let Loaded { mut main, mut enrichment, seen, .. } =
            inputs.load(call, call.threads, None)?;
        let mut gathered = Gatherer::new(enrichment.lookups().len());
        let findings = enrichment.run(
            &mut main,
            &mut Discard::default(),
            Some(&mut gathered),
            call.threads,
        )?;
        let diagnoses = diagnoses(call, &enrichment, &findings, &seen)?;
        let main = main.headers().clone();
        Ok(Self { main, enrichment, findings, gathered, diagnoses })
    }

    /// The questions that are left, but for the settled ones.
    pub(super) fn questions(
        &self,
        threads: usize,
        is_settled: impl Fn(&Question) -> bool,
    ) -> Vec<Question> {
        questions(&self.enrichment, &self.findings, &self.gathered, threads, is_settled)
    }

    /// How many rows have keys that are not asked about, because there are too many different ones.
    pub(super) fn beyond(&self) -> u64 {
        let unmatched = self.findings.lookups.iter().map(|found| found.unmatched.beyond());
        unmatched.sum::<u64>() + self.gathered.beyond()
    }

    /// The lookup that a question is about.
    pub(super) fn lookup(&self, question: &Question) -> &Lookup {
        // The questions are those of this round.
        #[allow(clippy::expect_used)]
        self.enrichment.lookups().nth(question.lookup).expect("a question is of one of the lookups")
    }

    /// Whether a lookup takes one of the reference's taken columns for a row that names some.
    pub(super) fn takes(&self, lookup: usize, place: usize, named: &[usize]) -> bool {
        let output = self.enrichment.row_outputs().nth(lookup);
        output.is_some_and(|output| {
            let added = output.cells.iter().any(|cell| match cell {
                AddedCell::Taken(nth) => *nth == place,
                AddedCell::Named(nth) => named.get(*nth) == Some(&place),
                AddedCell::Mark(_) => false,
            });
            added || output.updates.iter().any(|update| update.taken == place)
        })
    }
}
