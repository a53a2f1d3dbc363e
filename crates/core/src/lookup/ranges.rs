//! The ranges of a reference's rows, sorted within each key, and the search for those that hold a
//! position.
//!
//! The rows of one key stand side by side, in the order of their lower ends. With two bounds they
//! also form a balanced tree in place: the middle of a run is its root, and beside each root stands
//! the furthest upper end below it, so that a search passes by whole runs that end too soon,
//! however the ranges overlap.

use super::Holder;

/// Where a range begins and ends, both included.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Ends {
    pub(crate) lower: i128,
    pub(crate) upper: i128,
}

/// Which of the rows count.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Closest {
    /// Those whose range holds the position.
    Holding,
    /// The last that begins at or before it, and no further off than this.
    Before(Option<i128>),
    /// The first that ends at or after it, and no further off than this.
    After(Option<i128>),
}

/// The ranges of all keys.
#[derive(Debug)]
pub(crate) struct Ranges {
    closest: Closest,
    /// The holders of ranges, key by key.
    holders: Vec<Holder>,
    /// Their ends.
    ends: Vec<Ends>,
    /// The furthest upper end in the run of which this is the middle.
    furthest: Vec<i128>,
    /// For the first holder of a key: where its run begins, and how long it is.
    runs: Vec<(Holder, u32, u32)>,
}

impl Ranges {
    /// Sorts ranges, each given with the first holder of its key.
    pub(crate) fn new(closest: Closest, mut all: Vec<(Holder, Ends, Holder)>) -> Self {
        all.sort_unstable_by_key(|(first, ends, holder)| match closest {
            Closest::After(_) => (*first, ends.upper, *holder),
            Closest::Holding | Closest::Before(_) => (*first, ends.lower, *holder),
        });
        let mut runs: Vec<(Holder, u32, u32)> = Vec::new();
        for (at, (first, ..)) in all.iter().enumerate() {
            match runs.last_mut() {
                Some((last, _, length)) if last == first => *length += 1,
                _ => runs.push((*first, at as u32, 1)),
            }
        }
        let ends: Vec<Ends> = all.iter().map(|(_, ends, _)| *ends).collect();
        let mut furthest = Vec::new();
        if closest == Closest::Holding {
            furthest = vec![i128::MIN; ends.len()];
            for &(_, start, length) in &runs {
                let run = start as usize..(start + length) as usize;
                fill(&ends[run.clone()], &mut furthest[run]);
            }
        }
        let holders = all.into_iter().map(|(.., holder)| holder).collect();
        Self { closest, holders, ends, furthest, runs }
    }

    /// How many there are.
    pub(crate) fn len(&self) -> usize {
        self.holders.len()
    }

    /// Finds the holders whose ranges count for a position, in the order of the reference.
    pub(crate) fn find(&self, first: Holder, at: i128, found: &mut Vec<Holder>) {
        found.clear();
        let Some(run) = self.run(first) else { return };
        let (ends, holders) = (&self.ends[run.clone()], &self.holders[run.clone()]);
        match self.closest {
            Closest::Holding => {
                gather(ends, &self.furthest[run], holders, at, found);
            }
            Closest::Before(reach) => {
                let past = ends.partition_point(|ends| ends.lower <= at);
                let Some(last) = past.checked_sub(1).map(|last| ends[last].lower) else { return };
                if reach.is_some_and(|reach| at - last > reach) {
                    return;
                }
                let from = ends.partition_point(|ends| ends.lower < last);
                found.extend_from_slice(&holders[from..past]);
            }
            Closest::After(reach) => {
                let from = ends.partition_point(|ends| ends.upper < at);
                let Some(next) = ends.get(from) else { return };
                // For a bound by itself the lower end is where it stands.
                if reach.is_some_and(|reach| next.lower - at > reach) {
                    return;
                }
                let past = ends.partition_point(|ends| ends.upper <= next.upper);
                found.extend_from_slice(&holders[from..past]);
            }
        }
        found.sort_unstable();
    }

    /// The holder whose range comes nearest to a position that none holds.
    pub(crate) fn nearest(&self, first: Holder, at: i128) -> Option<Holder> {
        let run = self.run(first)?;
        let away = |ends: &Ends| (ends.lower - at).max(at - ends.upper).max(0);
        let away = |place: &usize| match self.closest {
            Closest::Holding => away(&self.ends[*place]),
            Closest::Before(_) | Closest::After(_) => (self.ends[*place].lower - at).abs(),
        };
        run.min_by_key(away).map(|place| self.holders[place])
    }

    /// Runs of two or more rows of one key whose ranges overlap, or whose one bound is the same,
    /// each in the order of the reference.
    pub(crate) fn overlapping(&self) -> impl Iterator<Item = Vec<Holder>> + '_ {
        self.runs.iter().flat_map(|&(_, start, length)| {
            let run = start as usize..(start + length) as usize;
            let mut groups: Vec<Vec<Holder>> = Vec::new();
            let (mut group, mut upto) = (Vec::new(), i128::MIN);
            for place in run {
                let ends = self.ends[place];
                let joins = match self.closest {
                    Closest::Holding => ends.lower <= upto,
                    Closest::Before(_) => ends.lower == upto,
                    Closest::After(_) => ends.upper == upto,
                };
                if !joins && group.len() > 1 {
                    groups.push(std::mem::take(&mut group));
                }
                if !joins {
                    group.clear();
                }
                group.push(self.holders[place]);
                upto = match self.closest {
                    Closest::Holding if joins => upto.max(ends.upper),
                    Closest::Holding | Closest::After(_) => ends.upper,
                    Closest::Before(_) => ends.lower,
                };
            }
            if group.len() > 1 {
                groups.push(group);
            }
            for group in &mut groups {
                group.sort_unstable();
            }
            groups
        })
    }

    fn run(&self, first: Holder) -> Option<std::ops::Range<usize>> {
        let at = self.runs.binary_search_by_key(&first, |run| run.0).ok()?;
        let (_, start, length) = self.runs[at];
        Some(start as usize..(start + length) as usize)
    }
}

