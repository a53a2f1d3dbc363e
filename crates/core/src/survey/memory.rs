//! The memory of a survey: when its exact counts take more than they may, the largest become samples.

use super::distinct::Distinct;

/// How much the counts may take together, in bytes.
const MOST: usize = 36 << 20;

/// What an exact count is worth: of a column that may be a key, of another one, of whole rows or spellings, of a set of
/// columns. What is worth least becomes a sample first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Worth {
    Key = 1,
    Column = 4,
    Rows = 5,
    Set = 8,
}

/// Halves counts until they take no more than they may. It depends on the counts alone, not on the threads that made them.
pub(super) fn bound<'c>(counts: impl Iterator<Item = (Worth, &'c mut Distinct)>) {
    bound_to(MOST, counts);
}

fn bound_to<'c>(most: usize, counts: impl Iterator<Item = (Worth, &'c mut Distinct)>) {
    let mut counts: Vec<_> = counts.collect();
    let mut all: usize = counts.iter().map(|(_, count)| count.memory()).sum();
    while all > most {
        let weight = |(worth, count): &(Worth, &mut Distinct)| count.memory() * *worth as usize;
        let Some((_, largest)) = counts.iter_mut().max_by_key(|count| weight(count)) else {
            return;
        };
        let before = largest.memory();
        largest.halve();
        let less = before.saturating_sub(largest.memory());
        if less == 0 {
            return;
        }
        all -= less;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What is worth less gives way first, until all have room.
    #[test]
    fn counts_give_way() {
        let spread = |n: u64| n.wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(29);
        let mut key: Distinct = (0..10_000).map(spread).collect();
        let mut set: Distinct = (0..10_000).map(spread).collect();
        let mut few: Distinct = (0..100).map(spread).collect();
        for (most, exact) in
            [(usize::MAX, [true; 3]), (200_000, [true, false, true]), (1, [false; 3])]
        {
            let counts =
                [(Worth::Key, &mut key), (Worth::Set, &mut set), (Worth::Column, &mut few)];
            bound_to(most, counts.into_iter());
            assert_eq!([&key, &set, &few].map(Distinct::is_exact), exact);
            let all: usize = [&key, &set, &few].map(Distinct::memory).iter().sum();
            assert!(all <= most || most == 1, "{all}");
        }
    }
}
