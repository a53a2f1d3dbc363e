//! The kinds of findings, what each is counted in, and the counts.

use crate::lookup::Reference;

/// A kind of finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// A main row with exactly one answer.
    Matched,
    /// A matched main row whose answer a stated rule chose among reference rows that disagree.
    Chosen,
    /// A main row whose key no reference row holds.
    Unmatched,
    /// An unmatched main row that names a header which the reference does not have.
    NoHeader,
    /// A main row whose key is on several reference rows that disagree on what is taken.
    Ambiguous,
    /// A main row with a blank part in its key.
    BlankKey,
    /// A main row with a value in its key that a step could not read.
    Malformed,
    /// A reference key on several rows that agree on what is taken.
    Duplicate,
    /// A reference key on several rows that disagree on what is taken.
    Conflicting,
    /// A reference key that rows spell differently, and that only the steps made one.
    Collapsed,
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
    /// Ranges of the reference's rows, where these tell which rows count.
    ReferenceRanges,
    /// Columns that are taken of the reference.
    ReferenceColumns,
}

impl Kind {
    /// The kinds that a main row can be; every one of them is exactly one of these.
    pub const OUTCOMES: [Self; 5] =
        [Self::Matched, Self::Unmatched, Self::Ambiguous, Self::BlankKey, Self::Malformed];

    /// Every kind, in the order in which they are told.
    pub const ALL: [Self; 12] = [
        Self::Matched,
        Self::Chosen,
        Self::Unmatched,
        Self::NoHeader,
        Self::Ambiguous,
        Self::BlankKey,
        Self::Malformed,
        Self::Duplicate,
        Self::Conflicting,
        Self::Collapsed,
        Self::Unused,
        Self::Repeated,
    ];

    /// The word for it, as it stands in messages and gates.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Matched => "matched",
            Self::Chosen => "chosen",
            Self::Unmatched => "unmatched",
            Self::NoHeader => "no header",
            Self::Ambiguous => "ambiguous",
            Self::BlankKey => "blank key",
            Self::Malformed => "malformed",
            Self::Duplicate => "duplicate",
            Self::Conflicting => "conflicting",
            Self::Collapsed => "collapsed",
            Self::Unused => "unused",
            Self::Repeated => "repeated",
        }
    }

    /// What it is said of, and so what its share is a share of.
    pub const fn population(self) -> Population {
        match self {
            Self::Matched
            | Self::Chosen
            | Self::Unmatched
            | Self::NoHeader
            | Self::Ambiguous
            | Self::BlankKey
            | Self::Malformed => Population::MainRows,
            Self::Unused => Population::ReferenceRows,
            Self::Duplicate | Self::Conflicting | Self::Collapsed | Self::Repeated => {
                Population::ReferenceKeys
            }
        }
    }
}

/// How often each kind occurs for one reference.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Rows of the main table: the sum of all [`Kind::OUTCOMES`], always.
    pub main_rows: u64,
    /// Rows of the reference.
    pub reference_rows: u64,
    /// Different keys of the reference.
    pub reference_keys: u64,
    /// Where ranges tell which rows count, how many of these the reference has: what is said of its keys is said
    /// of them.
    pub ranges: Option<u64>,
    /// Whether the main rows are counted after an earlier reference has repeated them, each copy by itself.
    pub counts_copies: bool,
    /// Reference rows with a blank part in their key or range; all of them are unused.
    pub keyless_rows: u64,
    /// Reference rows with a value in their key or range that could not be read; unused too, but in
    /// a reverse lookup, where another cell of the row may be asked for.
    pub malformed_rows: u64,
    /// Unmatched main rows whose key the reference holds, but in no range that holds their value.
    pub out_of_range: u64,
    pub(super) of: [u64; Kind::ALL.len()],
}

impl Counts {
    /// The kinds that can be said of a table by itself.
    pub const OF_A_TABLE: [Kind; 3] = [Kind::BlankKey, Kind::Malformed, Kind::Repeated];

    /// What can be said of the keys of a table by itself: those that are blank or malformed, and
    /// those that repeat, which here means that several of its rows hold them.
    pub fn of_table(table: &Reference) -> Self {
        let mut counts = Self {
            main_rows: table.rows(),
            reference_rows: table.rows(),
            reference_keys: table.keys(),
            keyless_rows: table.keyless().len() as u64,
            malformed_rows: table.malformed().len() as u64,
            ..Self::default()
        };
        counts.of[Kind::BlankKey as usize] = counts.keyless_rows;
        counts.of[Kind::Malformed as usize] = counts.malformed_rows;
        counts.of[Kind::Repeated as usize] = table.groups().count() as u64;
        counts
    }

    /// How often a kind occurs.
    pub fn of(&self, kind: Kind) -> u64 {
        self.of[kind as usize]
    }

    /// What a kind is said of here.
    pub fn population(&self, kind: Kind) -> Population {
        match kind.population() {
            Population::ReferenceKeys if self.ranges.is_some() => Population::ReferenceRanges,
            other => other,
        }
    }

    /// How many there are of what the kind is said of.
    pub fn total(&self, kind: Kind) -> u64 {
        match kind.population() {
            Population::MainRows => self.main_rows,
            Population::ReferenceRows => self.reference_rows,
            // No kind is said of columns.
            Population::ReferenceColumns => 0,
            Population::ReferenceKeys | Population::ReferenceRanges => {
                self.ranges.unwrap_or(self.reference_keys)
            }
        }
    }
}
