//! The batches of a columnar file, one after the other.

use std::io::{BufReader, Read, Seek, SeekFrom};

use arrow_array::RecordBatch;
use arrow_ipc::reader::StreamReader;
use arrow_schema::{ArrowError, SchemaRef};
use bytes::Bytes;
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder};
use parquet::file::reader::{ChunkReader, Length};

use super::Columnar;
use super::arrow_file::{ArrowFile, Batch};
use crate::guard::guarded;
use crate::{Error, FileReader, InputFile, Result};

/// The first bytes of columnar files.
pub(crate) const PARQUET: &[u8] = b"PAR1";
pub(crate) const ARROW: &[u8] = b"ARROW1";
pub(crate) const ARROW_STREAM: &[u8] = b"\xff\xff\xff\xff";

/// The kind of a columnar file, by its first bytes.
fn begins(first: &[u8]) -> Option<Columnar> {
    let kinds = [
        (PARQUET, Columnar::Parquet),
        (ARROW, Columnar::Arrow),
        (ARROW_STREAM, Columnar::ArrowStream),
    ];
    kinds.into_iter().find(|(begin, _)| first.starts_with(begin)).map(|(_, kind)| kind)
}

/// How many rows of a Parquet file are decoded at a time.
const AT_ONCE: usize = 4096;

/// The batches of a file.
pub(super) enum Batches {
    Parquet(ParquetRecordBatchReader),
    Arrow(Box<ArrowFile>),
    ArrowStream(Box<StreamReader<BufReader<FileReader>>>),
}

/// An error of reading a file.
type Fault = Box<dyn std::error::Error>;

/// The kind of a file that is said to be one of Arrow's: either form will do.
fn kind_of(said: Columnar, file: &mut FileReader) -> std::io::Result<Columnar> {
    let mut first = [0; ARROW.len()];
    let read = file.read(&mut first)?;
    file.rewind()?;
    Ok(match begins(&first[..read]) {
        Some(found) if said != Columnar::Parquet && found != Columnar::Parquet => found,
        _ => said,
    })
}

/// The columns of the file called `name`, which may have columns within them.
pub(super) fn schema(name: &str, file: &InputFile, said: Columnar) -> Result<SchemaRef> {
    read_of(name, said, || {
        let mut file = file.reader();
        Ok(match kind_of(said, &mut file)? {
            Columnar::Parquet => ParquetRecordBatchReaderBuilder::try_new(file)?.schema().clone(),
            Columnar::Arrow => ArrowFile::open(file, None)?.schema(),
            Columnar::ArrowStream => StreamReader::try_new_buffered(file, None)?.schema(),
        })
    })
}

impl Batches {
    /// Begins to read these columns, by their numbers and ascending; no others are decoded.
    pub(super) fn begin(
        name: &str,
        file: &InputFile,
        said: Columnar,
        columns: &[usize],
    ) -> Result<Self> {
        read_of(name, said, || {
            let mut file = file.reader();
            let projection = Some(columns.to_vec());
            Ok(match kind_of(said, &mut file)? {
                Columnar::Parquet => {
                    let builder = ParquetRecordBatchReaderBuilder::try_new(file)?;
                    let roots = columns.iter().copied();
                    let mask = ProjectionMask::roots(builder.parquet_schema(), roots);
                    let reader = builder.with_projection(mask).with_batch_size(AT_ONCE).build()?;
                    Self::Parquet(reader)
                }
                Columnar::Arrow => Self::Arrow(Box::new(ArrowFile::open(file, projection)?)),
                Columnar::ArrowStream => {
                    Self::ArrowStream(Box::new(StreamReader::try_new_buffered(file, projection)?))
                }
            })
        })
    }

    /// The next batch, of the file called `name`.
    pub(super) fn next(&mut self, name: &str) -> Result<Option<Batch>> {
        read_of(name, self.kind(), || {
            let decoded = |next: Option<std::result::Result<RecordBatch, ArrowError>>| {
                next.transpose().map(|batch| batch.map(Batch::Decoded))
            };
            Ok(match self {
                Self::Parquet(reader) => decoded(reader.next())?,
                Self::Arrow(file) => file.next()?,
                Self::ArrowStream(reader) => decoded(reader.next())?,
            })
        })
    }

    fn kind(&self) -> Columnar {
        match self {
            Self::Parquet(_) => Columnar::Parquet,
            Self::Arrow(_) => Columnar::Arrow,
            Self::ArrowStream(_) => Columnar::ArrowStream,
        }
    }
}

/// The result of `read` on a file. A damaged file is reported as such, even where the library panics.
pub(super) fn read_of<T>(
    name: &str,
    kind: Columnar,
    read: impl FnOnce() -> std::result::Result<T, Fault>,
) -> Result<T> {
    let article = if kind == Columnar::Parquet { "a" } else { "an" };
    let unread = |said: String| Error::Unread {
        name: name.to_owned(),
        said: format!("as {article} {} it is damaged ({said})", kind.name()),
        fix: "get the file again, or state its format",
    };
    match guarded(name, read) {
        Some(Ok(read)) => Ok(read),
        Some(Err(fault)) => Err(unread(fault.to_string())),
        None => Err(unread("its content contradicts itself".to_owned())),
    }
}

impl Length for FileReader {
    fn len(&self) -> u64 {
        self.size()
    }
}

impl ChunkReader for FileReader {
    type T = BufReader<FileReader>;

    fn get_read(&self, start: u64) -> parquet::errors::Result<Self::T> {
        let mut reader = self.clone();
        reader.seek(SeekFrom::Start(start))?;
        Ok(BufReader::new(reader))
    }

    fn get_bytes(&self, start: u64, length: usize) -> parquet::errors::Result<Bytes> {
        let mut reader = self.clone();
        reader.seek(SeekFrom::Start(start))?;
        let mut bytes = Vec::with_capacity(length);
        let read = reader.take(length as u64).read_to_end(&mut bytes)?;
        if read != length {
            let said = format!("it ends {} bytes too early", length - read);
            return Err(parquet::errors::ParquetError::EOF(said));
        }
        Ok(bytes.into())
    }
}
