//! Reading a worksheet, by the format of its workbook.

use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread;

use gather_keys_core::table::{Block, Headers};

use super::Refusal;
use super::beginning::{Beginning, Begun, Sought};
use super::formulas::Formulas;
use super::left_out::LeftOut;
use super::merged::MergedCells;
use super::paced::Paced;
use super::worksheet::{Hand, Worksheet};
use super::xlsx::{Package, SheetReader, XlsxBook};
use super::{ods, xls, xlsb};
use crate::delimited::HeaderRow;
use crate::guard::guarded;
use crate::read_as::{Part, PartChoice};
use crate::rows::{AHEAD, End, ReadRows};
use crate::{Error, InputFile, Result};

/// The first bytes of old binary workbooks, and of encrypted ones.
const COMPOUND: [u8; 4] = [0xd0, 0xcf, 0x11, 0xe0];

/// A worksheet that is being read.
pub(crate) enum Opened {
    /// In pieces of text.
    Sheet(Box<SheetReader>),
    /// Row by row.
    Rows(Box<RowReader>),
}

/// A worksheet whose rows a thread of its own reads.
pub(crate) struct RowReader {
    begun: Begun,
    rows: Receiver<Result<(Block, u64)>>,
    /// How many cells hold an error, so far.
    error_cells: Arc<AtomicU64>,
    /// Cells in columns without a header, so far.
    left_out: Arc<LeftOut>,
}

/// The formats that are read row by row.
#[derive(Debug, Clone, Copy)]
enum ByRows {
    Xls,
    Xlsb,
    Ods,
}

/// A workbook, of which worksheets may be read.
enum Book<'f> {
    Xlsx(Box<XlsxBook>),
    ByRows(&'f InputFile, ByRows),
}

/// Begins to read a worksheet of the workbook called `name`: the one of a name or number; or else the one that holds
/// all headers that are asked for, or the first. Says whether that is not the only one.
///
/// # Errors
/// When it is not a workbook, has no such worksheet, several hold the headers, or the worksheet has no headers.
pub(crate) fn open(
    name: &str,
    file: &InputFile,
    part: Option<&str>,
    sought: &Sought<'_>,
) -> Result<Opened> {
    // A reader that fails on what it is given must not end the program.
    let opened = guarded(file.name(), || {
        let book = Book::open(name, file)?;
        match part {
            Some(_) => book.worksheet(name, part, sought),
            None => book.holder(name, sought),
        }
    });
    let damaged = || Beginning::new(name, part, sought).unread("its content is damaged");
    opened.unwrap_or_else(|| Err(damaged()))
}

/// A workbook that can be written into.
///
/// # Errors
/// When it is none.
pub(super) fn xlsx_book(name: &str, file: &InputFile) -> Result<XlsxBook> {
    let book = guarded(file.name(), || match Book::open(name, file)? {
        Book::Xlsx(book) => Ok(*book),
        Book::ByRows(..) => {
            Err(Error::NotInto { name: name.to_owned(), why: Refusal::OtherFormat })
        }
    });
    let sought = Sought { headers: HeaderRow::Absent, asked: &[], without: &[] };
    let damaged = || Beginning::new(name, None, &sought).unread("its content is damaged");
    book.unwrap_or_else(|| Err(damaged()))
}

/// What would be lost if a new workbook took the place of one, each thing in a few words; nothing for a workbook as
/// this program writes it, and for a file that is none.
pub fn would_lose(file: &InputFile) -> Vec<String> {
    let name = file.name();
    let Ok(book) = xlsx_book(name, file) else { return Vec::new() };
    let damaged = || vec!["what can't be read of it".to_owned()];
    let lost = guarded(name, || super::xlsx::losses::losses(&book).ok()).flatten();
    lost.unwrap_or_else(damaged)
}

/// Whether a workbook is as this program writes it, with a table in a worksheet of this name.
pub fn is_own(file: &InputFile, worksheet: &str) -> bool {
    let Ok(book) = xlsx_book(file.name(), file) else { return false };
    let own = guarded(file.name(), || super::xlsx::losses::own_worksheets(&book.package).ok());
    let is_first = |own: Vec<String>| own.first().is_some_and(|first| first == worksheet);
    own.flatten().is_some_and(is_first) && would_lose(file).is_empty()
}

/// The names of a workbook's worksheets.
///
/// # Errors
/// When it is not a workbook.
pub(crate) fn worksheets(name: &str, file: &InputFile) -> Result<Vec<String>> {
    let sought = Sought { headers: HeaderRow::Absent, asked: &[], without: &[] };
    let names = guarded(file.name(), || match Book::open(name, file)? {
        Book::Xlsx(book) => Ok(book.names().map(str::to_owned).collect()),
        book @ Book::ByRows(..) => {
            Ok(book.worksheet(name, None, &sought)?.begun().worksheets.clone())
        }
    });
    let damaged = || Beginning::new(name, None, &sought).unread("its content is damaged");
    names.unwrap_or_else(|| Err(damaged()))
}

/// How many bytes show what a file is that is no workbook.
const SHOWN: u64 = 2048;

