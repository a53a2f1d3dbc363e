//! The columns of an output: which of the enriched table's columns it has, in which order and under which names, and
//! where the cells of each are.
//!
//! In go the main table's headers, those of the added columns and what is chosen of both; out comes the one list that
//! every renderer goes through.

use super::{Block, CellKind, Headers, Overlay, ascending};

/// Where the cells of an output column are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OutputCell {
    /// In this column of the main table's rows.
    Own(usize),
    /// At this place among the added cells, in place of those of a column of the main table.
    Over {
        /// The column.
        column: usize,
        /// The place.
        place: usize,
    },
    /// At this place among the added cells.
    Added(usize),
}

impl OutputCell {
    /// The cell of a row of the main table to which a row of added cells belongs.
    ///
    /// # Panics
    /// When the blocks have no such rows or cells.
    #[inline]
    pub fn of<'b>(
        self,
        (main, row): (&'b Block, usize),
        (added, nth): (&'b Block, usize),
    ) -> (&'b str, CellKind) {
        match self {
            Self::Own(column) => (main.cell(row, column), main.kind(row, column)),
            Self::Over { place, .. } | Self::Added(place) => {
                (added.cell(nth, place), added.kind(nth, place))
            }
        }
    }
}

/// The columns of an output.
///
/// ```
/// use gather_keys_core::table::{Headers, OutputCell, OutputColumns, Overlay};
///
/// let main = Headers::new("harvest", ["Batch", "Hive"]);
/// let all = OutputColumns::all(&main, &["Keeper".to_owned()], Overlay::of([1]));
/// assert_eq!(all.cells()[1], OutputCell::Over { column: 1, place: 0 });
/// assert_eq!(all.cells()[2], OutputCell::Added(1));
/// let chosen = all.chosen(&[(2, "Beekeeper".to_owned()), (0, "Batch".to_owned())]);
/// assert!(chosen.headers().iter().eq(["Beekeeper", "Batch"]));
/// assert!(all.begins_with_main() && !chosen.begins_with_main());
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutputColumns {
    headers: Headers,
    cells: Vec<OutputCell>,
    overlay: Overlay,
    /// The headers of the main table, and how many columns are added to them.
    main: Headers,
    added: usize,
}

impl OutputColumns {
    /// All columns of the main table, then the added ones.
    pub fn all(main: &Headers, added: &[String], overlay: Overlay) -> Self {
        let headers = main.clone().with(added);
        let columns = 0..headers.len();
        let cells = columns.map(|column| cell_of(column, main.len(), &overlay)).collect();
        Self { headers, cells, overlay, main: main.clone(), added: added.len() }
    }

    /// Some of the columns, in this order and under these names. The main table's columns are numbered from 0, the
    /// added ones after them.
    #[must_use]
    pub fn chosen(&self, columns: &[(usize, String)]) -> Self {
        let names = columns.iter().map(|(_, name)| name.as_str());
        let headers = Headers::new(self.main.table(), names);
        let cell = |&(column, _): &(usize, String)| cell_of(column, self.own(), &self.overlay);
        let cells = columns.iter().map(cell).collect();
        Self { headers, cells, ..self.clone() }
    }

    /// The same columns with more added ones after them.
    #[must_use]
    pub fn with(mut self, more: &[String]) -> Self {
        let first = self.overlay.len() + self.added;
        self.cells.extend((0..more.len()).map(|nth| OutputCell::Added(first + nth)));
        self.headers = self.headers.with(more);
        self.added += more.len();
        self
    }

    /// The headers, in order.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// Where the cells of each column are.
    pub fn cells(&self) -> &[OutputCell] {
        &self.cells
    }

    /// How many columns there are.
    pub fn len(&self) -> usize {
        self.cells.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.cells.is_empty()
    }

    /// The main table's columns that have new cells among the added ones.
    pub fn overlay(&self) -> &Overlay {
        &self.overlay
    }

    /// How many columns the main table has.
    pub fn own(&self) -> usize {
        self.main.len()
    }

