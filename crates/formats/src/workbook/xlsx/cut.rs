//! Cutting the text of a worksheet into pieces where rows begin.
//!
//! The text is unpacked by a thread of its own, which runs ahead. A piece knows the line before its first row, so
//! that it can be read without the pieces before it.

use std::io::{self, Read};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread;

use memchr::memmem;

use super::cells::{CellFault, Rows, number};
use super::markup::{Markup, TagEnd};
use super::package::MOST_HELD;
use super::plain_xml::make_plain;
use crate::guard::guarded;

/// How many bytes a piece has, about, and at least.
const PIECE: usize = 128 << 10;
const SMALLEST_PIECE: usize = 4 << 10;

/// From which length on the longest text that cells share makes pieces smaller.
const LONG_TEXT: usize = 512;

/// How many pieces are unpacked ahead.
const AHEAD: usize = 4;

/// How many bytes a row may have. A million rows without cells, each with its height, are a hundred million bytes.
pub(super) const LONGEST_ROW: usize = if cfg!(test) { MOST_HELD as usize } else { 128 << 20 };

/// Rows of a worksheet, as text.
#[derive(Debug, Default)]
pub struct SheetChunk {
    pub(super) text: Vec<u8>,
    /// A line that is before all of its rows, and after all rows before it.
    pub(super) before: u64,
    /// The line before the first row after it; `None` for the last piece.
    pub(super) last: Option<u64>,
    /// The text before the rows, up to the end of the tag that begins them; with the first piece.
    pub(super) head: Vec<u8>,
    /// The text after the rows, from the end of the tag that ends them; with the last piece, where it is kept.
    pub(super) tail: Vec<u8>,
}

/// Why the text of a worksheet is read no further.
#[derive(Debug)]
pub(super) enum CutFault {
    Cell(CellFault),
    Read(io::Error),
    EndsTooEarly,
    LongRow,
    /// What follows the rows is longer than any sound one.
    LongTail,
    /// Its reader gave up.
    Damaged,
}

impl From<CellFault> for CutFault {
    fn from(fault: CellFault) -> Self {
        Self::Cell(fault)
    }
}

/// Pieces of a worksheet that a thread unpacks.
pub(super) struct Pieces {
    pieces: Receiver<Result<SheetChunk, CutFault>>,
    /// Takes used pieces, to be filled again.
    used: SyncSender<Vec<u8>>,
}

impl Pieces {
    /// Begins to unpack the text of a worksheet of the workbook called `name`, whose cells share texts of up to
    /// `longest` bytes. The longer these are, the smaller are pieces: a few bytes of a cell may mean a long text.
    ///
    /// # Errors
    /// When no thread can be started.
    pub(super) fn begin(
        name: &str,
        part: impl Read + Send + 'static,
        longest: usize,
    ) -> io::Result<Self> {
        let piece = (PIECE / longest.div_ceil(LONG_TEXT).max(1)).max(SMALLEST_PIECE);
        Self::of(name, Cutter::new(part, piece))
    }

    /// Begins to unpack the whole text of a worksheet, with what follows its rows.
    ///
    /// # Errors
    /// When no thread can be started.
    pub(super) fn begin_whole(name: &str, part: impl Read + Send + 'static) -> io::Result<Self> {
        Self::of(name, Cutter { keeps_tail: true, ..Cutter::new(part, PIECE) })
    }

    fn of<R: Read + Send + 'static>(name: &str, mut cutter: Cutter<R>) -> io::Result<Self> {
        let (send, pieces) = sync_channel(AHEAD);
        let (used, free) = sync_channel::<Vec<u8>>(2 * AHEAD);
        let name = name.to_owned();
        let work = move || {
            let all = guarded(&name, || {
                while let Some(piece) = cutter.next(free.try_recv().unwrap_or_default()).transpose()
                {
                    let is_last = piece.is_err();
                    if send.send(piece).is_err() || is_last {
                        break;
                    }
                }
            });
            if all.is_none() {
                // Nobody needs to know if nobody waits.
                let _ = send.send(Err(CutFault::Damaged));
            }
        };
        thread::Builder::new().name("worksheet".to_owned()).spawn(work)?;
        Ok(Self { pieces, used })
    }

    /// The next piece, in exchange for a used one; `None` when there is none left.
    pub(super) fn next(&mut self, used: Vec<u8>) -> Result<Option<SheetChunk>, CutFault> {
        // A buffer that finds no room is dropped.
        let _ = self.used.try_send(used);
        self.pieces.recv().ok().transpose()
    }
}

