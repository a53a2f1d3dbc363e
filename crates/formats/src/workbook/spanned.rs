//! How many cells the worksheets of an XLS workbook span, before it is read.
//!
//! Each record of a workbook's stream is its type, its length and its content. Worksheets are reported at
//! the beginning of the stream, each by where its records begin.

use std::io::Read;

use crate::FileReader;

/// The records that are looked at.
const WORKSHEET: u16 = 0x0085;
const BEGIN: u16 = 0x0809;
const END: u16 = 0x000A;
const LOCK: u16 = 0x002F;
const DIMENSIONS: u16 = 0x0200;
const CELLS: u16 = 0x00BD;
const CELL: [u16; 7] = [0x0006, 0x00D6, 0x00FD, 0x0203, 0x0204, 0x0205, 0x027E];

/// How many cells a worksheet has. Memory for the declared number is reserved but not used.
const WHOLE: u64 = 65_536 * 256;

/// The cells from the first to the last row and column of each worksheet, in all; `None` when the file
/// holds no such workbook, or is locked.
pub(super) fn spanned(file: FileReader) -> Option<u64> {
    let mut compound = cfb::CompoundFile::open(file).ok()?;
    let mut stream = Vec::new();
    let name = ["/Workbook", "/Book"].into_iter().find(|name| compound.is_stream(name))?;
    compound.open_stream(name).ok()?.read_to_end(&mut stream).ok()?;
    let mut worksheets = Vec::new();
    for (kind, content) in records(&stream, 0) {
        match kind {
            WORKSHEET => worksheets.extend(number(content, 0, 4).map(|begin| begin as usize)),
            LOCK => return None,
            END => break,
            _ => {}
        }
    }
    // Earlier files had one without declaring it.
    if worksheets.is_empty() {
        worksheets.push(0);
    }
    let areas = worksheets.into_iter().map(|begin| area(&stream, begin));
    Some(areas.fold(0, u64::saturating_add))
}

/// The records from a place on.
fn records(stream: &[u8], begin: usize) -> impl Iterator<Item = (u16, &[u8])> {
    let mut rest = stream.get(begin..).unwrap_or_default();
    std::iter::from_fn(move || {
        let (head, behind) = rest.split_at_checked(4)?;
        let length = number(head, 2, 2)? as usize;
        let (content, behind) = behind.split_at_checked(length)?;
        rest = behind;
        Some((number(head, 0, 2)? as u16, content))
    })
}

/// The number that is at a place, in two or four bytes.
fn number(content: &[u8], at: usize, bytes: usize) -> Option<u64> {
    let bytes = content.get(at..at + bytes)?.iter().rev();
    Some(bytes.fold(0, |sum, byte| sum << 8 | u64::from(*byte)))
}

/// How many cells a worksheet spans: by what it holds, or by what it says where that can't be.
fn area(stream: &[u8], begin: usize) -> u64 {
    let (mut rows, mut columns) = (Span::default(), Span::default());
    let (mut said, mut depth) = (0, 0);
    for (kind, content) in records(stream, begin) {
        let at = |place| number(content, place, 2);
        match kind {
            BEGIN => depth += 1,
            END if depth < 2 => break,
            END => depth -= 1,
            // Texts within a chart are not cells.
            _ if depth > 1 => {}
            DIMENSIONS => {
                let bytes = if content.len() == 14 { 4 } else { 2 };
                let number = |nth| number(content, nth * bytes, bytes);
                let column = |nth: usize| self::number(content, 2 * bytes + nth * 2, 2);
                let between = |(first, behind): (u64, u64)| behind.saturating_sub(first);
                let (rows, columns) = (number(0).zip(number(1)), column(0).zip(column(1)));
                said = rows.map_or(0, between) * columns.map_or(0, between);
            }
            _ if kind == CELLS || CELL.contains(&kind) => {
                let last = content.len().checked_sub(2).filter(|_| kind == CELLS);
                rows.extend(at(0));
                columns.extend(at(2));
                columns.extend(last.and_then(at));
            }
            _ => {}
        }
    }
    if said > WHOLE { said } else { rows.length() * columns.length() }
}

/// From the least to the greatest of some numbers.
#[derive(Default)]
struct Span(Option<(u64, u64)>);

impl Span {
    fn extend(&mut self, number: Option<u64>) {
        let Some(number) = number else { return };
        let (least, greatest) = self.0.unwrap_or((number, number));
        self.0 = Some((least.min(number), greatest.max(number)));
    }

    fn length(&self) -> u64 {
        self.0.map_or(0, |(least, greatest)| greatest - least + 1)
    }
}
