//! The specification of a reference: its key, its rule, and which of its columns are taken.
//!
//! A [`ReferenceBuilder`](super::ReferenceBuilder) fills it in; the finished [`Reference`](super::Reference)
//! never changes it.

use ahash::RandomState;

use super::Rule;
use super::index::{Interval, RangeMatch};
use crate::hashing::Seed;
use crate::key::Key;
use crate::plan::Reach;
use crate::table::{Headers, RawForm};
use crate::template::{BoundTemplate, PartState, StepBuffers};
use crate::value::{Point, Scale};

/// The key of a reference and what is taken of it.
#[derive(Debug)]
pub(crate) struct Spec {
    /// What the reference is called in messages and gates.
    pub(super) name: String,
    pub(super) headers: Headers,
    /// One key, or in a reverse lookup one for each searched column.
    pub(super) keys: Vec<Key>,
    /// The columns that a reverse lookup searches, in their order; empty in other lookups.
    pub(super) searched: Vec<usize>,
    pub(super) by_position: bool,
    pub(super) match_blanks: bool,
    pub(super) taken: TakenColumns,
    /// How taken cells are stored, where they are passed through to the output.
    pub(super) raw_form: Option<RawForm>,
    pub(super) rule: Rule,
    /// The template that orders rows for the rules `highest` and `lowest`.
    pub(super) rank: Option<BoundTemplate>,
    pub(super) range: Option<RangeSpec>,
    /// For each column of the key a part that is its value, where every column has one.
    pub(super) verbatim_parts: Option<Vec<usize>>,
    pub(super) seed: Seed,
    pub(super) hasher: RandomState,
}

/// The columns of a reference that are taken.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TakenColumns {
    /// The columns, from 0: first those that every main row takes, then those that a main row may
    /// name.
    pub columns: Vec<usize>,
    /// How many of them every main row takes.
    pub always: usize,
    /// Whether the mark `@column` is taken.
    pub in_column: bool,
}

impl TakenColumns {
    /// Columns that every main row takes.
    pub fn all(columns: Vec<usize>) -> Self {
        Self { always: columns.len(), columns, in_column: false }
    }
}

/// The templates of the bounds of a range, on the reference's side.
#[derive(Debug, Clone)]
pub enum Bounds {
    /// A range with two ends.
    Between {
        /// The lower bound.
        lower: BoundTemplate,
        /// The upper bound.
        upper: BoundTemplate,
        /// Whether the upper end belongs to the range.
        closed: bool,
    },
    /// The latest row at or before the value.
    From(BoundTemplate),
    /// The earliest row at or after the value.
    UpTo(BoundTemplate),
}

/// How rows of one key are chosen by a range.
#[derive(Debug)]
pub(crate) struct RangeSpec {
    /// The templates of the bounds, the lower one first.
    pub(crate) bounds: Vec<BoundTemplate>,
    pub(super) form: RangeForm,
    pub(crate) matching: RangeMatch,
    pub(crate) reach: Option<Reach>,
}

/// The range of a row, as it is read.
#[derive(Debug)]
pub(crate) struct ReadRange {
    pub(crate) state: PartState,
    /// The scale and the ends, where it has both.
    pub(crate) interval: Option<(Scale, Interval)>,
    /// Whether some bound is a point on a scale.
    pub(crate) has_point: bool,
    /// The first bound that is none, by its number, and its value.
    pub(crate) no_point: Option<(usize, String)>,
}

/// How a range is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum RangeForm {
    /// `LOWER .. UPPER`
    Closed,
    /// `LOWER ..< UPPER`
    Open,
    /// `LOWER ..`
    From,
    /// `.. UPPER`
    UpTo,
}

impl RangeSpec {
    pub(crate) fn new(bounds: Bounds, reach: Option<Reach>) -> Self {
        let distance = reach.map(|(Reach::Number(distance) | Reach::Time(distance))| distance);
        let (bounds, form, matching) = match bounds {
            Bounds::Between { lower, upper, closed } => {
                let form = if closed { RangeForm::Closed } else { RangeForm::Open };
                (vec![lower, upper], form, RangeMatch::Holding)
            }
            Bounds::From(bound) => (vec![bound], RangeForm::From, RangeMatch::Before(distance)),
            Bounds::UpTo(bound) => (vec![bound], RangeForm::UpTo, RangeMatch::After(distance)),
        };
        Self { bounds, form, matching, reach }
    }

