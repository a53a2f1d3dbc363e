//! Cutting delimited text into rows and cells.
//!
//! The csv crate's parser says where cells begin and end and what they hold; this adds what it
//! does not tell: where a row's own bytes stand, on which line, and whether the last quote is
//! closed.

use csv_core::{ReadRecordResult, Reader, ReaderBuilder};
use gather_keys_core::table::RowBytes;

/// Cuts pieces of a file into rows, one after the other.
#[derive(Debug)]
pub(super) struct Records {
    parser: Reader,
    /// The line on which the next row may begin.
    line: u64,
}

/// Cells gathered from rows: their text end to end, and where each ends. The vectors are longer
/// than what they hold, so that the parser always has room.
#[derive(Debug, Default)]
pub(super) struct Cells {
    bytes: Vec<u8>,
    used: usize,
    ends: Vec<usize>,
    count: usize,
}

/// What stands next in a piece of a file.
#[derive(Debug)]
pub(super) enum Next {
    /// A row; its cells were added.
    Row { bytes: RowBytes, line: u64 },
    /// The piece ends before the row does. Nothing was added; ask again from the same place with
    /// more of the file.
    More { line: u64 },
    /// No further row.
    End,
    /// The file ends within a quote, after this many whole cells of the row.
    OpenQuote { cells: usize, row_line: u64, line: u64 },
}

impl Records {
    pub(super) fn new(delimiter: u8) -> Self {
        let parser = ReaderBuilder::new().delimiter(delimiter).build();
        let mut records = Self { parser, line: 1 };
        records.restart();
        records
    }

    /// Makes the parser ready for the beginning of a row.
    fn restart(&mut self) {
        self.parser.reset();
        // The parser drops a byte-order mark from the first bytes it sees; ours are not the
        // file's first, so it is given an empty line before them.
        let _ = self.parser.read_record(b"\n", &mut [0; 8], &mut [0; 8]);
    }

    /// Takes the next row of `piece`, from the byte `from` on; `last` says that the file ends
    /// with the piece. Empty lines are no rows.
    pub(super) fn next(
        &mut self,
        piece: &[u8],
        from: usize,
        last: bool,
        cells: &mut Cells,
    ) -> Next {
        let (mut start, mut line) = (from, self.line);
        while let Some(length) = line_end(&piece[start..], last) {
            line += 1;
            start += length;
        }
        if start == piece.len() {
            return if last { Next::End } else { Next::More { line } };
        }
        let (used, count) = (cells.used, cells.count);
        let mut at = start;
        let mut behind_end = false;
        loop {
            cells.make_room();
            let input = if behind_end { &b"\n"[..] } else { &piece[at..] };
            let (result, read, written, ended) = self.parser.read_record(
                input,
                &mut cells.bytes[cells.used..],
                &mut cells.ends[cells.count..],
            );
            at += if behind_end { 0 } else { read };
            cells.used += written;
            cells.count += ended;
            match result {
                ReadRecordResult::OutputFull => cells.grow_bytes(),
                ReadRecordResult::OutputEndsFull => cells.grow_ends(),
                ReadRecordResult::Record | ReadRecordResult::End => break,
                // A line end behind the last byte closes the row, unless a quote is open.
                ReadRecordResult::InputEmpty if last && !behind_end => behind_end = true,
                ReadRecordResult::InputEmpty => {
                    let whole = cells.count - count;
                    let upto = cells.ends[count..cells.count].last().map_or(0, |&end| end);
                    let breaks = newlines(&cells.bytes[used..used + upto]);
                    cells.cut(used, count);
                    self.restart();
                    return if last {
                        Next::OpenQuote { cells: whole, row_line: line, line: line + breaks }
                    } else {
                        Next::More { line }
                    };
                }
            }
        }
        let content_end = if behind_end { at } else { at - 1 };
        let end = if behind_end {
            at
        } else if let Some(length) = line_end(&piece[content_end..], last) {
            content_end + length
        } else {
            cells.cut(used, count);
            self.restart();
            return Next::More { line };
        };
        for cell_end in &mut cells.ends[count..cells.count] {
            *cell_end += used;
        }
        self.line = line + newlines(&piece[start..content_end]) + 1;
        Next::Row { bytes: RowBytes { start, content_end, end }, line }
    }
}

/// How many bytes of line end stand at the beginning: `\n`, `\r\n` or `\r`. `None` when there is
/// none, or when it can't be told where it ends.
fn line_end(bytes: &[u8], last: bool) -> Option<usize> {
    match bytes {
        [b'\r', b'\n', ..] => Some(2),
        [b'\r'] if !last => None,
        [b'\n' | b'\r', ..] => Some(1),
        _ => None,
    }
}

fn newlines(bytes: &[u8]) -> u64 {
    memchr::memchr_iter(b'\n', bytes).count() as u64
}

impl Cells {
    /// Goes on in emptied buffers.
    pub(super) fn reuse(bytes: Vec<u8>, ends: Vec<usize>) -> Self {
        Self { bytes, used: 0, ends, count: 0 }
    }

    /// How many cells are held.
    pub(super) fn count(&self) -> usize {
        self.count
    }

    /// How many cells are held; none are afterwards.
    pub(super) fn take_count(&mut self) -> usize {
        let count = self.count;
        self.cut(0, 0);
        count
    }

    /// The cells' bytes end to end, and where each ends.
    pub(super) fn into_parts(mut self) -> (Vec<u8>, Vec<usize>) {
        self.bytes.truncate(self.used);
        self.ends.truncate(self.count);
        (self.bytes, self.ends)
    }

    fn make_room(&mut self) {
        if self.bytes.len() == self.used {
            self.grow_bytes();
        }
        if self.ends.len() == self.count {
            self.grow_ends();
        }
    }

    fn grow_bytes(&mut self) {
        let more = (self.bytes.len() * 2).max(self.bytes.capacity()).max(1 << 12);
        self.bytes.resize(more, 0);
    }

    fn grow_ends(&mut self) {
        let more = (self.ends.len() * 2).max(self.ends.capacity()).max(1 << 8);
        self.ends.resize(more, 0);
    }

    fn cut(&mut self, used: usize, count: usize) {
        self.used = used;
        self.count = count;
    }
}
