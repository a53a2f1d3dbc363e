//! Values that only this program can read: what steps make of them, where they are on a scale, which column they name.
//!
//! A query gives the distinct cells; each is read here, and the result goes into a temporary table next to the cells,
//! which statements join. So every step works as it does elsewhere, and only distinct values cross the wire.

use crate::enrich::split;
use crate::key::Key;
use crate::lookup::{AliasKeys, HeaderTemplate, NamedColumn, RangeSpec};
use crate::table::{Block, Packer, Row};
use crate::template::{BoundTemplate, PartState, StepBuffers};
use crate::value::{Point, Scale};

/// A temporary table of cells and of what is read of them.
#[derive(Debug)]
pub struct Reading {
    table: String,
    query: String,
    /// The columns of the row that the cells are of, in their order.
    columns: Vec<usize>,
    blanks: Vec<String>,
    what: What,
}

/// What is read.
#[derive(Debug)]
pub(super) enum What {
    /// A part of a key: its state and its value.
    Part(BoundTemplate),
    /// A value that must be in a range: its state, its scale and its place there.
    Point(BoundTemplate),
    /// A value that orders rows: its scale and its place there.
    Rank(BoundTemplate),
    /// A range: its state, its scale and its ends.
    Range(RangeSpec),
    /// The header that a main row names: its state, and the place of the column.
    Header(HeaderTemplate),
    /// A part of the key of a new row: whether it can be split into the main table's cells, and these.
    Split { main: BoundTemplate, theirs: BoundTemplate },
    /// The key that aliases of parts give: the numbers of the aliases, and the parts.
    Aliased { aliases: AliasKeys, key: Key },
}

/// The states of what was read, as numbers.
pub(super) const WHOLE: u8 = 0;
pub(super) const BLANK: u8 = 1;
pub(super) const MALFORMED: u8 = 2;
pub(super) const UNKNOWN: u8 = 3;

impl Reading {
    /// What is read of the cells that a query gives, each once, as texts. They are of the given columns of a row.
    pub(super) fn new(
        table: String,
        query: String,
        columns: Vec<usize>,
        blanks: &[String],
        what: What,
    ) -> Self {
        Self { table, query, columns, blanks: blanks.to_vec(), what }
    }

    /// The name of the temporary table.
    pub fn table(&self) -> &str {
        &self.table
    }

    /// The query for the distinct cells.
    pub fn query(&self) -> &str {
        &self.query
    }

    /// How many cells a row of the query has.
    pub fn width(&self) -> usize {
        self.columns.len()
    }

    /// The columns that follow the cells, each with its type.
    fn results(&self) -> Vec<String> {
        let all = match &self.what {
            What::Part(_) => "state smallint, value text",
            What::Point(_) => "state smallint, scale smallint, place numeric",
            What::Rank(_) => "scale smallint, place numeric",
            What::Range(_) => "state smallint, scale smallint, lower numeric, upper numeric",
            What::Header(_) => "state smallint, place integer",
            What::Split { main, .. } => {
                let values = (1..=main.columns().len()).map(|at| format!("value{at} text"));
                return std::iter::once("state smallint".to_owned()).chain(values).collect();
            }
            What::Aliased { key, .. } => {
                let values = (1..=key.parts().len()).map(|part| format!("value{part} text"));
                return std::iter::once("used text".to_owned()).chain(values).collect();
            }
        };
        all.split(", ").map(str::to_owned).collect()
    }

    /// The statement that makes the temporary table.
    pub fn create(&self) -> String {
        let cells = (1..=self.width()).map(|nth| format!("in{nth} text"));
        let columns: Vec<String> = cells.chain(self.results()).collect();
        format!("create temp table {} ({})", self.table, columns.join(", "))
    }

    /// Begins to read.
    pub fn reader(&self) -> Reader<'_> {
        Reader { reading: self, steps: StepBuffers::default() }
    }
}

/// Reads the cells of rows, one after the other.
#[derive(Debug)]
pub struct Reader<'r> {
    reading: &'r Reading,
    steps: StepBuffers,
}

