//! Counting the answers of a run. Counts are made block by block, by several threads; samples and
//! single findings are reported in the order of the main rows.

use std::collections::BTreeSet;

use super::requested_rows::{RequestedRows, at_hand, placed};
use super::unmatched::Collecting;
use super::{
    Appended, AskedBy, Corrected, Counts, Kind, MainFinding, Recorder, RequestCounts, SAMPLES,
    Sample, UnmatchedKeys, WrittenCounts,
};
use crate::lookup::{Answer, EntryId, Group, KeyStatistics, Lookup, Miss, Reference, RowId};
use crate::table::{Row, TotalRow};

/// The findings of a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Findings {
    /// How many rows the main table has.
    pub main_rows: u64,
    /// How many rows the output has.
    pub written: u64,
    /// The findings of each reference, in order.
    pub lookups: Vec<LookupFindings>,
    /// The outcome of each correction.
    pub corrected: Vec<Corrected>,
    /// The last main row, if it has no answer and looks like a total.
    pub total_row: Option<TotalRow>,
}

/// The findings of one reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LookupFindings {
    /// How often each kind occurs.
    pub counts: Counts,
    /// The first main rows of each trouble.
    pub(super) samples: [Vec<Sample>; TROUBLES.len()],
    /// How often each key was asked for.
    pub(super) asked: RequestCounts,
    /// The columns that are blank in rows with a blank key, in the order of [`Lookup::columns`].
    pub blank_columns: Vec<usize>,
    /// The keys that no reference row holds, where they were to be kept.
    pub unmatched: UnmatchedKeys,
    /// The outcomes of the cells of each updated column, in the order of the plan.
    pub updates: Vec<UpdateFindings>,
    /// The rows that were added from the reference, where it is to be so.
    pub appended: Option<Appended>,
}

/// The outcomes of the cells of an updated column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UpdateFindings {
    /// The column: one of the main table's own, or a later number for one that a lookup added.
    pub column: usize,
    /// The outcomes of its cells, in rows that the lookup answers and that go out.
    pub written: WrittenCounts,
}

/// The troubles of main rows, of which samples are kept.
pub(super) const TROUBLES: [Kind; 5] =
    [Kind::Unmatched, Kind::NoHeader, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed];

impl LookupFindings {
    /// The first main rows of a kind; none for a kind that is not a trouble of main rows.
    pub fn samples(&self, kind: Kind) -> &[Sample] {
        let at = TROUBLES.iter().position(|trouble| *trouble == kind);
        at.map_or(&[], |at| &self.samples[at])
    }

    /// The keys of the reference that several rows hold; where only rows are kept that are asked for,
    /// those of them that are. `lookup` is the one that these findings are of.
    pub fn groups<'a>(&'a self, lookup: &'a Lookup) -> impl Iterator<Item = Group> + 'a {
        let reference = lookup.reference();
        reference.groups().filter(|group| is_told(reference, group, &self.asked))
    }

    /// How often a key was asked for, whose first entry is given.
    pub(crate) fn asked(&self, first: EntryId) -> u64 {
        self.asked.of(first)
    }

    /// The reference rows that no main row asked for, in order, as far as they are kept. `lookup` is
    /// the one that these findings are of.
    pub fn unused<'a>(&'a self, lookup: &'a Lookup) -> impl Iterator<Item = RowId> + 'a {
        lookup.reference().unused(|entry| self.asked.has(entry))
    }
}

/// Whether a key that several rows hold is reported. Where rows that nothing asks for are not kept,
/// some may be there all the same.
fn is_told(reference: &Reference, group: &Group, asked: &RequestCounts) -> bool {
    !reference.is_filtered() || asked.has(group.entries[0])
}

