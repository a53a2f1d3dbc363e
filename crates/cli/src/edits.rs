//! Changes that were made to an output by hand since the run that wrote it.
//!
//! In go the file, the receipt of that run and what this run would write; out come the rows that
//! are others than the receipt says, and where this run would write such a row as it was, the
//! cells that differ.

use std::collections::{BTreeSet, HashMap};
use std::ops::Range;

use gather_keys_core::enrich::{Correction, Enrichment};
use gather_keys_core::lookup::Lookup;
use gather_keys_core::receipt::{self, RowMarker, RowMarks};
use gather_keys_core::table::{Block, Headers, Source};
use gather_keys_formats::delimited::HeaderRow;
use gather_keys_formats::{Address, Described, InputFile, Untapped};

use crate::corrections::CorrectionsFile;
use crate::error::{Error, Result};
use crate::inputs::OpenTable;

/// How many rows are compared cell by cell at most.
const MOST_ROWS: u64 = 200_000;

/// The changes.
#[derive(Debug, Default)]
pub(crate) struct Edits {
    /// The headers as they are now, if they are others.
    pub(crate) headers: Option<Vec<String>>,
    /// Rows of which it can be told what was changed.
    pub(crate) rows: Vec<EditedRow>,
    /// Rows, from 1, of which it can't, since this run would write them otherwise too.
    pub(crate) unclear: Vec<Range<u64>>,
    /// Rows, from 1, that are new.
    pub(crate) added: Vec<Range<u64>>,
    /// Rows that are gone: how many, and the number of the row that they stood behind.
    pub(crate) removed: Vec<(u64, u64)>,
}

/// A row whose cells were changed.
#[derive(Debug)]
pub(crate) struct EditedRow {
    /// Its number in the file, from 1.
    pub(crate) row: u64,
    /// The row as it was written.
    was: Vec<String>,
    pub(crate) cells: Vec<EditedCell>,
}

/// A cell that was changed.
#[derive(Debug)]
pub(crate) struct EditedCell {
    pub(crate) header: String,
    pub(crate) was: String,
    pub(crate) is: String,
}

impl Edits {
    /// Whether no cell was changed.
    pub(crate) fn is_empty(&self) -> bool {
        self.headers.is_none() && self.rows.is_empty() && !self.is_unclear()
    }

    /// Whether there is more than changed cells.
    pub(crate) fn is_unclear(&self) -> bool {
        !self.unclear.is_empty()
            || !self.added.is_empty()
            || !self.removed.is_empty()
            || self.headers.is_some()
    }

    /// Finds the changes in an output, which was written as `before` says; `fresh` is what would be written
    /// now.
    pub(crate) fn find(
        file: Table<'_>,
        fresh: Table<'_>,
        before: &receipt::Output,
    ) -> Result<Self> {
        let mut edits = Self::default();
        let Some(marks) = &before.row_marks else { return Ok(edits) };
        let headers: Vec<String> = file.open()?.headers().iter().map(str::to_owned).collect();
        // A file without headers has none that could be others.
        let is_bare = file.form.headers == HeaderRow::Absent;
        let alike = |headers: &[String]| {
            (is_bare && headers.len() == before.headers.len()) || *headers == before.headers
        };
        if !alike(&headers) {
            edits.headers = Some(headers);
            return Ok(edits);
        }
        let (now, rows_now) = file.marks(marks.each)?;
        let hunks = marks.hunks(before.rows, &now, rows_now);
        if hunks.is_empty() {
            return Ok(edits);
        }
        let headers: Vec<String> = fresh.open()?.headers().iter().map(str::to_owned).collect();
        let same = if alike(&headers) {
            let (marks_now, rows) = fresh.marks(marks.each)?;
            marks.same_rows(before.rows, &marks_now, rows)
        } else {
            Vec::new()
        };
        let written_now = |row: u64| {
            let (rows, start) = same.iter().find(|(rows, _)| rows.contains(&row))?;
            Some(start + (row - rows.start))
        };
        // Each row of the file with the row that this run would write in its place.
        let mut pairs: Vec<(u64, u64)> = Vec::new();
        for hunk in hunks {
            let (was, is) = (hunk.before.end - hunk.before.start, hunk.now.end - hunk.now.start);
            match (was, is) {
                (0, _) => edits.added.push(hunk.now.start + 1..hunk.now.end + 1),
                (_, 0) => edits.removed.push((was, hunk.now.start)),
                _ if was == is && written_now(hunk.before.start).is_some() => {
                    let fresh = hunk.before.clone().filter_map(written_now);
                    pairs.extend(hunk.now.zip(fresh));
                }
                _ => {
                    edits.unclear.push(hunk.now.start + 1..hunk.now.end + 1);
                    if was > is {
                        edits.removed.push((was - is, hunk.now.end));
                    }
                }
            }
        }
        if pairs.len() as u64 > MOST_ROWS {
            let rows = pairs.iter().map(|(row, _)| row + 1);
            let (first, last) = (rows.clone().min(), rows.max());
            edits.unclear.extend(first.zip(last).map(|(first, last)| first..last + 1));
            return Ok(edits);
        }
        let theirs = file.rows(&pairs.iter().map(|(row, _)| *row).collect())?;
        let mut ours = fresh.rows(&pairs.iter().map(|(_, row)| *row).collect())?;
        for (row, fresh) in pairs {
            let (Some(is), Some(was)) = (theirs.get(&row), ours.remove(&fresh)) else { continue };
            let cells = before.headers.iter().zip(was.iter().zip(is));
            let changed = cells.filter(|(_, (was, is))| was != is);
            let cells: Vec<EditedCell> = changed
                .map(|(header, (was, is))| EditedCell {
                    header: header.clone(),
                    was: was.clone(),
                    is: is.clone(),
                })
                .collect();
            if !cells.is_empty() {
                edits.rows.push(EditedRow { row: row + 1, was, cells });
            }
        }
        Ok(edits)
    }

