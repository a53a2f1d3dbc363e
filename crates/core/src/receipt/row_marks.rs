//! Marks of rows: enough of a table to tell which of its rows were changed since.
//!
//! In a small table each row has a mark; in a larger one several rows share one, so that there are never
//! many. Marks are made of cells, not of bytes: a table that is saved in another form has the same marks.

use std::collections::HashSet;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use sha2::{Digest, Sha256};

use super::hexadecimal;
use crate::table::Packer;

/// How many marks are kept at most.
const MOST: u64 = 4000;

/// How many bytes of a digest are a mark.
const BYTES: usize = 4;

/// The marks of the rows of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowMarks {
    /// How many rows share a mark.
    pub each: u64,
    marks: Vec<[u8; BYTES]>,
}

/// Makes marks of a table, row by row.
#[derive(Debug)]
pub struct RowMarker {
    marks: RowMarks,
    digest: Sha256,
    /// How many rows the next mark has so far.
    rows: u64,
    packer: Packer,
}

impl RowMarker {
    /// Begins the marks of a table that has this many rows.
    pub fn for_rows(rows: u64) -> Self {
        Self::each(rows.div_ceil(MOST).max(1))
    }

    /// Begins marks that this many rows share.
    pub fn each(each: u64) -> Self {
        let marks = RowMarks { each: each.max(1), marks: Vec::new() };
        Self { marks, digest: Sha256::new(), rows: 0, packer: Packer::default() }
    }

    /// Takes the cells of the next row.
    pub fn row<'a>(&mut self, cells: impl Iterator<Item = &'a str>) {
        self.packer.clear();
        cells.for_each(|cell| self.packer.push(cell));
        // How long a row is before it, so that rows can't run together.
        self.digest.update((self.packer.len() as u64).to_le_bytes());
        self.digest.update(self.packer.bytes());
        self.rows += 1;
        if self.rows == self.marks.each {
            self.end_mark();
        }
    }

    fn end_mark(&mut self) {
        let digest = std::mem::take(&mut self.digest).finalize();
        let mut mark = [0; BYTES];
        mark.copy_from_slice(&digest[..BYTES]);
        self.marks.marks.push(mark);
        self.rows = 0;
    }

    /// The marks.
    pub fn finish(mut self) -> RowMarks {
        if self.rows > 0 {
            self.end_mark();
        }
        self.marks
    }
}

impl RowMarks {
    /// For each row of a table with these marks, whether the table with the marks `before` has it: by its
    /// mark, wherever it is, if each row has one; otherwise by the mark that several rows share at the
    /// same position.
    pub fn are_in(&self, before: &Self) -> impl Fn(u64) -> bool + use<> {
        let each = self.each;
        let known: HashSet<[u8; BYTES]> = match each {
            1 => before.marks.iter().copied().collect(),
            _ => HashSet::new(),
        };
        let is_there = |(nth, mark): (usize, &[u8; BYTES])| match each {
            1 => known.contains(mark),
            _ => before.each == each && before.marks.get(nth) == Some(mark),
        };
        let all: Vec<bool> = self.marks.iter().enumerate().map(is_there).collect();
        move |row| all.get((row / each) as usize).is_some_and(|is| *is)
    }

    /// Whether two tables have the same rows in the same order.
    pub fn are_those_of(&self, other: &Self) -> bool {
        self == other
    }
}

impl Serialize for RowMarks {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let marks: Vec<String> = self.marks.iter().map(|mark| hexadecimal(mark)).collect();
        to.serialize_str(&format!("{} {}", self.each, marks.concat()))
    }
}

impl<'de> Deserialize<'de> for RowMarks {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        let bad = || D::Error::custom("row marks are a number and hexadecimal digits");
        let (each, digits) = text.split_once(' ').ok_or_else(bad)?;
        let each = each.parse().ok().filter(|&each| each > 0).ok_or_else(bad)?;
        if !digits.is_ascii() || digits.len() % (2 * BYTES) != 0 {
            return Err(bad());
        }
        let mark = |at: usize| {
            let digits = u32::from_str_radix(&digits[at..at + 2 * BYTES], 16);
            digits.map(u32::to_be_bytes).map_err(|_| bad())
        };
        let marks = (0..digits.len()).step_by(2 * BYTES).map(mark).collect::<Result<_, _>>()?;
        Ok(Self { each, marks })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn marks(rows: &[[&str; 2]], each: u64) -> RowMarks {
        let mut marker = RowMarker::each(each);
        for row in rows {
            marker.row(row.iter().copied());
        }
        let text = serde_json::to_string(&marker.finish()).unwrap();
        serde_json::from_str(&text).unwrap()
    }

    #[test]
    fn rows_are_known_by_their_marks() {
        let before = [["a", "1"], ["b", "2"], ["c", "3"], ["d", "4"], ["e", "5"]];
        let mut now = before.to_vec();
        now[1][1] = "x";
        now.swap(3, 4);
        let known = |each| {
            let is_in = marks(&now, each).are_in(&marks(&before, each));
            (0..6).map(is_in).collect::<Vec<_>>()
        };
        assert_eq!(known(1), [true, false, true, true, true, false]);
        assert_eq!(known(2), [false, false, false, false, false, false]);
        now.swap(3, 4);
        let is_in = marks(&now, 2).are_in(&marks(&before, 2));
        assert_eq!((0..6).map(is_in).collect::<Vec<_>>(), [false, false, true, true, true, true]);
        // Cells that run together are not the same row.
        assert_ne!(marks(&[["ab", "c"]], 1), marks(&[["a", "bc"]], 1));
    }

    #[test]
    fn large_tables_have_few_marks() {
        let mut marker = RowMarker::for_rows(1_000_000);
        (0..1000).for_each(|_| marker.row(["x"].into_iter()));
        assert_eq!(marker.finish().marks.len(), 4);
        assert!(serde_json::from_str::<RowMarks>("\"0 ab\"").is_err());
        assert!(serde_json::from_str::<RowMarks>("\"1 abcdefgh\"").is_err());
    }
}