/// Cuts the text of a worksheet.
struct Cutter<R> {
    part: R,
    /// How many bytes a piece has, about.
    piece: usize,
    /// What is read and not in a piece yet.
    pending: Vec<u8>,
    /// How much of it is plain.
    settled: usize,
    /// How much of it holds no end of the rows.
    searched: usize,
    state: State,
    /// The line before the rows that are pending.
    before: u64,
    /// The text before the rows, until the first piece takes it.
    head: Vec<u8>,
    keeps_tail: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Before,
    Within,
    After,
}

impl<R: Read> Cutter<R> {
    fn new(part: R, piece: usize) -> Self {
        let (pending, state) = (Vec::new(), State::Before);
        let (head, keeps_tail) = (Vec::new(), false);
        Self { part, piece, pending, settled: 0, searched: 0, state, before: 0, head, keeps_tail }
    }

    /// The next piece, in a buffer that is overwritten.
    fn next(&mut self, mut buffer: Vec<u8>) -> Result<Option<SheetChunk>, CutFault> {
        loop {
            match self.state {
                State::After => return Ok(None),
                State::Before => self.find_rows()?,
                State::Within => {
                    if let Some((end, after)) = self.find_end() {
                        return self.last_piece(end, after).map(Some);
                    }
                    if let Some(cut) = last_row(&self.pending[..self.settled]) {
                        return self.piece(cut, &mut buffer).map(Some);
                    }
                    self.read_more()?;
                }
            }
        }
    }

    /// Reads on; what is read at a time grows with what is pending, so that a long row is not searched again and
    /// again.
    fn read_more(&mut self) -> Result<(), CutFault> {
        if self.pending.len() > LONGEST_ROW {
            return Err(CutFault::LongRow);
        }
        let pending = self.pending.len();
        let room = if pending < self.piece { self.piece - pending } else { pending };
        self.pending.reserve(room);
        let read = self.part.by_ref().take(room as u64).read_to_end(&mut self.pending);
        if read.map_err(CutFault::Read)? == 0 {
            return Err(CutFault::EndsTooEarly);
        }
        self.settled = make_plain(&mut self.pending, self.settled);
        Ok(())
    }

    /// Moves to the rows, which follow some settings.
    fn find_rows(&mut self) -> Result<(), CutFault> {
        self.read_more()?;
        let mut markup = Markup::new(&self.pending[..self.settled]);
        // A tag that is cut off looks malformed: it is looked at again with what follows.
        while let Ok(Some(tag)) = markup.tag() {
            if tag.is_end || tag.name != b"sheetData" {
                continue;
            }
            let Ok(end) = markup.end_of_tag() else { break };
            self.state = if end == TagEnd::Open { State::Within } else { State::After };
            let rows = markup.at();
            self.head.extend(self.pending.drain(..rows));
            self.settled -= rows;
            return if self.state == State::After { self.pass_rest().map(drop) } else { Ok(()) };
        }
        Ok(())
    }

    /// The end of the rows, and the end of its tag.
    fn find_end(&mut self) -> Option<(usize, usize)> {
        const END: &[u8] = b"sheetData";
        let text = &self.pending[..self.settled];
        let from = self.searched;
        // The name may be cut off here.
        self.searched = self.settled.saturating_sub(2 * END.len());
        let ends = memmem::find_iter(&text[from..], END).map(|at| from + at);
        ends.into_iter().find_map(|at| {
            let open = memchr::memrchr(b'<', &text[..at])?;
            let prefix = &text[open + 1..at];
            let is_end = prefix == b"/" || prefix.starts_with(b"/") && prefix.ends_with(b":");
            let close = memchr::memchr(b'>', &text[at..]).filter(|_| is_end)?;
            Some((open, at + close + 1))
        })
    }