/// That a workbook is encrypted.
pub(super) fn locked(name: &str) -> Error {
    Error::Unread {
        name: name.to_owned(),
        said: "it is protected by a password".to_owned(),
        fix: "open it, save a copy without one, and name the copy",
    }
}

/// Whether a binary file is a workbook that is encrypted as a whole.
fn is_encrypted(file: &InputFile) -> bool {
    let compound = cfb::CompoundFile::open(file.reader());
    compound.is_ok_and(|compound| compound.exists("/EncryptedPackage"))
}

/// What a file is, and what to do, where it is no workbook whatever its name says.
fn no_workbook(file: &InputFile) -> Option<(&'static str, &'static str)> {
    let mut first = Vec::new();
    file.reader().take(SHOWN).read_to_end(&mut first).ok()?;
    let text = first.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&first).trim_ascii_start();
    let save = "open it in a spreadsheet program and save it as XLSX";
    if !text.starts_with(b"<") {
        let is_archive = text.starts_with(b"PK\x03\x04");
        let fix = "copy or download it again";
        let is_cut = is_archive && !Package::has_end(file);
        return is_cut.then_some(("its end is missing, so that it can't be unpacked", fix));
    }
    let text = text.to_ascii_lowercase();
    let has = |word: &[u8]| memchr::memmem::find(&text, word).is_some();
    let said = if has(b"<html") || has(b"<table") || has(b"<!doctype html") {
        "it is a web page and no workbook, whatever its name says"
    } else if has(b"schemas-microsoft-com:office:spreadsheet") || has(b"office:document") {
        "it is a workbook in a single XML file, which is not read"
    } else {
        "it is XML and no workbook, whatever its name says"
    };
    Some((said, save))
}

/// Those of some worksheets of a workbook that hold all headers that are asked for.
///
/// # Errors
/// When it is not a workbook.
pub(crate) fn holders<'n>(
    file: &InputFile,
    asked: &[String],
    worksheets: impl Iterator<Item = &'n str>,
) -> Result<Vec<String>> {
    let sought = Sought { headers: HeaderRow::Found, asked, without: &[] };
    let found = guarded(file.name(), || {
        let book = Book::open(file.name(), file)?;
        let holds = |worksheet: &&str| {
            let opened = book.worksheet(file.name(), Some(worksheet), &sought);
            opened.is_ok_and(|opened| opened.begun().headers.held(asked) == asked.len())
        };
        Ok(worksheets.filter(holds).map(str::to_owned).collect())
    });
    found.unwrap_or_else(|| Ok(Vec::new()))
}

impl<'f> Book<'f> {
    fn open(name: &str, file: &'f InputFile) -> Result<Self> {
        let mut first = [0; 4];
        let is_compound = file.reader().read_exact(&mut first).is_ok() && first == COMPOUND;
        if is_compound && is_encrypted(file) {
            return Err(locked(name));
        }
        if is_compound {
            return Ok(Self::ByRows(file, ByRows::Xls));
        }
        if let Some((said, fix)) = no_workbook(file) {
            return Err(Error::Unread { name: name.to_owned(), said: said.to_owned(), fix });
        }
        let package = Package::open(file);
        let has = |ending: &str| {
            package.as_ref().is_ok_and(|package| package.names().any(|name| name.ends_with(ending)))
        };
        if has("workbook.bin") {
            Ok(Self::ByRows(file, ByRows::Xlsb))
        } else if has("content.xml") && !has("workbook.xml") {
            Ok(Self::ByRows(file, ByRows::Ods))
        } else {
            Ok(Self::Xlsx(Box::new(XlsxBook::open(name, package)?)))
        }
    }

    /// Begins to read a worksheet.
    fn worksheet(&self, name: &str, part: Option<&str>, sought: &Sought<'_>) -> Result<Opened> {
        match self {
            Self::Xlsx(book) => {
                SheetReader::open(book, part, sought).map(Box::new).map(Opened::Sheet)
            }
            Self::ByRows(file, format) => {
                RowReader::begin(name, file, part, sought, *format).map(Box::new).map(Opened::Rows)
            }
        }
    }

    /// Begins to read the worksheet that holds all headers that are asked for; the first if none does.
    fn holder(&self, name: &str, sought: &Sought<'_>) -> Result<Opened> {
        let first = self.worksheet(name, None, sought);
        let names = match (&first, self) {
            (Ok(opened), _) => opened.begun().worksheets.clone(),
            (Err(_), Self::Xlsx(book)) => book.names().map(str::to_owned).collect(),
            (Err(_), Self::ByRows(..)) => Vec::new(),
        };
        if sought.asked.is_empty() || names.len() < 2 {
            return first;
        }
        let held = |opened: &Opened| opened.begun().headers.held(sought.asked);
        // One that can't be read holds nothing that is asked for.
        let mut best = first.as_ref().ok().map_or(0, held);
        let (mut chosen, mut holders) = (first, vec![0]);
        for (nth, worksheet) in names.iter().enumerate().skip(1) {
            let Ok(opened) = self.worksheet(name, Some(worksheet), sought) else { continue };
            let count = held(&opened);
            if count > best {
                (best, chosen, holders) = (count, Ok(opened), vec![nth]);
            } else if count == best {
                holders.push(nth);
            }
        }
        if best == sought.asked.len() && holders.len() > 1 {
            let all = holders.iter().map(|nth| names[*nth].clone()).collect();
            return Err(Error::SeveralWorksheets { name: name.to_owned(), all });
        }
        let mut chosen = chosen?;
        if best == sought.asked.len() {
            chosen.found_by_headers();
        }
        Ok(chosen)
    }
}

