//! Counting the answers of a run, in the order of the main rows.

use super::{Counts, Kind, MainFinding, Recorder, SAMPLES, Sample};
use crate::lookup::{Answer, Lookup, Miss, RowId};
use crate::table::Row;

/// What was found in a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Findings {
    /// How many rows the main table has.
    pub main_rows: u64,
    /// How many rows the output has.
    pub written: u64,
    /// What was found for each reference, in order.
    pub lookups: Vec<LookupFindings>,
}

/// What was found for one reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LookupFindings {
    /// How often each kind occurs.
    pub counts: Counts,
    /// The first main rows of each trouble.
    samples: [Vec<Sample>; TROUBLES.len()],
    /// How often each key was asked for.
    asked: Vec<u32>,
}

/// The troubles of main rows, of which samples are kept.
const TROUBLES: [Kind; 5] =
    [Kind::Unmatched, Kind::NoHeader, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed];

impl LookupFindings {
    /// The first main rows of a kind; none for a kind that is not a trouble of main rows.
    pub fn samples(&self, kind: Kind) -> &[Sample] {
        let at = TROUBLES.iter().position(|trouble| *trouble == kind);
        at.map_or(&[], |at| &self.samples[at])
    }

    /// The reference rows that no main row asked for, in order. `lookup` is the one that these
    /// findings are of.
    pub fn unused<'a>(&'a self, lookup: &'a Lookup) -> impl Iterator<Item = RowId> + 'a {
        lookup.reference().unused(&self.asked)
    }
}

/// The count of one lookup while the pass runs.
#[derive(Debug)]
pub(crate) struct Tally {
    nth: usize,
    counts_copies: bool,
    counts: Counts,
    samples: [Vec<Sample>; TROUBLES.len()],
    /// How often each key was asked for, under its first holder; where ranges tell which rows
    /// count, under each of them.
    asked: Vec<u32>,
    /// Under the first holder of each key, the main row that asked for it first; only while
    /// recording.
    asked_by: Vec<u64>,
}

impl Tally {
    pub(crate) fn new(nth: usize, lookup: &Lookup, counts_copies: bool, recording: bool) -> Self {
        let holders = lookup.reference().holder_count();
        Self {
            nth,
            counts_copies,
            counts: Counts::default(),
            samples: Default::default(),
            asked: vec![0; holders],
            asked_by: if recording { vec![0; holders] } else { Vec::new() },
        }
    }

    /// Whether each copy of a row that an earlier lookup repeated counts as a row, since they may
    /// ask for different keys.
    pub(crate) fn counts_copies(&self) -> bool {
        self.counts_copies
    }

    /// Counts the answer of one main row.
    pub(crate) fn note<E>(
        &mut self,
        lookup: &Lookup,
        row: Row<'_>,
        answer: Answer,
        recorder: &mut Option<&mut dyn Recorder<Error = E>>,
    ) -> Result<(), E> {
        let (kind, also) = match answer {
            Answer::Matched(_) | Answer::All { disagree: false, .. } => (Kind::Matched, None),
            Answer::Chosen { .. } | Answer::All { .. } => (Kind::Matched, Some(Kind::Chosen)),
            Answer::Ambiguous(_) => (Kind::Ambiguous, None),
            Answer::Unmatched(Miss::Header) => (Kind::Unmatched, Some(Kind::NoHeader)),
            Answer::Unmatched(miss) => {
                self.counts.out_of_range += u64::from(matches!(miss, Miss::Range(_)));
                (Kind::Unmatched, None)
            }
            Answer::BlankKey => (Kind::BlankKey, None),
            Answer::Malformed => (Kind::Malformed, None),
        };
        for kind in [Some(kind), also].into_iter().flatten() {
            self.counts.of[kind as usize] += 1;
            if kind != Kind::Matched {
                self.record(lookup, row, (answer, kind), recorder)?;
            }
        }
        let (Answer::Matched(first)
        | Answer::Chosen { first, .. }
        | Answer::All { first, .. }
        | Answer::Ambiguous(first)) = answer
        else {
            return Ok(());
        };
        if lookup.value().is_some() {
            for holder in lookup.holders(row, answer) {
                let asked = &mut self.asked[holder.index()];
                *asked = asked.saturating_add(1);
            }
        } else {
            let asked = &mut self.asked[first.index()];
            *asked = asked.saturating_add(1);
        }
        if let (Some(recorder), Some(asked_by)) = (recorder, self.asked_by.get_mut(first.index())) {
            match *asked_by {
                0 => *asked_by = row.number(),
                earlier => {
                    let (nth, kind) = (self.nth, Kind::Repeated);
                    let asked_by = Some(earlier);
                    recorder.main_row(&MainFinding { nth, lookup, kind, row, answer, asked_by })?;
                }
            }
        }
        Ok(())
    }

    /// Keeps a sample of a trouble, and tells the recorder of it.
    #[cold]
    fn record<E>(
        &mut self,
        lookup: &Lookup,
        row: Row<'_>,
        (answer, kind): (Answer, Kind),
        recorder: &mut Option<&mut dyn Recorder<Error = E>>,
    ) -> Result<(), E> {
        if let Some(at) = TROUBLES.iter().position(|trouble| *trouble == kind)
            && self.samples[at].len() < SAMPLES
        {
            self.samples[at].push(Sample::of(lookup, row, answer));
        }
        let nth = self.nth;
        match recorder {
            None => Ok(()),
            Some(recorder) => {
                recorder.main_row(&MainFinding { nth, lookup, kind, row, answer, asked_by: None })
            }
        }
    }

    /// The findings, once every main row is counted.
    pub(crate) fn finish(mut self, lookup: &Lookup) -> LookupFindings {
        let reference = lookup.reference();
        let counts = &mut self.counts;
        for group in reference.groups() {
            let kind = if group.conflicting { Kind::Conflicting } else { Kind::Duplicate };
            counts.of[kind as usize] += 1;
            counts.of[Kind::Collapsed as usize] += u64::from(group.collapsed);
        }
        counts.of[Kind::Unused as usize] = reference.unused(&self.asked).count() as u64;
        let repeated = self.asked.iter().filter(|&&times| times > 1);
        counts.of[Kind::Repeated as usize] = repeated.count() as u64;
        counts.main_rows = Kind::OUTCOMES.iter().map(|&kind| counts.of(kind)).sum();
        counts.reference_rows = reference.rows();
        counts.reference_keys = reference.keys();
        counts.keyless_rows = reference.keyless().len() as u64;
        counts.malformed_rows = reference.malformed().len() as u64;
        LookupFindings { counts: self.counts, samples: self.samples, asked: self.asked }
    }
}
