//! Rules: which row of a key counts when several reference rows hold it.

use std::cmp::Ordering;

use super::{EntryId, Reference};
use crate::value::Point;

/// What to do with keys whose rows disagree on what is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Rule {
    /// Take nothing; the main row is ambiguous.
    #[default]
    Report,
    /// Take from the first row.
    First,
    /// Take from the last row.
    Last,
    /// Take from the row of the highest rank.
    Highest,
    /// Take from the row of the lowest rank.
    Lowest,
    /// Repeat the main row for every reference row, also where they agree.
    Every,
    /// Take the distinct values of all rows.
    List,
}

/// The decision of a rule on the rows of a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Decision {
    /// There is one row, or all rows agree.
    Agreed,
    /// The rows disagree; the rule chooses this entry.
    Chosen(EntryId),
    /// The rule takes from all rows.
    All {
        /// Whether the rows disagree.
        disagree: bool,
    },
    /// The rows disagree, and the rule does not settle it.
    Open,
}

/// Which taken cells are compared.
#[derive(Debug, Clone, Copy)]
pub(super) enum Compared<'n> {
    /// All of them.
    Every,
    /// The columns that every main row takes, and the ones at these places.
    Named(&'n [usize]),
}

impl Reference {
    /// Decides on the entries of one key; there is at least one.
    pub(super) fn decide(&self, entries: &[EntryId], compared: Compared<'_>) -> Decision {
        let rows = self.rows_among(entries);
        if rows.len() == 1 {
            return Decision::Agreed;
        }
        let first = entries[0];
        let agree = |other: &EntryId| self.agree(first, *other, entries, compared);
        let disagree = !entries.iter().all(agree);
        if self.rule() == Rule::Every {
            return Decision::All { disagree };
        }
        if !disagree {
            return Decision::Agreed;
        }
        let chosen = match self.rule() {
            Rule::First => entries.first().copied(),
            Rule::Last => entries.last().copied(),
            Rule::Highest => self.foremost(entries, compared, Ordering::Greater),
            Rule::Lowest => self.foremost(entries, compared, Ordering::Less),
            Rule::List => return Decision::All { disagree },
            Rule::Report | Rule::Every => None,
        };
        chosen.map_or(Decision::Open, Decision::Chosen)
    }

    /// Whether the rows of the entries differ in any taken cell.
    pub(super) fn disagree(&self, entries: &[EntryId]) -> bool {
        let first = entries[0];
        !entries.iter().all(|&other| self.agree(first, other, entries, Compared::Every))
    }

    /// Whether two entries of a key give the same cells.
    fn agree(&self, a: EntryId, b: EntryId, entries: &[EntryId], compared: Compared<'_>) -> bool {
        let (one, other) = (self.row(a), self.row(b));
        if one == other {
            return true;
        }
        let cells = match compared {
            Compared::Every => self.taken_cells(one).eq(self.taken_cells(other)),
            Compared::Named(named) => {
                let counts = |(nth, _): &(usize, &str)| *nth < self.always() || named.contains(nth);
                let ours = self.taken_cells(one).enumerate().filter(counts);
                ours.eq(self.taken_cells(other).enumerate().filter(counts))
            }
        };
        cells
            && (!self.takes_column() || {
                let held = |row| entries.iter().filter(move |entry| self.row(**entry) == row);
                let columns = |row| held(row).map(|&entry| self.column(entry));
                columns(one).eq(columns(other))
            })
    }

    /// The entry with the highest or lowest rank. `None` when some rank is no number or date, or when entries of
    /// the same rank disagree.
    fn foremost(
        &self,
        entries: &[EntryId],
        compared: Compared<'_>,
        order: Ordering,
    ) -> Option<EntryId> {
        let ranks: Option<Vec<Point>> =
            entries.iter().map(|&entry| Point::of(self.rank_of(entry)?)).collect();
        let ranks = ranks?;
        let mut best = 0;
        for at in 1..entries.len() {
            if ranks[at].compare(ranks[best])? == order {
                best = at;
            }
        }
        let is_tied = |at: &usize| ranks[*at].compare(ranks[best]) == Some(Ordering::Equal);
        let mut tied = (0..entries.len()).filter(is_tied).map(|at| entries[at]);
        let agrees = tied.all(|other| self.agree(entries[best], other, entries, compared));
        agrees.then_some(entries[best])
    }
}
