//! The table of kinds of findings, and their counts.
//!
//! # Advice for maintainers
//! A new kind is a row of the table here, an answer or a count that gives it (in `tally`), and, where it is listed, the
//! columns of its list (in the program's `lists`).

use crate::lookup::Reference;

/// The population of a kind of finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Population {
    /// Rows of the main table.
    MainRows,
    /// Rows of the reference.
    ReferenceRows,
    /// Different keys of the reference.
    ReferenceKeys,
    /// Ranges of the reference's rows, where rows are chosen by a range.
    ReferenceRanges,
    /// Columns that are taken of the reference.
    ReferenceColumns,
}

/// How much a kind of finding matters to the person.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Severity {
    /// All is well.
    Good,
    /// Something to know.
    Information,
    /// Something to fix.
    Trouble,
}

/// The properties of a kind of finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KindInfo {
    /// The word for it in messages and gates.
    pub label: &'static str,
    /// The population, which its share is a share of.
    pub population: Population,
    /// How much it matters to the person.
    pub severity: Severity,
    /// Whether every main row is of exactly one such kind.
    pub is_outcome: bool,
    /// Whether there is a list of it.
    pub is_listed: bool,
}

/// Makes the enum, the list of all kinds and the table of a list of kinds.
macro_rules! kinds {
    ($($(#[doc = $about:literal])+ $kind:ident: $label:literal, $population:ident, $severity:ident $(, $flag:ident)*;)+) => {
        /// A kind of finding.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Kind {
            $($(#[doc = $about])+ $kind,)+
        }

        impl Kind {
            /// Every kind, in the order in which they are reported.
            pub const ALL: [Self; [$($label),+].len()] = [$(Self::$kind),+];

            /// The properties of the kind.
            pub const fn info(self) -> KindInfo {
                match self {
                    $(Self::$kind => {
                        #[allow(unused_mut)]
                        let mut info = KindInfo {
                            label: $label,
                            population: Population::$population,
                            severity: Severity::$severity,
                            is_outcome: false,
                            is_listed: false,
                        };
                        $(info.$flag = true;)*
                        info
                    })+
                }
            }
        }
    };
}

kinds! {
    /// A main row with exactly one answer.
    Matched: "matched", MainRows, Good, is_outcome;
    /// A matched main row whose answer a stated rule chose among reference rows that disagree.
    Chosen: "chosen", MainRows, Good, is_listed;
    /// A main row whose key no reference row holds.
    Unmatched: "unmatched", MainRows, Trouble, is_outcome, is_listed;
    /// An unmatched main row that names a header which the reference does not have.
    NoHeader: "no header", MainRows, Trouble, is_listed;
    /// A main row whose key is on several reference rows that disagree on what is taken.
    Ambiguous: "ambiguous", MainRows, Trouble, is_outcome, is_listed;
    /// A main row with a blank part in its key.
    BlankKey: "blank key", MainRows, Trouble, is_outcome, is_listed;
    /// A main row with a value in its key that a step could not read.
    Malformed: "malformed", MainRows, Trouble, is_outcome, is_listed;
    /// A reference key on several rows that agree on what is taken.
    Duplicate: "duplicate", ReferenceKeys, Information, is_listed;
    /// A reference key on several rows that disagree on what is taken.
    Conflicting: "conflicting", ReferenceKeys, Trouble, is_listed;
    /// A reference key that rows spell differently, and that steps made one key.
    Collapsed: "collapsed", ReferenceKeys, Information, is_listed;
    /// A reference row whose key no main row asked for.
    Unused: "unused", ReferenceRows, Information, is_listed;
    /// A reference key that several main rows asked for.
    Repeated: "repeated", ReferenceKeys, Information, is_listed;
}

impl Kind {
    /// The kinds of which every main row is exactly one.
    pub const OUTCOMES: [Self; 5] =
        [Self::Matched, Self::Unmatched, Self::Ambiguous, Self::BlankKey, Self::Malformed];

    /// The word for it in messages and gates.
    pub const fn label(self) -> &'static str {
        self.info().label
    }

    /// The population, which its share is a share of.
    pub const fn population(self) -> Population {
        self.info().population
    }

    /// The kinds of which there is a list.
    pub fn listed() -> impl Iterator<Item = Self> {
        Self::ALL.into_iter().filter(|kind| kind.info().is_listed)
    }

    /// The kinds that are something to fix.
    pub fn troubles() -> impl Iterator<Item = Self> {
        Self::ALL.into_iter().filter(|kind| kind.info().severity == Severity::Trouble)
    }
}

/// How often each kind of finding occurs for one reference.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Rows of the main table: the sum of all [`Kind::OUTCOMES`], always.
    pub main_rows: u64,
    /// Rows of the reference.
    pub reference_rows: u64,
    /// Different keys of the reference.
    pub reference_keys: u64,
    /// How many ranges the reference has, where rows are chosen by a range: findings of its keys are then of ranges.
    pub ranges: Option<u64>,
    /// Whether each copy that an earlier reference made of a main row is counted.
    pub counts_copies: bool,
    /// Reference rows with a blank part in their key or range; all of them are unused.
    pub keyless_rows: u64,
    /// Reference rows with a value in their key or range that a step could not read. They are unused, except in a
    /// reverse lookup, where another cell of the row may be asked for.
    pub malformed_rows: u64,
    /// Unmatched main rows whose key the reference holds, but without a range that contains their value.
    pub out_of_range: u64,
    pub(super) of: [u64; Kind::ALL.len()],
}

impl Counts {
    /// The kinds of findings of a single table.
    pub const OF_A_TABLE: [Kind; 3] = [Kind::BlankKey, Kind::Malformed, Kind::Repeated];

    /// The findings of the keys of a single table: blank and malformed ones, and repeated ones, which here are held by
    /// several rows.
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

    /// The population of a kind here.
    pub fn population(&self, kind: Kind) -> Population {
        match kind.population() {
            Population::ReferenceKeys if self.ranges.is_some() => Population::ReferenceRanges,
            other => other,
        }
    }

    /// The size of the population of a kind.
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_complete_and_distinct() {
        for (nth, kind) in Kind::ALL.into_iter().enumerate() {
            assert_eq!(kind as usize, nth);
            assert_eq!(kind.info().is_outcome, Kind::OUTCOMES.contains(&kind), "{kind:?}");
            assert!(Kind::ALL[..nth].iter().all(|other| other.label() != kind.label()));
            let of_main = kind.population() == Population::MainRows;
            assert!(of_main || !kind.info().is_outcome, "{kind:?}");
            assert!(kind.info().is_listed || kind == Kind::Matched, "{kind:?}");
        }
    }
}
