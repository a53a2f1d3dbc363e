//! The way a table comes in.
//!
//! Reading has two halves. A source hands out chunks of its table, one after the other and in order. A
//! [`Parser`] makes blocks of rows of them; it knows nothing of earlier chunks, so that several chunks
//! are parsed at once. The position of a chunk in the table is known once the earlier ones are parsed.

use super::{Block, Headers};

/// A table that is read from front to back, piece by piece.
pub trait Source {
    /// The error of reading.
    type Error;
    /// A piece of the table as it is read; kept from piece to piece.
    type Chunk: Default + Send;
    /// The parser of the chunks.
    type Parser: Parser<Chunk = Self::Chunk, Error = Self::Error>;

    /// The table's headers.
    fn headers(&self) -> &Headers;

    /// Says, before the first piece is read, which columns will be looked at; others need not be read
    /// at all. Until it is said, all are.
    fn want(&mut self, _columns: &[usize]) {}

    /// Whether every row comes with its own bytes.
    fn has_row_bytes(&self) -> bool {
        false
    }

    /// The parser of the chunks.
    fn parser(&self) -> Self::Parser;

    /// Replaces what `piece` holds with the next one; `false` when there is none left.
    ///
    /// # Errors
    /// When the table can't be read.
    fn read_chunk(&mut self, piece: &mut Self::Chunk) -> Result<bool, Self::Error>;

    /// How much of the table is before the pieces that are not parsed yet.
    fn before(&self) -> Before;

    /// Notes how much the next piece held, once it is parsed.
    fn passed(&mut self, rows: u64, lines: u64);

    /// Replaces what `block` holds with the next rows; `false` when there are none left. Each row
    /// has exactly as many cells as there are headers.
    ///
    /// # Errors
    /// When the table can't be read or is not well formed.
    fn read_block(&mut self, block: &mut Block) -> Result<bool, Self::Error> {
        let mut piece = Self::Chunk::default();
        let parser = self.parser();
        while self.read_chunk(&mut piece)? {
            let before = self.before();
            match parser.parse(&mut piece, block) {
                Ok(lines) => {
                    self.passed(block.rows() as u64, lines);
                    block.place(before.rows + 1, before.lines + 1);
                }
                Err(fault) => return Err(parser.error(fault, before)),
            }
            if block.rows() > 0 {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

/// How much of a table is before a piece of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Before {
    /// How many rows.
    pub rows: u64,
    /// How many lines of the file.
    pub lines: u64,
}

/// Makes blocks of pieces of a table.
pub trait Parser: Send + Sync {
    /// A piece of the table.
    type Chunk;
    /// The error of reading.
    type Error;
    /// A fault in a chunk, with its place in the chunk.
    type Fault: Send;

    /// Says which columns will be looked at; blocks need hold no cells of others. Until it is said,
    /// all are.
    fn want(&mut self, columns: &[usize]);

    /// Replaces what `block` holds with the rows of a piece, whose first line counts as 0. Gives
    /// how many lines the piece has.
    ///
    /// # Errors
    /// When it is not well formed.
    fn parse(&self, piece: &mut Self::Chunk, block: &mut Block) -> Result<u64, Self::Fault>;

    /// The error for a fault in a piece with so much of the table before it.
    fn error(&self, fault: Self::Fault, before: Before) -> Self::Error;
}
