//! Corrections: cells that a person settled by hand. They are kept separately from the tables and applied
//! after the lookups.
//!
//! In goes a small table, a row for each cell: the values of the key columns that tell the main
//! rows, the header of the cell and the value it is to have. [`ANY`] in place of a value means every value, so that one
//! table can tell some rows by some columns and others by others; of two corrections of a cell, the one that names
//! more columns counts. What became of each is counted, so
//! that one whose rows are gone, or that the lookups have caught up with, is noticed.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::atomic::{AtomicU64, Ordering};

use super::RowOutput;
use super::stage::RowBatch;
use crate::findings::{Corrected, Correction, Status};
use crate::table::{Block, Overlay, Packer, Row};
use crate::{Error, Result};

/// What means every value of a key column.
pub const ANY: &str = "*";

/// Corrections whose headers are found.
#[derive(Debug)]
pub struct Corrections {
    /// The columns that tell which rows are meant.
    key: Vec<usize>,
    /// The corrections that name the same columns.
    groups: Vec<Group>,
    all: Vec<Placed>,
}

/// Corrections that name the same columns.
#[derive(Debug)]
struct Group {
    /// These columns.
    columns: Vec<usize>,
    /// Under each packed value of them, the corrections of its rows.
    by_key: HashMap<String, Vec<usize>>,
}

#[derive(Debug)]
struct Placed {
    correction: Correction,
    column: usize,
    /// The `@status` columns that say it.
    status: Vec<usize>,
    changed: AtomicU64,
    same: AtomicU64,
}

/// A cell that a correction changed.
#[derive(Debug, Clone)]
pub(super) struct CorrectedCell {
    /// The row of the block.
    pub(super) row: usize,
    pub(super) column: usize,
    pub(super) before: String,
    pub(super) after: String,
    /// The correction's row in its table.
    pub(super) by: u64,
}

impl Corrections {
    /// Finds the columns of corrections by `find_column`, which is given their headers. `table` is what their own table
    /// is called, `key` its key headers.
    ///
    /// # Errors
    /// [`Error::CorrectionAstray`] when a header is not in the output, [`Error::CorrectedTwice`]
    /// when two corrections of one cell disagree.
    pub fn new(
        table: &str,
        key: &[String],
        corrections: Vec<Correction>,
        find_column: impl Fn(&str) -> Result<usize>,
    ) -> Result<Self> {
        let astray = |row: u64, cause: Error| Error::CorrectionAstray {
            table: table.to_owned(),
            row,
            cause: Box::new(cause),
        };
        let find = |row, name: &str| find_column(name).map_err(|cause| astray(row, cause));
        let key: Vec<usize> = key.iter().map(|name| find(0, name)).collect::<Result<_>>()?;
        let mut groups: Vec<Group> = Vec::new();
        let mut all: Vec<Placed> = Vec::new();
        let mut seen: HashMap<(Vec<String>, usize), usize> = HashMap::new();
        for correction in corrections {
            let column = find(correction.row, &correction.header)?;
            match seen.entry((correction.key.clone(), column)) {
                Entry::Occupied(other) => {
                    let other = &all[*other.get()].correction;
                    if other.value != correction.value {
                        return Err(Error::CorrectedTwice {
                            table: table.to_owned(),
                            rows: [other.row, correction.row],
                            header: correction.header,
                        });
                    }
                }
                Entry::Vacant(free) => {
                    free.insert(all.len());
                    let named = key.iter().zip(&correction.key).filter(|(_, cell)| *cell != ANY);
                    let (columns, cells): (Vec<usize>, Vec<&String>) = named.unzip();
                    let mut packer = Packer::default();
                    for cell in cells {
                        packer.push(cell);
                    }
                    let place = groups.iter().position(|group| group.columns == columns);
                    let place = place.unwrap_or_else(|| {
                        groups.push(Group { columns, by_key: HashMap::new() });
                        groups.len() - 1
                    });
                    let by_key = &mut groups[place].by_key;
                    by_key.entry(packer.text().to_owned()).or_default().push(all.len());
                    let (changed, same) = Default::default();
                    all.push(Placed { correction, column, status: Vec::new(), changed, same });
                }
            }
        }
        Ok(Self { key, groups, all })
    }

    /// The corrections of a row, the ones with more columns first.
    fn of_row<'c>(&'c self, row: Row<'_>, packer: &mut Packer) -> Vec<&'c Placed> {
        let mut fitting: Vec<(Reverse<usize>, usize)> = Vec::new();
        for group in &self.groups {
            packer.clear();
            group.columns.iter().for_each(|&column| packer.push(row.cell(column)));
            let all = group.by_key.get(packer.text()).into_iter().flatten();
            fitting.extend(all.map(|&at| (Reverse(group.columns.len()), at)));
        }
        fitting.sort_unstable();
        let mut meant: Vec<&Placed> = Vec::new();
        for placed in fitting.into_iter().map(|(_, at)| &self.all[at]) {
            if meant.iter().all(|other| other.column != placed.column) {
                meant.push(placed);
            }
        }
        meant
    }

