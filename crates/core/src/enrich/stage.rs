//! A block of main rows on its way through the lookups.
//!
//! Each lookup is a stage. Between two stands what the rows have become so far: which row of the
//! block each is made of, and the cells that stand beside its own. A lookup may use what an earlier
//! one took or updated, and one that takes from every reference row makes several rows of one.
//! Blocks don't depend on each other, so that several are at work at once.

use std::ops::Range;

use super::corrections::{CorrectedCell, Corrections};
use super::joined::JoinedTexts;
use super::taken_over::TakenOver;
use super::taking::{Earlier, Given};
use super::{Taking, Written, WrittenCounts};
use crate::findings::{Recorder, Tallied, Tally};
use crate::lookup::{Answer, Asking, Holder, Lookup, RowId};
use crate::table::{Block, Overlay, Row};

/// What every stage of a run needs to know.
#[derive(Debug)]
pub(super) struct Stages {
    pub(super) lookups: Vec<(Lookup, Taking)>,
    pub(super) overlay: Overlay,
    pub(super) corrections: Option<Corrections>,
}

/// What one lookup says of the rows of a block, and what it writes into them.
#[derive(Debug, Default)]
pub(super) struct Answered {
    /// The answer of each row that came to it.
    pub(super) answers: Vec<Answer>,
    /// The rows that came to it.
    pub(super) rows: Rows,
    /// How often each finding occurs among them.
    pub(super) tallied: Tallied,
    /// How many of them have been told.
    pub(super) told: usize,
    /// What became of each updated cell: the row of the block, which update, and what.
    pub(super) written: Vec<(u32, u32, Written)>,
    /// The same in sum for rows that go out, for each update.
    pub(super) counts: Vec<WrittenCounts>,
    /// What was joined of the rows of keys.
    pub(super) joined: JoinedTexts,
    /// The cells that are others than before, when every one is to be told.
    pub(super) changes: Vec<ChangedCell>,
    /// What it adds to each row, where that goes out as it stands in the reference.
    pub(super) over: TakenOver,
}

/// A cell that an update changed.
#[derive(Debug, Clone)]
pub(super) struct ChangedCell {
    /// The row of the block.
    pub(super) row: usize,
    pub(super) column: usize,
    pub(super) before: String,
    pub(super) after: String,
    /// The reference row, unless there are several.
    pub(super) from: Option<RowId>,
}

/// The rows of a block so far.
#[derive(Debug, Default)]
pub(super) struct Rows {
    /// For each, the row of the block that it is made of, in order; one may come several times.
    pub(super) of: Vec<usize>,
    /// The cells that stand beside its own: overlaid ones, then added ones.
    pub(super) added: Block,
}

/// How many bytes the rows that a block becomes may take before its rows are worked on a few at a time, and how many
/// those of a single main row may. A key that is on many rows of both tables makes as many rows of each, or cells as
/// long.
const MOST_OF_BLOCK: usize = 16 << 20;
const MOST_OF_ROW: usize = 256 << 20;

/// What a thread works with; kept from block to block.
#[derive(Debug, Default)]
pub(super) struct Space<R> {
    /// The first row of the block that is worked on, and how many are.
    pub(super) first: usize,
    pub(super) count: usize,
    /// Whether they become so much that they have to be worked on a few at a time.
    pub(super) is_crowded: bool,
    pub(super) stages: Vec<Answered>,
    pub(super) out: Rows,
    pub(super) corrected: Vec<CorrectedCell>,
    pub(super) asking: Asking,
    pub(super) rendered: R,
}

impl<R> Space<R> {
    /// Begins with these rows of a block, as they came.
    pub(super) fn begin(&mut self, block: &Block, rows: Range<usize>, overlay: &Overlay) {
        (self.first, self.count, self.is_crowded) = (rows.start, rows.len(), false);
        self.out.begin(block, rows, overlay);
    }
}

/// Whether `count` rows of a block have become more bytes than they may.
pub(super) fn is_crowded(count: usize, bytes: usize) -> bool {
    bytes > if count > 1 { MOST_OF_BLOCK } else { MOST_OF_ROW }
}

impl Rows {
    /// These rows of a block, as they came.
    pub(super) fn begin(&mut self, block: &Block, rows: Range<usize>, overlay: &Overlay) {
        self.of.clear();
        self.of.extend(rows.clone());
        self.added.reset(overlay.len());
        for row in if overlay.is_empty() { 0..0 } else { rows } {
            for &column in overlay.columns() {
                self.added.push_cell_of(block.cell(row, column), block.kind(row, column));
            }
        }
    }

    /// How many bytes they take, roughly.
    fn bytes(&self) -> usize {
        const OF_ROW: usize = 32;
        const OF_CELL: usize = size_of::<u32>();
        self.added.text_length() + self.of.len() * (OF_ROW + OF_CELL * self.added.columns())
    }

    pub(super) fn row<'a>(&'a self, nth: usize, block: &'a Block, overlay: &'a Overlay) -> Row<'a> {
        Row::of(block, self.of[nth]).with(&self.added, nth).over(overlay)
    }
}