    fn piece(&mut self, cut: usize, buffer: &mut Vec<u8>) -> Result<SheetChunk, CutFault> {
        let next = match line_of(&self.pending[cut..self.settled])? {
            Some(line) => line.saturating_sub(1),
            // Lines are not written down: they are counted.
            None => last_line(&self.pending[..cut], self.before)?,
        };
        buffer.clear();
        buffer.extend_from_slice(&self.pending[cut..]);
        self.pending.truncate(cut);
        std::mem::swap(&mut self.pending, buffer);
        self.settled -= cut;
        self.searched = self.searched.saturating_sub(cut);
        let before = std::mem::replace(&mut self.before, next);
        let (text, head) = (std::mem::take(buffer), std::mem::take(&mut self.head));
        Ok(SheetChunk { text, before, last: Some(next), head, tail: Vec::new() })
    }

    fn last_piece(&mut self, end: usize, after: usize) -> Result<SheetChunk, CutFault> {
        let rest = self.pending.split_off(after);
        self.pending.truncate(end);
        let text = std::mem::replace(&mut self.pending, rest);
        let tail = self.pass_rest()?;
        self.state = State::After;
        let head = std::mem::take(&mut self.head);
        Ok(SheetChunk { text, before: self.before, last: None, head, tail })
    }

    /// Reads what follows the rows, and returns it where it is kept: a checksum at its end shows whether they are
    /// damaged.
    fn pass_rest(&mut self) -> Result<Vec<u8>, CutFault> {
        let mut tail = std::mem::take(&mut self.pending);
        if !self.keeps_tail {
            tail.clear();
            io::copy(&mut self.part, &mut io::sink()).map_err(CutFault::Read)?;
            return Ok(tail);
        }
        let room = LONGEST_ROW.saturating_sub(tail.len()) as u64;
        self.part.by_ref().take(room).read_to_end(&mut tail).map_err(CutFault::Read)?;
        if tail.len() >= LONGEST_ROW {
            return Err(CutFault::LongTail);
        }
        make_plain(&mut tail, 0);
        Ok(tail)
    }
}

/// Where the last row begins whose start tag is all there, unless that is the first one.
fn last_row(text: &[u8]) -> Option<usize> {
    const ROW: &[u8] = b"row";
    let mut upto = text.len();
    loop {
        let at = memmem::rfind(&text[..upto], ROW)?;
        upto = at;
        let is_name = text.get(at + ROW.len()).is_some_and(|byte| b" \t\r\n/>".contains(byte));
        let is_whole = || memchr::memchr(b'>', &text[at..]).is_some();
        if !is_name || !is_whole() {
            continue;
        }
        let open = memchr::memrchr(b'<', &text[..at])?;
        let prefix = &text[open + 1..at];
        let is_start = prefix.is_empty() || !prefix.starts_with(b"/") && prefix.ends_with(b":");
        // What is before the first row is no row.
        if is_start && memchr::memchr(b'<', &text[..open]).is_some() {
            return Some(open);
        }
    }
}

/// The line of a row, whose start tag is here, as the row says.
fn line_of(row: &[u8]) -> Result<Option<u64>, CutFault> {
    let mut markup = Markup::new(row);
    let malformed = |_| CutFault::Cell(CellFault::Malformed);
    markup.tag().map_err(malformed)?;
    while let Ok((name, value)) = markup.attribute().map_err(malformed)? {
        if name == b"r" {
            return Ok(Some(number(value).ok_or(CellFault::Malformed)?));
        }
    }
    Ok(None)
}

