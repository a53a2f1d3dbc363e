//! The ranges of a reference's rows, sorted within each key, and the search for those that hold a point.
//!
//! The ranges of one key are next to each other, in the order of their lower ends. With two bounds they also form
//! a balanced tree in place: the middle of a run is its root, and each root has the furthest upper end below it,
//! so that a search skips runs that end too soon, however the ranges overlap.

use super::EntryId;
use crate::value::{Point, Scale};

/// The ranges of a reference, and the scale that they are on.
#[derive(Debug)]
pub(in crate::lookup) struct RangeIndex {
    scale: Option<Scale>,
    pub(in crate::lookup) ranges: Ranges,
}

impl RangeIndex {
    /// Ranges on a scale; on none when there are no ranges.
    pub(in crate::lookup) fn new(scale: Option<Scale>, ranges: Ranges) -> Self {
        Self { scale, ranges }
    }

    /// The point of a value, where it is on the scale of the ranges.
    pub(in crate::lookup) fn point(&self, value: &str) -> Option<Point> {
        Point::of(value).filter(|point| self.is_on_scale(*point))
    }

    /// Whether a point is on the scale of the ranges.
    pub(in crate::lookup) fn is_on_scale(&self, point: Point) -> bool {
        self.scale.is_none_or(|scale| scale == point.scale())
    }
}

/// The ends of a range, both included.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Interval {
    pub(crate) lower: i128,
    pub(crate) upper: i128,
}

/// Which ranges match a point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RangeMatch {
    /// Ranges that hold the point.
    Holding,
    /// The last range that begins at or before the point, within this distance.
    Before(Option<i128>),
    /// The first range that ends at or after the point, within this distance.
    After(Option<i128>),
}

/// The ranges of all keys.
#[derive(Debug)]
pub(in crate::lookup) struct Ranges {
    matching: RangeMatch,
    /// The entry of each range, key by key.
    entries: Vec<EntryId>,
    /// The ends of each range.
    ends: Vec<Interval>,
    /// For each range, the furthest upper end in the run of which it is the middle.
    furthest: Vec<i128>,
    /// For each key: its first entry, where its run begins, and its length.
    runs: Vec<(EntryId, u32, u32)>,
}

impl Ranges {
    /// Sorts ranges, given as the first entry of the key, the ends, and the entry.
    pub(in crate::lookup) fn new(
        matching: RangeMatch,
        mut all: Vec<(EntryId, Interval, EntryId)>,
    ) -> Self {
        all.sort_unstable_by_key(|(first, ends, entry)| match matching {
            RangeMatch::After(_) => (*first, ends.upper, *entry),
            RangeMatch::Holding | RangeMatch::Before(_) => (*first, ends.lower, *entry),
        });
        let mut runs: Vec<(EntryId, u32, u32)> = Vec::new();
        for (at, (first, ..)) in all.iter().enumerate() {
            match runs.last_mut() {
                Some((last, _, length)) if last == first => *length += 1,
                _ => runs.push((*first, at as u32, 1)),
            }
        }
        let ends: Vec<Interval> = all.iter().map(|(_, ends, _)| *ends).collect();
        let mut furthest = Vec::new();
        if matching == RangeMatch::Holding {
            furthest = vec![i128::MIN; ends.len()];
            for &(_, start, length) in &runs {
                let run = start as usize..(start + length) as usize;
                fill(&ends[run.clone()], &mut furthest[run]);
            }
        }
        let entries = all.into_iter().map(|(.., entry)| entry).collect();
        Self { matching, entries, ends, furthest, runs }
    }

    /// How many ranges there are.
    pub(in crate::lookup) fn len(&self) -> usize {
        self.entries.len()
    }

    /// Finds the entries whose ranges match a point, in the order of the reference.
    pub(in crate::lookup) fn find(&self, first: EntryId, at: i128, found: &mut Vec<EntryId>) {
        found.clear();
        let Some(run) = self.run(first) else { return };
        let (ends, entries) = (&self.ends[run.clone()], &self.entries[run.clone()]);
        match self.matching {
            RangeMatch::Holding => {
                gather(ends, &self.furthest[run], entries, at, found);
            }
            RangeMatch::Before(reach) => {
                let past = ends.partition_point(|ends| ends.lower <= at);
                let Some(last) = past.checked_sub(1).map(|last| ends[last].lower) else { return };
                if reach.is_some_and(|reach| at - last > reach) {
                    return;
                }
                let from = ends.partition_point(|ends| ends.lower < last);
                found.extend_from_slice(&entries[from..past]);
            }
            RangeMatch::After(reach) => {
                let from = ends.partition_point(|ends| ends.upper < at);
                let Some(next) = ends.get(from) else { return };
                // A single bound is its own lower end.
                if reach.is_some_and(|reach| next.lower - at > reach) {
                    return;
                }
                let past = ends.partition_point(|ends| ends.upper <= next.upper);
                found.extend_from_slice(&entries[from..past]);
            }
        }
        found.sort_unstable();
    }

    /// The entry whose range is nearest to a point that no range holds.
    pub(in crate::lookup) fn nearest(&self, first: EntryId, at: i128) -> Option<EntryId> {
        let run = self.run(first)?;
        let away = |ends: &Interval| (ends.lower - at).max(at - ends.upper).max(0);
        let away = |place: &usize| match self.matching {
            RangeMatch::Holding => away(&self.ends[*place]),
            RangeMatch::Before(_) | RangeMatch::After(_) => (self.ends[*place].lower - at).abs(),
        };
        run.min_by_key(away).map(|place| self.entries[place])
    }