    /// The column of the enriched table that an output column is.
    ///
    /// # Panics
    /// When there is no such output column.
    pub fn column(&self, nth: usize) -> usize {
        match self.cells[nth] {
            OutputCell::Own(column) | OutputCell::Over { column, .. } => column,
            OutputCell::Added(place) => self.own() + place - self.overlay.len(),
        }
    }

    /// The output column that a column of the enriched table is, if it is there.
    pub fn place_of(&self, column: usize) -> Option<usize> {
        (0..self.len()).find(|&nth| self.column(nth) == column)
    }

    /// The headers of the added columns that it has, in order.
    pub fn added(&self) -> Vec<String> {
        let added = self.headers.iter().zip(&self.cells);
        let added = added.filter(|(_, cell)| matches!(cell, OutputCell::Added(_)));
        added.map(|(header, _)| header.to_owned()).collect()
    }

    /// Whether it begins with all columns of the main table in their order, so that rows keep their bytes.
    pub fn begins_with_main(&self) -> bool {
        let own = self.own();
        own <= self.len() && (0..own).all(|nth| self.column(nth) == nth)
    }

    /// Whether these also have the main table's headers.
    pub fn begins_with_headers(&self) -> bool {
        self.begins_with_main() && self.headers.iter().take(self.own()).eq(self.main.iter())
    }

    /// Whether all columns are there, in the order in which they came about.
    pub fn are_all(&self) -> bool {
        self.len() == self.own() + self.added && (0..self.len()).all(|nth| self.column(nth) == nth)
    }

    /// The main table's columns of which the output has the cells, ascending.
    pub fn own_columns(&self) -> Vec<usize> {
        let own = self.cells.iter().filter_map(|cell| match cell {
            OutputCell::Own(column) | OutputCell::Over { column, .. } => Some(*column),
            OutputCell::Added(_) => None,
        });
        ascending(&own.collect::<Vec<_>>())
    }

    /// The columns that are written one by one, as runs: those of the main table that follow each other there as well,
    /// and single ones of all others. Where the output [begins with the main table's columns](Self::begins_with_main),
    /// a row's own bytes are written first, and these are only the columns after them.
    pub fn runs(&self) -> Vec<Run> {
        let first = if self.begins_with_main() { self.own() } else { 0 };
        let mut runs: Vec<Run> = Vec::new();
        for &cell in &self.cells[first..] {
            match (cell, runs.last_mut()) {
                (OutputCell::Own(column), Some(Run::Own { last, .. })) if *last + 1 == column => {
                    *last = column;
                }
                (OutputCell::Own(column), _) => runs.push(Run::Own { first: column, last: column }),
                (OutputCell::Over { column, place }, _) => runs.push(Run::Over { column, place }),
                (OutputCell::Added(place), _) => runs.push(Run::Added(place)),
            }
        }
        runs
    }

    /// The main table's columns at the ends of [runs](Self::runs), ascending: where a row's own bytes are taken over, no
    /// other cell of it is looked at.
    pub fn ends_of_runs(&self) -> Vec<usize> {
        let ends = self.runs().into_iter().flat_map(|run| match run {
            Run::Own { first, last } => vec![first, last],
            Run::Over { column, .. } => vec![column],
            Run::Added(_) => Vec::new(),
        });
        ascending(&ends.collect::<Vec<_>>())
    }
}

impl From<&Headers> for OutputColumns {
    /// The columns of a table to which nothing is added.
    fn from(main: &Headers) -> Self {
        Self::all(main, &[], Overlay::default())
    }
}

/// Columns of an output that are written together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Run {
    /// Columns of the main table, both included.
    Own {
        /// The first.
        first: usize,
        /// The last.
        last: usize,
    },
    /// A column of the main table whose cells are at a place among the added ones.
    Over {
        /// The column.
        column: usize,
        /// The place.
        place: usize,
    },
    /// A column whose cells are at this place among the added ones.
    Added(usize),
}

/// Where the cells of a column of the enriched table are, of which `own` are the main table's.
fn cell_of(column: usize, own: usize, overlay: &Overlay) -> OutputCell {
    match column.checked_sub(own) {
        Some(nth) => OutputCell::Added(overlay.len() + nth),
        None => match overlay.place(column) {
            Some(place) => OutputCell::Over { column, place },
            None => OutputCell::Own(column),
        },
    }
}