/// The counts of one lookup in one block; blocks are counted in any order.
#[derive(Debug, Default)]
pub(crate) struct Tallied {
    of: [u64; Kind::ALL.len()],
    out_of_range: u64,
    /// The columns that are blank where a key is, by their places in [`Lookup::columns`].
    blank_columns: BTreeSet<usize>,
    /// The places of answers that are a trouble.
    troubles: Vec<usize>,
    /// The first entry of each key that was asked for; where ranges tell which rows count, each of
    /// them.
    asked: Vec<EntryId>,
}

impl Tallied {
    pub(crate) fn clear(&mut self) {
        self.of = Default::default();
        self.out_of_range = 0;
        self.blank_columns.clear();
        self.troubles.clear();
        self.asked.clear();
    }

    /// The places of answers that are a trouble.
    pub(crate) fn troubles(&self) -> &[usize] {
        &self.troubles
    }

    /// Counts answers, each with its place, whose rows are given by these.
    pub(crate) fn count_all<'a>(
        &mut self,
        lookup: &Lookup,
        answers: impl Iterator<Item = (usize, Answer)>,
        row: impl Fn(usize) -> Row<'a>,
    ) {
        let is_settled = lookup.range_value().is_none();
        let mut matched = 0;
        for (place, answer) in answers {
            match answer {
                Answer::Matched(first) if is_settled => {
                    matched += 1;
                    self.asked.push(first);
                }
                _ => self.count(lookup, answer, place, || row(place)),
            }
        }
        self.of[Kind::Matched as usize] += matched;
    }

    /// Counts the answer at a place.
    fn count<'a>(
        &mut self,
        lookup: &Lookup,
        answer: Answer,
        place: usize,
        row: impl FnOnce() -> Row<'a>,
    ) {
        let (kind, also) = kinds(answer);
        self.of[kind as usize] += 1;
        if let Some(also) = also {
            self.of[also as usize] += 1;
        }
        if kind != Kind::Matched {
            self.troubles.push(place);
        }
        if let Answer::Unmatched(Miss::Range(_)) = answer {
            self.out_of_range += 1;
        }
        let Some(first) = answer.first() else {
            if answer == Answer::BlankKey {
                self.blank_columns.extend(lookup.blank_columns(row()));
            }
            return;
        };
        if lookup.range_value().is_none() {
            self.asked.push(first);
            return;
        }
        self.asked.extend(lookup.entries(row(), answer));
    }
}

/// The kind of an answer, and another that is a part of it.
fn kinds(answer: Answer) -> (Kind, Option<Kind>) {
    match answer {
        Answer::Matched(_) | Answer::All { disagree: false, .. } => (Kind::Matched, None),
        Answer::Chosen { .. } | Answer::All { .. } => (Kind::Matched, Some(Kind::Chosen)),
        Answer::Ambiguous(_) => (Kind::Ambiguous, None),
        Answer::Unmatched(Miss::Header) => (Kind::Unmatched, Some(Kind::NoHeader)),
        Answer::Unmatched(_) => (Kind::Unmatched, None),
        Answer::BlankKey => (Kind::BlankKey, None),
        Answer::Malformed => (Kind::Malformed, None),
    }
}

/// The count of one lookup while the pass runs.
#[derive(Debug)]
pub(crate) struct Tally {
    nth: usize,
    counts_copies: bool,
    counts: Counts,
    blank_columns: BTreeSet<usize>,
    samples: [Vec<Sample>; TROUBLES.len()],
    sampled: usize,
    /// How many samples of each trouble tell of rows by their place in the table, since those of a
    /// reference are available only in part.
    placed: [usize; TROUBLES.len()],
    /// How often each key was asked for.
    asked: RequestCounts,
    /// Under the first entry of each key, the main row that asked for it first; only while
    /// recording.
    asked_by: Vec<u64>,
    /// The unmatched keys, where they are to be kept.
    unmatched: Option<Collecting>,
}

