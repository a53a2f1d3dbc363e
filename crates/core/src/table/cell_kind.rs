//! What a cell is, where its format says so.

/// The kind of a cell. A cell is its text; the kind says what a format that tells kinds apart is to
/// make of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CellKind {
    /// Its format does not tell kinds apart: it is what its text looks like.
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
