//! Reading a worksheet row by row.

use std::fs::File;
use std::io::{BufReader, Read};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread;

use calamine::{DataRef, Ods, Reader, Xls, Xlsb, Xlsx, XlsxError};
use gather_keys_core::table::{Block, Headers};
use zip::ZipArchive;

use super::headers::{Head, Merged, find};
use super::part::{Area, Meant, Named, meant, ranges, tables};
use super::row::{Cell, Row};
use super::value::{borrowed, kind, write_text};
use crate::delimited::HeaderRow;
use crate::guard::guarded;
use crate::rows::{AHEAD, AT_ONCE, End, ReadRows};
use crate::{Error, Place, Result};

/// The worksheet of which merged cells are asked for, and the kind of its workbook.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Made {
    /// XLSX or XLSM.
    Today,
    /// XLS.
    Before,
    /// Another, of which nobody tells what is merged.
    Otherwise,
}

/// How many rows are looked at to find the headers.
const LOOKED_AT: usize = 32;

/// How many bytes the parts of a workbook that are held in memory may unpack to. Tests reach it
/// sooner.
const MOST_UNPACKED: u64 = if cfg!(test) { 1 << 20 } else { 2 << 30 };

/// From how many bytes on, and from how many times its packed size on, a part is taken for a bomb: one cell
/// of it may fill the memory. A worksheet of nothing but equal cells packs to a thirteenth.
const LARGE: u64 = MOST_UNPACKED / 8;
const MOST_TIMES: u64 = 50;

/// The parts that are held in memory: the texts that cells share, and the whole of an ODS.
const HELD: [&str; 2] = ["sharedStrings.xml", "content.xml"];

/// A worksheet that is being read.
pub(crate) struct Opened {
    begun: Begun,
    rows: Receiver<Result<(Block, u64)>>,
    /// How many cells hold an error, so far.
    pub(crate) error_cells: Arc<AtomicU64>,
}

/// What is known once the headers are found.
struct Begun {
    headers: Headers,
    /// The row of the worksheet that they are in, from 1; 0 when there are none.
    header_line: u64,
    /// The part that was chosen, and among how many.
    part: (String, usize),
    title_rows: usize,
    header_rows: usize,
}

/// Begins to read a worksheet of the workbook at `path`, which is called `name`: the one of a name or
/// number, or else the first.
///
/// # Errors
/// When it is no workbook, has no such worksheet, or the worksheet has no headers.
pub(crate) fn open(
    name: &str,
    path: &Path,
    part: Option<&str>,
    headers: HeaderRow,
) -> Result<Opened> {
    let (send, rows) = sync_channel(AHEAD);
    let (tell, told) = sync_channel(1);
    let error_cells = Arc::new(AtomicU64::new(0));
    let mut worker = Worker {
        name: name.to_owned(),
        path: path.to_owned(),
        part: part.map(str::to_owned),
        headers,
        tell,
        send,
        error_cells: error_cells.clone(),
        made: Made::Otherwise,
        meant: None,
        waiting: Vec::new(),
        reading: None,
    };
    let thread = thread::Builder::new().name("worksheet".to_owned());
    let began = thread.spawn(move || worker.run());
    began.map_err(|cause| Error::Read { name: name.to_owned(), cause })?;
    match told.recv() {
        Ok(begun) => Ok(Opened { begun: begun?, rows, error_cells }),
        // It tells in any case before it ends.
        Err(_) => Err(unread(name, "its reading ended at once")),
    }
}

fn unread(name: &str, said: impl Into<String>) -> Error {
    let mend = "open it and save it again as XLSX";
    Error::Unread { name: name.to_owned(), said: said.into(), mend }
}

impl Opened {
    /// The part that was chosen, and among how many.
    pub(crate) fn part(&self) -> &(String, usize) {
        &self.begun.part
    }

    /// How many rows the headers are in.
    pub(crate) fn header_rows(&self) -> usize {
        self.begun.header_rows
    }

    /// How many rows were passed over before the headers.
    pub(crate) fn title_rows(&self) -> usize {
        self.begun.title_rows
    }
}

impl ReadRows for Opened {
    fn headers(&self) -> &Headers {
        &self.begun.headers
    }

    fn header_line(&self) -> u64 {
        self.begun.header_line
    }

    fn read_rows(&mut self, block: &mut Block) -> Result<Option<u64>> {
        match self.rows.recv() {
            Ok(Ok((rows, lines))) => {
                *block = rows;
                Ok(Some(lines))
            }
            Ok(Err(error)) => Err(error),
            Err(_) => Ok(None),
        }
    }
}