impl Tally {
    pub(crate) fn new(nth: usize, lookup: &Lookup, counts_copies: bool, recording: bool) -> Self {
        let entries = lookup.reference().entry_count();
        Self {
            nth,
            counts_copies,
            counts: Counts::default(),
            blank_columns: BTreeSet::new(),
            samples: Default::default(),
            sampled: SAMPLES,
            placed: Default::default(),
            asked: RequestCounts::none(entries),
            asked_by: if recording { vec![0; entries] } else { Vec::new() },
            unmatched: None,
        }
    }

    /// Keeps `sampled` samples of each kind of finding.
    pub(crate) fn sampling(mut self, sampled: usize) -> Self {
        self.sampled = sampled;
        self
    }

    /// Keeps every unmatched key, so that its reason can be found.
    pub(crate) fn keeping_unmatched(mut self, lookup: &Lookup) -> Self {
        let has_key = !lookup.reference().is_by_position();
        self.unmatched = has_key.then(Collecting::new);
        self
    }

    /// How often each key was asked for by now.
    pub(crate) fn requested(&self) -> &RequestCounts {
        &self.asked
    }

    /// Begins to count requests for the rows that are in memory now.
    pub(crate) fn begin_window(&mut self, reference: &Reference) {
        self.asked = RequestCounts::none(reference.entry_count());
    }

    /// Ends the count for the rows that are available.
    pub(crate) fn end_window(&mut self, reference: &Reference, rows: &mut RequestedRows) {
        rows.note(reference, &self.asked);
        for (samples, placed) in self.samples.iter_mut().zip(&mut self.placed) {
            for sample in &mut samples[*placed..] {
                sample.candidates.iter_mut().for_each(|one| *one = self::placed(reference, *one));
            }
            *placed = samples.len();
        }
    }

