//! Searching a table for rows by value: the rows that hold it, and failing that the nearest.
//!
//! Nothing is indexed: each row is looked at once, as it goes by.

use crate::table::{Block, Source};
use crate::template::{BoundTemplate, PartState, StepBuffers};
use crate::value::is_blank;

/// How many rows that nearly hold the value are kept.
const NEAREST: usize = 3;

/// How alike a value must be to count as near, from 0 to 1.
const NEAR: f64 = 0.6;

/// A query: values to search for.
#[derive(Debug, Clone)]
pub struct Wanted(By);

#[derive(Debug, Clone)]
enum By {
    /// Rows in which each of these values is like some cell, in any column.
    Cells(Vec<Sought>),
    /// Rows whose key has these parts.
    Key(Vec<(BoundTemplate, Sought)>),
}

/// A value that is searched for, with what is needed to estimate quickly how similar other values are.
#[derive(Debug, Clone)]
struct Sought {
    value: String,
    lower: String,
    /// Whether the steps left nothing of it, so that no row holds it.
    is_nothing: bool,
    /// How often bytes occur in `lower`, by their last six bits.
    bytes: [u8; BUCKETS],
}

const BUCKETS: usize = 64;

/// A row that was found.
#[derive(Debug, Clone, PartialEq)]
pub struct Hit {
    /// The row's number as a person counts: data rows from 1.
    pub row: u64,
    /// The line of the file on which it begins.
    pub line: u64,
    /// The columns that hold the values; none for a key.
    pub columns: Vec<usize>,
    /// All its cells.
    pub cells: Vec<String>,
    /// How near it comes, from 0 to 1, where it does not hold the value itself.
    pub likeness: Option<f64>,
}

/// The result of a search.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Hits {
    /// The first rows that hold the wanted values, up to the given number.
    pub rows: Vec<Hit>,
    /// How many there are.
    pub count: u64,
    /// When there are none: the rows that come nearest, the nearest first.
    pub nearest: Vec<Hit>,
}

impl Wanted {
    /// Rows that hold each of these values, in whatever column.
    pub fn anywhere(values: &[String]) -> Self {
        Self(By::Cells(values.iter().map(|value| Sought::new(value)).collect()))
    }

    /// Rows whose key has these values, one for each part. Where a part is made from one header,
    /// its steps go over the value as they go over the cells.
    pub fn key(parts: Vec<BoundTemplate>, values: &[String]) -> Self {
        let stepped = |(part, value): (BoundTemplate, &String)| {
            let is_bare = part.template().is_bare();
            let made = is_bare.then(|| {
                part.value(
                    |_| &value[..],
                    &[],
                    &mut StepBuffers::default(),
                    |state, made| (state != PartState::Malformed).then(|| made.to_owned()),
                )
            });
            let made = made.flatten().unwrap_or_else(|| value.clone());
            let is_nothing = is_blank(&made) && !is_blank(value);
            (part, Sought { is_nothing, ..Sought::new(&made) })
        };
        Self(By::Key(parts.into_iter().zip(values).map(stepped).collect()))
    }

    /// Searches a whole table, and keeps the first `most` of the rows that hold the wanted values.
    ///
    /// # Errors
    /// The errors of the source.
    pub fn search<E>(
        &self,
        source: &mut (impl Source<Error = E> + ?Sized),
        most: usize,
    ) -> Result<Hits, E> {
        let mut hits = Hits::default();
        let (mut block, mut work) = (Block::default(), StepBuffers::default());
        while source.read_block(&mut block)? {
            for row in 0..block.rows() {
                let (likeness, columns) = self.likeness(&block, row, hits.count > 0, &mut work);
                let keeps = if likeness >= 1.0 {
                    hits.count += 1;
                    hits.rows.len() < most
                } else {
                    hits.count == 0 && likeness >= NEAR && hits.is_near(likeness)
                };
                if keeps {
                    hits.keep(hit(&block, row, columns, likeness));
                }
            }
        }
        if hits.count > 0 {
            hits.nearest.clear();
        }
        Ok(hits)
    }

