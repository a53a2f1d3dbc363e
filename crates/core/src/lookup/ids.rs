//! What stands for a row of a reference, and for what holds a key there.

/// A row of a reference, from 0 through all of its tables.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct RowId(pub(super) u32);

/// What holds a key: a row of a reference, or in a reverse lookup a cell of one. Holders stand in
/// the order in which they count: by column as the columns were written, then by row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Holder(pub(super) u32);

impl RowId {
    /// The row at a place.
    pub(crate) fn at(place: u32) -> Self {
        Self(place)
    }

    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}

impl Holder {
    /// The first one, where there is any.
    pub(crate) const FIRST: Self = Self(0);

    /// Those of some places.
    pub(crate) fn at(places: std::ops::Range<usize>) -> impl Iterator<Item = Self> {
        (places.start as u32..places.end as u32).map(Self)
    }

    /// A row that holds its own key.
    pub(crate) fn of_row(row: RowId) -> Self {
        Self(row.0)
    }

    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}
