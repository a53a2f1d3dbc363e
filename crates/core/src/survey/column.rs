//! The profile of one column.

use ahash::RandomState;

use super::distinct::{AT_ONCE, Count, Distinct};
use super::hashes::is_filled;
use super::look::Look;
use super::memory::Worth;
use super::spread::Spread;
use super::trouble::{Noting, Trouble};
use super::values::{Value, Values};
use crate::diagnosis::Loose;
use crate::table::{Block, CellKind, Headers};
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

/// How many values of a column are kept at a time, and of how many columns all together.
const KEPT: usize = 8192;
const KEPT_OF_ALL: usize = 32 * KEPT;

/// Profiles a column.
#[derive(Debug)]
pub(super) struct Profiling {
    column: usize,
    hasher: RandomState,
    values: Values,
    counted: Counted,
    /// The different values, once some are not kept.
    distinct: Option<Distinct>,
    /// The different values but for their spelling.
    loose: Distinct,
    spelling: Loose,
    shortest: Option<(usize, String)>,
    longest: Option<(usize, String)>,
    least: Option<(f64, String)>,
    greatest: Option<(f64, String)>,
}

/// What was counted of cells whose values are not kept any more.
#[derive(Debug)]
struct Counted {
    looks: [u64; Look::ALL.len()],
    spread: Spread,
    numbers: u64,
    noting: Noting,
}

impl Counted {
    /// Counts the cells of a value.
    fn add(&mut self, value: &Value, cells: u64) {
        self.looks[value.look as usize] += cells;
        self.noting.count(value.marks, value.look, cells);
        if let Some(number) = value.measure {
            self.numbers += cells;
            self.spread.add(number, cells);
        }
    }
}

impl Profiling {
    /// Profiles a column; `width` columns are profiled in all.
    pub(super) fn of(column: usize, width: usize, hasher: &RandomState) -> Self {
        Self {
            column,
            hasher: hasher.clone(),
            values: Values::up_to((KEPT_OF_ALL / width.max(1)).clamp(KEPT / 32, KEPT)),
            distinct: None,
            loose: Distinct::default(),
            spelling: Loose::new(),
            shortest: None,
            longest: None,
            least: None,
            greatest: None,
            counted: Counted {
                looks: [0; Look::ALL.len()],
                spread: Spread::new(hasher),
                numbers: 0,
                noting: Noting::new(),
            },
        }
    }

    pub(super) fn column(&self) -> usize {
        self.column
    }

    /// Takes the cells of a block with their hashes.
    pub(super) fn look(&mut self, block: &Block, hashes: &[u64]) {
        for (row, &hash) in hashes.iter().enumerate() {
            if let Some(distinct) = &self.distinct
                && row.is_multiple_of(AT_ONCE)
            {
                distinct.fetch(&hashes[row..hashes.len().min(row + AT_ONCE)]);
            }
            if !is_filled(hash) {
                self.counted.looks[Look::Blank as usize] += 1;
                continue;
            }
            let kind = block.kind(row, self.column);
            if !self.values.count(hash, kind) {
                let text = block.cell(row, self.column);
                self.meet(hash, text, kind, || (block.row_number(row), block.line(row)));
            }
        }
    }

    /// Takes a cell whose value is not kept.
    fn meet(&mut self, hash: u64, text: &str, kind: CellKind, place: impl Fn() -> (u64, u64)) {
        if self.distinct.is_none() && !self.values.has_room(text) {
            self.distinct = Some(self.values.iter().map(|(value, _)| value.hash).collect());
        }
        let is_new = self.distinct.as_mut().is_none_or(|distinct| distinct.add(hash));
        let look = Look::of(text, kind);
        let measure = measure(text, look);
        let marks = self.counted.noting.meet(&place, text, look);
        let value = Value { hash, look, marks, measure };
        self.values.keep(value, text, kind, |value, cells| self.counted.add(value, cells));
        self.extremes(text, measure);
        if is_new && look == Look::Text && self.loose.is_exact() {
            let loose = self.hasher.hash_one(self.spelling.of(text));
            if !self.loose.add(loose) {
                self.counted.noting.spelling(place, text);
            }
        }
    }

    fn extremes(&mut self, text: &str, measure: Option<f64>) {
        let long = text.chars().count();
        if self.shortest.as_ref().is_none_or(|(least, _)| long < *least) {
            self.shortest = Some((long, text.to_owned()));
        }
        if self.longest.as_ref().is_none_or(|(most, _)| long > *most) {
            self.longest = Some((long, text.to_owned()));
        }
        let Some(number) = measure else { return };
        if self.least.as_ref().is_none_or(|(least, _)| number < *least) {
            self.least = Some((number, text.to_owned()));
        }
        if self.greatest.as_ref().is_none_or(|(greatest, _)| number > *greatest) {
            self.greatest = Some((number, text.to_owned()));
        }
    }

    /// Its counts, which may become samples.
    pub(super) fn counts(&mut self) -> impl Iterator<Item = (Worth, &mut Distinct)> {
        let worth = |distinct: &Distinct| {
            if distinct.has_repeats() { Worth::Column } else { Worth::Key }
        };
        let distinct = self.distinct.iter_mut().map(move |distinct| (worth(distinct), distinct));
        distinct.chain([(Worth::Rows, &mut self.loose)])
    }

    /// Leaves what a sample does not show.
    pub(super) fn settle(&mut self) {
        let is_sampled = self.distinct.as_ref().is_some_and(|distinct| !distinct.is_exact());
        if is_sampled || !self.loose.is_exact() {
            self.loose = Distinct::default();
            self.loose.halve();
            self.counted.noting.leave_spellings();
        }
    }

    /// How many different values there are.
    fn distinct(&self) -> Count {
        match &self.distinct {
            Some(distinct) => distinct.count(),
            None => self.values.iter().map(|(value, _)| value.hash).collect::<Distinct>().count(),
        }
    }

    pub(super) fn finish(mut self, headers: &Headers) -> ColumnProfile {
        self.values.iter().for_each(|(value, cells)| self.counted.add(value, cells));
        let Counted { looks: cells, ref spread, numbers, .. } = self.counted;
        let filled: u64 = cells.iter().sum::<u64>() - cells[Look::Blank as usize];
        let mut looks: Vec<(Look, u64)> = Look::ALL
            .into_iter()
            .map(|look| (look, cells[look as usize]))
            .filter(|(look, count)| *count > 0 && *look != Look::Blank)
            .collect();
        looks.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        let (commonest, is_counted) = self.values.commonest(COMMON);
        let is_measured = numbers * 2 > filled;
        let range = self.least.clone().zip(self.greatest.clone()).filter(|_| is_measured);
        let picture = match &range {
            Some(((least, _), (greatest, _))) => {
                Picture::Spread(spread.bars(BARS, *least, *greatest))
            }
            None => Picture::Commonest(commonest.iter().map(|(_, count)| *count).collect()),
        };
        ColumnProfile {
            header: headers.address(self.column),
            looks,
            blanks: cells[Look::Blank as usize],
            distinct: self.distinct(),
            shortest: self.shortest.map(|(_, text)| text),
            longest: self.longest.map(|(_, text)| text),
            range: range.map(|((_, least), (_, greatest))| (least, greatest)),
            commonest,
            is_counted,
            picture,
            troubles: self.counted.noting.finish(),
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
