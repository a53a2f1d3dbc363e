//! Parts of values that may be columns of their own: pieces between separators, and parts of a fixed length.

use crate::survey::look::Look;
use crate::table::{Block, CellKind};

/// A part of each value of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Cut {
    /// The piece of a number, from 1, between separators.
    Piece(usize, char),
    /// This many characters from the beginning.
    First(usize),
    /// From a character, counted from 1, to another, or to the end.
    From(usize, Option<usize>),
    /// This many characters from the end.
    Last(usize),
}

/// The characters that may separate pieces.
const SEPARATORS: [char; 5] = ['/', '|', '_', '-', ':'];

/// How many pieces a value may have.
const PIECES: std::ops::RangeInclusive<usize> = 2..=5;

/// How many digits may be cut off the end of longer ones.
const LAST: std::ops::RangeInclusive<usize> = 2..=3;

impl Cut {
    /// The step that makes it.
    pub(super) fn step(self) -> String {
        match self {
            Self::Piece(nth, separator) => format!("piece {nth} \"{separator}\""),
            Self::First(count) => format!("first {count}"),
            Self::From(from, None) => format!("from {from}"),
            Self::From(from, Some(to)) => format!("from {from} to {to}"),
            Self::Last(count) => format!("last {count}"),
        }
    }

    /// The part of a value; of ASCII characters where their number counts.
    pub(super) fn of(self, text: &str) -> &str {
        let part = match self {
            Self::Piece(nth, separator) => text.split(separator).nth(nth - 1),
            Self::First(count) => text.get(..count.min(text.len())),
            Self::From(from, to) => text.get(from - 1..to.unwrap_or(text.len()).min(text.len())),
            Self::Last(count) => text.get(text.len().saturating_sub(count)..),
        };
        part.unwrap_or_default()
    }
}

/// The parts that the values of a column have in common, by the rows of a block. Only of a main table are the last digits
/// of longer ones parts: a reference has one row for each of them.
pub(super) fn cuts(block: &Block, column: usize, is_main: bool) -> Vec<Cut> {
    let values: Vec<&str> = (0..block.rows())
        .map(|row| block.cell(row, column))
        .filter(|text| !text.is_empty())
        .collect();
    let kind = match block.kind(0, column) {
        CellKind::Text => CellKind::Untyped,
        kind => kind,
    };
    let is_text = |text: &&str| Look::of(text, kind) == Look::Text;
    if values.is_empty() || !values.iter().all(is_text) {
        return Vec::new();
    }
    let mut all = pieces(&values);
    if all.is_empty() {
        all = runs(&values);
    }
    if is_main {
        let digits = |text: &&str| text.bytes().rev().take_while(u8::is_ascii_digit).count();
        let fewest = values.iter().map(digits).min().unwrap_or(0);
        all.extend(LAST.filter(|count| *count < fewest).map(Cut::Last));
    }
    all
}

/// The pieces, where a separator splits every value into as many.
fn pieces(values: &[&str]) -> Vec<Cut> {
    let found = SEPARATORS.into_iter().find_map(|separator| {
        let mut counts = values.iter().map(|text| text.split(separator).count());
        let first = counts.next().filter(|first| PIECES.contains(first))?;
        counts.all(|count| count == first).then_some((separator, first))
    });
    found.map_or_else(Vec::new, |(separator, count)| {
        (1..=count).map(|nth| Cut::Piece(nth, separator)).collect()
    })
}

/// The runs of letters and of digits, where every value has the same ones and all but the last have the same length.
fn runs(values: &[&str]) -> Vec<Cut> {
    let lengths = |text: &str| -> Option<(bool, Vec<usize>)> {
        let is_code = text.bytes().all(|byte| byte.is_ascii_alphanumeric());
        let bytes = text.as_bytes();
        let kind = |byte: &u8| byte.is_ascii_digit();
        let runs = bytes.chunk_by(|one, other| kind(one) == kind(other)).map(<[u8]>::len);
        is_code.then(|| (kind(&bytes[0]), runs.collect()))
    };
    let Some((begins, first)) = lengths(values[0]).filter(|(_, runs)| PIECES.contains(&runs.len()))
    else {
        return Vec::new();
    };
    let all_but_last = first.len() - 1;
    let is_alike = |text: &&str| {
        lengths(text).is_some_and(|(begin, runs)| {
            begin == begins
                && runs.len() == first.len()
                && runs[..all_but_last] == first[..all_but_last]
        })
    };
    if !values.iter().all(is_alike) {
        return Vec::new();
    }
    let mut cuts = vec![Cut::First(first[0])];
    let mut at = first[0];
    for (nth, length) in first.iter().enumerate().skip(1) {
        let to = (nth < all_but_last).then_some(at + length);
        cuts.push(Cut::From(at + 1, to));
        at += length;
    }
    cuts
}
