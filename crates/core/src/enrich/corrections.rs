//! Corrections: cells that a person settled by hand. They are kept separately from the tables and applied
//! after the lookups.
//!
//! In goes a small table, a row for each cell: the values of the key columns that tell the main
//! rows, the header of the cell and the value it is to have. What became of each is counted, so
//! that one whose rows are gone, or that the lookups have caught up with, is noticed.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::atomic::{AtomicU64, Ordering};

use super::stage::RowBatch;
use crate::findings::{Corrected, Correction, Status};
use crate::table::{Block, Overlay, Packer, Row};
use crate::{Error, Result};

/// Corrections whose headers are found.
#[derive(Debug)]
pub struct Corrections {
    /// The columns that tell which rows are meant.
    key: Vec<usize>,
    /// Under each packed key the corrections of its rows.
    by_key: HashMap<String, Vec<usize>>,
    all: Vec<Placed>,
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
        let mut by_key: HashMap<String, Vec<usize>> = HashMap::new();
        let mut all: Vec<Placed> = Vec::new();
        let mut seen: HashMap<(String, usize), usize> = HashMap::new();
        for correction in corrections {
            let column = find(correction.row, &correction.header)?;
            let mut packer = Packer::default();
            correction.key.iter().for_each(|cell| packer.push(cell));
            let packed = packer.text().to_owned();
            match seen.entry((packed.clone(), column)) {
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
                    by_key.entry(packed).or_default().push(all.len());
                    let (changed, same) = Default::default();
                    all.push(Placed { correction, column, status: Vec::new(), changed, same });
                }
            }
        }
        Ok(Self { key, by_key, all })
    }

    /// The columns that are looked at or written.
    pub(super) fn columns(&self) -> impl Iterator<Item = usize> + '_ {
        self.key.iter().copied().chain(self.written())
    }

    /// The columns that are written.
    pub(super) fn written(&self) -> impl Iterator<Item = usize> + '_ {
        self.all.iter().map(|placed| placed.column)
    }

    /// Says which `@status` columns tell that a cell of a column was corrected.
    pub(super) fn set_status_columns(&mut self, status: impl Fn(usize) -> Vec<usize>) {
        for placed in &mut self.all {
            placed.status = status(placed.column);
        }
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
            packer.clear();
            self.key.iter().for_each(|&column| packer.push(row.cell(column)));
            let Some(meant) = self.by_key.get(packer.text()) else {
                if let Some(corrected) = &mut corrected {
                    corrected.push_cells_of(&out.added, nth);
                }
                continue;
            };
            let anew = corrected.get_or_insert_with(|| {
                let mut anew = Block::new(out.added.columns());
                (0..nth).for_each(|earlier| anew.push_cells_of(&out.added, earlier));
                anew
            });
            let mut said: Vec<usize> = Vec::new();
            let mut values: Vec<(usize, &str)> = Vec::new();
            for placed in meant.iter().map(|&at| &self.all[at]) {
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