    /// How similar a row is to what is wanted, from 0 to 1, and the columns that hold it. With
    /// `only_equal`, other rows are not measured.
    fn likeness(
        &self,
        block: &Block,
        row: usize,
        only_equal: bool,
        work: &mut StepBuffers,
    ) -> (f64, Vec<usize>) {
        match &self.0 {
            By::Cells(values) => {
                let (mut all, mut columns) = (1.0_f64, Vec::new());
                for value in values {
                    let cells = (0..block.columns()).map(|column| block.cell(row, column));
                    let equal = cells.clone().enumerate().filter(|(_, cell)| *cell == value.value);
                    let before = columns.len();
                    columns.extend(equal.map(|(column, _)| column));
                    if columns.len() > before {
                        continue;
                    }
                    let scored = cells.enumerate();
                    let scored =
                        scored.map(|(column, cell)| (value.likeness(cell, only_equal), column));
                    let best = scored.reduce(|a, b| if b.0 > a.0 { b } else { a });
                    let (best, column) = best.unwrap_or((0.0, 0));
                    all = all.min(best);
                    columns.push(column);
                }
                columns.sort_unstable();
                columns.dedup();
                (all, columns)
            }
            By::Key(parts) => {
                let mut all = 1.0_f64;
                for (part, wanted) in parts {
                    let cell = |column| block.cell(row, column);
                    let score = part.value(cell, &[], work, |state, value| match state {
                        PartState::Malformed => 0.0,
                        // Blank is what nothing was asked of, unless that was asked for.
                        _ if wanted.is_nothing => 0.0,
                        _ => wanted.likeness(value, only_equal),
                    });
                    all = all.min(score);
                }
                (all, Vec::new())
            }
        }
    }
}

impl Hits {
    /// Whether a row that comes so near is one of the nearest.
    fn is_near(&self, likeness: f64) -> bool {
        self.nearest.len() < NEAREST
            || self.nearest.last().is_some_and(|last| last.likeness < Some(likeness))
    }

    fn keep(&mut self, hit: Hit) {
        match hit.likeness {
            None => self.rows.push(hit),
            Some(likeness) => {
                let at = self.nearest.partition_point(|other| other.likeness >= Some(likeness));
                self.nearest.insert(at, hit);
                self.nearest.truncate(NEAREST);
            }
        }
    }
}

fn hit(block: &Block, row: usize, columns: Vec<usize>, likeness: f64) -> Hit {
    Hit {
        row: block.row_number(row),
        line: block.line(row),
        columns,
        cells: (0..block.columns()).map(|column| block.cell(row, column).to_owned()).collect(),
        likeness: (likeness < 1.0).then_some(likeness),
    }
}

impl Sought {
    fn new(value: &str) -> Self {
        let lower = value.to_lowercase();
        let mut bytes = [0_u8; BUCKETS];
        for byte in lower.bytes() {
            let bucket = &mut bytes[usize::from(byte) % BUCKETS];
            *bucket = bucket.saturating_add(1);
        }
        Self { value: value.to_owned(), lower, is_nothing: false, bytes }
    }

    /// How alike a value is, from 0 to 1; one that only looks alike is less than 1. With
    /// `only_equal`, and where it is clearly not near, it is not measured.
    fn likeness(&self, value: &str, only_equal: bool) -> f64 {
        if self.value == value {
            return 1.0;
        }
        if only_equal || !self.may_be_near(value) {
            return 0.0;
        }
        strsim::normalized_damerau_levenshtein(&self.lower, &value.to_lowercase()).min(0.99)
    }

    /// Whether a value has enough letters in common with this one to come near it at all. Each
    /// letter that it lacks is one change at least.
    fn may_be_near(&self, value: &str) -> bool {
        let (short, long) = (self.lower.len().min(value.len()), self.lower.len().max(value.len()));
        if (short as f64) < long as f64 * NEAR {
            // Signs of several bytes may change their number with their case.
            return !(self.lower.is_ascii() && value.is_ascii());
        }
        let mut left = self.bytes;
        let mut common = 0;
        for byte in value.bytes() {
            let bucket = &mut left[usize::from(byte.to_ascii_lowercase()) % BUCKETS];
            common += usize::from(*bucket > 0);
            *bucket = bucket.saturating_sub(1);
        }
        common as f64 >= long as f64 * NEAR || !(self.lower.is_ascii() && value.is_ascii())
    }
}
