//! Changes that were made to an output by hand since the run that wrote it.
//!
//! In go the file, the receipt of that run and what this run would write; out come the cells that somebody changed.
//! Rows are paired by the columns that identify them, so that rows that were sorted, filtered or added do not shift
//! the others. All of it takes time in proportion to the size of the tables.

mod compare;

use std::collections::HashMap;

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::Correction;
use gather_keys_core::lookup::Lookup;
use gather_keys_core::receipt::{self, RowMarker, RowMarks};
use gather_keys_core::table::{Block, Headers, Source};
use gather_keys_formats::delimited::HeaderRow;
use gather_keys_formats::{Address, Described, InputFile, Untapped};

use crate::corrections::CorrectionsFile;
use crate::error::{Error, Result};
use crate::inputs::OpenTable;

/// How many changed rows count as changes by hand at most. More have another cause.
pub(crate) const MOST_ROWS: usize = 10_000;

/// The changes.
#[derive(Debug, Default)]
pub(crate) struct Edits {
    /// The headers as they are now, if they are others.
    pub(crate) headers: Option<Vec<String>>,
    /// Rows of which it is known what was changed.
    pub(crate) rows: Vec<EditedRow>,
    /// Rows, from 1, of which it is not, since this run would write them otherwise too.
    pub(crate) unclear: Vec<u64>,
    /// Rows, from 1, that are new.
    pub(crate) added: Vec<u64>,
    /// How many rows are gone.
    pub(crate) removed: u64,
    /// Whether rows are in another order.
    pub(crate) is_moved: bool,
    /// The columns that identify every row, if any do.
    key: Option<Vec<usize>>,
    /// Whether more rows differ than a person changes.
    pub(crate) is_too_much: bool,
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
    /// Whether nothing was changed but the form of the file.
    pub(crate) fn is_empty(&self) -> bool {
        self.has_same_cells() && self.removed == 0 && !self.is_moved
    }

    /// Whether no cell was changed, though rows may be gone or in another order.
    pub(crate) fn has_same_cells(&self) -> bool {
        self.headers.is_none() && self.rows.is_empty() && !self.is_unclear()
    }

    /// Whether there is more than changed cells, and rows that were sorted or filtered.
    pub(crate) fn is_unclear(&self) -> bool {
        !self.unclear.is_empty()
            || !self.added.is_empty()
            || self.headers.is_some()
            || self.is_too_much
    }

    /// Finds the changes in an output, which was written as `before` says; `fresh` is what would be written
    /// now. `keys` are columns that may tell the rows, those to be preferred first.
    pub(crate) fn find(
        file: Table<'_>,
        fresh: Table<'_>,
        before: &receipt::Output,
        keys: &[Vec<usize>],
    ) -> Result<Self> {
        let mut edits = Self::default();
        let Some(marks) = &before.row_marks else { return Ok(edits) };
        // A file without headers has none that could be others.
        let is_bare = file.form.headers == HeaderRow::Absent;
        let alike = |headers: &[String]| {
            let marked = before.marked_headers();
            (is_bare && headers.len() == marked.len()) || *headers == *marked
        };
        let read = |file: Table<'_>| -> Result<std::result::Result<(RowMarks, u64), Vec<String>>> {
            let headers = file.headers()?;
            if alike(&headers) { Ok(Ok(file.marks(marks.each)?)) } else { Ok(Err(headers)) }
        };
        // A spreadsheet may have saved it with another delimiter or encoding.
        let found = Described { delimiter: None, encoding: None, ..file.form.clone() };
        let as_found = Table { form: &found, ..file };
        let (file, (now, rows_now)) = match read(file) {
            Ok(Ok(now)) => (file, now),
            other => match (read(as_found), other) {
                (Ok(Ok(now)), _) => (as_found, now),
                (_, Err(cause)) => return Err(cause),
                (_, Ok(headers)) => {
                    edits.headers = headers.err();
                    return Ok(edits);
                }
            },
        };
        if now.are_those_of(marks) && rows_now == before.rows {
            return Ok(edits);
        }
        let headers = fresh.headers()?;
        if !alike(&headers) {
            edits.unclear = (1..=rows_now).take(MOST_ROWS).collect();
            return Ok(edits);
        }
        compare::compare((file, &now.are_in(marks)), fresh, (before, marks), keys)
    }

    /// Takes whole rows of what would be written now, where only some of their columns were compared: rows are at the
    /// same places there.
    pub(crate) fn widen(&mut self, fresh: Table<'_>) -> Result<()> {
        let mut rows: HashMap<u64, &mut EditedRow> =
            self.rows.iter_mut().map(|row| (row.row - 1, row)).collect();
        fresh.each_row(|number, cells| {
            if let Some(row) = rows.get_mut(&number) {
                row.was = cells.to_vec();
            }
        })
    }

    /// The columns that may identify rows: those of the file of corrections, if there is one, else those of each
    /// key, then each of the main table's own.
    pub(crate) fn keys(
        enrichment: &Enrichment,
        file: Option<&CorrectionsFile>,
    ) -> Result<Vec<Vec<usize>>> {
        match file {
            Some(file) => {
                let headers = enrichment.output().headers();
                let columns = file.key.iter().map(|header| Ok(headers.find(header)?.column));
                Ok(vec![columns.collect::<Result<Vec<usize>>>()?])
            }
            None => Ok(candidates(enrichment)),
        }
    }

    /// The changes as corrections, with the headers of the columns that tell their rows: those of the
    /// file of corrections, if there is one, else columns whose values no other row has.
    pub(crate) fn corrections(
        &self,
        enrichment: &Enrichment,
        fresh: Table<'_>,
        file: Option<&CorrectionsFile>,
    ) -> Result<(Vec<String>, Vec<Correction>)> {
        let output = enrichment.output();
        let headers = output.headers();
        let mut candidates = Self::keys(enrichment, file)?;
        if let (Some(key), None) = (&self.key, file) {
            // Columns that identify every row now will do so in the next run.
            candidates.insert(0, key.clone());
        }
        // A key that is another answers another question: it belongs into the main table.
        let of_keys: Vec<String> = enrichment
            .lookups()
            .flat_map(Lookup::columns)
            .filter(|column| *column < output.own())
            .filter_map(|column| output.place_of(column))
            .map(|column| headers.address(column))
            .collect();
        for row in &self.rows {
            if let Some(cell) = row.cells.iter().find(|cell| of_keys.contains(&cell.header)) {
                return Err(Error::EditsOfKey { row: row.row, header: cell.header.clone() });
            }
        }
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

/// Columns of the output that may identify the rows of the main table: those of each key, then each by itself.
fn candidates(enrichment: &Enrichment) -> Vec<Vec<usize>> {
    let output = enrichment.output();
    let own = output.own();
    let keys = enrichment.lookups().map(Lookup::columns);
    let keys = keys.filter(|key| !key.is_empty() && key.iter().all(|&column| column < own));
    let all = keys.chain((0..own).map(|column| vec![column]));
    // A column that the output does not have says nothing about it.
    let there = |key: Vec<usize>| key.into_iter().map(|column| output.place_of(column)).collect();
    all.filter_map(there).collect()
}

/// A table in the form of the output.
#[derive(Clone, Copy)]
pub(crate) struct Table<'p> {
    /// Its path, now or later.
    pub(crate) address: &'p Address,
    pub(crate) file: &'p InputFile,
    pub(crate) form: &'p Described,
    /// The headers of the columns that are looked at, where these are not all.
    pub(crate) columns: Option<&'p [String]>,
}

