//! Tables that come row by row, as all but delimited text do.

use gather_keys_core::table::{Block, Headers};

use crate::Result;

/// How many rows are read at a time.
pub(crate) const AT_ONCE: usize = 1024;

/// A table that is read row by row.
pub(crate) trait ReadRows {
    /// Its headers.
    fn headers(&self) -> &Headers;

    /// The line that they stand on, from 1; 0 when they stand on none.
    fn header_line(&self) -> u64;

    /// Replaces what a block holds with the next rows, and tells how many lines these take; `None`
    /// when there are none left. The first line behind the last block counts as 0.
    ///
    /// # Errors
    /// When the table can't be read.
    fn read_rows(&mut self, block: &mut Block) -> Result<Option<u64>>;
}
