//! Splitting a value with the template that made it.
//!
//! There may be no way to do so, or several; only when there is exactly one are its values given.

use unicode_segmentation::UnicodeSegmentation;

use super::{Segment, Template};

/// Why a value can't be split.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SplitError {
    /// The value does not have the template's form.
    NoWay,
    /// There are several ways, so that each would be a guess.
    SeveralWays,
}

/// How far a value is split: the ends of the placeholders so far, and the number of ways to get there
/// (two means two or more).
#[derive(Debug, Clone)]
struct Reached {
    at: usize,
    ways: u8,
    ends: Vec<(usize, usize)>,
}

impl Template {
    /// Splits a value into those of the placeholders, in order. None of them is blank, unless its last
    /// step is `or ""`.
    ///
    /// # Errors
    /// [`SplitError`] when there is no way to do so, or more than one.
    pub fn split(&self, value: &str) -> Result<Vec<String>, SplitError> {
        let mut boundaries: Vec<usize> = value.grapheme_indices(true).map(|(at, _)| at).collect();
        boundaries.push(value.len());
        let mut reached = vec![Reached { at: 0, ways: 1, ends: Vec::new() }];
        for (nth, piece) in self.segments.iter().enumerate() {
            // The text that must follow a placeholder leaves few places where its value may end.
            let fits_behind = |end: usize| match self.segments.get(nth + 1) {
                None => end == value.len(),
                Some(Segment::Literal(text)) => value[end..].starts_with(&text[..]),
                Some(Segment::Placeholder(_)) => true,
            };
            let mut next: Vec<Reached> = Vec::new();
            for from in reached {
                match piece {
                    Segment::Literal(text) if value[from.at..].starts_with(&text[..]) => {
                        reach(&mut next, Reached { at: from.at + text.len(), ..from });
                    }
                    Segment::Literal(_) => {}
                    Segment::Placeholder(placeholder) => {
                        let Ok(start) = boundaries.binary_search(&from.at) else {
                            // A literal ended within a character: no placeholder can begin there.
                            continue;
                        };
                        let least = usize::from(!placeholder.may_be_blank());
                        let lengths = match placeholder.width() {
                            Some(width) => width..width + 1,
                            None => least..boundaries.len() - start,
                        };
                        for length in lengths {
                            let Some(&end) = boundaries.get(start + length) else { break };
                            if !fits_behind(end) {
                                continue;
                            }
                            let mut ends = from.ends.clone();
                            ends.push((from.at, end));
                            reach(&mut next, Reached { at: end, ways: from.ways, ends });
                        }
                    }
                }
            }
            reached = next;
        }
        match reached.iter().find(|way| way.at == value.len()) {
            None => Err(SplitError::NoWay),
            Some(way) if way.ways > 1 => Err(SplitError::SeveralWays),
            Some(way) => Ok(way.ends.iter().map(|&(a, b)| value[a..b].to_owned()).collect()),
        }
    }
}

/// Notes a place that is reached, once more if it was before.
fn reach(all: &mut Vec<Reached>, one: Reached) {
    match all.iter_mut().find(|other| other.at == one.at) {
        Some(other) => other.ways = other.ways.saturating_add(one.ways),
        None => all.push(one),
    }
}
