//! What a cell is, where its format says so.

/// The kind of a cell. A cell is its text; the kind says what a format that tells kinds apart is to
/// make of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CellKind {
    /// Its format does not tell kinds apart: it is what its text looks like.
    #[default]
    Unsaid,
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
