//! The outcomes of updated cells.

/// The outcome of an updated cell, where there is an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    /// The cell was blank and has a value now.
    Filled,
    /// The cell has another value now.
    Replaced,
    /// The cell had a value and is blank now.
    Erased,
    /// The cell has the value already.
    Same,
    /// The cell keeps its value, since it may not be replaced.
    Left,
}

/// How often each happened to the cells of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct WrittenCounts([u64; 5]);

impl Written {
    /// All of them, in the order in which they are reported.
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
    /// Counts in the order of [`Written::ALL`].
    pub fn of_each(counts: [u64; 5]) -> Self {
        Self(counts)
    }

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