/// The last line of the rows of a text.
fn last_line(text: &[u8], before: u64) -> Result<u64, CutFault> {
    let (mut rows, mut last) = (Rows::new(text, before), before);
    while let Some(line) = rows.next_row()? {
        last = line;
    }
    Ok(last)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// The rows of a worksheet's text, as its pieces have them.
    fn rows(sheet: &str, at_once: usize) -> Result<Vec<(u64, usize)>, String> {
        let part = Slow { text: sheet.as_bytes(), at_once };
        let mut cutter = Cutter::new(part, PIECE);
        let (mut all, mut before) = (Vec::new(), 0);
        while let Some(piece) = cutter.next(Vec::new()).map_err(|fault| format!("{fault:?}"))? {
            assert_eq!(piece.before, before);
            before = piece.last.unwrap_or_default();
            let mut rows = Rows::new(&piece.text, piece.before);
            while let Some(line) = rows.next_row().map_err(|fault| format!("{fault:?}"))? {
                let mut cells = 0;
                while rows.next_cell().map_err(|fault| format!("{fault:?}"))?.is_some() {
                    cells += 1;
                }
                all.push((line, cells));
            }
        }
        Ok(all)
    }

    /// Reads few bytes at a time.
    struct Slow<'t> {
        text: &'t [u8],
        at_once: usize,
    }

    impl Read for Slow<'_> {
        fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
            let length = self.text.len().min(self.at_once).min(room.len());
            let (now, rest) = self.text.split_at(length);
            room[..length].copy_from_slice(now);
            self.text = rest;
            Ok(length)
        }
    }

    #[test]
    fn rows_come_whole_in_pieces() {
        let long = |row: &str, times: usize| row.repeat(times);
        let numbered =
            |row: &dyn Fn(u64) -> String| (1..9000).map(row).collect::<Vec<_>>().concat();
        let cell = "<c t=\"str\"><v><![CDATA[<row ]]></v></c>";
        let unnumbered = long("<row><c><v>1</v></c><c/></row>", 9000);
        for (rows_text, count) in [
            (String::new(), 0),
            (long("<row/>", 50_000), 50_000),
            (unnumbered.clone(), 9000),
            (unnumbered.replace("row", "x:row"), 9000),
            (numbered(&|line| format!("<row r=\"{}\"><c r=\"B{0}\"/></row>", line * 3)), 8999),
            (numbered(&|line| format!("<row><c r=\"B{}\"/></row>", line * 2)), 8999),
            (
                numbered(&|line| {
                    format!("<!-- </row><row r=\"1\"> --><row r=\"{line}\">{cell}</row>")
                }),
                8999,
            ),
        ] {
            for (begin, end) in
                [("<sheetData>", "</sheetData>"), ("<x:sheetData a='>'>", "</x:sheetData ><x:b/>")]
            {
                let sheet =
                    format!("<worksheet><cols><col/></cols>{begin}{rows_text}{end}</worksheet>");
                let all = rows(&sheet, 1 << 16).unwrap();
                assert_eq!(all.len(), count);
            }
        }
    }

    #[test]
    fn a_worksheet_without_an_end_is_refused() {
        for (sheet, want) in [
            ("<worksheet><sheetData/></worksheet>", "[]"),
            ("<worksheet><sheetData><row><c/></row>", "EndsTooEarly"),
            ("<worksheet><sheetViews/>", "EndsTooEarly"),
            ("", "EndsTooEarly"),
        ] {
            let said = rows(sheet, 7).map_or_else(|said| said, |rows| format!("{rows:?}"));
            assert_eq!(said, want, "{sheet}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        /// It does not matter how many bytes come at a time.
        #[test]
        fn pieces_hold_the_same_rows(
            lines in prop::collection::vec((1..4_u64, 0..3_usize, any::<bool>()), 0..40), at_once in 1..40_usize,
        ) {
            let (mut line, mut want, mut text) = (0, Vec::new(), String::new());
            for (by, cells, says) in lines {
                line += if says { by } else { 1 };
                want.push((line, cells));
                let said = if says { format!(" r=\"{line}\"") } else { String::new() };
                text.extend([format!("<row{said}>{}</row>", "<c/>".repeat(cells))]);
            }
            let sheet = format!("<worksheet><sheetData>{text}</sheetData></worksheet>");
            prop_assert_eq!(rows(&sheet, at_once), Ok(want));
        }
    }
}
