//! Reading a worksheet row by row.

use std::io::Read;
use std::sync::atomic::AtomicU64;
use std::sync::mpsc::{Receiver, sync_channel};
use std::sync::{Arc, Mutex};
use std::thread;

use gather_keys_core::table::{Block, Headers};

use super::paced::Paced;
use super::worksheet::{Begun, Hand, Worksheet};
use super::{ods, xls, xlsb, xlsx};
use crate::delimited::HeaderRow;
use crate::guard::guarded;
use crate::rows::{AHEAD, End, ReadRows};
use crate::table::Uncalculated;
use crate::{Error, InputFile, Result};

/// The first bytes of old binary workbooks, and of encrypted ones.
const COMPOUND: [u8; 4] = [0xd0, 0xcf, 0x11, 0xe0];

/// A worksheet that is being read.
pub(crate) struct Opened {
    begun: Begun,
    rows: Receiver<Result<(Block, u64)>>,
    /// How many cells hold an error, so far.
    pub(crate) error_cells: Arc<AtomicU64>,
    /// How many formulas have no stored value, and the cell of the first.
    pub(crate) uncalculated: Arc<Mutex<Uncalculated>>,
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
    let (send, rows) = sync_channel(AHEAD);
    let (tell, reported) = sync_channel(1);
    let error_cells = Arc::new(AtomicU64::new(0));
    let uncalculated = Arc::<Mutex<Uncalculated>>::default();
    let hand =
        Hand { tell, send, error_cells: error_cells.clone(), uncalculated: uncalculated.clone() };
    let mut worksheet = Worksheet::new(name, part, headers, hand);
    let failed = |cause| Error::Read { name: name.to_owned(), cause };
    let file = file.clone();
    let work = move || {
        // A reader that fails on what it is given must not end the program.
        let failed = match guarded(file.name(), || read(&file, &mut worksheet)) {
            Some(Ok(()) | Err(End::Unwanted)) => return,
            Some(Err(End::Failed(error))) => error,
            None => worksheet.unread("its content is damaged"),
        };
        worksheet.fail(failed);
    };
    thread::Builder::new().name("worksheet".to_owned()).spawn(work).map_err(failed)?;
    match reported.recv() {
        Ok(begun) => Ok(Opened { begun: begun?, rows, error_cells, uncalculated }),
        // It reports in any case before it ends.
        Err(_) => Err(failed(std::io::ErrorKind::UnexpectedEof.into())),
    }
}

/// Reads a worksheet by the format that its workbook has.
fn read(input: &InputFile, worksheet: &mut Worksheet) -> std::result::Result<(), End> {
    let mut first = [0; 4];
    let is_compound = input.reader().read_exact(&mut first).is_ok() && first == COMPOUND;
    if is_compound {
        return xls::read(input, worksheet);
    }
    let (file, pace) = Paced::open(input);
    if let Some(said) = pace.refused() {
        return Err(worksheet.too_large(said).into());
    }
    if file.has("workbook.bin") {
        xlsb::read(file, &pace, worksheet)
    } else if file.has("content.xml") && !file.has("workbook.xml") {
        ods::read(input.reader(), worksheet)
    } else {
        xlsx::read(file, &pace, input, worksheet)
    }
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
