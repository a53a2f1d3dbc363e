//! A table on its way into typed columns.
//!
//! Which type a column can have is known once all of its cells are seen. Until then they wait, as
//! texts, in a temporary file that has no name and so goes with the program.

use std::fs::File;
use std::io::{BufReader, BufWriter, IntoInnerError, Seek};
use std::sync::Arc;

use arrow_array::builder::StringBuilder;
use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{ArrowError, DataType, Field, Schema, SchemaRef};
use arrow_select::concat::concat_batches;
use gather_keys_core::table::{Block, OutputCell, OutputColumns, Renderer, Sink};

use super::StoredType;
use super::dictionary::Dictionary;
use super::fit::{Fit, texts};
use super::typed::typed;
use crate::{Error, Result};

/// How many rows a batch of a file has, unless they reach this many bytes before: a reader does some work
/// for each batch, and holds it in memory.
const BATCH_ROWS: usize = 1 << 14;
const BATCH_BYTES: usize = 8 << 20;

/// Takes a table in, as a sink.
pub(crate) struct Spool {
    /// The name of the output.
    name: String,
    /// The type that each column had, as far as that is known.
    stored: Arc<[Option<StoredType>]>,
    headers: Vec<String>,
    fits: Vec<Fit>,
    writer: Option<StreamWriter<BufWriter<File>>>,
    texts: SchemaRef,
}

/// A table whose types are known.
pub(crate) struct Spooled {
    name: String,
    /// Its columns.
    pub(crate) schema: SchemaRef,
    /// The columns whose cells lose their kinds, since no type holds them all.
    pub(crate) mixed: Vec<String>,
    /// The dictionary of each column that has one.
    dictionaries: Vec<Option<Dictionary>>,
    reader: Option<StreamReader<BufReader<File>>>,
}

/// The file was refused, or what is in it is not what was put there.
fn refused(name: &str, error: ArrowError) -> Error {
    match error {
        ArrowError::IoError(_, cause) => Error::Spool { name: name.to_owned(), cause },
        other => Error::Unwritten { name: name.to_owned(), said: other.to_string() },
    }
}

impl Spool {
    /// A spool for the output called `name`, whose columns had these types before, as far as that is
    /// known.
    pub(crate) fn new(name: impl Into<String>, stored: Vec<Option<StoredType>>) -> Self {
        Self {
            name: name.into(),
            stored: stored.into(),
            headers: Vec::new(),
            fits: Vec::new(),
            writer: None,
            texts: Arc::new(Schema::empty()),
        }
    }

    /// Ends the table, and chooses the types of its columns.
    pub(crate) fn finish(self) -> Result<Spooled> {
        let Self { name, stored, headers, fits, writer, .. } = self;
        let mut mixed = Vec::new();
        let fields = headers.iter().zip(&fits).zip(&*stored).map(|((header, fit), stored)| {
            let (chosen, loses) = fit.chosen(stored.as_ref());
            if loses {
                mixed.push(header.clone());
            }
            Field::new(header, chosen, true)
        });
        let schema = Arc::new(Schema::new(fields.collect::<Vec<_>>()));
        let chosen = schema.fields().iter().map(|field| field.data_type());
        let dictionaries =
            fits.into_iter().zip(chosen).map(|(fit, chosen)| fit.into_dictionary(chosen)).collect();
        let reader = writer.map(|mut writer| {
            writer.finish()?;
            let mut file = writer.into_inner()?.into_inner().map_err(IntoInnerError::into_error)?;
            file.rewind()?;
            StreamReader::try_new(BufReader::with_capacity(1 << 20, file), None)
        });
        let reader = reader.transpose().map_err(|error| refused(&name, error))?;
        Ok(Spooled { name, schema, mixed, dictionaries, reader })
    }
}

impl Spooled {
    /// The types of the columns.
    pub(crate) fn fields(&self) -> Vec<DataType> {
        self.schema.fields().iter().map(|field| field.data_type().clone()).collect()
    }

    /// The next rows, as texts.
    pub(crate) fn next_texts(&mut self) -> Result<Option<RecordBatch>> {
        let next = self.reader.as_mut().and_then(Iterator::next).transpose();
        next.map_err(|error| refused(&self.name, error))
    }