/// Reads a worksheet, in a thread of its own.
struct Worker {
    name: String,
    path: PathBuf,
    part: Option<String>,
    headers: HeaderRow,
    tell: SyncSender<Result<Begun>>,
    send: SyncSender<Result<(Block, u64)>>,
    error_cells: Arc<AtomicU64>,
    made: Made,
    /// What is meant by the part, once it is found.
    meant: Option<Meant>,
    /// Rows that came before it is settled where the headers are.
    waiting: Vec<(u64, Vec<Cell>)>,
    /// What is being made of the rows behind the headers.
    reading: Option<Making>,
}

/// A block in the making.
struct Making {
    headers: Headers,
    /// The columns of the worksheet that the table has.
    columns: Range<usize>,
    block: Block,
    /// The line before its first one.
    before: u64,
    /// How many rows are in earlier blocks.
    rows: u64,
}

impl Worker {
    fn run(&mut self) {
        // A reader that fails on what it is given must not end the program.
        let failed = match guarded(|| self.read()) {
            Some(Ok(()) | Err(End::Unwanted)) => return,
            Some(Err(End::Failed(error))) => error,
            None => unread(&self.name, "its content is damaged"),
        };
        // Nobody needs to know if nobody waits.
        if self.reading.is_none() {
            let _ = self.tell.send(Err(failed));
        } else {
            let _ = self.send.send(Err(failed));
        }
    }

    fn read(&mut self) -> std::result::Result<(), End> {
        let open = || {
            let file = File::open(&self.path);
            file.map_err(|cause| Error::Read { name: self.name.clone(), cause })
        };
        let mut first = [0; 4];
        let mut file = open()?;
        let is_old = file.read(&mut first).is_ok() && first == [0xd0, 0xcf, 0x11, 0xe0];
        let opened = || Ok::<_, Error>(BufReader::new(open()?));
        if is_old {
            let xls = Xls::new(opened()?);
            let xls = xls.map_err(|error| match error.to_string() {
                said if said.contains("assword") => locked(&self.name),
                said => unread(&self.name, said),
            })?;
            self.made = Made::Before;
            return self.read_whole(xls);
        }
        self.refuse_bomb(open()?)?;
        let failed = match Xlsx::new(opened()?) {
            Ok(xlsx) => {
                self.made = Made::Today;
                return self.read_along(xlsx);
            }
            Err(XlsxError::Password) => return Err(locked(&self.name).into()),
            Err(error) => error.to_string(),
        };
        if let Ok(xlsb) = Xlsb::new(opened()?) {
            return self.read_whole(xlsb);
        }
        match Ods::new(opened()?) {
            Ok(ods) => self.read_whole(ods),
            Err(_) => Err(unread(&self.name, failed).into()),
        }
    }

    /// Refuses a workbook whose texts would fill the memory.
    fn refuse_bomb(&self, file: File) -> Result<()> {
        // What is no archive is told by whoever reads it.
        let Ok(mut archive) = ZipArchive::new(BufReader::new(file)) else { return Ok(()) };
        for nth in 0..archive.len() {
            let Ok(part) = archive.by_index_raw(nth) else { continue };
            let is_held =
                part.name().is_ok_and(|part| HELD.iter().any(|name| part.ends_with(name)));
            let is_bomb = part.size() > LARGE && part.size() / MOST_TIMES > part.compressed_size();
            if is_held && part.size() > MOST_UNPACKED || is_bomb {
                let what = if is_held { "its texts unpack" } else { "a part of it unpacks" };
                let said = format!("{what} to {} MiB", part.size() >> 20);
                let mend = "save the worksheet as CSV";
                return Err(Error::Unread { name: self.name.clone(), said, mend });
            }
        }
        Ok(())
    }

    /// Finds what is meant, and gives its worksheet.
    fn chosen(
        &mut self,
        worksheets: &[String],
        named: impl FnOnce() -> Vec<Named>,
    ) -> Result<String> {
        let meant = meant(&self.name, self.part.as_deref(), worksheets, named)?;
        if self.headers == HeaderRow::Found {
            self.headers = match meant.has_headers {
                None => HeaderRow::Found,
                Some(true) => HeaderRow::First,
                Some(false) => HeaderRow::Absent,
            };
        }
        let worksheet = meant.worksheet.clone();
        self.meant = Some(meant);
        Ok(worksheet)
    }

    fn area(&self) -> Option<&Area> {
        self.meant.as_ref()?.area.as_ref()
    }