    /// Groups of entries of one key whose ranges overlap, or whose single bound is the same, each in the order of
    /// the reference.
    pub(in crate::lookup) fn overlapping(&self) -> impl Iterator<Item = Vec<EntryId>> + '_ {
        self.runs.iter().flat_map(|&(_, start, length)| {
            let run = start as usize..(start + length) as usize;
            let mut groups: Vec<Vec<EntryId>> = Vec::new();
            let (mut group, mut upto) = (Vec::new(), i128::MIN);
            for place in run {
                let ends = self.ends[place];
                let joins = match self.matching {
                    RangeMatch::Holding => ends.lower <= upto,
                    RangeMatch::Before(_) => ends.lower == upto,
                    RangeMatch::After(_) => ends.upper == upto,
                };
                if !joins && group.len() > 1 {
                    groups.push(std::mem::take(&mut group));
                }
                if !joins {
                    group.clear();
                }
                group.push(self.entries[place]);
                upto = match self.matching {
                    RangeMatch::Holding if joins => upto.max(ends.upper),
                    RangeMatch::Holding | RangeMatch::After(_) => ends.upper,
                    RangeMatch::Before(_) => ends.lower,
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

    fn run(&self, first: EntryId) -> Option<std::ops::Range<usize>> {
        let at = self.runs.binary_search_by_key(&first, |run| run.0).ok()?;
        let (_, start, length) = self.runs[at];
        Some(start as usize..(start + length) as usize)
    }
}

/// Stores the furthest upper end of every run at its middle.
fn fill(ends: &[Interval], furthest: &mut [i128]) -> i128 {
    if ends.is_empty() {
        return i128::MIN;
    }
    let middle = ends.len() / 2;
    let (left, right) = furthest.split_at_mut(middle);
    let below = fill(&ends[..middle], left).max(fill(&ends[middle + 1..], &mut right[1..]));
    right[0] = below.max(ends[middle].upper);
    right[0]
}

/// Gathers the entries of a run whose ranges hold a point.
fn gather(
    ends: &[Interval],
    furthest: &[i128],
    entries: &[EntryId],
    at: i128,
    found: &mut Vec<EntryId>,
) {
    let middle = ends.len() / 2;
    if ends.is_empty() || furthest[middle] < at {
        return;
    }
    gather(&ends[..middle], &furthest[..middle], &entries[..middle], at, found);
    if ends[middle].lower <= at {
        if ends[middle].upper >= at {
            found.push(entries[middle]);
        }
        let (ends, furthest) = (&ends[middle + 1..], &furthest[middle + 1..]);
        gather(ends, furthest, &entries[middle + 1..], at, found);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// The search finds the same ranges as a look at all of them.
        #[test]
        fn a_search_finds_what_a_scan_finds(
            all in prop::collection::vec((0..3_u32, 0..20_i128, 0..8_i128), 0..40),
            (asked, at, reach) in (0..3_u32, -2..24_i128, prop::option::of(0..6_i128)),
        ) {
            let ranges = |one_bound: bool| -> Vec<(EntryId, Interval, EntryId)> {
                let with = |(nth, &(key, lower, length)): (usize, &(u32, i128, i128))| {
                    let upper = if one_bound { lower } else { lower + length };
                    (EntryId(key), Interval { lower, upper }, EntryId(nth as u32))
                };
                all.iter().enumerate().map(with).collect()
            };
            let held: Vec<(i128, i128, u32)> = all.iter().zip(0..)
                .filter(|((key, ..), _)| *key == asked)
                .map(|((_, lower, length), nth)| (*lower, lower + length, nth)).collect();
            let mut found = Vec::new();
            let mut find = |matching, one_bound| {
                Ranges::new(matching, ranges(one_bound)).find(EntryId(asked), at, &mut found);
                found.iter().map(|entry| entry.0).collect::<Vec<_>>()
            };
            let holding = held.iter().filter(|(lower, upper, _)| (lower..=upper).contains(&&at));
            prop_assert_eq!(find(RangeMatch::Holding, false), holding.map(|h| h.2).collect::<Vec<_>>());
            let near = |bound: Option<i128>| held.iter()
                .filter(|(lower, ..)| Some(*lower) == bound)
                .filter(|(lower, ..)| reach.is_none_or(|reach| (at - lower).abs() <= reach))
                .map(|h| h.2).collect::<Vec<_>>();
            let lowers = || held.iter().map(|held| held.0);
            let before = near(lowers().filter(|lower| *lower <= at).max());
            prop_assert_eq!(find(RangeMatch::Before(reach), true), before);
            let after = near(lowers().filter(|lower| *lower >= at).min());
            prop_assert_eq!(find(RangeMatch::After(reach), true), after);
        }

        /// Entries that overlap, directly or through others, are in one group.
        #[test]
        fn overlapping_ranges_are_grouped(
            all in prop::collection::vec((0..30_i128, 0..4_i128), 0..12),
        ) {
            let with = |(nth, &(lower, length)): (usize, &(i128, i128))| {
                (EntryId(0), Interval { lower, upper: lower + length }, EntryId(nth as u32))
            };
            let ranges = Ranges::new(RangeMatch::Holding, all.iter().enumerate().map(with).collect());
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
            let mut grouped: Vec<Vec<u32>> =
                ranges.overlapping().map(|group| group.iter().map(|h| h.0).collect()).collect();
            want.sort();
            grouped.sort();
            prop_assert_eq!(grouped, want);
        }
    }
}