impl Table<'_> {
    fn open(self) -> Result<OpenTable> {
        Ok(OpenTable::open_file(self.address, self.file, self.form, &Untapped)?)
    }

    /// The headers of the columns that are looked at, and the columns.
    fn columns(self, table: &OpenTable) -> Result<(Vec<String>, Vec<usize>)> {
        let all = table.headers();
        let Some(asked) = self.columns else {
            return Ok((all.iter().map(str::to_owned).collect(), (0..all.len()).collect()));
        };
        let columns = asked.iter().map(|header| Ok(all.find(header)?.column));
        Ok((asked.to_vec(), columns.collect::<Result<_>>()?))
    }

    /// The headers of the columns that are looked at.
    pub(crate) fn headers(self) -> Result<Vec<String>> {
        Ok(self.columns(&self.open()?)?.0)
    }

    /// Hands on each block, with the columns of it that are looked at.
    fn each_block(self, mut take: impl FnMut(&Block, &[usize])) -> Result<()> {
        let mut table = self.open()?;
        let (_, columns) = self.columns(&table)?;
        let mut block = Block::default();
        while table.read_block(&mut block)? {
            take(&block, &columns);
        }
        Ok(())
    }

    /// Hands on each row, with its number from 0.
    fn each_row(self, mut take: impl FnMut(u64, &[String])) -> Result<()> {
        let mut cells: Vec<String> = Vec::new();
        self.each_block(|block, columns| {
            cells.resize(columns.len(), String::new());
            for row in 0..block.rows() {
                for (&column, cell) in columns.iter().zip(&mut cells) {
                    cell.clear();
                    cell.push_str(block.cell(row, column));
                }
                take(block.row_number(row) - 1, &cells);
            }
        })
    }

    /// The marks of its rows, the number of rows that share one, and the number of rows.
    fn marks(self, each: u64) -> Result<(RowMarks, u64)> {
        let mut marker = RowMarker::each(each);
        let rows = self.mark(&mut marker)?;
        Ok((marker.finish(), rows))
    }

    fn mark(self, marker: &mut RowMarker) -> Result<u64> {
        let mut rows = 0;
        self.each_block(|block, columns| {
            rows += block.rows() as u64;
            for row in 0..block.rows() {
                marker.row(columns.iter().map(|&column| block.cell(row, column)));
            }
        })?;
        Ok(rows)
    }
}

/// The marks of an output that has this many rows.
pub(crate) fn marks_of(table: Table<'_>, rows: u64) -> Result<RowMarks> {
    let mut marker = RowMarker::for_rows(rows);
    table.mark(&mut marker)?;
    Ok(marker.finish())
}
