//! Findings that were counted elsewhere: in a database, where the rows are.
//!
//! Counts and a few rows go in; the findings of a lookup come out, as if its rows had passed through here.

use super::tally::TROUBLES;
use super::{
    Appended, AskedBy, Counts, Kind, LookupFindings, MainFinding, Recorder, RequestCounts, Sample,
    UnmatchedKey, UnmatchedKeys, UpdateFindings, WrittenCounts,
};
use crate::lookup::{EntryId, Lookup, ProbeBuffers};
use crate::table::{Block, Packer, Row};
use crate::template::StepBuffers;

/// What was counted for one reference.
#[derive(Debug, Default)]
pub struct Counted {
    /// How many main rows have each outcome: its label, why there is no answer (`range` or `header`), and the rows.
    pub outcomes: Vec<(String, Option<String>, u64)>,
    /// Reference rows: all of them, the ones without a key, and the malformed ones.
    pub rows: [u64; 3],
    /// Its keys, and its ranges where it has any.
    pub keys: u64,
    /// How many ranges it has, if any.
    pub ranges: Option<u64>,
    /// Keys on several rows that agree, on rows that disagree, and of several spellings.
    pub repeated: [u64; 3],
    /// Reference rows that are asked for, and keys that several main rows ask for.
    pub asked: [u64; 2],
    /// For each updated column how often each outcome of a cell occurs, in the order of [`Written::ALL`](super::Written).
    pub updates: Vec<(usize, [u64; 5])>,
    /// What became of rows that nothing asks for, if they are appended.
    pub appended: Option<Appended>,
    /// Whether copies of main rows that an earlier reference made count by themselves.
    pub counts_copies: bool,
    /// The first main rows in trouble, the most important ones of each kind.
    pub troubles: Vec<CountedRow>,
    /// The first keys that no reference row holds, where their reasons are of interest.
    pub unmatched: Vec<CountedRow>,
    /// For each reference row that is here, in order, how often it is asked for, and in a reverse lookup by which of the searched
    /// columns, from 0.
    pub asked_rows: Vec<(u64, Vec<usize>)>,
}

/// A main row, or several of the same cells.
#[derive(Debug)]
pub struct CountedRow {
    /// The label of its outcome.
    pub outcome: String,
    /// Why there is no answer.
    pub miss: Option<String>,
    /// How many rows are like it.
    pub rows: u64,
    /// Its number, from 1, or 0 where it has a name.
    pub row: u64,
    /// Its name.
    pub name: Option<String>,
    /// The cells that its answer depends on, each with its column.
    pub cells: Vec<(usize, String)>,
}

impl Counted {
    /// The findings of a lookup, whose reference has those rows that are here. The enriched table has `columns`; `sampled`
    /// rows of each trouble are kept.
    pub fn findings(mut self, lookup: &Lookup, columns: usize, sampled: usize) -> LookupFindings {
        let mut counts = Counts {
            reference_rows: self.rows[0],
            keyless_rows: self.rows[1],
            malformed_rows: self.rows[2],
            reference_keys: self.keys,
            ranges: self.ranges,
            counts_copies: self.counts_copies,
            ..Counts::default()
        };
        for (outcome, miss, rows) in &self.outcomes {
            let of = |kind: Kind| kind.label() == outcome;
            if of(Kind::Chosen) {
                counts.of[Kind::Matched as usize] += rows;
            }
            if let Some(kind) = Kind::ALL.into_iter().find(|kind| of(*kind)) {
                counts.of[kind as usize] += rows;
            }
            match miss.as_deref() {
                Some("header") => counts.of[Kind::NoHeader as usize] += rows,
                Some("range") => counts.out_of_range += rows,
                _ => {}
            }
        }
        let [duplicate, conflicting, collapsed] = self.repeated;
        for (kind, count) in [
            (Kind::Duplicate, duplicate),
            (Kind::Conflicting, conflicting),
            (Kind::Collapsed, collapsed),
            (Kind::Unused, self.rows[0].saturating_sub(self.asked[0])),
            (Kind::Repeated, self.asked[1]),
        ] {
            counts.of[kind as usize] = count;
        }
        counts.main_rows = Kind::OUTCOMES.iter().map(|&kind| counts.of(kind)).sum();
        let mut samples: [Vec<Sample>; TROUBLES.len()] = Default::default();
        let (mut buffers, mut blank_columns) = (ProbeBuffers::default(), Vec::new());
        for one in &self.troubles {
            let block = one.block(columns);
            let row = Row::of(&block, 0);
            let answer = lookup.answer(row, &mut buffers);
            if one.outcome == Kind::BlankKey.label() {
                blank_columns.extend(lookup.blank_columns(row));
            }
            let is_headless = one.miss.as_deref() == Some("header");
            let kinds = TROUBLES.iter().position(|kind| kind.label() == one.outcome);
            let headless = is_headless.then_some(Kind::NoHeader as usize);
            let headless =
                headless.and_then(|_| TROUBLES.iter().position(|kind| *kind == Kind::NoHeader));
            for at in [kinds, headless].into_iter().flatten() {
                if samples[at].len() < sampled {
                    let mut sample = Sample::of(lookup, row, answer);
                    (sample.row, sample.line) = (one.row, one.line());
                    sample.name.clone_from(&one.name);
                    samples[at].push(sample);
                }
            }
        }
        blank_columns.sort_unstable();
        blank_columns.dedup();
        let of_lookup = lookup.columns();
        let blank_columns =
            blank_columns.iter().filter_map(|&place| of_lookup.get(place).copied()).collect();
        let rows = std::mem::take(&mut self.unmatched);
        let unmatched = unmatched(lookup, rows, columns, &counts);
        let reference = lookup.reference();
        let times = EntryId::at(0..reference.entry_count()).map(|entry| {
            let Some((asked, by)) = self.asked_rows.get(reference.row(entry).index()) else {
                return 0;
            };
            let column = reference.column(entry);
            let is_asked = column.is_none_or(|column| {
                by.iter().any(|&place| reference.searched().get(place) == Some(&column))
            });
            if is_asked { u8::try_from(*asked).unwrap_or(u8::MAX) } else { 0 }
        });
        let updates = self.updates.into_iter().map(|(column, counts)| UpdateFindings {
            column,
            written: WrittenCounts::of_each(counts),
        });
        LookupFindings {
            counts,
            samples,
            asked: RequestCounts::each(times),
            blank_columns,
            unmatched,
            updates: updates.collect(),
            appended: self.appended,
        }
    }
}