    /// The merged cells of the worksheet, as far as its workbook tells them.
    fn merged(&self) -> Vec<Merged> {
        let Some((worksheet, Ok(file))) =
            self.meant.as_ref().map(|meant| (&meant.worksheet, File::open(&self.path)))
        else {
            return Vec::new();
        };
        let file = BufReader::new(file);
        let merged = match self.made {
            Made::Today => Xlsx::new(file)
                .and_then(|mut xlsx| xlsx.merge_cells_by_sheet_name(worksheet))
                .unwrap_or_default(),
            Made::Before => Xls::new(file)
                .and_then(|xls| xls.merge_cells_by_sheet_name(worksheet))
                .unwrap_or_default(),
            Made::Otherwise => Vec::new(),
        };
        let merged = merged.into_iter().map(|cells| Merged {
            first: u64::from(cells.start.0) + 1,
            last: u64::from(cells.end.0) + 1,
            columns: cells.start.1 as usize..cells.end.1 as usize + 1,
        });
        merged.collect()
    }

    /// Reads a worksheet while it is being parsed.
    fn read_along(&mut self, mut xlsx: Xlsx<BufReader<File>>) -> std::result::Result<(), End> {
        let (names, path) = (xlsx.sheet_names(), self.path.clone());
        let named = || {
            let mut named = ranges(xlsx.defined_names(), &names);
            if xlsx.load_tables().is_ok() {
                let tables_of = |worksheet: &String| {
                    let tables = xlsx.table_names_in_sheet(worksheet);
                    (worksheet.clone(), tables.into_iter().cloned().collect())
                };
                let of_worksheet: Vec<_> = names.iter().map(tables_of).collect();
                named.splice(0..0, tables(&path, &of_worksheet));
            }
            named
        };
        let chosen = self.chosen(&names, named)?;
        let name = self.name.clone();
        let bad = |error: XlsxError| unread(&name, error.to_string());
        let mut cells = xlsx.worksheet_cells_reader(&chosen).map_err(bad)?;
        let (mut line, mut row) = (0, Row::default());
        while let Some(cell) = cells.next_cell().map_err(bad)? {
            let (at, column) = cell.get_position();
            if u64::from(at) + 1 != line {
                self.take(line, &mut row)?;
                row.clear();
                line = u64::from(at) + 1;
                if self.area().is_some_and(|area| area.last < line) {
                    break;
                }
            }
            self.put(column as usize, cell.get_value(), &mut row);
        }
        self.take(line, &mut row)?;
        self.finish()
    }

    /// Reads a worksheet of a workbook that can't be read otherwise than as a whole.
    fn read_whole<W>(&mut self, mut workbook: W) -> std::result::Result<(), End>
    where
        W: Reader<BufReader<File>>,
        W::Error: std::fmt::Display,
    {
        let names = workbook.sheet_names();
        let chosen = self.chosen(&names, || ranges(workbook.defined_names(), &names))?;
        let range = workbook.worksheet_range(&chosen);
        let range = range.map_err(|error| unread(&self.name, error.to_string()))?;
        let (first_row, first_column) = range.start().unwrap_or_default();
        drop(workbook);
        let mut row = Row::default();
        for (line, cells) in (u64::from(first_row) + 1..).zip(range.rows()) {
            row.clear();
            for (column, cell) in (first_column as usize..).zip(cells) {
                self.put(column, &borrowed(cell), &mut row);
            }
            self.take(line, &mut row)?;
        }
        self.finish()
    }

    fn put(&self, column: usize, cell: &DataRef<'_>, row: &mut Row) {
        row.put(column, |text| {
            if !write_text(cell, text) {
                self.error_cells.fetch_add(1, Ordering::Relaxed);
            }
            kind(cell)
        });
    }

    /// Takes the next row of the worksheet; one of blanks is none.
    fn take(&mut self, line: u64, row: &mut Row) -> std::result::Result<(), End> {
        if let Some(area) = self.area() {
            if !(area.first..=area.last).contains(&line) {
                return Ok(());
            }
            row.keep(&area.columns);
        }
        if row.is_blank() {
            return Ok(());
        }
        if self.reading.is_some() {
            return self.add(line, row);
        }
        self.waiting.push((line, row.cells()));
        let is_settled = match self.headers {
            HeaderRow::Line(wanted) => line >= wanted,
            HeaderRow::First | HeaderRow::Absent => true,
            HeaderRow::Found => self.waiting.len() == LOOKED_AT,
        };
        if is_settled { self.begin() } else { Ok(()) }
    }

