//! The kinds of cells, for formats that have kinds.

/// The kind of a cell. The text is the cell; the kind says how a format with kinds is to write it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CellKind {
    /// The format has no kinds: a cell is what its text looks like.
    #[default]
    Untyped,
    /// Text, whatever it looks like.
    Text,
    /// A number.
    Number,
    /// A date, with or without a time.
    Date,
    /// A time, or a span of time.
    Time,
    /// True or false.
    Truth,
}

impl CellKind {
    const ALL: [Self; 6] =
        [Self::Untyped, Self::Text, Self::Number, Self::Date, Self::Time, Self::Truth];

    /// The kind of a number that it was cast to.
    pub(crate) fn of(number: u8) -> Self {
        Self::ALL.get(usize::from(number)).copied().unwrap_or_default()
    }
}
