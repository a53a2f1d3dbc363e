//! Reading a columnar file: batches in order, and blocks of them by any thread.

use std::sync::Arc;

use arrow_array::RecordBatch;
use gather_keys_core::table::{Before, Block, Headers, KeptColumns, ascending};

use super::arrow_file::Batch;
use super::batches::{Batches, read_of, schema};
use super::leaf::Leaf;
use super::{Columnar, StoredType};
use crate::{Error, InputFile, Result};

/// The most rows of a piece: batches of an Arrow file may be of any size.
const PIECE: usize = 8192;

/// Reads the batches of a file.
pub(crate) struct BatchReader {
    name: String,
    file: InputFile,
    kind: Columnar,
    headers: Headers,
    leaves: Arc<[Leaf]>,
    /// The columns of the file that are read.
    roots: Arc<[usize]>,
    batches: Option<Batches>,
    /// The rest of the last batch.
    rest: Option<RecordBatch>,
}

/// Some rows of a batch, with the columns of the file that it has.
#[derive(Debug)]
pub struct BatchChunk {
    rows: Batch,
    roots: Arc<[usize]>,
}

/// A fault in a chunk.
#[derive(Debug)]
pub enum BatchFault {
    /// The text of this many rows is more than a block holds.
    TooMuchText {
        /// How many.
        rows: u64,
    },
    /// The batch can't be decoded.
    Damaged(Error),
}

impl BatchFault {
    /// The error in a table with so much before the piece.
    pub(crate) fn of(self, table: &str, before: Before) -> Error {
        let rows = match self {
            Self::TooMuchText { rows } => rows,
            Self::Damaged(error) => return error,
        };
        let (first, last) = (before.rows + 1, before.rows + rows);
        let said = format!("its rows {first} to {last} hold more than 4 GiB of text");
        let fix = "shorten its longest cells, or leave their column out of the file";
        Error::Unread { name: table.to_owned(), said, fix }
    }
}

/// Makes blocks of batches.
#[derive(Debug, Clone)]
pub(crate) struct BatchParser {
    name: String,
    leaves: Arc<[Leaf]>,
    wanted: Vec<usize>,
    kept: KeptColumns,
}

impl BatchReader {
    /// Opens the table called `name` in a file.
    ///
    /// # Errors
    /// [`Error::Unread`] when the file is damaged, of another kind, or has a column of a type that no
    /// cell is made of; [`Error::Empty`] when it has no columns.
    pub(crate) fn open(name: &str, file: &InputFile, kind: Columnar) -> Result<Self> {
        let leaves = Leaf::all(&*schema(name, file, kind)?);
        if leaves.is_empty() {
            return Err(Error::Empty { name: name.to_owned() });
        }
        let unknown = leaves.iter().find_map(|leaf| leaf.unknown_type().map(|of| (leaf, of)));
        if let Some((leaf, stored)) = unknown {
            let said = format!("cells can't be made of `{}`, which is {stored}", leaf.header);
            let fix = "leave the column out of the file";
            return Err(Error::Unread { name: name.to_owned(), said, fix });
        }
        let headers = Headers::new(name, leaves.iter().map(|leaf| &leaf.header[..]));
        let roots = roots(leaves.iter());
        let (name, file) = (name.to_owned(), file.clone());
        let leaves = leaves.into();
        Ok(Self { name, file, kind, headers, leaves, roots, batches: None, rest: None })
    }

    pub(crate) fn headers(&self) -> &Headers {
        &self.headers
    }

    /// The types of its columns.
    pub(crate) fn stored_types(&self) -> Vec<Option<StoredType>> {
        self.leaves.iter().map(Leaf::kept_type).collect()
    }

    pub(crate) fn want(&mut self, columns: &[usize]) {
        self.roots = roots(columns.iter().map(|&column| &self.leaves[column]));
    }

    pub(crate) fn parser(&self) -> BatchParser {
        let columns = self.leaves.len();
        let (name, leaves) = (self.name.clone(), self.leaves.clone());
        BatchParser {
            name,
            leaves,
            wanted: (0..columns).collect(),
            kept: KeptColumns::all(columns),
        }
    }

    /// The next piece; `None` when there is none left.
    ///
    /// # Errors
    /// [`Error::Unread`] when the file is damaged.
    pub(crate) fn read_chunk(&mut self) -> Result<Option<BatchChunk>> {
        let batches = match &mut self.batches {
            Some(batches) => batches,
            batches => {
                let begun = Batches::begin(&self.name, &self.file, self.kind, &self.roots)?;
                batches.insert(begun)
            }
        };
        let roots = self.roots.clone();
        let batch = loop {
            let next = match self.rest.take() {
                Some(rest) => Some(Batch::Decoded(rest)),
                None => batches.next(&self.name)?,
            };
            match next {
                Some(Batch::Decoded(batch)) if batch.num_rows() == 0 => {}
                Some(Batch::Decoded(batch)) => break batch,
                Some(rows @ Batch::Encoded(_)) => return Ok(Some(BatchChunk { rows, roots })),
                None => return Ok(None),
            }
        };
        let rows = batch.num_rows().min(PIECE);
        if rows < batch.num_rows() {
            self.rest = Some(batch.slice(rows, batch.num_rows() - rows));
        }
        Ok(Some(BatchChunk { rows: Batch::Decoded(batch.slice(0, rows)), roots }))
    }
}

/// The columns of the file that hold these of the table, ascending.
fn roots<'l>(leaves: impl Iterator<Item = &'l Leaf>) -> Arc<[usize]> {
    let roots = ascending(&leaves.map(|leaf| leaf.root).collect::<Vec<_>>());
    roots.into()
}

impl BatchParser {
    pub(crate) fn want(&mut self, columns: &[usize]) {
        self.wanted = ascending(columns);
        self.kept = KeptColumns::only(&self.wanted, self.leaves.len());
    }

    /// Replaces `block` with the rows of a chunk, each on a line, and returns how many there are.
    ///
    /// # Errors
    /// [`BatchFault::TooMuchText`] when it is more than a block holds, as values that many rows have may
    /// be; [`BatchFault::Damaged`] when it can't be decoded.
    pub(crate) fn parse(
        &self,
        piece: &BatchChunk,
        block: &mut Block,
    ) -> std::result::Result<u64, BatchFault> {
        let decoded = match &piece.rows {
            Batch::Decoded(batch) => Some(batch.clone()),
            Batch::Encoded(batch) => read_of(&self.name, Columnar::Arrow, || Ok(batch.decode()?))
                .map_err(BatchFault::Damaged)?,
        };
        let Some(batch) = decoded else {
            block.reset_to(self.kept.clone());
            return Ok(0);
        };
        let rows = batch.num_rows();
        block.reset_by_columns(self.kept.clone(), rows);
        for (place, &column) in self.wanted.iter().enumerate() {
            let cells = self.leaves[column].cells(&batch, &piece.roots);
            cells.say_all(rows, &mut block.column(place));
        }
        let rows = rows as u64;
        if block.is_too_large() { Err(BatchFault::TooMuchText { rows }) } else { Ok(rows) }
    }

    /// The error of a piece with so much before it.
    pub(crate) fn error(&self, fault: BatchFault, before: Before) -> Error {
        fault.of(&self.name, before)
    }
}
