//! Values of taken columns that many rows hold, each stored once.
//!
//! A reference that is not large is quicker with all cells of a row in one piece. Of a large one, what
//! a column holds in the rows so far tells whether it has few values; in the rows behind them such a
//! value is a number, and a value that did not come before stands as it is.

use std::collections::HashMap;

use ahash::RandomState;

use crate::table::Span;
use crate::table::packed::{ROOM, VALUES};

/// How many bytes of rows there are before values are stored once, unless it is said.
pub(super) const LARGE: usize = 64 << 20;

/// How many rows are looked at.
const SAMPLE: usize = 8192;

/// How many values a column may have in these at most, and how many rows there must be for each.
const MOST: usize = 1024;
const ROWS_EACH: usize = 8;

/// How long they must be on average: a number takes about as much as a shorter one.
const LENGTH: usize = 3;

const _: () = assert!(MOST <= VALUES);

/// The values of each taken column that has few.
#[derive(Debug, Default)]
pub(super) struct Values(Vec<Option<Column>>);

#[derive(Debug)]
struct Column {
    numbers: HashMap<Box<str>, u16, RandomState>,
    /// The values end to end, each with room before it, and where each stands with that.
    text: String,
    places: Vec<Span>,
}

impl Values {
    /// Those of the rows of a table so far, of which there are so many; `cells` gives the taken cells of one.
    pub(super) fn of<'r, C>(
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
            let (mut text, mut places, mut count, mut bytes) = (String::new(), Vec::new(), 0, 0);
            for row in (0..rows).step_by(step) {
                let cell = cells(row).nth(nth)?;
                (count, bytes) = (count + 1, bytes + cell.len());
                if !numbers.contains_key(cell) {
                    if places.len() == MOST {
                        return None;
                    }
                    numbers.insert(cell.into(), places.len() as u16);
                    let start = text.len() as u32;
                    text.push(ROOM);
                    text.push_str(cell);
                    places.push(Span { start, end: u32::try_from(text.len()).ok()? });
                }
            }
            let is_few = places.len() * ROWS_EACH <= count && bytes >= count * LENGTH;
            is_few.then_some(Column { numbers, text, places })
        };
        Self((0..columns).map(column).collect())
    }

    /// The number of a cell of a column, when it is one of these values.
    #[inline]
    pub(super) fn number(&self, column: usize, cell: &str) -> Option<u16> {
        self.0.get(column)?.as_ref()?.numbers.get(cell).copied()
    }

    /// The value of a number.
    pub(super) fn get(&self, column: usize, number: u16) -> &str {
        self.with_room(column, number).get(ROOM.len_utf8()..).unwrap_or_default()
    }

    /// The value of a number with room before it.
    #[inline]
    pub(super) fn with_room(&self, column: usize, number: u16) -> &str {
        let Some(Some(column)) = self.0.get(column) else { return "" };
        let place = column.places.get(usize::from(number));
        place.map_or("", |place| &column.text[place.start as usize..place.end as usize])
    }
}
