//! A spool: blocks of the main table that wait to be read again.
//!
//! Where main rows can't be answered as they come, their blocks are stored as they were parsed, so that the table
//! itself is read only once: it may come from a pipe, or change meanwhile.

use std::marker::PhantomData;
use std::ops::Range;
use std::sync::Arc;

use super::scratch::{Extent, Scratch, damaged};
use crate::table::{Before, Block, Headers, KeptColumns, Parser, Source};
use crate::{Error, Result};

/// Stored blocks, in order.
#[derive(Debug)]
pub(crate) struct Spool {
    scratch: Arc<dyn Scratch>,
    blocks: Vec<SpooledBlock>,
    /// How much of the table the blocks are.
    end: Before,
}

/// The place of a stored block.
#[derive(Debug, Clone)]
struct SpooledBlock {
    extent: Extent,
    columns: KeptColumns,
    before: Before,
}

impl Spool {
    /// An empty spool.
    pub(crate) fn new(scratch: Arc<dyn Scratch>) -> Self {
        Self { scratch, blocks: Vec::new(), end: Before::default() }
    }

    /// Stores the next block, which [`Block::store`] wrote to `bytes`.
    pub(crate) fn push(&mut self, block: &Block, bytes: &[u8]) -> Result<()> {
        let before = block.before();
        let extent = Extent::append(&*self.scratch, bytes)?;
        self.blocks.push(SpooledBlock { extent, columns: block.kept_columns().clone(), before });
        self.end = Before { rows: before.rows + block.rows() as u64, lines: before.lines };
        Ok(())
    }

    /// How many blocks there are.
    pub(crate) fn len(&self) -> usize {
        self.blocks.len()
    }

    /// How many rows the blocks have.
    pub(crate) fn rows(&self) -> u64 {
        self.end.rows
    }

    /// Some of the blocks, as a table with these headers.
    pub(crate) fn read<E>(&self, blocks: Range<usize>, headers: Headers) -> SpoolReader<'_, E> {
        let before = self.blocks.get(blocks.start).map_or(self.end, |block| block.before);
        SpoolReader {
            spool: self,
            next: blocks.start,
            end: blocks.end,
            before,
            headers,
            error: PhantomData,
        }
    }
}

/// Reads stored blocks as a table.
pub(crate) struct SpoolReader<'s, E> {
    spool: &'s Spool,
    next: usize,
    end: usize,
    before: Before,
    headers: Headers,
    error: PhantomData<fn() -> E>,
}

/// A stored block as bytes.
#[derive(Debug, Default)]
pub(crate) struct StoredBlock {
    bytes: Vec<u8>,
    columns: KeptColumns,
    lines: u64,
}

impl<E: From<Error>> Source for SpoolReader<'_, E> {
    type Error = E;
    type Chunk = StoredBlock;
    type Parser = BlockRestorer<E>;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn parser(&self) -> BlockRestorer<E> {
        BlockRestorer(PhantomData)
    }

    fn read_chunk(&mut self, chunk: &mut StoredBlock) -> std::result::Result<bool, E> {
        if self.next == self.end {
            return Ok(false);
        }
        let SpooledBlock { extent, columns, before } = &self.spool.blocks[self.next];
        self.next += 1;
        extent.read(&*self.spool.scratch, &mut chunk.bytes)?;
        chunk.columns = columns.clone();
        let after = self.spool.blocks.get(self.next).map_or(before.lines, |next| next.before.lines);
        chunk.lines = after - before.lines;
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

/// Restores stored blocks.
pub(crate) struct BlockRestorer<E>(PhantomData<fn() -> E>);

impl<E: From<Error>> Parser for BlockRestorer<E> {
    type Chunk = StoredBlock;
    type Error = E;
    type Fault = ();

    fn want(&mut self, _: &[usize]) {}

    fn parse(&self, chunk: &mut StoredBlock, block: &mut Block) -> std::result::Result<u64, ()> {
        block.restore(chunk.columns.clone(), &chunk.bytes).ok_or(())?;
        Ok(chunk.lines)
    }

    fn error(&self, (): (), _: Before) -> E {
        damaged().into()
    }
}
