//! Reading a worksheet, by the format of its workbook.

use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread;

use gather_keys_core::table::{Block, Headers};

use super::beginning::{Beginning, Begun};
use super::left_out::LeftOut;
use super::paced::Paced;
use super::worksheet::{Hand, Worksheet};
use super::xlsx::{Package, SheetReader};
use super::{ods, xls, xlsb};
use crate::delimited::HeaderRow;
use crate::guard::guarded;
use crate::rows::{AHEAD, End, ReadRows};
use crate::{Error, InputFile, Result};

/// The first bytes of old binary workbooks, and of encrypted ones.
const COMPOUND: [u8; 4] = [0xd0, 0xcf, 0x11, 0xe0];

/// A worksheet that is being read.
pub(crate) enum Opened {
    /// In pieces of text.
    Sheet(Box<SheetReader>),
    /// Row by row.
    Rows(RowReader),
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

/// Begins to read a worksheet of the workbook called `name`: the one of a name or
/// number, or else the first.
///
/// # Errors
/// When it is not a workbook, has no such worksheet, or the worksheet has no headers.
pub(crate) fn open(
    name: &str,
    file: &InputFile,
    part: Option<&str>,
    headers: HeaderRow,
) -> Result<Opened> {
    let mut first = [0; 4];
    let is_compound = file.reader().read_exact(&mut first).is_ok() && first == COMPOUND;
    if is_compound {
        return RowReader::begin(name, file, part, headers, ByRows::Xls).map(Opened::Rows);
    }
    // A reader that fails on what it is given must not end the program.
    let opened = guarded(file.name(), || {
        let package = Package::open(file);
        let has = |ending: &str| {
            package.as_ref().is_ok_and(|package| package.names().any(|name| name.ends_with(ending)))
        };
        let by_rows = if has("workbook.bin") {
            ByRows::Xlsb
        } else if has("content.xml") && !has("workbook.xml") {
            ByRows::Ods
        } else {
            let sheet = SheetReader::open(name, package, part, headers)?;
            return Ok(Opened::Sheet(Box::new(sheet)));
        };
        RowReader::begin(name, file, part, headers, by_rows).map(Opened::Rows)
    });
    let damaged = || Beginning::new(name, part, headers).unread("its content is damaged");
    opened.unwrap_or_else(|| Err(damaged()))
}

impl Opened {
    fn begun(&self) -> &Begun {
        match self {
            Self::Sheet(sheet) => sheet.begun(),
            Self::Rows(rows) => &rows.begun,
        }
    }

    /// The part that was chosen, and among how many.
    pub(crate) fn part(&self) -> &(String, usize) {
        &self.begun().part
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
        headers: HeaderRow,
        format: ByRows,
    ) -> Result<Self> {
        let (send, rows) = sync_channel(AHEAD);
        let (tell, reported) = sync_channel(1);
        let error_cells = Arc::new(AtomicU64::new(0));
        let left_out = Arc::<LeftOut>::default();
        let (errors, beside) = (error_cells.clone(), left_out.clone());
        let hand = Hand { tell, send, error_cells: errors, left_out: beside };
        let mut worksheet = Worksheet::new(name, part, headers, hand);
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
