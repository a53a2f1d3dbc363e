//! The rules for keys that several reference rows hold.

use std::cmp::Ordering;

use super::{Holder, Position, Reference};

/// What to do with keys whose rows disagree on what is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Rule {
    /// Take nothing: the main row is ambiguous.
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
    /// Take from every row, one after the other, also where they agree.
    Every,
    /// Take the distinct values of all rows.
    List,
}

/// What a rule makes of the rows that hold a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Decision {
    /// There is one row, or all agree.
    Agreed,
    /// They disagree; this one counts.
    Chosen(Holder),
    /// All of them count.
    All {
        /// Whether they disagree.
        disagree: bool,
    },
    /// They disagree, and nothing settles it.
    Open,
}

/// Which of the taken cells have to agree: those that are always taken, and of the others these.
#[derive(Debug, Clone, Copy)]
pub(super) enum Compared<'n> {
    Every,
    Named(&'n [usize]),
}

impl Reference {
    /// What the rule makes of the holders of one key, of which there is at least one.
    pub(super) fn decide(&self, holders: &[Holder], compared: Compared<'_>) -> Decision {
        let rows = self.rows_among(holders);
        if rows.len() == 1 {
            return Decision::Agreed;
        }
        let first = holders[0];
        let agree = |other: &Holder| self.agree(first, *other, holders, compared);
        let disagree = !holders.iter().all(agree);
        if self.rule() == Rule::Every {
            return Decision::All { disagree };
        }
        if !disagree {
            return Decision::Agreed;
        }
        let chosen = match self.rule() {
            Rule::First => holders.first().copied(),
            Rule::Last => holders.last().copied(),
            Rule::Highest => self.foremost(holders, compared, Ordering::Greater),
            Rule::Lowest => self.foremost(holders, compared, Ordering::Less),
            Rule::List => return Decision::All { disagree },
            Rule::Report | Rule::Every => None,
        };
        chosen.map_or(Decision::Open, Decision::Chosen)
    }

    /// Whether the rows of some holders differ in anything that may be taken.
    pub(super) fn disagree(&self, holders: &[Holder]) -> bool {
        let first = holders[0];
        !holders.iter().all(|&other| self.agree(first, other, holders, Compared::Every))
    }

    /// Whether two of the holders of a key give the same cells.
    fn agree(&self, a: Holder, b: Holder, holders: &[Holder], compared: Compared<'_>) -> bool {
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
                let held = |row| holders.iter().filter(move |holder| self.row(**holder) == row);
                let columns = |row| held(row).map(|&holder| self.column(holder));
                columns(one).eq(columns(other))
            })
    }

    /// The holder whose rank stands so to all others. `None` when a rank can't be told, or when
    /// holders of the same rank disagree.
    fn foremost(
        &self,
        holders: &[Holder],
        compared: Compared<'_>,
        order: Ordering,
    ) -> Option<Holder> {
        let ranks: Option<Vec<Position>> =
            holders.iter().map(|&holder| Position::of(self.rank_of(holder)?)).collect();
        let ranks = ranks?;
        let mut best = 0;
        for at in 1..holders.len() {
            if ranks[at].compare(ranks[best])? == order {
                best = at;
            }
        }
        let is_tied = |at: &usize| ranks[*at].compare(ranks[best]) == Some(Ordering::Equal);
        let mut tied = (0..holders.len()).filter(is_tied).map(|at| holders[at]);
        let agrees = tied.all(|other| self.agree(holders[best], other, holders, compared));
        agrees.then_some(holders[best])
    }
}