impl Answered {
    /// The answers to be counted, each with its place. The copies that an earlier lookup made of a
    /// row are one row, unless they may differ in what this lookup asks with.
    pub(super) fn counted(&self, copies: bool) -> impl Iterator<Item = (usize, Answer)> + '_ {
        let rows = self.rows.of.iter().enumerate();
        let is_first = move |(nth, row): &(usize, &usize)| {
            copies || *nth == 0 || self.rows.of[nth - 1] != **row
        };
        rows.filter(is_first).map(|(nth, _)| (nth, self.answers[nth]))
    }

    /// Tells of the answers to one row of the block.
    pub(super) fn tell<E>(
        &mut self,
        tally: &mut Tally,
        lookup: &Lookup,
        (block, overlay, row): (&Block, &Overlay, usize),
        recorder: &mut Option<&mut (dyn Recorder<Error = E> + Send)>,
    ) -> Result<(), E> {
        let first = self.told;
        while self.rows.of.get(self.told) == Some(&row) {
            let nth = self.told;
            self.told += 1;
            if nth == first || tally.counts_copies() {
                let row = self.rows.row(nth, block, overlay);
                tally.tell(lookup, row, self.answers[nth], recorder)?;
            }
        }
        Ok(())
    }

    /// Sums up what became of updated cells in rows that go out, which are given in order.
    pub(super) fn count_written(&mut self, out: &[usize], updates: usize) {
        self.counts.clear();
        self.counts.resize(updates, WrittenCounts::default());
        // Both are in the order of the rows.
        let mut at = 0;
        for &(row, nth, written) in &self.written {
            at += out[at..].iter().take_while(|other| **other < row as usize).count();
            if out.get(at) == Some(&(row as usize)) {
                self.counts[nth as usize].count(written);
            }
        }
        self.changes.retain(|change| out.binary_search(&change.row).is_ok());
    }
}

impl Stages {
    /// Answers every row of a block, beginning with the lookup `from`; what came of the lookups
    /// before it is in `space.out`. With `recording`, every changed cell is kept to be told.
    pub(super) fn answer<R>(
        &self,
        block: &Block,
        from: usize,
        recording: bool,
        space: &mut Space<R>,
    ) {
        let Space { count, is_crowded: crowded, stages, out, corrected, asking, .. } = space;
        let overlay = &self.overlay;
        asking.begin_block();
        let mut keeps: Vec<bool> = Vec::new();
        let later = self.lookups[from..].iter().zip(&mut stages[from..]);
        for ((lookup, taking), stage) in later {
            std::mem::swap(&mut stage.rows, out);
            out.of.clear();
            out.added.reset(stage.rows.added.columns() + taking.cells.len());
            stage.written.clear();
            stage.changes.clear();
            let (rows, written, changes) = (&stage.rows, &mut stage.written, &mut stage.changes);
            let mut kept = Vec::new();
            let row = |nth: usize| rows.row(nth, block, overlay);
            let own = overlay.is_empty().then_some((block, &rows.of[..]));
            lookup.answer_all((rows.of.len(), own), row, asking, &mut stage.answers);
            // Which rows of a range answer depends on more than the key.
            let joined = lookup.value().is_none().then_some(&stage.joined);
            let names = !lookup.namings().is_empty();
            let reference = lookup.reference();
            let has_earlier = rows.added.columns() > 0;
            let simply = keeps.is_empty() && taking.takes_simply(reference.taken().len());
            out.of.reserve(rows.of.len());
            for (nth, (&of, &answer)) in rows.of.iter().zip(&stage.answers).enumerate() {
                if is_crowded(*count, out.bytes()) {
                    *crowded = true;
                    return;
                }
                if let (true, Some(at), Answer::Matched(holder)) =
                    (simply, asking.taken(nth), answer)
                {
                    if has_earlier {
                        out.added.push_row_of(&rows.added, nth);
                    }
                    reference.push_taken_at(at, holder, &mut out.added);
                    out.of.push(of);
                    continue;
                }
                let row = row(nth);
                if names {
                    lookup.name_columns(row, asking);
                }
                let keep = taking.keeps(answer) && keeps.get(nth).is_none_or(|keep| *keep);
                let earlier = Earlier { row, block: &rows.added, nth, overlay };
                let mut give = |one: Option<Holder>| {
                    let told = |updating: &super::Updating, what, before: &str, after: &str| {
                        let nth = taking.updates.iter().position(|other| other == updating);
                        written.push((of as u32, nth.unwrap_or_default() as u32, what));
                        if recording && what.is_change() {
                            changes.push(ChangedCell {
                                row: of,
                                column: updating.column,
                                before: before.to_owned(),
                                after: after.to_owned(),
                                from: one.map(|one| lookup.reference().row(one)),
                            });
                        }
                    };
                    let at = asking.taken(nth);
                    let given = Given { answer, one, at, named: asking.named(), joined };
                    taking.give(lookup, earlier, given, &mut out.added, told);
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
                            give(Some(holder));
                        }
                    }
                    Answer::Matched(holder) | Answer::Chosen { holder, .. } => give(Some(holder)),
                    _ => give(None),
                }
            }
            *crowded |= is_crowded(*count, out.bytes());
            keeps = kept;
        }
        if keeps.contains(&false) {
            let all = std::mem::take(out);
            out.added.reset(all.added.columns());
            for (nth, &of) in all.of.iter().enumerate() {
                if keeps.get(nth).is_none_or(|keep| *keep) {
                    out.of.push(of);
                    out.added.push_row_of(&all.added, nth);
                }
            }
        }
        let corrections = self.corrections.iter();
        *corrected = corrections.flat_map(|all| all.apply(block, out, overlay)).collect();
        for ((_, taking), stage) in self.lookups[from..].iter().zip(&mut stages[from..]) {
            stage.count_written(&out.of, taking.updates.len());
        }
    }
}
