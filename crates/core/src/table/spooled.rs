//! Blocks of a table that wait in a scratch, to be read once more.
//!
//! Where main rows can't be answered as they come, their blocks are kept as they were parsed, so that
//! the table itself is read only once: it may come from a pipe, or change meanwhile.

use std::marker::PhantomData;
use std::ops::Range;
use std::sync::Arc;

use super::scratch::Kept;
use super::{Before, Block, Headers, KeptColumns, Parser, Scratch, Source};
use crate::{Error, Result};

/// Blocks that are kept, in order.
#[derive(Debug)]
pub(crate) struct Spool {
    scratch: Arc<dyn Scratch>,
    blocks: Vec<Waiting>,
    /// What stands behind the last one.
    end: Before,
}

/// A block that waits.
#[derive(Debug, Clone)]
struct Waiting {
    kept: Kept,
    columns: KeptColumns,
    before: Before,
}

impl Spool {
    pub(crate) fn new(scratch: Arc<dyn Scratch>) -> Self {
        Self { scratch, blocks: Vec::new(), end: Before::default() }
    }

    /// Keeps the next block, which [`Block::store`] wrote into `bytes`.
    pub(crate) fn push(&mut self, block: &Block, bytes: &[u8]) -> Result<()> {
        let before = block.before();
        let kept = Kept::keep(&*self.scratch, bytes)?;
        self.blocks.push(Waiting { kept, columns: block.kept_columns().clone(), before });
        self.end = Before { rows: before.rows + block.rows() as u64, lines: before.lines };
        Ok(())
    }

    /// How many blocks there are.
    pub(crate) fn len(&self) -> usize {
        self.blocks.len()
    }

    /// How many rows they hold.
    pub(crate) fn rows(&self) -> u64 {
        self.end.rows
    }

    /// Some of the blocks, as a table with these headers.
    pub(crate) fn read<E>(&self, blocks: Range<usize>, headers: Headers) -> Spooled<'_, E> {
        let before = self.blocks.get(blocks.start).map_or(self.end, |block| block.before);
        Spooled {
            spool: self,
            next: blocks.start,
            end: blocks.end,
            before,
            headers,
            error: PhantomData,
        }
    }
}

/// Reads blocks that wait.
pub(crate) struct Spooled<'s, E> {
    spool: &'s Spool,
    next: usize,
    end: usize,
    before: Before,
    headers: Headers,
    error: PhantomData<fn() -> E>,
}

/// A block as it waited.
#[derive(Debug, Default)]
pub(crate) struct Stored {
    bytes: Vec<u8>,
    columns: KeptColumns,
    lines: u64,
}

impl<E: From<Error>> Source for Spooled<'_, E> {
    type Error = E;
    type Piece = Stored;
    type Parser = Restores<E>;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn parser(&self) -> Restores<E> {
        Restores(PhantomData)
    }

    fn read_piece(&mut self, piece: &mut Stored) -> std::result::Result<bool, E> {
        if self.next == self.end {
            return Ok(false);
        }
        let Waiting { kept, columns, before } = &self.spool.blocks[self.next];
        self.next += 1;
        kept.fetch(&*self.spool.scratch, &mut piece.bytes)?;
        piece.columns = columns.clone();
        let behind =
            self.spool.blocks.get(self.next).map_or(before.lines, |next| next.before.lines);
        piece.lines = behind - before.lines;
        Ok(true)
    }

    fn before(&self) -> Before {
        self.before
    }

    fn passed(&mut self, rows: u64, lines: u64) {
        self.before.rows += rows;
        self.before.lines += lines;
    }
}

/// Makes blocks of what waited.
pub(crate) struct Restores<E>(PhantomData<fn() -> E>);

impl<E: From<Error>> Parser for Restores<E> {
    type Piece = Stored;
    type Error = E;
    type Fault = ();

    fn want(&mut self, _: &[usize]) {}

    fn parse(&self, piece: &mut Stored, block: &mut Block) -> std::result::Result<u64, ()> {
        block.restore(piece.columns.clone(), &piece.bytes).ok_or(())?;
        Ok(piece.lines)
    }

    fn error(&self, (): (), _: Before) -> E {
        Error::Scratch { cause: "what was kept there is not what comes back".to_owned() }.into()
    }
}
