//! Numbers of the rows of a reference, and of the entries that hold keys.

/// A row of a reference, from 0 through all of its tables.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct RowId(pub(super) u32);

/// An entry of the key index: a row of a reference, or in a reverse lookup one cell of a row. Entries are numbered
/// in the order in which they count: by column as the columns were written, then by row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct EntryId(pub(super) u32);

impl RowId {
    /// The row with a number.
    pub(crate) fn at(number: u32) -> Self {
        Self(number)
    }

    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}

impl EntryId {
    /// The first entry of a reference.
    pub(crate) const FIRST: Self = Self(0);

    /// The entries with these numbers.
    pub(crate) fn at(numbers: std::ops::Range<usize>) -> impl Iterator<Item = Self> {
        (numbers.start as u32..numbers.end as u32).map(Self)
    }

    /// The entry of a row that holds its own key.
    pub(crate) fn of_row(row: RowId) -> Self {
        Self(row.0)
    }

    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}