/// Notes for every run, at its middle, the furthest upper end in it.
fn fill(ends: &[Ends], furthest: &mut [i128]) -> i128 {
    if ends.is_empty() {
        return i128::MIN;
    }
    let middle = ends.len() / 2;
    let (left, right) = furthest.split_at_mut(middle);
    let below = fill(&ends[..middle], left).max(fill(&ends[middle + 1..], &mut right[1..]));
    right[0] = below.max(ends[middle].upper);
    right[0]
}

/// Gathers the holders of a run whose ranges hold a position.
fn gather(ends: &[Ends], furthest: &[i128], holders: &[Holder], at: i128, found: &mut Vec<Holder>) {
    let middle = ends.len() / 2;
    if ends.is_empty() || furthest[middle] < at {
        return;
    }
    gather(&ends[..middle], &furthest[..middle], &holders[..middle], at, found);
    if ends[middle].lower <= at {
        if ends[middle].upper >= at {
            found.push(holders[middle]);
        }
        let (ends, furthest) = (&ends[middle + 1..], &furthest[middle + 1..]);
        gather(ends, furthest, &holders[middle + 1..], at, found);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Whatever the ranges, those that hold a position are found, and the closest ones too.
        #[test]
        fn found_are_those_that_a_look_at_all_finds(
            all in prop::collection::vec((0..3_u32, 0..20_i128, 0..8_i128), 0..40),
            (asked, at, reach) in (0..3_u32, -2..24_i128, prop::option::of(0..6_i128)),
        ) {
            let ranges = |one_bound: bool| -> Vec<(Holder, Ends, Holder)> {
                let with = |(nth, &(key, lower, length)): (usize, &(u32, i128, i128))| {
                    let upper = if one_bound { lower } else { lower + length };
                    (Holder(key), Ends { lower, upper }, Holder(nth as u32))
                };
                all.iter().enumerate().map(with).collect()
            };
            let held: Vec<(i128, i128, u32)> = all.iter().zip(0..)
                .filter(|((key, ..), _)| *key == asked)
                .map(|((_, lower, length), nth)| (*lower, lower + length, nth)).collect();
            let mut found = Vec::new();
            let mut find = |closest, one_bound| {
                Ranges::new(closest, ranges(one_bound)).find(Holder(asked), at, &mut found);
                found.iter().map(|holder| holder.0).collect::<Vec<_>>()
            };
            let holding = held.iter().filter(|(lower, upper, _)| (lower..=upper).contains(&&at));
            prop_assert_eq!(find(Closest::Holding, false), holding.map(|h| h.2).collect::<Vec<_>>());
            let near = |bound: Option<i128>| held.iter()
                .filter(|(lower, ..)| Some(*lower) == bound)
                .filter(|(lower, ..)| reach.is_none_or(|reach| (at - lower).abs() <= reach))
                .map(|h| h.2).collect::<Vec<_>>();
            let lowers = || held.iter().map(|held| held.0);
            let before = near(lowers().filter(|lower| *lower <= at).max());
            prop_assert_eq!(find(Closest::Before(reach), true), before);
            let after = near(lowers().filter(|lower| *lower >= at).min());
            prop_assert_eq!(find(Closest::After(reach), true), after);
        }

        /// Rows that overlap, directly or by others between them, stand together.
        #[test]
        fn overlapping_ranges_stand_together(
            all in prop::collection::vec((0..30_i128, 0..4_i128), 0..12),
        ) {
            let with = |(nth, &(lower, length)): (usize, &(i128, i128))| {
                (Holder(0), Ends { lower, upper: lower + length }, Holder(nth as u32))
            };
            let ranges = Ranges::new(Closest::Holding, all.iter().enumerate().map(with).collect());
            let mut group: Vec<usize> = (0..all.len()).collect();
            for _ in 0..all.len() {
                for (a, (lower, length)) in all.iter().enumerate() {
                    for (b, (other, more)) in all.iter().enumerate() {
                        if lower <= &(other + more) && other <= &(lower + length) {
                            let least = group[a].min(group[b]);
                            (group[a], group[b]) = (least, least);
                        }
                    }
                }
            }
            let mut want: Vec<Vec<u32>> = (0..all.len())
                .map(|id| (0..all.len() as u32).filter(|&nth| group[nth as usize] == id).collect())
                .filter(|group: &Vec<u32>| group.len() > 1).collect();
            let mut told: Vec<Vec<u32>> =
                ranges.overlapping().map(|group| group.iter().map(|h| h.0).collect()).collect();
            want.sort();
            told.sort();
            prop_assert_eq!(told, want);
        }
    }
}
