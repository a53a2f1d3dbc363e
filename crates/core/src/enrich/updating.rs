//! Updates: which cells of a main row a lookup writes anew, and what becomes of each.
//!
//! In go the cell that is there and the one that the reference holds, out comes what is done:
//! nothing is replaced but as the person stated, and every cell is counted.

use crate::plan::Replace;
use crate::table::is_blank;

/// One column that a lookup writes into.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Updating {
    /// The column: one of the main table's own, or behind those one that an earlier lookup added.
    pub column: usize,
    /// What is written, by its number among the reference's taken columns.
    pub taken: usize,
}

/// What may be replaced, and by what.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Replacing {
    /// Which cells may be replaced.
    pub replace: Replace,
    /// Whether a blank cell may take the place of a value.
    pub bring_blanks: bool,
}

/// What became of a cell that an answer was there for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    /// It was blank and has a value now.
    Filled,
    /// It has another value now.
    Replaced,
    /// It had a value and is blank now.
    Erased,
    /// It has that value already.
    Same,
    /// It keeps its value, since it may not be replaced.
    Left,
}

/// How often each happened to the cells of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct WrittenCounts([u64; 5]);

impl Replacing {
    /// What is to be done where `now` stands and the reference holds `new`. A cell of nothing but
    /// white space is blank.
    ///
    /// ```
    /// use gather_keys_core::enrich::{Replacing, Written};
    ///
    /// let all = Replacing::default();
    /// assert_eq!(all.written("", "north"), Written::Filled);
    /// assert_eq!(all.written("south", "north"), Written::Replaced);
    /// assert_eq!(all.written("south", ""), Written::Left);
    /// ```
    pub fn written(self, now: &str, new: &str) -> Written {
        match (is_blank(now), is_blank(new)) {
            _ if now == new => Written::Same,
            (true, true) => Written::Same,
            (true, false) => Written::Filled,
            (false, _) if self.replace == Replace::Blanks => Written::Left,
            (false, true) if self.bring_blanks => Written::Erased,
            (false, true) => Written::Left,
            (false, false) => Written::Replaced,
        }
    }
}

impl Written {
    /// All of them, in the order in which they are told.
    pub const ALL: [Self; 5] = [Self::Filled, Self::Replaced, Self::Erased, Self::Same, Self::Left];

    /// The word for it.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Filled => "filled",
            Self::Replaced => "replaced",
            Self::Erased => "erased",
            Self::Same => "same",
            Self::Left => "left",
        }
    }

    /// Whether the cell is another than before.
    pub const fn is_change(self) -> bool {
        matches!(self, Self::Filled | Self::Replaced | Self::Erased)
    }
}

impl WrittenCounts {
    /// How often it happened.
    pub fn of(&self, written: Written) -> u64 {
        self.0[written as usize]
    }

    /// How many cells are others than before.
    pub fn changed(&self) -> u64 {
        Written::ALL.iter().filter(|one| one.is_change()).map(|&one| self.of(one)).sum()
    }

    pub(crate) fn count(&mut self, written: Written) {
        self.0[written as usize] += 1;
    }

    pub(crate) fn add(&mut self, other: &Self) {
        for (all, more) in self.0.iter_mut().zip(other.0) {
            *all += more;
        }
    }
}