impl CountedRow {
    /// Hands the row to a recorder as a finding of a lookup by its number; `asked_by` names the first row of its key, if the row
    /// is one that repeats it. The enriched table has `columns`.
    ///
    /// # Errors
    /// Those of the recorder.
    pub fn record<E>(
        &self,
        (nth, lookup, columns): (usize, &Lookup, usize),
        asked_by: Option<&str>,
        buffers: &mut ProbeBuffers,
        recorder: &mut dyn Recorder<Error = E>,
    ) -> Result<(), E> {
        let block = self.block(columns);
        let row = Row::of(&block, 0);
        let answer = lookup.answer(row, buffers);
        let is_headless = self.miss.as_deref() == Some("header");
        let kind = match asked_by {
            Some(_) => Some(Kind::Repeated),
            None => Kind::ALL.into_iter().find(|kind| kind.label() == self.outcome),
        };
        let kinds = [kind, (is_headless && asked_by.is_none()).then_some(Kind::NoHeader)];
        for kind in kinds.into_iter().flatten() {
            let (name, asked_by) = (self.name.as_deref(), asked_by.map(AskedBy::Named));
            recorder.main_row(&MainFinding { nth, lookup, kind, row, name, answer, asked_by })?;
        }
        Ok(())
    }

    /// A block of this row, with blank cells in all other columns.
    fn block(&self, columns: usize) -> Block {
        let mut block = Block::new(columns);
        for column in 0..columns {
            let cell = self.cells.iter().find(|(of, _)| *of == column);
            block.push_cell(cell.map_or("", |(_, cell)| cell));
        }
        block.push_line(0);
        block
    }

    /// Its line, as of a table that has a line for each row after its headers.
    fn line(&self) -> u64 {
        if self.row == 0 { 0 } else { self.row + 1 }
    }
}

/// The keys that no reference row holds, and how many rows hold others.
fn unmatched(
    lookup: &Lookup,
    rows: Vec<CountedRow>,
    columns: usize,
    counts: &Counts,
) -> UnmatchedKeys {
    let (mut packed, mut steps) = (Packer::default(), StepBuffers::default());
    let mut keys: Vec<UnmatchedKey> = Vec::new();
    let mut places = std::collections::HashMap::new();
    let (mut kept, is_kept) = (0, !rows.is_empty());
    for one in rows {
        let block = one.block(columns);
        let row = Row::of(&block, 0);
        packed.clear();
        lookup.key().pack(row, &mut packed, &mut steps);
        kept += one.rows;
        // Cells that steps make one key come as several rows.
        let at = *places.entry(packed.text().to_owned()).or_insert(keys.len());
        if let Some(key) = keys.get_mut(at) {
            key.rows += one.rows;
            continue;
        }
        let mut key = UnmatchedKey::of(lookup, row, packed.text());
        (key.rows, key.row, key.line) = (one.rows, one.row, one.line());
        key.name = one.name.as_deref().map(Into::into);
        keys.push(key);
    }
    let misses = counts.of(Kind::Unmatched) - counts.of(Kind::NoHeader) - counts.out_of_range;
    let beyond = if is_kept { misses.saturating_sub(kept) } else { 0 };
    UnmatchedKeys::of(keys, beyond)
}
