//! Cells that wait to be written, until the text of their rows comes.

use std::collections::VecDeque;

use super::cell_edits::{CellEdit, CellEdits};

/// A cell to be written, and what follows its style.
pub(super) type NewCell<'e> = (CellEdit, &'e str);

/// Cells to be written, in the order of their rows.
#[derive(Debug, Default)]
pub(super) struct EditQueue {
    all: VecDeque<CellEdits>,
    row: usize,
    /// Used ones, whose room is taken again.
    free: Vec<CellEdits>,
}

impl EditQueue {
    /// Takes cells of the next rows, and leaves room for others.
    pub(super) fn push(&mut self, edits: &mut CellEdits) {
        if edits.rows() > 0 {
            let free = self.free.pop().unwrap_or_default();
            self.all.push_back(std::mem::replace(edits, free));
        }
    }

    /// The line of the next row, up to one.
    pub(super) fn next_line(&self, upto: u64) -> Option<u64> {
        let next = self.all.front()?.line(self.row);
        Some(next).filter(|next| *next <= upto)
    }

    /// The cells of the next row, each with what follows its style.
    pub(super) fn cells(&self) -> impl Iterator<Item = NewCell<'_>> {
        self.all.front().into_iter().flat_map(|edits| edits.cells(self.row))
    }

    pub(super) fn pass(&mut self) {
        self.row += 1;
        if self.all.front().is_some_and(|edits| edits.rows() == self.row) {
            self.row = 0;
            self.free.extend(self.all.pop_front());
        }
    }
}
