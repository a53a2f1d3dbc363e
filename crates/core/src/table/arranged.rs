//! A source whose columns stand in the order of another table's.

use super::{Block, Headers, Source};

/// A source with its columns put in another order.
#[derive(Debug)]
pub struct Arranged<'s, S: ?Sized> {
    source: &'s mut S,
    headers: Headers,
    /// For each column, which of the source's it is; empty when they stand in that order already.
    order: Vec<usize>,
    read: Block,
}

/// The headers of two tables that should have the same ones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Differing {
    /// Those that only the first has.
    pub missing: Vec<String>,
    /// Those that only the second has.
    pub surplus: Vec<String>,
}

impl<'s, S: Source + ?Sized> Arranged<'s, S> {
    /// Puts the columns of a source in the order of `like`.
    ///
    /// # Errors
    /// [`Differing`] when the source has other headers.
    pub fn like(like: &Headers, source: &'s mut S) -> Result<Self, Differing> {
        let addresses = |headers: &Headers| -> Vec<String> {
            (0..headers.len()).map(|column| headers.address(column)).collect()
        };
        let (ours, theirs) = (addresses(like), addresses(source.headers()));
        let only = |these: &[String], those: &[String]| -> Vec<String> {
            these.iter().filter(|header| !those.contains(header)).cloned().collect()
        };
        let (missing, surplus) = (only(&ours, &theirs), only(&theirs, &ours));
        if !missing.is_empty() || !surplus.is_empty() {
            return Err(Differing { missing, surplus });
        }
        let place = |header| theirs.iter().position(|other| other == header);
        let order: Vec<usize> = ours.iter().filter_map(place).collect();
        let in_order = order.iter().enumerate().all(|(at, &from)| at == from);
        let order = if in_order { Vec::new() } else { order };
        let headers = Headers::new(source.headers().table(), like.iter());
        Ok(Self { source, headers, order, read: Block::default() })
    }
}

impl<S: Source + ?Sized> Source for Arranged<'_, S> {
    type Error = S::Error;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn read_block(&mut self, block: &mut Block) -> Result<bool, S::Error> {
        if self.order.is_empty() {
            return self.source.read_block(block);
        }
        let more = self.source.read_block(&mut self.read)?;
        block.reset(self.order.len());
        let mut lines = Vec::with_capacity(self.read.rows());
        for row in 0..self.read.rows() {
            for &column in &self.order {
                block.push_cell(self.read.cell(row, column));
            }
            lines.push(self.read.line(row));
        }
        let first = if more { self.read.row_number(0) } else { 1 };
        *block = std::mem::take(block).placed(first, lines, super::AsRead::default());
        Ok(more)
    }
}
