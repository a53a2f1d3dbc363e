//! The file of a workbook, read no further than its cells come.
//!
//! A part of an archive may unpack to a thousand times its size, and the reader of cells holds each cell
//! as a whole. So unpacking is watched: a part that is held in memory may not be too large, and there may
//! not be too much between two cells of a worksheet. How much there is between them is known only by
//! unpacking once more. That is done where a worksheet gives little for what it reads, and so never for
//! ordinary ones.

use std::cell::{Cell, RefCell};
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::ops::Range;
use std::rc::Rc;

use flate2::bufread::DeflateDecoder;
use zip::{CompressionMethod, ZipArchive};

use crate::{FileReader, InputFile};

/// How many bytes a part that is held in memory may unpack to. Tests reach it sooner.
const MOST_HELD: u64 = if cfg!(test) { 1 << 20 } else { 1 << 30 };

/// From how many bytes, and from how many times its packed size, a part in memory is taken for a bomb.
/// Ordinary parts pack to a tenth.
const LARGE: u64 = MOST_HELD / 16;
const MOST_TIMES: u64 = 50;

/// How many bytes may be unpacked from one cell to the next. A million rows without cells, each with
/// its height, are a hundred million bytes.
pub(super) const MOST_BETWEEN: u64 = if cfg!(test) { 1 << 20 } else { 128 << 20 };

/// How many packed bytes are read after a cell before it is looked at what they unpack to: a thousandth
/// of what may be, since nothing packs better.
const UNWATCHED: u64 = if cfg!(test) { 1 << 8 } else { 128 << 10 };

/// How many parts an archive may have; all of them are looked at again and again.
const MOST_PARTS: usize = 10_000;

/// How many bytes are unpacked at a time to count them.
const AT_ONCE: usize = 64 << 10;

/// How far a workbook is read; shared by who reads the file and who gets the cells.
#[derive(Debug, Default)]
pub(super) struct Pace {
    /// The next byte of the file to be read.
    at: Cell<u64>,
    /// The one that was next when the last cell came; `None` while no cells are being read.
    cell: Cell<Option<u64>>,
    /// Why it is read no further.
    refused: RefCell<Option<String>>,
}

impl Pace {
    /// A cell has come, or will be the next to come.
    pub(super) fn cell(&self) {
        self.cell.set(Some(self.at.get()));
    }

    /// Why the file was read no further, if so.
    pub(super) fn refused(&self) -> Option<String> {
        self.refused.borrow().clone()
    }
}

/// A part of the archive.
#[derive(Debug, Clone)]
struct Part {
    /// Where its entry begins, just before it.
    header: u64,
    /// The range of its packed bytes in the file.
    packed: Range<u64>,
    /// How many bytes it unpacks to. Whoever unpacks it gives no more than these.
    unpacked: u64,
    is_packed: bool,
}

/// The file of a workbook.
pub(super) struct Paced {
    input: InputFile,
    file: BufReader<FileReader>,
    parts: Vec<Part>,
    /// From where on it has been read to where it is now.
    from: u64,
    pace: Rc<Pace>,
    counted: Option<Counted>,
}

impl Paced {
    /// Reads a file, at a pace of its own.
    pub(super) fn open(input: &InputFile) -> (Self, Rc<Pace>) {
        let mut parts = Vec::new();
        let pace = Rc::new(Pace::default());
        // Whether it is an archive is checked by its reader.
        if let Ok(mut archive) = ZipArchive::new(BufReader::new(input.reader())) {
            if archive.len() > MOST_PARTS {
                pace.refused.replace(Some("its archive has more than 10,000 parts".to_owned()));
            }
            for nth in 0..archive.len().min(MOST_PARTS) {
                let Ok(part) = archive.by_index_raw(nth) else { continue };
                let Some(begin) = part.data_start() else { continue };
                parts.push(Part {
                    header: part.header_start(),
                    packed: begin..begin.saturating_add(part.compressed_size()),
                    unpacked: part.size(),
                    is_packed: part.compression() != CompressionMethod::Stored,
                });
            }
        }
        let file = BufReader::new(input.reader());
        let (input, reported) = (input.clone(), pace.clone());
        (Self { input, file, parts, from: 0, pace, counted: None }, reported)
    }