impl Reader<'_> {
    /// Reads the cells of a row, and gives each result to `take`: a text, or `None` for null.
    pub fn read(&mut self, cells: &[String], mut take: impl FnMut(Option<&str>)) {
        let Reading { columns, blanks, what, .. } = self.reading;
        let cell = |column: usize| {
            let place = columns.iter().position(|&other| other == column);
            place.and_then(|place| cells.get(place)).map_or("", String::as_str)
        };
        let steps = &mut self.steps;
        let number = |number: Option<i128>, take: &mut dyn FnMut(Option<&str>)| match number {
            Some(number) => take(Some(itoa::Buffer::new().format(number))),
            None => take(None),
        };
        let state_of = |state: PartState| match state {
            PartState::Whole => WHOLE,
            PartState::Blank => BLANK,
            PartState::Malformed => MALFORMED,
        };
        match what {
            What::Part(template) => template.value(cell, blanks, steps, |state, value| {
                number(Some(state_of(state).into()), &mut take);
                take(Some(if state == PartState::Blank { "" } else { value }));
            }),
            What::Point(template) => template.value(cell, blanks, steps, |state, value| {
                let point = if state == PartState::Whole { Point::of(value) } else { None };
                let is_off = state == PartState::Whole && point.is_none();
                let state = if is_off { PartState::Malformed } else { state };
                number(Some(state_of(state).into()), &mut take);
                number(point.map(|point| scale_of(point.scale())), &mut take);
                number(point.map(Point::at), &mut take);
            }),
            What::Rank(template) => template.value(cell, &[], steps, |state, value| {
                let point = if state == PartState::Whole { Point::of(value) } else { None };
                number(point.map(|point| scale_of(point.scale())), &mut take);
                number(point.map(Point::at), &mut take);
            }),
            What::Range(range) => {
                let read = range.read(cell, blanks, steps);
                number(Some(state_of(read.state).into()), &mut take);
                number(read.interval.map(|(scale, _)| scale_of(scale)), &mut take);
                number(read.interval.map(|(_, ends)| ends.lower), &mut take);
                number(read.interval.map(|(_, ends)| ends.upper), &mut take);
            }
            What::Header(template) => {
                let (state, place) = match template.column_of(cell, blanks, steps) {
                    NamedColumn::Taken(place) => (WHOLE, Some(place as i128)),
                    NamedColumn::Blank => (BLANK, None),
                    NamedColumn::Malformed => (MALFORMED, None),
                    NamedColumn::Unknown => (UNKNOWN, None),
                };
                number(Some(state.into()), &mut take);
                number(place, &mut take);
            }
            What::Split { main, theirs } => {
                let read: Vec<&str> = theirs.columns().iter().map(|&column| cell(column)).collect();
                let values = split(main, theirs, &read);
                let state = if values.is_some() { WHOLE } else { MALFORMED };
                number(Some(state.into()), &mut take);
                for at in 0..main.columns().len() {
                    take(values.as_ref().and_then(|values| values.get(at)).map(String::as_str));
                }
            }
            What::Aliased { aliases, key } => {
                let width = columns.iter().max().map_or(0, |last| last + 1);
                let mut block = Block::new(width);
                (0..width).for_each(|column| block.push_cell(cell(column)));
                block.push_line(0);
                let (row, mut packer) = (Row::of(&block, 0), Packer::default());
                let replaced = match key.pack(row, &mut packer, steps) {
                    PartState::Malformed => aliases.replace_unreadable(key, row),
                    PartState::Whole | PartState::Blank => aliases.replace(packer.bytes()),
                };
                let used = replaced.as_ref().map(|(_, used)| {
                    used.iter().map(usize::to_string).collect::<Vec<_>>().join(" ")
                });
                take(used.as_deref());
                for part in 0..key.parts().len() {
                    take(replaced.as_ref().map(|(parts, _)| &parts[part][..]));
                }
            }
        }
    }
}

/// The number of a scale.
fn scale_of(scale: Scale) -> i128 {
    match scale {
        Scale::Number => 0,
        Scale::Civil => 1,
        Scale::Instant => 2,
    }
}