    /// Reads the range of a row, whose cells `cell` returns by column.
    pub(crate) fn read<'c>(
        &self,
        cell: impl Fn(usize) -> &'c str,
        blanks: &[String],
        steps: &mut StepBuffers,
    ) -> ReadRange {
        let (mut state, mut points) = (PartState::Whole, Vec::with_capacity(2));
        let mut no_point = None;
        for (nth, bound) in self.bounds.iter().enumerate() {
            bound.value(&cell, blanks, steps, |made, value| {
                let point = if made == PartState::Whole { Point::of(value) } else { None };
                if made == PartState::Whole && point.is_none() {
                    state = PartState::Malformed;
                    no_point.get_or_insert_with(|| (nth, value.to_owned()));
                }
                state = state.max(made);
                points.extend(point);
            });
        }
        let is_on_one_scale = points.windows(2).all(|pair| pair[0].scale() == pair[1].scale());
        let interval = match (self.form, &points[..]) {
            (RangeForm::Closed, [lower, upper]) => {
                Some(Interval { lower: lower.at(), upper: upper.end() })
            }
            (RangeForm::Open, [lower, upper]) => {
                Some(Interval { lower: lower.at(), upper: upper.at().saturating_sub(1) })
            }
            (RangeForm::From | RangeForm::UpTo, [bound]) => {
                Some(Interval { lower: bound.at(), upper: bound.end() })
            }
            _ => None,
        };
        let is_backwards = interval.is_some_and(|interval| interval.upper < interval.lower);
        let is_void = is_backwards || !is_on_one_scale;
        let interval = interval.filter(|_| !is_void);
        ReadRange {
            state: if is_void { PartState::Malformed } else { state },
            interval: points.first().map(|first| first.scale()).zip(interval),
            has_point: !points.is_empty(),
            no_point,
        }
    }

    /// A range in the form in which it is written, from the cells of its bounds: `2026-03-01 .. 2026-05-31`.
    pub(super) fn written(&self, mut cells: Vec<&str>) -> String {
        for blank in cells.iter_mut().filter(|cell| cell.is_empty()) {
            *blank = "(blank)";
        }
        match (self.form, &cells[..]) {
            (RangeForm::Closed, [lower, upper]) => format!("{lower} .. {upper}"),
            (RangeForm::Open, [lower, upper]) => format!("{lower} ..< {upper}"),
            (RangeForm::From, _) => format!("{} ..", cells.join(" ")),
            (RangeForm::UpTo, _) => format!(".. {}", cells.join(" ")),
            (RangeForm::Closed | RangeForm::Open, _) => cells.join(" .. "),
        }
    }
}

impl Spec {
    /// The key; in a reverse lookup the key of the first searched column.
    pub(super) fn key(&self) -> &Key {
        &self.keys[0]
    }

    /// Whether it is of a reverse lookup, where several cells of a row may hold keys.
    pub(super) fn is_reverse(&self) -> bool {
        !self.searched.is_empty()
    }

    /// Every column that a key is made from, each once.
    pub(super) fn key_columns(&self) -> Vec<usize> {
        let mut columns = Vec::new();
        for &column in self.keys.iter().flat_map(Key::columns) {
            if !columns.contains(&column) {
                columns.push(column);
            }
        }
        columns
    }

    /// The columns that the bounds of the range are made from, each as often as it is used.
    pub(super) fn bound_columns(&self) -> Vec<usize> {
        let bounds = self.range.iter().flat_map(|range| &range.bounds);
        bounds.flat_map(BoundTemplate::columns).copied().collect()
    }

    /// Every column that is read.
    pub(super) fn read_columns(&self) -> Vec<usize> {
        let mut columns = self.key_columns();
        columns.extend(&self.taken.columns);
        columns.extend(self.rank.iter().flat_map(BoundTemplate::columns));
        columns.extend(self.bound_columns());
        columns
    }
}