    /// The next rows, in their types; many in one batch.
    pub(crate) fn next_typed(&mut self) -> Result<Option<RecordBatch>> {
        let (mut batches, mut rows, mut bytes) = (Vec::new(), 0, 0);
        while rows < BATCH_ROWS
            && bytes < BATCH_BYTES
            && let Some(batch) = self.next_texts()?
        {
            rows += batch.num_rows();
            bytes += batch.get_array_memory_size();
            batches.push(batch);
        }
        let Some(first) = batches.first() else { return Ok(None) };
        let typed =
            concat_batches(first.schema_ref(), &batches).and_then(|texts| self.typed(&texts));
        typed.map(Some).map_err(|error| refused(&self.name, error))
    }

    /// Rows of texts, in their types.
    fn typed(&self, batch: &RecordBatch) -> std::result::Result<RecordBatch, ArrowError> {
        let fields = self.schema.fields().iter().zip(&self.dictionaries);
        let columns = batch.columns().iter().zip(fields).map(|(column, (field, dictionary))| {
            let chosen = field.data_type();
            let typed = match dictionary {
                Some(dictionary) => dictionary.keyed(texts(column)),
                None if *chosen == DataType::Utf8 => Some(column.clone()),
                None => typed(texts(column), chosen),
            };
            typed.ok_or_else(|| {
                ArrowError::CastError(format!("a cell of `{}` is not {chosen}", field.name()))
            })
        });
        let columns = columns.collect::<std::result::Result<Vec<ArrayRef>, _>>()?;
        let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
        RecordBatch::try_new_with_options(self.schema.clone(), columns, &options)
    }
}

impl Sink for Spool {
    type Error = Error;
    type Renderer = TextRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        let all = columns.headers();
        self.headers = (0..all.len()).map(|column| all.address(column)).collect();
        self.fits = vec![Fit::default(); all.len()];
        let mut stored = self.stored.to_vec();
        stored.resize(all.len(), None);
        self.stored = stored.into();
        let texts = self.headers.iter().map(|header| Field::new(header, DataType::Utf8, true));
        self.texts = Arc::new(Schema::new(texts.collect::<Vec<_>>()));
        let refused_by_system = |cause| Error::Spool { name: self.name.clone(), cause };
        let file =
            BufWriter::with_capacity(1 << 20, tempfile::tempfile().map_err(refused_by_system)?);
        let writer = StreamWriter::try_new(file, &self.texts);
        self.writer = Some(writer.map_err(|error| refused(&self.name, error))?);
        Ok(())
    }

    fn renderer(&self, columns: &OutputColumns) -> TextRenderer {
        let (stored, texts) = (self.stored.clone(), self.texts.clone());
        TextRenderer { cells: columns.cells().into(), stored, texts }
    }

    fn write(&mut self, rendered: &mut TextBatch) -> Result<()> {
        let Some((batch, writer)) = rendered.batch.take().zip(self.writer.as_mut()) else {
            return Ok(());
        };
        for (ours, theirs) in self.fits.iter_mut().zip(&rendered.fits) {
            ours.merge(theirs);
        }
        writer.write(&batch).map_err(|error| refused(&self.name, error))
    }
}

/// Makes columns of texts of rows.
#[derive(Debug, Clone)]
pub struct TextRenderer {
    cells: Arc<[OutputCell]>,
    stored: Arc<[Option<StoredType>]>,
    texts: SchemaRef,
}

impl Default for TextRenderer {
    fn default() -> Self {
        let texts = Arc::new(Schema::empty());
        Self { cells: [].into(), stored: [].into(), texts }
    }
}

/// Rows as columns of texts, and the types that these leave.
#[derive(Debug, Default)]
pub struct TextBatch {
    batch: Option<RecordBatch>,
    fits: Vec<Fit>,
}

impl Renderer for TextRenderer {
    type Rendered = TextBatch;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, out: &mut TextBatch) {
        let mut columns: Vec<ArrayRef> = Vec::with_capacity(self.stored.len());
        out.fits = vec![Fit::default(); self.stored.len()];
        let all = self.cells.iter().zip(&mut out.fits).zip(&*self.stored);
        for ((cell, fit), stored) in all {
            let mut texts = StringBuilder::with_capacity(rows.len(), 16 * rows.len());
            for (nth, &row) in rows.iter().enumerate() {
                let (cell, kind) = cell.of((main, row), (added, nth));
                fit.note(cell, kind);
                if cell.is_empty() { texts.append_null() } else { texts.append_value(cell) }
            }
            let texts = texts.finish();
            if let Some(stored) = stored {
                fit.note_stored(&texts, stored);
            }
            columns.push(Arc::new(texts));
        }
        let options = RecordBatchOptions::new().with_row_count(Some(rows.len()));
        // The columns are those of the schema, all of as many rows.
        out.batch = RecordBatch::try_new_with_options(self.texts.clone(), columns, &options).ok();
    }
}
