//! The first rows of a table, column by column, as they are compared with those of others.

use ahash::RandomState;

use super::by_value::ByValue;
use super::column::{Column, Spelled, TakesCells};
use super::cut::{Cut, cuts};
use crate::diagnosis::Loose;
use crate::hashing::Seed;
use crate::table::{Block, CellKind, Headers, Source};

/// What a table holds, by its first rows.
///
/// It takes some 30 bytes for each different value of a column, and 4 bytes for each cell.
#[derive(Debug)]
pub struct Profile {
    pub(super) headers: Headers,
    pub(super) columns: Vec<Column>,
    pub(super) hasher: RandomState,
    /// For the main table, its columns by their values.
    pub(super) by_value: ByValue,
}

/// How many rows of a main table and of a reference are looked at.
pub const LOOKED_AT: [usize; 2] = [50_000, 300_000];

/// How many rows are gone through column by column.
const TOGETHER: usize = 512;

impl Profile {
    /// The profile of a main table, by its first [`LOOKED_AT`] rows.
    ///
    /// # Errors
    /// The errors of the source.
    pub fn of_main<S: Source>(source: &mut S, seed: Seed) -> Result<Self, S::Error> {
        let hasher = RandomState::with_seeds(seed[0], seed[1], seed[2], seed[3]);
        let columns: Vec<Column> = columns(source, LOOKED_AT[0], &hasher, Spelled::First)?;
        let by_value = ByValue::of(&columns);
        Ok(Self { headers: source.headers().clone(), columns, hasher, by_value })
    }

    /// The profile of a table that is to be compared with a main table, by its first [`LOOKED_AT`] rows.
    ///
    /// # Errors
    /// The errors of the source.
    pub fn of_reference<S: Source>(source: &mut S, main: &Self) -> Result<Self, S::Error> {
        let hasher = main.hasher.clone();
        let columns = columns(source, LOOKED_AT[1], &hasher, Spelled::Of(&main.by_value))?;
        let by_value = ByValue::default();
        Ok(Self { headers: source.headers().clone(), columns, hasher, by_value })
    }

    /// How many rows were looked at.
    pub fn rows(&self) -> usize {
        self.columns.first().map_or(0, Column::rows)
    }

    /// The same with other headers for its columns, as when they are taken under other names.
    ///
    /// # Panics
    /// When there are more or fewer of them.
    #[must_use]
    pub fn renamed(self, headers: Headers) -> Self {
        assert_eq!(headers.len(), self.headers.len(), "every column needs a header");
        Self { headers, ..self }
    }

    /// The headers of the table.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }
}

/// Reads the first rows of a table, column by column. Parts that all values of a column have are columns too.
pub(super) fn columns<C: TakesCells, S: Source>(
    source: &mut S,
    most: usize,
    hasher: &RandomState,
    spelled: Spelled<'_>,
) -> Result<Vec<C>, S::Error> {
    let width = source.headers().len();
    let mut all: Vec<C> = (0..width).map(|column| C::of(column, None)).collect();
    let mut loose = Loose::new();
    let (mut block, mut rows) = (Block::default(), 0);
    let mut cut: Option<Vec<(usize, Cut)>> = None;
    let is_main = matches!(spelled, Spelled::First);
    while rows < most && source.read_block(&mut block)? {
        let cut = cut.get_or_insert_with(|| {
            let of =
                |column| cuts(&block, column, is_main).into_iter().map(move |cut| (column, cut));
            let found: Vec<(usize, Cut)> = (0..width).flat_map(of).collect();
            all.extend(found.iter().map(|(column, cut)| C::of(*column, Some(*cut))));
            found
        });
        let (whole, parts) = all.split_at_mut(width);
        // Column by column, what is known of one is in the cache, and so are the cells of a few rows.
        let looked_at = block.rows().min(most - rows);
        for first in (0..looked_at).step_by(TOGETHER) {
            let rows = first..looked_at.min(first + TOGETHER);
            for (column, whole) in whole.iter_mut().enumerate() {
                let cells =
                    rows.clone().map(|row| (block.cell(row, column), block.kind(row, column)));
                whole.add(cells, &mut loose, hasher, spelled);
            }
            for ((column, cut), part) in cut.iter().zip(&mut *parts) {
                let texts = rows.clone().map(|row| cut.of(block.cell(row, *column)));
                let cells = texts.map(|text| (text, CellKind::Untyped));
                part.add(cells, &mut loose, hasher, spelled);
            }
        }
        rows += block.rows();
    }
    Ok(all)
}