    /// The changes as corrections, with the headers of the columns that tell their rows: those of the
    /// file of corrections, if there is one, else columns whose values no other row has.
    pub(crate) fn corrections(
        &self,
        enrichment: &Enrichment,
        fresh: Table<'_>,
        file: Option<&CorrectionsFile>,
    ) -> Result<(Vec<String>, Vec<Correction>)> {
        let headers = enrichment.headers();
        let candidates = match file {
            Some(file) => {
                let columns = file.key.iter().map(|header| Ok(headers.find(header)?.column));
                vec![columns.collect::<Result<Vec<usize>>>()?]
            }
            None => candidates(enrichment),
        };
        let key = |columns: &[usize], row: &[String]| -> Vec<String> {
            columns.iter().map(|&column| row[column].clone()).collect()
        };
        // How many rows have the key of each edited row, for each of the candidates.
        let mut counts: Vec<HashMap<Vec<String>, u64>> = candidates
            .iter()
            .map(|columns| self.rows.iter().map(|row| (key(columns, &row.was), 0)).collect())
            .collect();
        fresh.each_row(|_, row| {
            for (columns, counts) in candidates.iter().zip(&mut counts) {
                if let Some(count) = counts.get_mut(&key(columns, row)) {
                    *count += 1;
                }
            }
        })?;
        let tells = |counts: &HashMap<Vec<String>, u64>| {
            counts.iter().all(|(key, count)| *count == 1 && !key.contains(&String::new()))
        };
        let Some(found) = counts.iter().position(tells) else {
            let tried = candidates.first().filter(|_| file.is_some());
            let columns = tried.map(|columns| names(headers, columns));
            return Err(Error::EditsUnkeyed { columns });
        };
        let columns = &candidates[found];
        let corrections = self.rows.iter().flat_map(|row| {
            row.cells.iter().map(|cell| Correction {
                key: key(columns, &row.was),
                header: cell.header.clone(),
                value: cell.is.clone(),
                row: 0,
            })
        });
        Ok((names(headers, columns), corrections.collect()))
    }
}

fn names(headers: &Headers, columns: &[usize]) -> Vec<String> {
    columns.iter().map(|&column| headers.address(column)).collect()
}

/// Columns that may tell the rows of the main table: those of each key, then each by itself.
fn candidates(enrichment: &Enrichment) -> Vec<Vec<usize>> {
    let own = enrichment.headers().len() - enrichment.added().len();
    let keys = enrichment.lookups().map(Lookup::columns);
    let keys = keys.filter(|key| !key.is_empty() && key.iter().all(|&column| column < own));
    keys.chain((0..own).map(|column| vec![column])).collect()
}

/// A table in the form of the output.
#[derive(Clone, Copy)]
pub(crate) struct Table<'p> {
    /// Where it is, or will be.
    pub(crate) address: &'p Address,
    pub(crate) file: &'p InputFile,
    pub(crate) form: &'p Described,
}

impl Table<'_> {
    fn open(self) -> Result<OpenTable> {
        Ok(OpenTable::open_file(self.address, self.file, self.form, &Untapped)?)
    }

    fn each_block(self, mut take: impl FnMut(&Block)) -> Result<()> {
        let mut table = self.open()?;
        let mut block = Block::default();
        while table.read_block(&mut block)? {
            take(&block);
        }
        Ok(())
    }

    fn each_row(self, mut take: impl FnMut(u64, &[String])) -> Result<()> {
        self.each_block(|block| {
            for row in 0..block.rows() {
                let cells = (0..block.columns()).map(|column| block.cell(row, column).to_owned());
                take(block.row_number(row) - 1, &cells.collect::<Vec<_>>());
            }
        })
    }

    /// The marks of its rows, so many sharing one, and how many rows it has.
    fn marks(self, each: u64) -> Result<(RowMarks, u64)> {
        let mut marker = RowMarker::each(each);
        let rows = self.mark(&mut marker)?;
        Ok((marker.finish(), rows))
    }

    fn mark(self, marker: &mut RowMarker) -> Result<u64> {
        let mut rows = 0;
        self.each_block(|block| {
            rows += block.rows() as u64;
            for row in 0..block.rows() {
                marker.row((0..block.columns()).map(|column| block.cell(row, column)));
            }
        })?;
        Ok(rows)
    }

    /// Some of its rows, by number from 0.
    fn rows(self, wanted: &BTreeSet<u64>) -> Result<HashMap<u64, Vec<String>>> {
        let mut rows = HashMap::new();
        self.each_row(|row, cells| {
            if wanted.contains(&row) {
                rows.insert(row, cells.to_vec());
            }
        })?;
        Ok(rows)
    }
}

/// The marks of an output that has so many rows.
pub(crate) fn marks_of(
    address: &Address,
    file: &InputFile,
    rows: u64,
    form: &Described,
) -> Result<RowMarks> {
    let mut marker = RowMarker::for_rows(rows);
    Table { address, file, form }.mark(&mut marker)?;
    Ok(marker.finish())
}