    /// The columns that are looked at or written.
    pub(super) fn columns(&self) -> impl Iterator<Item = usize> + '_ {
        self.key.iter().copied().chain(self.written())
    }

    /// The columns that are written.
    pub(super) fn written(&self) -> impl Iterator<Item = usize> + '_ {
        self.all.iter().map(|placed| placed.column)
    }

    /// Finds the `@status` columns that tell of corrections, where lookups with these outputs follow `own` columns.
    pub(super) fn find_status<'o>(
        &mut self,
        own: usize,
        outputs: &(impl Iterator<Item = &'o RowOutput> + Clone),
    ) {
        for placed in &mut self.all {
            placed.status = status_columns(own, outputs.clone(), placed.column);
        }
    }

    /// Each correction in order: the columns that tell its rows, with their values there, the column that it writes, and the
    /// value.
    pub(crate) fn placed(&self) -> impl Iterator<Item = (Vec<(usize, &str)>, usize, &str)> {
        self.all.iter().map(|Placed { correction, column, .. }| {
            let named = self.key.iter().zip(&correction.key).filter(|(_, cell)| *cell != ANY);
            let named = named.map(|(&column, cell)| (column, &cell[..]));
            (named.collect(), *column, &correction.value[..])
        })
    }

    /// The row of a correction, by its number in their order, in their own table.
    pub fn row(&self, nth: usize) -> u64 {
        self.all.get(nth).map_or(0, |placed| placed.correction.row)
    }

    /// What became of each, from how many cells each one changed and how many were so already, by its number, where that was
    /// counted elsewhere.
    pub fn counted(&self, counts: impl IntoIterator<Item = (usize, [u64; 2])>) -> Vec<Corrected> {
        let outcome = |placed: &Placed| Corrected {
            correction: placed.correction.clone(),
            changed: 0,
            same: 0,
        };
        let mut all: Vec<Corrected> = self.all.iter().map(outcome).collect();
        for (nth, [changed, same]) in counts {
            if let Some(one) = all.get_mut(nth) {
                one.changed += changed;
                one.same += same;
            }
        }
        all
    }

    /// Corrects the rows of a block; gives the cells that are others than before.
    pub(super) fn apply(
        &self,
        block: &Block,
        out: &mut RowBatch,
        overlay: &Overlay,
    ) -> Vec<CorrectedCell> {
        let mut cells = Vec::new();
        let mut packer = Packer::default();
        let mut corrected: Option<Block> = None;
        for (nth, &of) in out.of.iter().enumerate() {
            let row = Row::of(block, of).with(&out.added, nth).over(overlay);
            let meant = self.of_row(row, &mut packer);
            if meant.is_empty() {
                if let Some(corrected) = &mut corrected {
                    corrected.push_cells_of(&out.added, nth);
                }
                continue;
            }
            let anew = corrected.get_or_insert_with(|| {
                let mut anew = Block::new(out.added.columns());
                (0..nth).for_each(|earlier| anew.push_cells_of(&out.added, earlier));
                anew
            });
            let mut said: Vec<usize> = Vec::new();
            let mut values: Vec<(usize, &str)> = Vec::new();
            for placed in meant {
                let now = row.cell(placed.column);
                let value = &placed.correction.value[..];
                if now == value {
                    placed.same.fetch_add(1, Ordering::Relaxed);
                    continue;
                }
                placed.changed.fetch_add(1, Ordering::Relaxed);
                values.extend(overlay.place_of(placed.column, row.own()).map(|at| (at, value)));
                said.extend(placed.status.iter().filter_map(|&c| overlay.place_of(c, row.own())));
                cells.push(CorrectedCell {
                    row: of,
                    column: placed.column,
                    before: now.to_owned(),
                    after: value.to_owned(),
                    by: placed.correction.row,
                });
            }
            for place in 0..out.added.columns() {
                let value = values.iter().find(|(at, _)| *at == place).map(|(_, value)| *value);
                match value {
                    Some(value) => anew.push_cell(value),
                    None if said.contains(&place) => {
                        anew.push_cell(Status::Corrected.label());
                    }
                    None => {
                        let kind = out.added.kind(nth, place);
                        anew.push_cell_of(out.added.cell(nth, place), kind);
                    }
                }
            }
        }
        if let Some(corrected) = corrected {
            out.added = corrected;
        }
        cells
    }

    /// What became of each correction, in the order of their table.
    pub(super) fn outcomes(&self) -> Vec<Corrected> {
        let outcomes = self.all.iter().map(|placed| Corrected {
            correction: placed.correction.clone(),
            changed: placed.changed.load(Ordering::Relaxed),
            same: placed.same.load(Ordering::Relaxed),
        });
        outcomes.collect()
    }
}

/// The `@status` columns that tell that a cell of a column was corrected, where lookups with these outputs follow `own`
/// columns: none for a column that no lookup writes.
pub(crate) fn status_columns<'o>(
    own: usize,
    outputs: impl Iterator<Item = &'o RowOutput>,
    column: usize,
) -> Vec<usize> {
    let (mut first, mut all) = (own, Vec::new());
    for output in outputs {
        let added = first..first + output.cells.len();
        first = added.end;
        if added.contains(&column) || output.updates.iter().any(|one| one.column == column) {
            all.extend(output.status_cells().map(|nth| added.start + nth));
        }
    }
    all
}