    /// Settles where the headers are, and tells them.
    fn begin(&mut self) -> std::result::Result<(), End> {
        let waiting = std::mem::take(&mut self.waiting);
        if waiting.is_empty() {
            return Err(Error::Empty { name: self.name.clone() }.into());
        }
        let none = || match self.headers {
            HeaderRow::Line(line) => Error::NoHeaderLine { name: self.name.clone(), line },
            _ => Error::Empty { name: self.name.clone() },
        };
        let head = find(self.headers, &waiting, || self.merged()).ok_or_else(none)?;
        let Head { before, rows, columns, headers } = head;
        let is_absent = self.headers == HeaderRow::Absent;
        let headers = if is_absent {
            (1..=columns.len()).map(|nth| format!("Column {nth}")).collect()
        } else {
            headers
        };
        let headers = Headers::new(&self.name, headers);
        let behind = if is_absent { before } else { before + rows };
        let header_line = if is_absent { 0 } else { waiting[behind - 1].0 };
        let part = self.meant.as_ref().map(|meant| (meant.name.clone(), meant.count));
        let begun = Begun {
            headers: headers.clone(),
            header_line,
            part: part.unwrap_or_default(),
            title_rows: if self.headers == HeaderRow::Found { before } else { 0 },
            header_rows: if is_absent { 0 } else { rows },
        };
        let block = Block::new(columns.len());
        self.reading = Some(Making { headers, columns, block, before: header_line, rows: 0 });
        if self.tell.send(Ok(begun)).is_err() {
            return Err(End::Unwanted);
        }
        let mut behind = waiting.into_iter().skip(behind);
        behind.try_for_each(|(line, cells)| self.add(line, &Row::of(&cells)))
    }

    /// Adds a row to the block in the making.
    fn add(&mut self, line: u64, row: &Row) -> std::result::Result<(), End> {
        let Some(making) = &mut self.reading else { return Ok(()) };
        let stray = |at: &usize| !making.columns.contains(at) && !row.cell(*at).0.is_empty();
        if let Some(column) = (0..row.len()).find(stray) {
            let place =
                Place { row: making.rows + making.block.rows() as u64 + 1, line, header: None };
            let (name, column) = (self.name.clone(), letters(column));
            return Err(Error::NoHeaderAbove { name, place, column }.into());
        }
        for column in making.columns.clone() {
            let (cell, kind) = row.cell(column);
            making.block.push_cell_of(cell, kind);
        }
        making.block.push_line(line - making.before - 1);
        if making.block.rows() == AT_ONCE { self.hand_over(line) } else { Ok(()) }
    }

    /// Hands over the block, whose last row is on this line.
    fn hand_over(&mut self, line: u64) -> std::result::Result<(), End> {
        let Some(making) = &mut self.reading else { return Ok(()) };
        let block = std::mem::replace(&mut making.block, Block::new(making.headers.len()));
        making.rows += block.rows() as u64;
        let lines = line - making.before;
        making.before = line;
        self.send.send(Ok((block, lines))).map_err(|_| End::Unwanted)
    }

    fn finish(&mut self) -> std::result::Result<(), End> {
        if self.reading.is_none() {
            self.begin()?;
        }
        let Some(making) = &self.reading else { return Ok(()) };
        match making.block.rows() {
            0 => Ok(()),
            rows => {
                let last = making.block.line(rows - 1);
                self.hand_over(making.before + 1 + last)
            }
        }
    }
}

fn locked(name: &str) -> Error {
    let (said, mend) = ("it is locked by a password".to_owned(), "save it without one");
    Error::Unread { name: name.to_owned(), said, mend }
}

/// A column as a worksheet names it: A, B, … Z, AA.
fn letters(mut column: usize) -> String {
    let mut letters = Vec::new();
    loop {
        letters.push(b'A' + (column % 26) as u8);
        if column < 26 {
            break;
        }
        column = column / 26 - 1;
    }
    letters.iter().rev().map(|&letter| char::from(letter)).collect()
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn columns_are_named_by_letters() {
        for (column, want) in [(0, "A"), (25, "Z"), (26, "AA"), (701, "ZZ"), (702, "AAA")] {
            assert_eq!(letters(column), want);
        }
    }

    #[test]
    fn a_workbook_that_would_fill_the_memory_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("bomb.xlsx");
        for (part, want) in [
            ("sharedStrings", "its texts unpack to 3 MiB; save the worksheet"),
            ("worksheets/sheet1", "a part of it unpacks to 3 MiB; save the worksheet"),
        ] {
            let mut archive = zip::ZipWriter::new(File::create(&path).unwrap());
            let options = zip::write::SimpleFileOptions::default();
            archive.start_file(format!("xl/{part}.xml"), options).unwrap();
            (0..3).for_each(|_| archive.write_all(&vec![b' '; 1 << 20]).unwrap());
            archive.finish().unwrap();
            assert!(path.metadata().unwrap().len() < 1 << 16);
            let error = open("bomb.xlsx", &path, None, HeaderRow::Found).err().unwrap().to_string();
            assert!(error.contains(want), "{error}");
        }
    }
}
