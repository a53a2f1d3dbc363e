//! The batches of an Arrow file that has a list of them at its end.
//!
//! A small batch is passed on as bytes of the file, so that the thread that makes cells of it also
//! decodes it.
//!
//! Each is read into memory that one before it has left, once nothing is made of that any more: a fresh
//! piece of memory costs as much as what is read into it.

use std::collections::VecDeque;
use std::io::{Read, Seek, SeekFrom};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_buffer::{Buffer, MutableBuffer};
use arrow_ipc::reader::{FileDecoder, read_footer_length};
use arrow_ipc::{Block, convert, root_as_footer, root_as_message};
use arrow_schema::{ArrowError, SchemaRef};

use crate::FileReader;

/// The end of a file: the length of its list, and the first bytes again.
const END: usize = 10;

/// How many batches may be in use before the memory of one is given up, and how large that may be.
const KEPT: usize = 4;
const KEPT_LENGTH: usize = 16 << 20;

/// How many rows, and how many bytes, a batch may have that is passed on as bytes of the file.
const SMALL_ROWS: i64 = 16_384;
const SMALL_LENGTH: usize = 8 << 20;

/// The first bytes of batches today; older files begin with the bytes after them.
const BEGIN: [u8; 4] = [0xff; 4];

/// A batch, in either state.
#[derive(Debug)]
pub(super) enum Batch {
    Decoded(RecordBatch),
    Encoded(Encoded),
}

/// A batch as it is in the file.
#[derive(Debug)]
pub(super) struct Encoded {
    block: Block,
    content: Buffer,
    decoder: Arc<FileDecoder>,
}

impl Encoded {
    /// The batch; `None` when it is none.
    pub(super) fn decode(&self) -> Result<Option<RecordBatch>, ArrowError> {
        self.decoder.read_record_batch(&self.block, &self.content)
    }

    fn is_small(&self) -> bool {
        let (begin, rest) = self.content.split_at_checked(4).unwrap_or_default();
        let message = if begin == BEGIN { rest.get(4..) } else { Some(rest) };
        let message = message.and_then(|message| root_as_message(message).ok());
        let rows = message.and_then(|message| Some(message.header_as_record_batch()?.length()));
        self.content.len() <= SMALL_LENGTH && rows.is_some_and(|rows| rows <= SMALL_ROWS)
    }
}

/// A file that is read batch by batch.
pub(super) struct ArrowFile {
    file: FileReader,
    length: u64,
    schema: SchemaRef,
    decoder: Arc<FileDecoder>,
    batches: std::vec::IntoIter<Block>,
    /// The memory of the last batches.
    used: VecDeque<Buffer>,
}

impl ArrowFile {
    /// Opens a file, to read these columns of it, or all.
    pub(super) fn open(
        mut file: FileReader,
        columns: Option<Vec<usize>>,
    ) -> Result<Self, ArrowError> {
        let length = file.size();
        let too_short = || damaged("it ends too early");
        let mut end = [0; END];
        file.seek(SeekFrom::Start(length.checked_sub(END as u64).ok_or_else(too_short)?))?;
        file.read_exact(&mut end)?;
        let list_length = read_footer_length(end)?;
        let begin = length.checked_sub((END + list_length) as u64).ok_or_else(too_short)?;
        file.seek(SeekFrom::Start(begin))?;
        let mut list = vec![0; list_length];
        file.read_exact(&mut list)?;
        let list = root_as_footer(&list).map_err(|error| damaged(&error.to_string()))?;
        let schema = list.schema().ok_or_else(|| damaged("it has no schema"))?;
        if !schema.endianness().equals_to_target_endianness() {
            return Err(damaged("its bytes are in the order of another machine"));
        }
        let schema = SchemaRef::new(convert::try_fb_to_schema(schema)?);
        let mut decoder = FileDecoder::new(schema.clone(), list.version());
        if let Some(columns) = columns {
            // Required values must be there.
            schema.project(&columns)?;
            decoder = decoder.with_projection(columns);
        }
        let batches = list.recordBatches().ok_or_else(|| damaged("it lists no batches"))?;
        let batches: Vec<Block> = batches.iter().copied().collect();
        let (batches, used) = (batches.into_iter(), VecDeque::new());
        for block in list.dictionaries().iter().flatten() {
            let content = content(&mut file, length, block, MutableBuffer::new(0))?;
            decoder.read_dictionary(block, &content)?;
        }
        Ok(Self { file, length, schema, decoder: Arc::new(decoder), batches, used })
    }

    pub(super) fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    /// The next batch.
    pub(super) fn next(&mut self) -> Result<Option<Batch>, ArrowError> {
        while let Some(block) = self.batches.next() {
            let memory = self.memory();
            let content = content(&mut self.file, self.length, &block, memory)?;
            if self.used.len() < KEPT && content.len() <= KEPT_LENGTH {
                self.used.push_back(content.clone());
            }
            let encoded = Encoded { block, content, decoder: self.decoder.clone() };
            if encoded.is_small() {
                return Ok(Some(Batch::Encoded(encoded)));
            }
            if let Some(batch) = encoded.decode()? {
                return Ok(Some(Batch::Decoded(batch)));
            }
        }
        Ok(None)
    }

    /// Memory of a batch that nothing is made of any more, or else new.
    fn memory(&mut self) -> MutableBuffer {
        for _ in 0..self.used.len() {
            let Some(used) = self.used.pop_front() else { break };
            match used.into_mutable() {
                Ok(memory) => return memory,
                Err(in_use) => self.used.push_back(in_use),
            }
        }
        MutableBuffer::new(0)
    }
}

/// The item of a list at a place of a file of this length, read into memory.
fn content(
    file: &mut FileReader,
    file_length: u64,
    block: &Block,
    mut memory: MutableBuffer,
) -> Result<Buffer, ArrowError> {
    let whole = |number: i64| u64::try_from(number).ok();
    let begin = whole(block.offset());
    let length = whole(block.bodyLength())
        .zip(whole(block.metaDataLength().into()))
        .and_then(|(body, head)| body.checked_add(head));
    let is_within = |(begin, length): &(u64, u64)| {
        begin.checked_add(*length).is_some_and(|end| end <= file_length)
    };
    let within = begin.zip(length).filter(is_within);
    let (begin, length) = within.ok_or_else(|| damaged("a batch is not within the file"))?;
    file.seek(SeekFrom::Start(begin))?;
    memory.resize(length as usize, 0);
    file.read_exact(&mut memory)?;
    Ok(memory.into())
}

fn damaged(said: &str) -> ArrowError {
    ArrowError::IpcError(said.to_owned())
}
