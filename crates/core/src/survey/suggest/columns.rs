//! The first rows of a table, column by column, each value by what is left of it when its spelling does
//! not count.

use std::collections::{HashMap, HashSet};

use ahash::RandomState;

use crate::diagnosis::Loose;
use crate::plan::quoted_header;
use crate::survey::look::Look;
use crate::table::{Block, CellKind, Headers, Source};
use crate::value::any_date::dates_of;

/// How many different values of a column are kept as they are read.
const KEPT: usize = 20_000;

/// This many numbers may be missing from a column that counts, besides half of them.
const GAPS: u64 = 10;

/// A column of the rows that are looked at.
pub(super) struct Column {
    /// The column of the table.
    pub(super) of: usize,
    /// The step that takes a piece of it, if it is one.
    pub(super) piece: Option<String>,
    /// For each row, what is left of the value; 0 where it is blank.
    pub(super) loose: Vec<u64>,
    /// The digits at the end of the value, where it has any.
    pub(super) tail: Vec<u64>,
    /// The different values as they are read.
    pub(super) raw: HashSet<u64>,
    pub(super) distinct: [HashSet<u64>; 2],
    /// In each form, how many values there are, how many are whole numbers, and the greatest of these.
    filled: [usize; 2],
    whole: [(usize, u64); 2],
    /// Spellings by the reduced value.
    pub(super) spellings: [HashMap<u64, String>; 2],
    pub(super) looks: HashMap<Look, usize>,
    /// For each row the day that its date is, counted from 1970.
    pub(super) days: Vec<Option<i32>>,
}

/// Which form of the values of a pair is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Form {
    Loose,
    Tail,
}

impl Column {
    pub(super) fn of(column: usize, piece: Option<String>) -> Self {
        Self {
            of: column,
            piece,
            loose: Vec::new(),
            tail: Vec::new(),
            raw: HashSet::new(),
            distinct: Default::default(),
            filled: [0; 2],
            whole: Default::default(),
            spellings: Default::default(),
            looks: HashMap::new(),
            days: Vec::new(),
        }
    }

    pub(super) fn form(&self, form: Form) -> &[u64] {
        match form {
            Form::Loose => &self.loose,
            Form::Tail => &self.tail,
        }
    }

    /// Whether its values are whole numbers without large gaps, as when rows are counted, or only two values, as
    /// yes and no: such values are in other columns by chance.
    pub(super) fn is_found_by_chance(&self, form: Form) -> bool {
        let (whole, greatest) = self.whole[form as usize];
        let filled = self.filled[form as usize];
        let different = self.distinct[form as usize].len() as u64;
        let counts = whole > 0 && whole == filled && greatest <= different * 2 + GAPS;
        counts || different <= 2 && filled > 4
    }

    pub(super) fn add(&mut self, text: &str, look: Look, loose: &mut Loose, hasher: &RandomState) {
        if look == Look::Blank {
            self.loose.push(0);
            self.tail.push(0);
            self.days.push(None);
            return;
        }
        *self.looks.entry(look).or_default() += 1;
        self.raw.insert(hasher.hash_one(text));
        let date = match look {
            Look::Date | Look::Time => dates_of(text)[0],
            _ => None,
        };
        let since = date.and_then(|date| date.since(jiff::civil::date(1970, 1, 1)).ok());
        self.days.push(since.map(|since| since.get_days()));
        let left = loose.of(text);
        // The digits at the end of a code; a number with a point has none.
        let is_code = left.iter().all(u8::is_ascii_alphanumeric);
        let digits = left.iter().rev().take_while(|byte| is_code && byte.is_ascii_digit()).count();
        let tail = &left[left.len() - digits..];
        let zeros = tail.iter().take_while(|byte| **byte == b'0').count();
        let tail =
            if digits == 0 { 0 } else { hasher.hash_one(&tail[zeros.min(digits - 1)..]) | 1 };
        let whole = match date {
            Some(date) => hasher.hash_one((date.year(), date.month(), date.day())) | 1,
            None => hasher.hash_one(left) | 1,
        };
        for (form, hash) in [whole, tail].into_iter().enumerate().filter(|(_, hash)| *hash != 0) {
            self.filled[form] += 1;
            self.distinct[form].insert(hash);
            if self.spellings[form].len() < KEPT {
                self.spellings[form].entry(hash).or_insert_with(|| text.to_owned());
            }
        }
        let is_number = digits > 0 && digits == left.len();
        let number = std::str::from_utf8(&left[left.len() - digits..]).ok();
        let number = number.and_then(|digits| digits.parse::<u64>().ok());
        for (whole, is_whole) in self.whole.iter_mut().zip([is_number, digits > 0]) {
            if let Some(number) = number.filter(|_| is_whole) {
                *whole = (whole.0 + 1, whole.1.max(number));
            }
        }
        self.loose.push(whole);
        self.tail.push(tail);
    }