    /// The places in the table of the rows that samples tell of.
    pub(crate) fn sampled_positions(&self) -> impl Iterator<Item = u32> + '_ {
        let samples = self.samples.iter().flatten();
        samples.flat_map(|sample| &sample.candidates).map(|place| place.index() as u32)
    }

    /// The findings of a lookup with a spilled reference, once every main row is counted, from the
    /// statistics of all its keys and rows.
    pub(crate) fn finish_spilled(
        mut self,
        lookup: &Lookup,
        (keys, rows): (&KeyStatistics, &RequestedRows),
        updates: Vec<UpdateFindings>,
    ) -> LookupFindings {
        let reference = lookup.reference();
        for sample in self.samples.iter_mut().flatten() {
            let there = sample.candidates.iter().filter_map(|place| at_hand(reference, *place));
            sample.candidates = there.collect();
        }
        let counts = &mut self.counts;
        for (kind, count) in [
            (Kind::Duplicate, keys.duplicate),
            (Kind::Conflicting, keys.conflicting),
            (Kind::Collapsed, keys.collapsed),
            (Kind::Unused, reference.rows() - rows.used()),
            (Kind::Repeated, rows.repeated()),
        ] {
            counts.of[kind as usize] = count;
        }
        counts.keyless_rows = keys.keyless;
        counts.malformed_rows = keys.malformed;
        let asked = rows.times(reference);
        self.reported(lookup, asked, updates, None)
    }

    /// Whether each copy of a row that an earlier lookup repeated counts as a row, since they may
    /// ask for different keys.
    pub(crate) fn counts_copies(&self) -> bool {
        self.counts_copies
    }

    /// Adds what was counted in the next block.
    pub(crate) fn add(&mut self, tallied: &Tallied) {
        for (all, more) in self.counts.of.iter_mut().zip(&tallied.of) {
            *all += more;
        }
        self.counts.out_of_range += tallied.out_of_range;
        self.blank_columns.extend(&tallied.blank_columns);
        self.asked.add(&tallied.asked);
    }

    /// Whether there are as many samples of each trouble as are kept, and nothing else is.
    pub(crate) fn has_all_samples(&self) -> bool {
        self.unmatched.is_none() && self.samples.iter().all(|samples| samples.len() == self.sampled)
    }

    /// Keeps samples of the next row, and reports it to the recorder.
    pub(crate) fn report<E>(
        &mut self,
        lookup: &Lookup,
        row: Row<'_>,
        answer: Answer,
        recorder: &mut Option<&mut (dyn Recorder<Error = E> + Send)>,
    ) -> Result<(), E> {
        let nth = self.nth;
        let (kind, also) = kinds(answer);
        if let (Answer::Unmatched(Miss::Key), Some(unmatched)) = (answer, &mut self.unmatched) {
            unmatched.take(lookup, row);
        }
        let finding = |kind, asked_by| {
            let name = None;
            MainFinding { nth, lookup, kind, row, name, answer, asked_by }
        };
        let tells_matched = recorder.as_ref().is_some_and(|recorder| recorder.wants_matched());
        let is_told = |kind: &Kind| *kind != Kind::Matched || tells_matched;
        for kind in [Some(kind), also].into_iter().flatten().filter(is_told) {
            let trouble = TROUBLES.iter().position(|trouble| *trouble == kind);
            if let Some(samples) = trouble.map(|at| &mut self.samples[at])
                && samples.len() < self.sampled
            {
                samples.push(Sample::of(lookup, row, answer));
            }
            if let Some(recorder) = recorder {
                recorder.main_row(&finding(kind, None))?;
            }
        }
        let asked_by = answer.first().and_then(|first| self.asked_by.get_mut(first.index()));
        if let (Some(recorder), Some(asked_by)) = (recorder, asked_by) {
            match *asked_by {
                0 => *asked_by = row.number(),
                earlier => {
                    let asked_by = Some(AskedBy::Row(earlier));
                    recorder.main_row(&finding(Kind::Repeated, asked_by))?;
                }
            }
        }
        Ok(())
    }

    /// The findings, once every main row is counted.
    pub(crate) fn finish(
        mut self,
        lookup: &Lookup,
        updates: Vec<UpdateFindings>,
        appended: Option<Appended>,
    ) -> LookupFindings {
        let reference = lookup.reference();
        let asked = std::mem::take(&mut self.asked);
        let counts = &mut self.counts;
        for group in reference.groups().filter(|group| is_told(reference, group, &asked)) {
            let kind = if group.conflicting { Kind::Conflicting } else { Kind::Duplicate };
            counts.of[kind as usize] += 1;
            counts.of[Kind::Collapsed as usize] += u64::from(group.collapsed);
        }
        counts.of[Kind::Unused as usize] =
            reference.unused(|entry| asked.has(entry)).count() as u64 + reference.skipped();
        counts.of[Kind::Repeated as usize] = asked.repeated();
        counts.keyless_rows = reference.keyless().len() as u64;
        counts.malformed_rows = reference.malformed().len() as u64;
        self.reported(lookup, asked, updates, appended)
    }

    fn reported(
        mut self,
        lookup: &Lookup,
        asked: RequestCounts,
        updates: Vec<UpdateFindings>,
        appended: Option<Appended>,
    ) -> LookupFindings {
        let reference = lookup.reference();
        let counts = &mut self.counts;
        counts.main_rows = Kind::OUTCOMES.iter().map(|&kind| counts.of(kind)).sum();
        counts.reference_rows = reference.rows();
        counts.reference_keys = reference.keys();
        counts.ranges = reference.ranges();
        counts.counts_copies = self.counts_copies;
        let Self { counts, samples, unmatched, blank_columns, .. } = self;
        let columns = lookup.columns();
        let blank_columns = blank_columns.iter().filter_map(|&place| columns.get(place).copied());
        let blank_columns = blank_columns.collect();
        let unmatched = unmatched.map(Collecting::finish).unwrap_or_default();
        LookupFindings { counts, samples, asked, blank_columns, unmatched, updates, appended }
    }
}
