//! Appended rows: reference rows without a main row that were added at the end.

/// The rows that were added from a reference.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Appended {
    /// How many.
    pub rows: u64,
    /// Unused rows that were not.
    pub not: NotAppended,
    /// Added rows whose key the main table's own side would not make again, so that the next run adds them once
    /// more.
    pub lost: u64,
}

/// Unused rows of a reference that were not added, by the reason.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct NotAppended {
    /// A part of their key is blank.
    pub blank_key: u64,
    /// A step can't read a value of their key.
    pub malformed: u64,
    /// Several rows hold their key, and disagree.
    pub ambiguous: u64,
    /// The main table makes the key of several columns, and theirs can't be split into them.
    pub inseparable: u64,
}

impl NotAppended {
    /// How many in all.
    pub fn all(&self) -> u64 {
        self.blank_key + self.malformed + self.ambiguous + self.inseparable
    }
}