    pub(super) fn look(&self) -> Look {
        let common = self.looks.iter().max_by_key(|(look, count)| (**count, **look));
        common.map_or(Look::Blank, |(look, _)| *look)
    }

    /// Its template in a part.
    pub(super) fn template(&self, headers: &Headers) -> String {
        let header = quoted_header(&headers.address(self.of));
        match &self.piece {
            Some(piece) => format!("{header} | {piece}"),
            None => header,
        }
    }
}

/// Reads the first rows of a table, column by column. `pieces` adds the text between separators as
/// columns, for columns whose every value has several pieces.
pub(super) fn columns<S: Source>(
    source: &mut S,
    most: usize,
    hasher: &RandomState,
    pieces: bool,
) -> Result<Vec<Column>, S::Error> {
    let width = source.headers().len();
    let mut all: Vec<Column> = (0..width).map(|column| Column::of(column, None)).collect();
    let mut loose = Loose::new();
    let (mut block, mut rows) = (Block::default(), 0);
    let mut split: Option<Vec<Option<(char, usize)>>> = None;
    while rows < most && source.read_block(&mut block)? {
        let split = split.get_or_insert_with(|| {
            let of = |column| if pieces { separator(&block, column) } else { None };
            let split: Vec<Option<(char, usize)>> = (0..width).map(of).collect();
            for (column, found) in split.iter().enumerate() {
                for nth in 1..=found.map_or(0, |(_, count)| count) {
                    let sign = found.map_or(' ', |(sign, _)| sign);
                    all.push(Column::of(column, Some(format!("piece {nth} \"{sign}\""))));
                }
            }
            split
        });
        for row in 0..block.rows().min(most - rows) {
            for (column, whole) in all[..width].iter_mut().enumerate() {
                let text = block.cell(row, column);
                let look = Look::of(text, block.kind(row, column));
                whole.add(text, look, &mut loose, hasher);
            }
            let mut at = width;
            for (column, found) in split.iter().enumerate() {
                let Some((sign, count)) = found else { continue };
                let mut values = block.cell(row, column).split(*sign);
                for piece in &mut all[at..at + count] {
                    let text = values.next().unwrap_or_default();
                    let look = Look::of(text, CellKind::Untyped);
                    piece.add(text, look, &mut loose, hasher);
                }
                at += count;
            }
        }
        rows += block.rows();
    }
    Ok(all)
}

/// The character that splits every value of a column into the same number of pieces, and that number.
fn separator(block: &Block, column: usize) -> Option<(char, usize)> {
    const SIGNS: [char; 5] = ['/', '|', '_', '-', ':'];
    SIGNS.into_iter().find_map(|sign| {
        let mut counts = (0..block.rows())
            .map(|row| block.cell(row, column))
            .filter(|text| !text.is_empty())
            .map(|text| (text.split(sign).count(), Look::of(text, block.kind(0, column))));
        let (first, _) = counts.next()?;
        let is_it = |(count, look): (usize, Look)| count == first && look == Look::Text;
        ((2..=5).contains(&first) && counts.all(is_it)).then_some((sign, first))
    })
}
