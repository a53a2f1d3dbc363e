//! The columns that JSON rows have, in the order in which they come.

use std::collections::HashMap;

use gather_keys_core::table::{Block, CellKind, Headers, KeptColumns, ascending};

use super::row::{each_field, write_cell};
use crate::{Error, Result};

/// The columns of a table.
#[derive(Debug, Clone, Default)]
pub(super) struct Columns {
    names: Vec<String>,
    places: HashMap<String, usize>,
}

impl Columns {
    /// Notes the fields of a row.
    ///
    /// # Errors
    /// When it is malformed.
    pub(super) fn add(&mut self, row: &str) -> std::result::Result<(), serde_json::Error> {
        let mut next = 0;
        each_field(row, &mut |name, _| {
            match self.place(name, next) {
                Some(place) => next = place + 1,
                None => {
                    next = self.names.len() + 1;
                    self.places.insert(name.to_owned(), self.names.len());
                    self.names.push(name.to_owned());
                }
            }
            Ok(())
        })
    }

    /// The place of a column, which is most likely the next one.
    fn place(&self, name: &str, next: usize) -> Option<usize> {
        match self.names.get(next) {
            Some(likely) if likely == name => Some(next),
            _ => self.places.get(name).copied(),
        }
    }

    /// The headers of the table called `table`.
    ///
    /// # Errors
    /// [`Error::Empty`] when no row has any field.
    pub(super) fn headers(&self, table: &str) -> Result<Headers> {
        if self.names.is_empty() {
            return Err(Error::Empty { name: table.to_owned() });
        }
        Ok(Headers::new(table, self.names.iter().cloned()))
    }
}

/// The cells of a row on their way into a block.
#[derive(Debug)]
pub(super) struct RowCells {
    cells: Vec<(String, CellKind)>,
    /// The columns that are kept, ascending.
    wanted: Vec<usize>,
    kept: KeptColumns,
}

impl RowCells {
    /// Buffers for the cells of the wanted columns, out of `columns`.
    pub(super) fn of(wanted: &[usize], columns: usize) -> Self {
        let cells = vec![(String::new(), CellKind::Untyped); columns];
        let wanted = ascending(wanted);
        let kept = KeptColumns::only(&wanted, columns);
        Self { cells, wanted, kept }
    }

    /// Empties a block, to be filled with rows.
    pub(super) fn begin(&self, block: &mut Block) {
        block.reset_to(self.kept.clone());
    }

    /// Adds a row to a block.
    ///
    /// # Errors
    /// When it is malformed.
    pub(super) fn add(
        &mut self,
        columns: &Columns,
        row: &str,
        block: &mut Block,
    ) -> std::result::Result<(), serde_json::Error> {
        for (cell, kind) in &mut self.cells {
            cell.clear();
            *kind = CellKind::Untyped;
        }
        let (cells, wanted, mut next) = (&mut self.cells, &self.wanted, 0);
        each_field(row, &mut |name, value| {
            if let Some(place) = columns.place(name, next) {
                next = place + 1;
                if wanted.len() == cells.len() || wanted.binary_search(&place).is_ok() {
                    let (cell, kind) = &mut cells[place];
                    // The last of several fields with one name counts.
                    cell.clear();
                    *kind = write_cell(value, cell)?;
                }
            }
            Ok(())
        })?;
        for &column in wanted {
            let (cell, kind) = &self.cells[column];
            block.push_cell_of(cell, *kind);
        }
        block.push_line(block.rows() as u64 - u64::from(!wanted.is_empty()));
        Ok(())
    }
}
