//! The profile of one column.

use ahash::RandomState;

use super::distinct::{Count, Distinct};
use super::frequent::Frequent;
use super::look::Look;
use super::trouble::{Noting, Trouble};
use crate::diagnosis::Loose;
use crate::table::{Block, Headers};
use crate::value::any_date::dates_of;

/// The profile of one column's cells.
#[derive(Debug, Clone, PartialEq)]
pub struct ColumnProfile {
    /// Its header, as it is addressed.
    pub header: String,
    /// How many cells look like each kind, the commonest first; kinds that don't occur are left out.
    pub looks: Vec<(Look, u64)>,
    /// How many cells are blank.
    pub blanks: u64,
    /// How many different values there are among the others.
    pub distinct: Count,
    /// The shortest and the longest value that is not blank, in characters.
    pub shortest: Option<String>,
    /// See [`ColumnProfile::shortest`].
    pub longest: Option<String>,
    /// The least and the greatest number or date, where it holds such.
    pub range: Option<(String, String)>,
    /// The commonest values with how often they occur.
    pub commonest: Vec<(String, u64)>,
    /// Whether these were counted exactly; otherwise they may be a little more.
    pub is_counted: bool,
    /// How the values are spread.
    pub picture: Picture,
    /// The troubles that its cells may have.
    pub troubles: Vec<Trouble>,
}

/// How the values of a column are spread, as heights of bars.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Picture {
    /// For numbers and dates: how many are in each of equal intervals from the least to the greatest.
    Spread(Vec<u64>),
    /// For others: how often the commonest values occur, the commonest first.
    Commonest(Vec<u64>),
}

/// How many bars a picture has.
const BARS: usize = 12;

/// How many of the commonest values are reported.
const COMMON: usize = BARS;

/// How many numbers are kept for the picture.
const KEPT: usize = 4096;

/// Profiles a column.
#[derive(Debug)]
pub(super) struct Profiling {
    column: usize,
    hasher: RandomState,
    looks: [u64; Look::ALL.len()],
    distinct: Distinct,
    loose: Distinct,
    spelling: Loose,
    frequent: Frequent,
    shortest: Option<(usize, String)>,
    longest: Option<(usize, String)>,
    least: Option<(f64, String)>,
    greatest: Option<(f64, String)>,
    /// Every n-th number, for the picture.
    kept: Vec<f64>,
    every: u64,
    numbers: u64,
    noting: Noting,
}

impl Profiling {
    pub(super) fn of(column: usize, hasher: &RandomState) -> Self {
        Self {
            column,
            hasher: hasher.clone(),
            looks: [0; Look::ALL.len()],
            distinct: Distinct::new(),
            loose: Distinct::new(),
            spelling: Loose::new(),
            frequent: Frequent::new(hasher),
            shortest: None,
            longest: None,
            least: None,
            greatest: None,
            kept: Vec::new(),
            every: 1,
            numbers: 0,
            noting: Noting::default(),
        }
    }

    pub(super) fn column(&self) -> usize {
        self.column
    }

    /// Takes the cells of a block.
    pub(super) fn look(&mut self, block: &Block) {
        for row in 0..block.rows() {
            let text = block.cell(row, self.column);
            let look = Look::of(text, block.kind(row, self.column));
            self.looks[look as usize] += 1;
            if look == Look::Blank {
                continue;
            }
            let place = || (block.row_number(row), block.line(row));
            self.noting.note(place(), text, look);
            self.frequent.add(text);
            if self.distinct.add(self.hasher.hash_one(text)) {
                self.new_value(text, look, place());
            }
            if let Some(number) = measure(text, look) {
                self.number(number, text);
            }
        }
    }

    /// Takes a value that was not met before.
    fn new_value(&mut self, text: &str, look: Look, (row, line): (u64, u64)) {
        let long = text.chars().count();
        if self.shortest.as_ref().is_none_or(|(least, _)| long < *least) {
            self.shortest = Some((long, text.to_owned()));
        }
        if self.longest.as_ref().is_none_or(|(most, _)| long > *most) {
            self.longest = Some((long, text.to_owned()));
        }
        let loose = match look {
            Look::Text => self.hasher.hash_one(self.spelling.of(text)),
            _ => return,
        };
        if !self.loose.add(loose) && self.loose.is_exact() {
            self.noting.spellings.at(row, line, text);
        }
    }

    fn number(&mut self, number: f64, text: &str) {
        if self.least.as_ref().is_none_or(|(least, _)| number < *least) {
            self.least = Some((number, text.to_owned()));
        }
        if self.greatest.as_ref().is_none_or(|(greatest, _)| number > *greatest) {
            self.greatest = Some((number, text.to_owned()));
        }
        if self.numbers.is_multiple_of(self.every) {
            if self.kept.len() == KEPT {
                let mut nth = 0;
                self.kept.retain(|_| {
                    nth += 1;
                    nth % 2 == 1
                });
                self.every *= 2;
            }
            if self.numbers.is_multiple_of(self.every) {
                self.kept.push(number);
            }
        }
        self.numbers += 1;
    }

    pub(super) fn finish(self, headers: &Headers) -> ColumnProfile {
        let filled: u64 = self.looks.iter().sum::<u64>() - self.looks[Look::Blank as usize];
        let mut looks: Vec<(Look, u64)> = Look::ALL
            .into_iter()
            .map(|look| (look, self.looks[look as usize]))
            .filter(|(look, count)| *count > 0 && *look != Look::Blank)
            .collect();
        looks.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        let (commonest, is_counted) = self.frequent.commonest(COMMON);
        let is_measured = self.numbers * 2 > filled;
        let range = self.least.clone().zip(self.greatest.clone()).filter(|_| is_measured);
        let picture = match &range {
            Some(((least, _), (greatest, _))) => {
                Picture::Spread(spread(&self.kept, *least, *greatest))
            }
            None => Picture::Commonest(commonest.iter().map(|(_, count)| *count).collect()),
        };
        ColumnProfile {
            header: headers.address(self.column),
            looks,
            blanks: self.looks[Look::Blank as usize],
            distinct: self.distinct.count(),
            shortest: self.shortest.map(|(_, text)| text),
            longest: self.longest.map(|(_, text)| text),
            range: range.map(|((_, least), (_, greatest))| (least, greatest)),
            commonest,
            is_counted,
            picture,
            troubles: self.noting.finish(),
        }
    }
}

/// A number or a date as a point on a line.
fn measure(text: &str, look: Look) -> Option<f64> {
    let text = text.trim();
    match look {
        Look::Number => text.parse().ok().or_else(|| {
            crate::value::number::canonical(text).and_then(|number| number.parse().ok())
        }),
        Look::Date | Look::Time => {
            // Whether the month or the day comes first can't be known where the joint is a stroke.
            let is_clear = text.as_bytes().get(4) == Some(&b'-') || text.contains('.');
            let day = dates_of(text)[0].filter(|_| is_clear)?;
            let since = day.since(jiff::civil::date(1970, 1, 1)).ok()?;
            Some(f64::from(since.get_days()))
        }
        _ => None,
    }
    .filter(|number: &f64| number.is_finite())
}

/// How many numbers lie in each piece between the least and the greatest.
fn spread(numbers: &[f64], least: f64, greatest: f64) -> Vec<u64> {
    let mut bars = vec![0; BARS];
    let width = (greatest - least) / BARS as f64;
    for number in numbers {
        // Between 0 and the number of bars.
        #[allow(clippy::cast_sign_loss)]
        let bar = if width > 0.0 { ((number - least) / width) as usize } else { 0 };
        bars[bar.min(BARS - 1)] += 1;
    }
    bars
}
