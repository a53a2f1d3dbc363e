//! The kinds of findings, what each is counted in, and the counts.

/// A kind of finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// A main row with exactly one answer.
    Matched,
    /// A main row whose key no reference row holds.
    Unmatched,
    /// A main row whose key is on several reference rows that disagree on what is taken.
    Ambiguous,
    /// A main row with a blank part in its key.
    BlankKey,
    /// A reference key on several rows that agree on what is taken.
    Duplicate,
    /// A reference key on several rows that disagree on what is taken.
    Conflicting,
    /// A reference row whose key no main row asked for.
    Unused,
    /// A reference key that several main rows asked for.
    Repeated,
}

/// What a kind of finding is said of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Population {
    /// Rows of the main table.
    MainRows,
    /// Rows of the reference.
    ReferenceRows,
    /// Different keys of the reference.
    ReferenceKeys,
}

impl Kind {
    /// Every kind, in the order in which they are told.
    pub const ALL: [Self; 8] = [
        Self::Matched,
        Self::Unmatched,
        Self::Ambiguous,
        Self::BlankKey,
        Self::Duplicate,
        Self::Conflicting,
        Self::Unused,
        Self::Repeated,
    ];

    /// The word for it, as it stands in messages and gates.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Matched => "matched",
            Self::Unmatched => "unmatched",
            Self::Ambiguous => "ambiguous",
            Self::BlankKey => "blank key",
            Self::Duplicate => "duplicate",
            Self::Conflicting => "conflicting",
            Self::Unused => "unused",
            Self::Repeated => "repeated",
        }
    }

    /// What it is said of, and so what its share is a share of.
    pub const fn population(self) -> Population {
        match self {
            Self::Matched | Self::Unmatched | Self::Ambiguous | Self::BlankKey => {
                Population::MainRows
            }
            Self::Unused => Population::ReferenceRows,
            Self::Duplicate | Self::Conflicting | Self::Repeated => Population::ReferenceKeys,
        }
    }
}

/// How often each kind occurs for one reference.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Rows of the main table: `matched + unmatched + ambiguous + blank_key`, always.
    pub main_rows: u64,
    /// Rows of the reference.
    pub reference_rows: u64,
    /// Different keys of the reference.
    pub reference_keys: u64,
    /// Reference rows with a blank part in their key; all of them are unused.
    pub keyless_rows: u64,
    pub(super) of: [u64; Kind::ALL.len()],
}

impl Counts {
    /// How often a kind occurs.
    pub fn of(&self, kind: Kind) -> u64 {
        self.of[kind as usize]
    }

    /// How many there are of what the kind is said of.
    pub fn total(&self, kind: Kind) -> u64 {
        match kind.population() {
            Population::MainRows => self.main_rows,
            Population::ReferenceRows => self.reference_rows,
            Population::ReferenceKeys => self.reference_keys,
        }
    }
}