    /// Says no when what has just been read is too much.
    fn watch(&mut self) -> std::io::Result<()> {
        let (from, at) = (self.from, self.pace.at.get());
        let begun = |part: &&Part| {
            // A reader that searches the archive's directory at its end passes over parts, but begins
            // elsewhere.
            let is_asked_for = (part.header..=part.packed.start).contains(&from);
            is_asked_for && part.packed.start < at && at <= part.packed.end
        };
        let Some(part) = self.parts.iter().find(begun) else { return Ok(()) };
        let said = match self.pace.cell.get() {
            None => {
                let packed = part.packed.end - part.packed.start;
                let is_bomb = part.unpacked > LARGE && part.unpacked / MOST_TIMES > packed;
                if part.unpacked <= MOST_HELD && !is_bomb {
                    return Ok(());
                }
                let mib = part.unpacked >> 20;
                format!("what all its worksheets share unpacks to {mib} MiB")
            }
            Some(cell) if at.saturating_sub(cell) > UNWATCHED => {
                let is_same = |counted: &&mut Counted| counted.begin == part.packed.start;
                let counted = match self.counted.as_mut().filter(is_same) {
                    Some(counted) => counted,
                    None => self.counted.insert(Counted::begin(&self.input, part)?),
                };
                if counted.between(cell, at) <= MOST_BETWEEN {
                    return Ok(());
                }
                format!("a single cell of it unpacks to more than {} MiB", MOST_BETWEEN >> 20)
            }
            Some(_) => return Ok(()),
        };
        let error = std::io::Error::other(said.clone());
        self.pace.refused.replace(Some(said));
        Err(error)
    }
}

impl Read for Paced {
    fn read(&mut self, room: &mut [u8]) -> std::io::Result<usize> {
        let read = self.file.read(room)?;
        self.pace.at.set(self.pace.at.get() + read as u64);
        self.watch()?;
        Ok(read)
    }
}

impl Seek for Paced {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        let at = self.file.seek(to)?;
        self.from = at;
        self.pace.at.set(at);
        Ok(at)
    }
}

/// A part that is unpacked to count what it unpacks to.
struct Counted {
    /// The beginning of its packed bytes in the file.
    begin: u64,
    /// Nothing where a part isn't packed.
    unpacking: Option<DeflateDecoder<BufReader<FileReader>>>,
    room: Vec<u8>,
    /// The cell last counted from, and how much is unpacked before it.
    cell: (u64, u64),
}

impl Counted {
    fn begin(input: &InputFile, part: &Part) -> std::io::Result<Self> {
        let begin = part.packed.start;
        let mut file = input.reader();
        file.seek(SeekFrom::Start(begin))?;
        let unpacking = part.is_packed.then(|| DeflateDecoder::new(BufReader::new(file)));
        Ok(Self { begin, unpacking, room: vec![0; AT_ONCE], cell: (begin, 0) })
    }

    /// How many bytes the file unpacks to between two places, of which neither is before one that was
    /// asked for earlier; once they are too many, they are counted no further.
    fn between(&mut self, cell: u64, at: u64) -> u64 {
        if cell > self.cell.0 {
            self.cell = (cell, self.unpack(cell, u64::MAX));
        }
        self.unpack(at, self.cell.1 + MOST_BETWEEN) - self.cell.1
    }

    /// Unpacks up to a place of the file, or until there are more than `most` bytes; how many there
    /// are.
    fn unpack(&mut self, at: u64, most: u64) -> u64 {
        let packed = at.saturating_sub(self.begin);
        let Some(unpacking) = &mut self.unpacking else { return packed };
        // Whether a part can be unpacked is checked by its reader.
        while unpacking.total_in() < packed
            && unpacking.total_out() <= most
            && unpacking.read(&mut self.room).is_ok_and(|read| read > 0)
        {}
        unpacking.total_out()
    }
}
