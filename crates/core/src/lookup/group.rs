//! Keys that several reference rows hold, and whether these agree.

use super::{Holder, Reference, RowId};

/// The reference rows that hold one key, when there are several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Group {
    /// What holds the key, in order.
    pub holders: Vec<Holder>,
    /// The rows, in order.
    pub rows: Vec<RowId>,
    /// Whether they disagree on what is taken.
    pub conflicting: bool,
    /// Whether they spell the key differently, and only the steps made it one.
    pub collapsed: bool,
}

impl Reference {
    /// The keys that several rows hold, in the order of their first rows; with ranges, those of
    /// them that overlap.
    pub fn groups(&self) -> impl Iterator<Item = Group> + '_ {
        let ranged = self.ranged.iter().flat_map(|ranged| ranged.index.overlapping());
        let plain = if self.ranged.is_none() { &self.repeats[..] } else { &[] };
        let plain = plain.chunk_by(|a, b| a.0 == b.0);
        let plain = plain.map(|repeats| self.holders_of(repeats[0].0).collect());
        plain.chain(ranged).filter_map(|holders| self.group(holders))
    }

    /// The group of some holders, unless they are all of one row.
    fn group(&self, holders: Vec<Holder>) -> Option<Group> {
        let rows = self.rows_among(&holders);
        if rows.len() < 2 {
            return None;
        }
        let first = holders[0];
        let conflicting = match &self.ranged {
            None => self.is_conflicting(first),
            Some(_) => self.disagree(&holders),
        };
        let spelling = |holder: &Holder| self.as_read(*holder);
        let collapsed = !self.is_verbatim() && {
            let first = spelling(&first);
            holders.iter().any(|holder| spelling(holder) != first)
        };
        Some(Group { holders, rows, conflicting, collapsed })
    }
}
