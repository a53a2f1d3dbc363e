//! The way a table comes in.

use super::{Block, Headers};

/// A table that is read from front to back, block by block.
pub trait Source {
    /// What can go wrong on the way in.
    type Error;

    /// The table's headers.
    fn headers(&self) -> &Headers;

    /// Replaces what `block` holds with the next rows; `false` when there are none left. Each row
    /// has exactly as many cells as there are headers.
    ///
    /// # Errors
    /// When the table can't be read or is not well formed.
    fn read_block(&mut self, block: &mut Block) -> Result<bool, Self::Error>;
}
