//! Counting the answers of a run, in the order of the main rows.

use super::{Counts, Kind, MainFinding, Recorder, SAMPLES, Sample};
use crate::lookup::{Answer, Lookup, RowId};
use crate::table::Block;

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
    /// The first main rows of each trouble: unmatched, ambiguous, blank key, malformed.
    samples: [Vec<Sample>; 4],
    /// Under the first row of each key, how often it was asked for.
    asked: Vec<u32>,
}

impl LookupFindings {
    /// The first main rows of a kind; none for a kind that is not a trouble of main rows.
    pub fn samples(&self, kind: Kind) -> &[Sample] {
        trouble(kind).map_or(&[], |at| &self.samples[at])
    }

    /// The reference rows that no main row asked for, in order. `lookup` is the one that these
    /// findings are of.
    pub fn unused<'a>(&'a self, lookup: &'a Lookup) -> impl Iterator<Item = RowId> + 'a {
        lookup.reference().unused(&self.asked)
    }
}

/// Where the samples of a kind are kept.
fn trouble(kind: Kind) -> Option<usize> {
    match kind {
        Kind::Unmatched => Some(0),
        Kind::Ambiguous => Some(1),
        Kind::BlankKey => Some(2),
        Kind::Malformed => Some(3),
        _ => None,
    }
}

/// The count of one lookup while the pass runs.
#[derive(Debug)]
pub(crate) struct Tally {
    nth: usize,
    counts: Counts,
    samples: [Vec<Sample>; 4],
    asked: Vec<u32>,
    /// Under the first row of each key, the main row that asked for it first; only while recording.
    asked_by: Vec<u64>,
}

impl Tally {
    pub(crate) fn new(nth: usize, lookup: &Lookup, recording: bool) -> Self {
        let rows = lookup.reference().rows() as usize;
        Self {
            nth,
            counts: Counts::default(),
            samples: Default::default(),
            asked: vec![0; rows],
            asked_by: if recording { vec![0; rows] } else { Vec::new() },
        }
    }

    /// Counts the answer of one main row.
    pub(crate) fn note<E>(
        &mut self,
        lookup: &Lookup,
        (block, row): (&Block, usize),
        answer: Answer,
        recorder: &mut Option<&mut dyn Recorder<Error = E>>,
    ) -> Result<(), E> {
        let mut chosen = None;
        let (kind, first) = match answer {
            Answer::Matched(first) | Answer::All(first) => (Kind::Matched, Some(first)),
            Answer::Chosen { first, row } => {
                chosen = Some(row);
                (Kind::Matched, Some(first))
            }
            Answer::Ambiguous(first) => (Kind::Ambiguous, Some(first)),
            Answer::Unmatched => (Kind::Unmatched, None),
            Answer::BlankKey => (Kind::BlankKey, None),
            Answer::Malformed => (Kind::Malformed, None),
        };
        self.counts.of[kind as usize] += 1;
        if let Some(at) = trouble(kind)
            && self.samples[at].len() < SAMPLES
        {
            let key: Vec<String> = lookup.key().as_read(block, row).map(str::to_owned).collect();
            let unreadable = lookup.key().unreadable(&key);
            self.samples[at].push(Sample {
                row: block.row_number(row),
                line: block.line(row),
                key,
                unreadable,
                candidates: first.map_or(Vec::new(), |f| lookup.reference().rows_of(f).collect()),
            });
        }
        let is_chosen = !matches!(answer, Answer::Matched(_) | Answer::Ambiguous(_))
            && first.is_some_and(|first| lookup.reference().is_conflicting(first));
        self.counts.of[Kind::Chosen as usize] += u64::from(is_chosen);
        let mut record = |kind, asked_by| match recorder {
            None => Ok(()),
            Some(recorder) => {
                let nth = self.nth;
                let finding =
                    MainFinding { nth, lookup, kind, block, row, first, chosen, asked_by };
                recorder.main_row(&finding)
            }
        };
        if kind != Kind::Matched {
            record(kind, None)?;
        }
        if is_chosen {
            record(Kind::Chosen, None)?;
        }
        let Some(first) = first else { return Ok(()) };
        let asked = &mut self.asked[first.index()];
        *asked = asked.saturating_add(1);
        if let Some(asked_by) = self.asked_by.get_mut(first.index()) {
            match *asked_by {
                0 => *asked_by = block.row_number(row),
                earlier => record(Kind::Repeated, Some(earlier))?,
            }
        }
        Ok(())
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
