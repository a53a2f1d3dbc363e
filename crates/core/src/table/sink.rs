//! The way a table goes out.
//!
//! Writing has two halves, as reading has. A [`Renderer`] makes of a block what is to be written;
//! several can be at work at once. A sink takes what they made, one after the other and in order.

use std::convert::Infallible;
use std::marker::PhantomData;

use super::{Block, OutputColumns, RawColumns, RawForm};

/// Takes the enriched table, block by block and in order.
pub trait Sink {
    /// The error of writing.
    type Error;
    /// The renderer of this sink.
    type Renderer: Renderer;

    /// Called once, before the first block, with the columns that are written.
    ///
    /// # Errors
    /// When their headers can't be written.
    fn write_headers(&mut self, columns: &OutputColumns) -> Result<(), Self::Error>;

    /// The renderer of rows with these columns.
    fn renderer(&self, columns: &OutputColumns) -> Self::Renderer;

    /// Which of a row's own cells it looks at.
    fn wants(&self) -> OwnCells {
        OwnCells::All
    }

    /// Writes what was made of a block.
    ///
    /// # Errors
    /// When it can't be written.
    fn write(&mut self, rendered: &mut Rendered<Self>) -> Result<(), Self::Error>;

    /// Writes what was made of a block whose first row is on a line of its file, counted from 1. Renderers do not know
    /// that line: they work before the blocks ahead are counted.
    ///
    /// # Errors
    /// When it can't be written.
    fn write_at(
        &mut self,
        _first_line: u64,
        rendered: &mut Rendered<Self>,
    ) -> Result<(), Self::Error> {
        self.write(rendered)
    }

    /// Writes rows of a block at once; see [`Renderer::render`].
    ///
    /// # Errors
    /// When they can't be written.
    fn write_block(
        &mut self,
        columns: &OutputColumns,
        main: &Block,
        rows: &[usize],
        added: &Block,
    ) -> Result<(), Self::Error> {
        let mut rendered = Rendered::<Self>::default();
        self.renderer(columns).render(main, rows, added, &mut rendered);
        self.write(&mut rendered)
    }
}

/// Which of a row's own cells a sink looks at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OwnCells {
    /// Those of all columns that are written.
    All,
    /// Those of all columns that are written, in rows that come without bytes of their own; in others those at the
    /// [ends of runs](OutputColumns::ends_of_runs).
    WithoutBytes,
    /// None.
    None,
}

/// What the renderer of a sink makes of a block.
pub type Rendered<S> = <<S as Sink>::Renderer as Renderer>::Rendered;

/// Makes of blocks what is to be written.
pub trait Renderer: Send + Sync {
    /// The rendered rows; kept from block to block.
    type Rendered: Default + Send;

    /// Replaces `rendered` with rows of `main`, each with the next row of `added`, whose first cells replace overlaid
    /// columns. `rows` has the index of each row in the block, in order; a row may
    /// be left out, or occur several times.
    fn render(&self, main: &Block, rows: &[usize], added: &Block, rendered: &mut Self::Rendered);

    /// Whether it shows what became of each row; then [`Renderer::render_with_outcomes`] is called.
    fn wants_outcomes(&self) -> bool {
        false
    }

    /// [`Renderer::render`], with what became of each row in each lookup.
    fn render_with_outcomes(
        &self,
        main: &Block,
        rows: &[usize],
        added: &Block,
        _outcomes: &RowOutcomes,
        rendered: &mut Self::Rendered,
    ) {
        self.render(main, rows, added, rendered);
    }

    /// The raw form of added cells, and the renderer of rows that pass them through, where the format has
    /// one for its columns.
    fn pass_through(&self) -> Option<(RawForm, &dyn PassThrough<Self::Rendered>)> {
        None
    }
}

/// What became of a row in a lookup.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum RowOutcome {
    /// There is an answer.
    #[default]
    Matched,
    /// No reference row holds its key.
    Unmatched,
    /// Several reference rows hold it and disagree.
    Ambiguous,
    /// A part of it is blank.
    BlankKey,
    /// A step could not read a value of it.
    Malformed,
}

/// What became of the rows that go out, in each lookup.
///
/// ```
/// use gather_keys_core::table::{RowOutcome, RowOutcomes};
///
/// let outcomes = RowOutcomes::of(2, vec![RowOutcome::Matched, RowOutcome::Unmatched]);
/// assert_eq!(outcomes.get(0, 1), RowOutcome::Unmatched);
/// assert_eq!(outcomes.get(7, 0), RowOutcome::Matched);
/// ```
#[derive(Debug, Clone, Default)]
pub struct RowOutcomes {
    lookups: usize,
    outcomes: Vec<RowOutcome>,
    are_appended: bool,
}

impl RowOutcomes {
    /// The outcomes of rows, those of all lookups for each row.
    pub fn of(lookups: usize, outcomes: Vec<RowOutcome>) -> Self {
        Self { lookups, outcomes, are_appended: false }
    }

    /// Whether the rows are none of the main table's but are appended to it.
    #[inline]
    pub fn are_appended(&self) -> bool {
        self.are_appended
    }

    /// The outcome of a row in a lookup; matched where nothing else is known.
    #[inline]
    pub fn get(&self, row: usize, lookup: usize) -> RowOutcome {
        self.outcomes.get(row * self.lookups + lookup).copied().unwrap_or_default()
    }

    /// Makes room for this many rows, all of them matched.
    pub(crate) fn reset(&mut self, rows: usize, lookups: usize, are_appended: bool) {
        self.lookups = lookups;
        self.are_appended = are_appended;
        self.outcomes.clear();
        self.outcomes.resize(rows * lookups, RowOutcome::Matched);
    }

    pub(crate) fn set(&mut self, row: usize, lookup: usize, outcome: RowOutcome) {
        self.outcomes[row * self.lookups + lookup] = outcome;
    }
}

/// A renderer that takes cells over as they are in a reference, where nothing is overlaid.
pub trait PassThrough<R>: Send + Sync {
    /// Replaces what `rendered` holds with all rows of `main`, each with what the references add to
    /// it. It is what [`Renderer::render`] makes of the same cells.
    fn render_pass_through(&self, main: &Block, beside: &[RawColumns<'_>], rendered: &mut R);
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
    type Renderer = ();

    fn write_headers(&mut self, _: &OutputColumns) -> Result<(), E> {
        Ok(())
    }

    fn renderer(&self, _: &OutputColumns) {}

    fn wants(&self) -> OwnCells {
        OwnCells::None
    }

    fn write(&mut self, (): &mut ()) -> Result<(), E> {
        Ok(())
    }
}

impl Renderer for () {
    type Rendered = ();

    fn render(&self, _: &Block, _: &[usize], _: &Block, (): &mut ()) {}
}
