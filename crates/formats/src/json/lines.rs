//! Reading JSON with a row on each line.
//!
//! As any row may have fields that no other has, the file is gone through once for its headers. Then
//! it is read in pieces of whole lines, which are parsed by as many threads as there are.

use std::io::Read;
use std::sync::Arc;

use gather_keys_core::table::{Block, Headers};

use super::columns::{Columns, RowCells};
use crate::{Error, InputFile, Result, unpacked};

/// How many bytes are read at a time.
const PIECE: usize = 1 << 17;

/// The most bytes that a line may take.
const LONGEST_LINE: usize = 64 << 20;

/// Reads the lines of a file.
pub(crate) struct LinesReader {
    name: String,
    file: InputFile,
    headers: Headers,
    columns: Arc<Columns>,
    pieces: Option<Pieces>,
}

/// Whole lines.
#[derive(Debug)]
pub struct LinesChunk {
    text: Vec<u8>,
    /// How many lines of the file are before them.
    before: u64,
}

/// Makes blocks of lines.
#[derive(Debug, Clone)]
pub struct LinesParser {
    columns: Arc<Columns>,
    wanted: Vec<usize>,
    all: usize,
}

/// A line that is no row.
#[derive(Debug)]
pub struct BadLine {
    line: u64,
    said: String,
    is_other: bool,
}

impl LinesReader {
    /// Opens the table called `name` in a file.
    ///
    /// # Errors
    /// When it can't be read, a line is no object, or there is none.
    pub(crate) fn open(name: &str, file: &InputFile) -> Result<Self> {
        let mut columns = Columns::default();
        let mut pieces = Pieces::open(name, file)?;
        while let Some(piece) = pieces.next(name)? {
            let noted = each_line(&piece, |row| columns.add(row));
            noted.map_err(|bad| bad.reported(name))?;
        }
        let headers = columns.headers(name)?;
        let (name, file, columns) = (name.to_owned(), file.clone(), Arc::new(columns));
        Ok(Self { name, file, headers, columns, pieces: None })
    }

    pub(crate) fn headers(&self) -> &Headers {
        &self.headers
    }

    pub(crate) fn parser(&self) -> LinesParser {
        let all = self.headers.len();
        LinesParser { columns: self.columns.clone(), wanted: (0..all).collect(), all }
    }

    /// The next piece; `None` when there is none left.
    ///
    /// # Errors
    /// When the file can't be read.
    pub(crate) fn read_chunk(&mut self) -> Result<Option<LinesChunk>> {
        let pieces = match &mut self.pieces {
            Some(pieces) => pieces,
            pieces => pieces.insert(Pieces::open(&self.name, &self.file)?),
        };
        pieces.next(&self.name)
    }
}

impl LinesParser {
    pub(crate) fn want(&mut self, columns: &[usize]) {
        self.wanted = columns.to_vec();
    }

    /// Replaces `block` with the rows of a chunk, each as if on a line of its own, and returns how many
    /// there are.
    ///
    /// # Errors
    /// [`BadLine`] when a line is no row.
    pub(crate) fn parse(
        &self,
        piece: &LinesChunk,
        block: &mut Block,
    ) -> std::result::Result<u64, BadLine> {
        let mut cells = RowCells::of(&self.wanted, self.all);
        cells.begin(block);
        each_line(piece, |row| cells.add(&self.columns, row, block))?;
        Ok(block.rows() as u64)
    }
}

impl BadLine {
    /// The error of the table called `name`.
    pub(crate) fn reported(self, name: &str) -> Error {
        let Self { line, said, is_other } = self;
        let name = name.to_owned();
        if is_other {
            let fix = "a row looks like {\"Hive\": \"H-001\", \"Kg\": 12.5}";
            return Error::Unread { name, said: format!("row {line} is not an object"), fix };
        }
        let fix = "correct it, or get it again";
        Error::Unread { name, said: format!("line {line}: {said}"), fix }
    }
}

/// Hands on every line that is not blank.
fn each_line(
    piece: &LinesChunk,
    mut take: impl FnMut(&str) -> std::result::Result<(), serde_json::Error>,
) -> std::result::Result<(), BadLine> {
    for (line, bytes) in (piece.before + 1..).zip(piece.text.split(|byte| *byte == b'\n')) {
        let bytes = match line {
            1 => bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes),
            _ => bytes,
        };
        let bytes = bytes.trim_ascii();
        if bytes.is_empty() {
            continue;
        }
        let bad = |said, is_other| BadLine { line, said, is_other };
        let row = str::from_utf8(bytes)
            .map_err(|error| bad(format!("no UTF-8 at byte {}", error.valid_up_to() + 1), false))?;
        take(row).map_err(|error| {
            let is_other = !row.starts_with('{')
                && serde_json::from_str::<&serde_json::value::RawValue>(row).is_ok();
            // The place in its line is reported with it.
            bad(error.to_string().replacen("at line 1 column", "at byte", 1), is_other)
        })?;
    }
    Ok(())
}

/// Pieces of a file that end where a line does.
struct Pieces {
    input: Box<dyn Read + Send>,
    /// The beginning of a line that is not whole.
    rest: Vec<u8>,
    lines: u64,
}

impl Pieces {
    fn open(name: &str, file: &InputFile) -> Result<Self> {
        let unreadable = |cause| Error::Read { name: name.to_owned(), cause };
        let (input, _) = unpacked(Box::new(file.checked_reader())).map_err(unreadable)?;
        Ok(Self { input, rest: Vec::new(), lines: 0 })
    }

    fn next(&mut self, name: &str) -> Result<Option<LinesChunk>> {
        let unreadable = |cause| Error::Read { name: name.to_owned(), cause };
        let mut text = std::mem::take(&mut self.rest);
        loop {
            let begin = text.len();
            let wanted = PIECE.max(begin) as u64;
            let read =
                self.input.by_ref().take(wanted).read_to_end(&mut text).map_err(unreadable)?;
            if read == 0 {
                break;
            }
            if let Some(end) = memchr::memrchr(b'\n', &text[begin..]) {
                self.rest = text.split_off(begin + end + 1);
                break;
            }
            if text.len() > LONGEST_LINE {
                let line = self.lines + 1;
                let said = format!("line {line} is longer than {} MiB", LONGEST_LINE >> 20);
                let fix = "end each row with a line break, or get the file again";
                return Err(Error::Unread { name: name.to_owned(), said, fix });
            }
        }
        if text.is_empty() {
            return Ok(None);
        }
        let before = self.lines;
        self.lines += memchr::memchr_iter(b'\n', &text).count() as u64;
        Ok(Some(LinesChunk { text, before }))
    }
}
