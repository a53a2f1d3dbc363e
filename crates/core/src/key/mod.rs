//! Keys: what rows are matched on.
//!
//! In goes a row of a block, out comes its key in packed form, one piece of text in which the
//! parts stand each behind its length; two rows have equal keys exactly when these texts are equal.

use crate::table::{Block, packed};

/// The key of one table: the columns its parts are read from, in the order in which they are
/// compared with the other table's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Key {
    columns: Vec<usize>,
}

/// What a row has for a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyState {
    /// Every part has a value.
    Whole,
    /// Some part is blank; such a key meets no other.
    Blank,
}

impl Key {
    /// A key whose parts are the given columns, from 0.
    pub fn new(columns: Vec<usize>) -> Self {
        Self { columns }
    }

    /// The columns the key is read from, in the order of its parts.
    pub fn columns(&self) -> &[usize] {
        &self.columns
    }

    /// Appends the packed key of a row to `packed`.
    pub(crate) fn pack(&self, block: &Block, row: usize, packed: &mut String) -> KeyState {
        let mut state = KeyState::Whole;
        for &column in &self.columns {
            let part = block.cell(row, column);
            if part.is_empty() {
                state = KeyState::Blank;
            }
            packed::push(packed, part);
        }
        state
    }

    /// The parts of a row's key as they were read.
    pub fn parts<'b>(&self, block: &'b Block, row: usize) -> impl Iterator<Item = &'b str> {
        self.columns.iter().map(move |&column| block.cell(row, column))
    }
}
