//! Groups: keys that several reference rows hold, and whether the rows agree.

use super::{EntryId, Reference, RowId};

/// The rows of a key that several reference rows hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// The entries of the key, in order.
    pub entries: Vec<EntryId>,
    /// The rows, in order.
    pub rows: Vec<RowId>,
    /// Whether the rows disagree on what is taken.
    pub conflicting: bool,
    /// Whether the rows spell the key differently, and steps made it one key.
    pub collapsed: bool,
}

impl Reference {
    /// The keys that several rows hold, in the order of their first rows; with ranges, only rows whose ranges
    /// overlap.
    pub fn groups(&self) -> impl Iterator<Item = Group> + '_ {
        let ranged = self.index.ranges.iter().flat_map(|index| index.ranges.overlapping());
        let plain = if self.spec.range.is_none() { &self.index.repeats[..] } else { &[] };
        let plain = plain.chunk_by(|a, b| a.0 == b.0);
        let plain = plain.map(|repeats| self.entries_of(repeats[0].0).collect());
        plain.chain(ranged).filter_map(|entries| self.group(entries))
    }

    /// The group of the entries, unless they are all of one row.
    fn group(&self, entries: Vec<EntryId>) -> Option<Group> {
        let rows = self.rows_among(&entries);
        if rows.len() < 2 {
            return None;
        }
        let first = entries[0];
        let conflicting = match &self.spec.range {
            None => self.index.is_conflicting(first),
            Some(_) => self.disagree(&entries),
        };
        let spelling = |entry: &EntryId| self.as_read(*entry);
        let collapsed = !self.is_verbatim() && {
            let first = spelling(&first);
            entries.iter().any(|entry| spelling(entry) != first)
        };
        Some(Group { entries, rows, conflicting, collapsed })
    }
}
