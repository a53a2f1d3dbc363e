//! How numbers are spread from the least to the greatest: counts in intervals that become wider as more are needed.

use std::collections::HashMap;

use ahash::RandomState;

/// How many intervals are counted at a time.
const MOST: usize = 1024;

/// A number has at most this many intervals, so that each has a place of its own as a whole number.
const FARTHEST: f64 = (1_u64 << 52) as f64;

/// The width of the first intervals: a power of two, as the others are.
const NARROWEST: f64 = 1.0 / (1_u64 << 40) as f64;

/// Counts numbers.
#[derive(Debug)]
pub(super) struct Spread {
    /// The width of an interval.
    width: f64,
    counts: HashMap<i64, u64, RandomState>,
}

impl Spread {
    pub(super) fn new(hasher: &RandomState) -> Self {
        Self { width: NARROWEST, counts: HashMap::with_hasher(hasher.clone()) }
    }

    /// Counts a finite number, a number of times.
    pub(super) fn add(&mut self, number: f64, times: u64) {
        while (number / self.width).abs() >= FARTHEST {
            self.widen();
        }
        *self.counts.entry((number / self.width).floor() as i64).or_default() += times;
        while self.counts.len() > MOST {
            self.widen();
        }
    }

    /// Makes every interval twice as wide.
    fn widen(&mut self) {
        self.width *= 2.0;
        let mut wider = HashMap::with_hasher(self.counts.hasher().clone());
        for (place, count) in self.counts.drain() {
            *wider.entry(place.div_euclid(2)).or_default() += count;
        }
        self.counts = wider;
    }

    /// How many are in each of `bars` equal pieces between the least number and the greatest.
    pub(super) fn bars(&self, bars: usize, least: f64, greatest: f64) -> Vec<u64> {
        let mut heights = vec![0; bars];
        let width = (greatest - least) / bars as f64;
        for (place, count) in &self.counts {
            let number = (*place as f64 + 0.5) * self.width;
            // Between 0 and the number of bars.
            #[allow(clippy::cast_sign_loss)]
            let bar = if width > 0.0 { ((number - least) / width) as usize } else { 0 };
            heights[bar.min(bars - 1)] += count;
        }
        heights
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every number is counted, in its piece or the one next to it.
    #[test]
    fn numbers_are_spread() {
        let hasher = RandomState::with_seeds(1, 2, 3, 4);
        for (numbers, want) in [
            ((0..12).map(f64::from).collect::<Vec<_>>(), vec![3, 3, 3, 3]),
            ((0..40_000).map(|n| f64::from(n) / 7.0).collect(), vec![10_000; 4]),
            (vec![-5.0; 9], vec![9, 0, 0, 0]),
            (vec![0.0, 1e300, -1e300], vec![1, 0, 1, 1]),
            (vec![1e-9, 2e-9, 3e-9, 4e-9], vec![1; 4]),
        ] {
            let mut spread = Spread::new(&hasher);
            for number in &numbers {
                spread.add(*number, 1);
            }
            let least = numbers.iter().copied().fold(f64::INFINITY, f64::min);
            let greatest = numbers.iter().copied().fold(f64::NEG_INFINITY, f64::max);
            let bars = spread.bars(4, least, greatest);
            assert_eq!(bars.iter().sum::<u64>(), numbers.len() as u64);
            for (bar, want) in bars.iter().zip(&want) {
                assert!(bar.abs_diff(*want) <= want / 100, "{bars:?} for {want:?}");
            }
        }
    }
}