impl Opened {
    fn begun(&self) -> &Begun {
        match self {
            Self::Sheet(sheet) => sheet.begun(),
            Self::Rows(rows) => &rows.begun,
        }
    }

    fn found_by_headers(&mut self) {
        let begun = match self {
            Self::Sheet(sheet) => sheet.begun_mut(),
            Self::Rows(rows) => &mut rows.begun,
        };
        begun.is_found_by_headers = true;
    }

    /// The part that was chosen, and how.
    pub(crate) fn part(&self, asked: Option<&str>) -> Part {
        let begun = self.begun();
        let choice = match asked {
            Some(_) => PartChoice::Named,
            None if begun.worksheets.len() < 2 => PartChoice::Only,
            None if begun.is_found_by_headers => PartChoice::ByHeaders,
            None => PartChoice::First,
        };
        Part { name: begun.part.clone(), choice, all: begun.worksheets.clone() }
    }

    /// How many rows the headers are in.
    pub(crate) fn header_rows(&self) -> usize {
        self.begun().header_rows
    }

    /// How many rows were passed over before the headers.
    pub(crate) fn title_rows(&self) -> usize {
        self.begun().title_rows
    }

    /// How many cells hold an error, so far.
    pub(crate) fn error_cells(&self) -> Arc<AtomicU64> {
        match self {
            Self::Sheet(sheet) => sheet.error_cells().clone(),
            Self::Rows(rows) => rows.error_cells.clone(),
        }
    }

    /// Cells in columns without a header, so far.
    pub(crate) fn left_out(&self) -> Arc<LeftOut> {
        match self {
            Self::Sheet(sheet) => sheet.left_out().clone(),
            Self::Rows(rows) => rows.left_out.clone(),
        }
    }

    /// The columns that are calculated, so far, where that is known.
    pub(crate) fn formulas(&self) -> Option<Arc<Formulas>> {
        match self {
            Self::Sheet(sheet) => Some(sheet.formulas().clone()),
            Self::Rows(_) => None,
        }
    }

    /// The merged cells of the worksheet, where they are known.
    pub(crate) fn merged(&self) -> Option<Arc<MergedCells>> {
        match self {
            Self::Sheet(sheet) => Some(sheet.merged().clone()),
            Self::Rows(_) => None,
        }
    }

    /// How many formulas of each column have no stored value, so far, where that is known.
    pub(crate) fn uncalculated(&self) -> Option<Arc<[AtomicU64]>> {
        match self {
            Self::Sheet(sheet) => Some(sheet.uncalculated().clone()),
            Self::Rows(_) => None,
        }
    }
}

impl RowReader {
    fn begin(
        name: &str,
        file: &InputFile,
        part: Option<&str>,
        sought: &Sought<'_>,
        format: ByRows,
    ) -> Result<Self> {
        let (send, rows) = sync_channel(AHEAD);
        let (tell, reported) = sync_channel(1);
        let error_cells = Arc::new(AtomicU64::new(0));
        let left_out = Arc::<LeftOut>::default();
        let (errors, beside) = (error_cells.clone(), left_out.clone());
        let hand = Hand { tell, send, error_cells: errors, left_out: beside };
        let mut worksheet = Worksheet::new(name, part, sought, hand);
        let failed = |cause| Error::Read { name: name.to_owned(), cause };
        let file = file.clone();
        let work = move || {
            let failed = match guarded(file.name(), || read(&file, format, &mut worksheet)) {
                Some(Ok(()) | Err(End::Unwanted)) => return,
                Some(Err(End::Failed(error))) => error,
                None => worksheet.unread("its content is damaged"),
            };
            worksheet.fail(failed);
        };
        thread::Builder::new().name("worksheet".to_owned()).spawn(work).map_err(failed)?;
        match reported.recv() {
            Ok(begun) => Ok(Self { begun: begun?, rows, error_cells, left_out }),
            // It reports in any case before it ends.
            Err(_) => Err(failed(std::io::ErrorKind::UnexpectedEof.into())),
        }
    }
}

/// Reads a worksheet row by row.
fn read(
    input: &InputFile,
    format: ByRows,
    worksheet: &mut Worksheet,
) -> std::result::Result<(), End> {
    match format {
        ByRows::Xls => xls::read(input, worksheet),
        ByRows::Ods => ods::read(input.reader(), worksheet),
        ByRows::Xlsb => {
            let (file, pace) = Paced::open(input);
            match pace.refused() {
                Some(said) => Err(worksheet.too_large(said).into()),
                None => xlsb::read(file, &pace, worksheet),
            }
        }
    }
}

impl ReadRows for RowReader {
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
