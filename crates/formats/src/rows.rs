//! Tables that come row by row, as all but delimited text do.

use gather_keys_core::table::{Block, Headers};

use crate::Result;

/// How many rows are read at a time.
pub(crate) const AT_ONCE: usize = 1024;

/// A table that is read row by row.
pub(crate) trait ReadRows {
    /// Its headers.
    fn headers(&self) -> &Headers;

    /// Replaces what a block holds with the next rows, a line each; `false` when there are none left.
    ///
    /// # Errors
    /// When the table can't be read.
    fn read_rows(&mut self, block: &mut Block) -> Result<bool>;
}
