//! The way a table goes out.

use std::convert::Infallible;
use std::marker::PhantomData;

use super::{Block, Headers};

/// Takes the enriched table, block by block and in order.
pub trait Sink {
    /// What can go wrong on the way out.
    type Error;

    /// Called once, before the first block: the main table's headers and the added ones.
    ///
    /// # Errors
    /// When they can't be written.
    fn write_headers(&mut self, main: &Headers, added: &[String]) -> Result<(), Self::Error>;

    /// Writes rows of `main`, each with the next row of `added` behind it. `rows` names them, from
    /// 0 within the block and in order; one may be left out, or come several times.
    ///
    /// # Errors
    /// When they can't be written.
    fn write_block(
        &mut self,
        main: &Block,
        rows: &[usize],
        added: &Block,
    ) -> Result<(), Self::Error>;
}

/// A sink for runs that look at the keys only: takes everything, keeps nothing.
#[derive(Debug)]
pub struct Discard<E = Infallible>(PhantomData<E>);

impl<E> Default for Discard<E> {
    fn default() -> Self {
        Self(PhantomData)
    }
}

impl<E> Sink for Discard<E> {
    type Error = E;

    fn write_headers(&mut self, _: &Headers, _: &[String]) -> Result<(), E> {
        Ok(())
    }

    fn write_block(&mut self, _: &Block, _: &[usize], _: &Block) -> Result<(), E> {
        Ok(())
    }
}
