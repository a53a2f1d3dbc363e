//! Writing a columnar file.

use std::io::Write;
use std::sync::mpsc::sync_channel;
use std::thread;

use arrow_array::RecordBatch;
use arrow_ipc::writer::{FileWriter, StreamWriter};
use gather_keys_core::table::{OutputColumns, Sink};
use parquet::arrow::ArrowWriter;
use parquet::basic::Compression;
use parquet::file::properties::WriterProperties;

use super::spool::{Spool, Spooled, TextBatch, TextRenderer};
use super::{Columnar, StoredType};
use crate::{Error, Result};

/// How many rows a row group of a Parquet file has: a row group is in memory until it is written.
const GROUP: usize = 1 << 17;

/// Writes a table as a columnar file.
pub struct ColumnarWriter {
    name: String,
    kind: Columnar,
    spool: Spool,
}

impl ColumnarWriter {
    /// Begins a file of a kind, which is called `name` in messages. The columns of the table had the
    /// types `stored`, as far as that is known, and keep them where their cells allow it.
    pub fn new(name: impl Into<String>, kind: Columnar, stored: Vec<Option<StoredType>>) -> Self {
        let name = name.into();
        let spool = Spool::new(name.clone(), stored);
        Self { name, kind, spool }
    }

    /// Writes the file to `output`. Gives the headers of the columns that are written as text although
    /// some of their cells are numbers, dates or similar, since no one type holds them all.
    ///
    /// # Errors
    /// [`Error::Write`] when it can't be written, and [`Error::Spool`] when what waited for that can't
    /// be read again.
    pub fn finish(self, output: impl Write + Send) -> Result<Vec<String>> {
        let Self { name, kind, spool } = self;
        let mut spooled = spool.finish()?;
        let schema = spooled.schema.clone();
        match kind {
            Columnar::Parquet => {
                let properties = WriterProperties::builder()
                    .set_compression(Compression::SNAPPY)
                    .set_max_row_group_row_count(Some(GROUP))
                    .build();
                let failed = |error: parquet::errors::ParquetError| match error {
                    parquet::errors::ParquetError::External(cause) => unwritten(&name, cause),
                    other => Error::Unwritten { name: name.clone(), said: other.to_string() },
                };
                let writer = ArrowWriter::try_new(output, schema, Some(properties));
                let mut writer = writer.map_err(failed)?;
                each_batch(&name, &mut spooled, |batch| writer.write(batch).map_err(failed))?;
                writer.close().map_err(failed)?;
            }
            Columnar::Arrow => {
                let failed = |error| unwritten(&name, Box::new(error));
                let mut writer = FileWriter::try_new_buffered(output, &schema).map_err(failed)?;
                each_batch(&name, &mut spooled, |batch| writer.write(batch).map_err(failed))?;
                writer.finish().and_then(|()| writer.flush()).map_err(failed)?;
            }
            Columnar::ArrowStream => {
                let failed = |error| unwritten(&name, Box::new(error));
                let mut writer = StreamWriter::try_new_buffered(output, &schema).map_err(failed)?;
                each_batch(&name, &mut spooled, |batch| writer.write(batch).map_err(failed))?;
                writer.finish().and_then(|()| writer.flush()).map_err(failed)?;
            }
        }
        Ok(spooled.mixed)
    }
}

/// Writes all batches, each while the next one is given its types.
fn each_batch(
    name: &str,
    spooled: &mut Spooled,
    mut write: impl FnMut(&RecordBatch) -> Result<()>,
) -> Result<()> {
    let (send, batches) = sync_channel(1);
    thread::scope(|scope| {
        let begun = thread::Builder::new().spawn_scoped(scope, move || {
            while let Some(next) = spooled.next_typed().transpose() {
                let is_last = next.is_err();
                // Nobody waits for it any more when the one before could not be written.
                if send.send(next).is_err() || is_last {
                    return;
                }
            }
        });
        begun.map_err(|cause| Error::Spool { name: name.to_owned(), cause })?;
        batches.into_iter().try_for_each(|batch| write(&batch?))
    })
}

/// The error of the system, where it is one.
fn unwritten(name: &str, cause: Box<dyn std::error::Error + Send + Sync>) -> Error {
    let name = name.to_owned();
    match cause.downcast::<std::io::Error>() {
        Ok(cause) => Error::Write { name, cause: *cause },
        Err(cause) => match cause.downcast::<arrow_schema::ArrowError>() {
            Ok(error) => match *error {
                arrow_schema::ArrowError::IoError(_, cause) => Error::Write { name, cause },
                other => Error::Unwritten { name, said: other.to_string() },
            },
            Err(cause) => Error::Unwritten { name, said: cause.to_string() },
        },
    }
}

impl Sink for ColumnarWriter {
    type Error = Error;
    type Renderer = TextRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        self.spool.write_headers(columns)
    }

    fn renderer(&self, columns: &OutputColumns) -> TextRenderer {
        self.spool.renderer(columns)
    }

    fn write(&mut self, rendered: &mut TextBatch) -> Result<()> {
        self.spool.write(rendered)
    }
}
