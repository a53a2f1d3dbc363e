//! Dictionaries: values of taken columns that many rows share, each stored once.
//!
//! A small reference is faster with all cells of a row in one piece. In a large one, the rows read so far show
//! which columns have few values; in later rows such a value is stored as its number, and a value that did not
//! occur before as text.

use std::collections::HashMap;

use ahash::RandomState;

use crate::table::Span;
use crate::table::packed::{GAP, VALUES};

/// From how many bytes of rows on dictionaries are used, unless the builder is given another number.
pub(in crate::lookup) const DICTIONARIES_FROM: usize = 64 << 20;

/// How many rows are sampled.
const SAMPLE: usize = 8192;

/// How many values a column may have in the sample at most, and how many rows there must be for each value.
const MOST_VALUES: usize = 1024;
const ROWS_EACH: usize = 8;

/// How long values must be on average, in bytes: a number takes as much space as a shorter value.
const LENGTH: usize = 3;

const _: () = assert!(MOST_VALUES <= VALUES);

/// The dictionary of each taken column that has few values.
#[derive(Debug, Default)]
pub(in crate::lookup) struct Dictionaries(Vec<Option<Dictionary>>);

#[derive(Debug)]
struct Dictionary {
    numbers: HashMap<Box<str>, u16, RandomState>,
    /// The values end to end, with a gap before each.
    text: String,
    /// Where each value is in the text, with the gap before it.
    spans: Vec<Span>,
}

impl Dictionaries {
    /// Chooses the dictionaries for `rows` rows; `cells` returns the taken cells of one.
    pub(in crate::lookup) fn of<'r, C>(
        columns: usize,
        hasher: &RandomState,
        rows: usize,
        cells: impl Fn(usize) -> C,
    ) -> Self
    where
        C: Iterator<Item = &'r str>,
    {
        let step = rows.div_ceil(SAMPLE).max(1);
        let column = |nth: usize| {
            let mut numbers = HashMap::with_hasher(hasher.clone());
            let (mut text, mut spans, mut count, mut bytes) = (String::new(), Vec::new(), 0, 0);
            for row in (0..rows).step_by(step) {
                let cell = cells(row).nth(nth)?;
                (count, bytes) = (count + 1, bytes + cell.len());
                if !numbers.contains_key(cell) {
                    if spans.len() == MOST_VALUES {
                        return None;
                    }
                    numbers.insert(cell.into(), spans.len() as u16);
                    let start = text.len() as u32;
                    text.push(GAP);
                    text.push_str(cell);
                    spans.push(Span { start, end: u32::try_from(text.len()).ok()? });
                }
            }
            let is_few = spans.len() * ROWS_EACH <= count && bytes >= count * LENGTH;
            is_few.then_some(Dictionary { numbers, text, spans })
        };
        Self((0..columns).map(column).collect())
    }

    /// The number of a cell in the dictionary of a column.
    #[inline]
    pub(in crate::lookup) fn number(&self, column: usize, cell: &str) -> Option<u16> {
        self.0.get(column)?.as_ref()?.numbers.get(cell).copied()
    }

    /// The value with a number.
    pub(in crate::lookup) fn get(&self, column: usize, number: u16) -> &str {
        self.with_gap(column, number).get(GAP.len_utf8()..).unwrap_or_default()
    }

    /// The value with a number, and the gap before it.
    #[inline]
    pub(in crate::lookup) fn with_gap(&self, column: usize, number: u16) -> &str {
        let Some(Some(column)) = self.0.get(column) else { return "" };
        let span = column.spans.get(usize::from(number));
        span.map_or("", |span| &column.text[span.start as usize..span.end as usize])
    }
}
