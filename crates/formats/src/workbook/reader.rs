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
use gather_keys_core::table::{Block, CellKind, Headers};
use zip::ZipArchive;

use super::value::{borrowed, kind, text};
use crate::delimited::HeaderRow;
use crate::guard::guarded;
use crate::rows::{AHEAD, AT_ONCE, End, ReadRows};
use crate::{Error, Place, Result};

/// How many rows are looked at to find the headers.
const LOOKED_AT: usize = 32;

/// How many bytes the parts of a workbook that are held in memory may unpack to. Tests reach it
/// sooner.
const MOST_UNPACKED: u64 = if cfg!(test) { 1 << 20 } else { 2 << 30 };

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
    worksheet: (String, usize),
    title_rows: usize,
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
        worksheet: (String::new(), 0),
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
    /// The worksheet, and how many there are.
    pub(crate) fn worksheet(&self) -> &(String, usize) {
        &self.begun.worksheet
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

/// A cell of a worksheet.
#[derive(Debug, Clone, Default)]
struct Cell {
    text: String,
    kind: CellKind,
}

impl Cell {
    fn is_empty(&self) -> bool {
        self.text.is_empty()
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
    worksheet: (String, usize),
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
            return self.read_whole(xls);
        }
        self.refuse_bomb(open()?)?;
        let failed = match Xlsx::new(opened()?) {
            Ok(xlsx) => return self.read_along(xlsx),
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
            if is_held && part.size() > MOST_UNPACKED {
                let said = format!("its texts unpack to {} MiB", part.size() >> 20);
                let mend = "save the worksheet as CSV";
                return Err(Error::Unread { name: self.name.clone(), said, mend });
            }
        }
        Ok(())
    }

    /// The worksheet that is meant.
    fn chosen(&mut self, names: &[String]) -> Result<String> {
        let chosen = match &self.part {
            None => names.first(),
            Some(part) => names.iter().find(|name| *name == part).or_else(|| {
                let number: usize = part.parse().ok()?;
                names.get(number.checked_sub(1)?)
            }),
        };
        let none = || Error::NoPart {
            name: self.name.clone(),
            what: "worksheet",
            asked: self.part.clone().unwrap_or_default(),
            all: names.to_vec(),
        };
        let chosen = chosen.ok_or_else(none)?.clone();
        self.worksheet = (chosen.clone(), names.len());
        Ok(chosen)
    }

    /// Reads a worksheet while it is being parsed.
    fn read_along(&mut self, mut xlsx: Xlsx<BufReader<File>>) -> std::result::Result<(), End> {
        let chosen = self.chosen(&xlsx.sheet_names())?;
        let name = self.name.clone();
        let bad = |error: XlsxError| unread(&name, error.to_string());
        let mut cells = xlsx.worksheet_cells_reader(&chosen).map_err(bad)?;
        let (mut line, mut row) = (0, Vec::new());
        while let Some(cell) = cells.next_cell().map_err(bad)? {
            let (at, column) = cell.get_position();
            if u64::from(at) + 1 != line {
                self.take(line, std::mem::take(&mut row))?;
                line = u64::from(at) + 1;
            }
            row.resize((column as usize).max(row.len()), Cell::default());
            row.push(self.cell(cell.get_value()));
        }
        self.take(line, row)?;
        self.finish()
    }

    /// Reads a worksheet of a workbook that can't be read otherwise than as a whole.
    fn read_whole<W>(&mut self, mut workbook: W) -> std::result::Result<(), End>
    where
        W: Reader<BufReader<File>>,
        W::Error: std::fmt::Display,
    {
        let chosen = self.chosen(&workbook.sheet_names())?;
        let range = workbook.worksheet_range(&chosen);
        let range = range.map_err(|error| unread(&self.name, error.to_string()))?;
        let (first_row, first_column) = range.start().unwrap_or_default();
        drop(workbook);
        for (line, cells) in (u64::from(first_row) + 1..).zip(range.rows()) {
            let mut row = vec![Cell::default(); first_column as usize];
            row.extend(cells.iter().map(|cell| self.cell(&borrowed(cell))));
            self.take(line, row)?;
        }
        self.finish()
    }

    fn cell(&self, cell: &DataRef<'_>) -> Cell {
        let text = text(cell).unwrap_or_else(|| {
            self.error_cells.fetch_add(1, Ordering::Relaxed);
            String::new()
        });
        Cell { text, kind: kind(cell) }
    }

    /// Takes the next row of the worksheet; one of blanks is none.
    fn take(&mut self, line: u64, row: Vec<Cell>) -> std::result::Result<(), End> {
        if row.iter().all(Cell::is_empty) {
            return Ok(());
        }
        if self.reading.is_some() {
            return self.add(line, &row);
        }
        self.waiting.push((line, row));
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
        let filled = |row: &[Cell]| row.iter().filter(|cell| !cell.is_empty()).count();
        let at = match self.headers {
            HeaderRow::Line(wanted) => {
                let none = || Error::NoHeaderLine { name: self.name.clone(), line: wanted };
                waiting.iter().position(|(line, _)| *line == wanted).ok_or_else(none)?
            }
            HeaderRow::First | HeaderRow::Absent => 0,
            // A title has one cell in a row; the table has more, and no cell beside its headers.
            HeaderRow::Found => {
                let title = waiting.iter().take_while(|(_, row)| filled(row) == 1).count();
                let is_table = waiting[title..].split_first().is_some_and(|((_, head), rows)| {
                    let width = spanned(head);
                    let fits = |(_, row): &(u64, Vec<Cell>)| {
                        let row = spanned(row);
                        width.start <= row.start && row.end <= width.end
                    };
                    !rows.is_empty() && rows.iter().all(fits)
                });
                if is_table { title } else { 0 }
            }
        };
        let Some((line, row)) = waiting.get(at) else {
            return Err(Error::Empty { name: self.name.clone() }.into());
        };
        let columns = spanned(row);
        let is_absent = self.headers == HeaderRow::Absent;
        let headers = if is_absent {
            Headers::new(&self.name, (1..=columns.len()).map(|nth| format!("Column {nth}")))
        } else {
            Headers::new(&self.name, row[columns.clone()].iter().map(|cell| &cell.text[..]))
        };
        let header_line = if is_absent { 0 } else { *line };
        let begun = Begun {
            headers: headers.clone(),
            header_line,
            worksheet: self.worksheet.clone(),
            title_rows: if self.headers == HeaderRow::Found { at } else { 0 },
        };
        let block = Block::new(columns.len());
        self.reading = Some(Making { headers, columns, block, before: header_line, rows: 0 });
        if self.tell.send(Ok(begun)).is_err() {
            return Err(End::Unwanted);
        }
        let mut behind = waiting.into_iter().skip(if is_absent { at } else { at + 1 });
        behind.try_for_each(|(line, row)| self.add(line, &row))
    }

    /// Adds a row to the block in the making.
    fn add(&mut self, line: u64, row: &[Cell]) -> std::result::Result<(), End> {
        let Some(making) = &mut self.reading else { return Ok(()) };
        let stray = |at: &usize| !making.columns.contains(at) && !row[*at].is_empty();
        if let Some(column) = (0..row.len()).find(stray) {
            let place =
                Place { row: making.rows + making.block.rows() as u64 + 1, line, header: None };
            let (name, column) = (self.name.clone(), letters(column));
            return Err(Error::NoHeaderAbove { name, place, column }.into());
        }
        for column in making.columns.clone() {
            match row.get(column) {
                Some(cell) => making.block.push_cell_of(&cell.text, cell.kind),
                None => making.block.push_cell(""),
            }
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

/// The columns from the first cell of a row that is not blank to the one behind the last.
fn spanned(row: &[Cell]) -> Range<usize> {
    let first = row.iter().position(|cell| !cell.is_empty()).unwrap_or_default();
    first..row.len() - row.iter().rev().take_while(|cell| cell.is_empty()).count()
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
        let mut archive = zip::ZipWriter::new(File::create(&path).unwrap());
        let options = zip::write::SimpleFileOptions::default();
        archive.start_file("xl/sharedStrings.xml", options).unwrap();
        (0..3).for_each(|_| archive.write_all(&vec![b' '; 1 << 20]).unwrap());
        archive.finish().unwrap();
        assert!(path.metadata().unwrap().len() < 1 << 16);
        let error = open("bomb.xlsx", &path, None, HeaderRow::Found).err().unwrap().to_string();
        assert!(error.contains("its texts unpack to 3 MiB; save the worksheet"), "{error}");
    }
}
