//! XLSX and XLSM: a worksheet's text is unpacked ahead, cut where rows begin, and made into blocks by all threads.
//!
//! In goes the file of a workbook, out comes a [`SheetReader`]: the headers, and pieces of the worksheet that its
//! [`SheetParser`] makes blocks of. The texts that cells share are in memory; nothing else of the worksheet is.

mod book;
mod cells;
mod cut;
pub(super) mod editor;
pub(super) mod losses;
mod markup;
pub(super) mod number_format;
mod package;
mod parser;
mod plain_xml;
mod shared_texts;

use std::collections::VecDeque;
use std::io;
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use gather_keys_core::table::{CellKind, Headers};
use gather_keys_core::value::date::Epoch;

pub use cut::SheetChunk;
pub use parser::SheetFault;
pub(crate) use parser::SheetParser;

use super::beginning::{Beginning, Begun, Sought};
use super::formulas::Formulas;
use super::left_out::LeftOut;
use super::merged::{MergedCells, merged};
use super::part::Named;
use super::row::Row;
use crate::{Error, Result};
use book::{Book, NumberFormat};
use cells::{CellFault, Rows, Value};
use cut::{CutFault, LONGEST_ROW, Pieces};
pub(super) use package::{Package, PackageFault};
use parser::{CellCounts, Meanings};
use shared_texts::SharedTexts;

/// How many rows are looked at to find the number formats of columns.
const LOOKED_AT: usize = 1000;

/// A workbook, of which worksheets may be read.
pub(super) struct XlsxBook {
    name: String,
    pub(super) package: Arc<Package>,
    worksheets: Vec<(String, String)>,
    named: Vec<Named>,
    meanings: Meanings,
    /// The part that says what is in it.
    part: String,
    /// The names that it defines, each with what it means.
    defined: Vec<(String, String)>,
}

impl XlsxBook {
    /// The workbook called `name`.
    ///
    /// # Errors
    /// When it is none, or damaged.
    pub(super) fn open(
        name: &str,
        package: std::result::Result<Package, PackageFault>,
    ) -> Result<Self> {
        let package = package.map_err(|fault| fault.reported(name))?;
        Self::of(name, Arc::new(package))
    }

    /// The workbook of an archive.
    ///
    /// # Errors
    /// When it is none, or damaged.
    pub(super) fn of(name: &str, package: Arc<Package>) -> Result<Self> {
        let failed = |fault: PackageFault| fault.reported(name);
        let book = Book::read(&package).map_err(failed)?;
        let named = book.named(&package);
        let shared = book.shared_texts.as_deref().and_then(|part| package.held(part));
        let shared = shared.map(|part| part.and_then(SharedTexts::read)).transpose();
        let meanings = Meanings {
            texts: Arc::new(shared.map_err(failed)?.unwrap_or_default()),
            formats: book.formats.into(),
            epoch: book.epoch,
        };
        let (name, worksheets, part) = (name.to_owned(), book.worksheets, book.part);
        Ok(Self { name, package, worksheets, named, meanings, part, defined: book.defined })
    }

    /// The names of its worksheets.
    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.worksheets.iter().map(|(name, _)| &name[..])
    }
}

/// Where a table is in a workbook.
#[derive(Debug, Clone)]
pub struct SheetPlace {
    package: Arc<Package>,
    /// The part that says what is in the workbook.
    book: String,
    /// The name of the worksheet, and its part.
    worksheet: String,
    part: String,
    /// The line of the headers, from 1; 0 when there are none.
    header_line: u64,
    /// The columns of the worksheet that the table has.
    columns: Range<usize>,
    /// Columns of these that are not read, since an earlier run added them.
    hidden: Hidden,
    epoch: Epoch,
}

impl SheetPlace {
    /// The name of the worksheet.
    pub fn worksheet(&self) -> &str {
        &self.worksheet
    }

    /// The path of the workbook.
    pub fn path(&self) -> &Path {
        self.package.input().path()
    }
}

/// A worksheet that is being read.
pub(crate) struct SheetReader {
    begun: Begun,
    parser: SheetParser,
    /// Pieces that were looked at to find the headers.
    seen: VecDeque<SheetChunk>,
    pieces: Pieces,
    /// The number format of each column, where it has one of its own, and its width, where that is said.
    formats: Vec<Option<String>>,
    widths: Vec<Option<f64>>,
    merged: Arc<MergedCells>,
    place: SheetPlace,
}

impl SheetReader {
    /// Begins to read a worksheet: the one of a name or number, or else the first.
    ///
    /// # Errors
    /// When there is no such worksheet, or it has no headers.
    pub(super) fn open(book: &XlsxBook, part: Option<&str>, sought: &Sought<'_>) -> Result<Self> {
        let XlsxBook { name, package, worksheets, named, meanings, part: book_part, .. } = book;
        let meanings = meanings.clone();
        let mut beginning = Beginning::new(name, part, sought);
        let names: Vec<String> = worksheets.iter().map(|(name, _)| name.clone()).collect();
        let chosen = beginning.chosen(&names, || named.clone())?;
        let sheet = worksheets.iter().find(|(name, _)| *name == chosen);
        let sheet = sheet.map(|(_, part)| part.clone()).unwrap_or_default();
        let text = package.part(&sheet).unwrap_or_else(|| {
            Err(PackageFault::Damaged("its archive lacks the worksheet".to_owned()))
        });
        let text = text.map_err(|fault| fault.reported(name))?;
        let pieces = Pieces::begin(name, text, meanings.texts.longest);
        let mut pieces =
            pieces.map_err(|cause: io::Error| Error::Read { name: name.clone(), cause })?;
        let seen = wait_for_headers(&mut beginning, &meanings, &mut pieces)?;
        // Merged cells are said after the rows.
        let merged = || package.part(&sheet).and_then(std::result::Result::ok).map(merged);
        let (mut begun, _) = beginning.begin(|| merged().unwrap_or_default())?;
        let (own, hidden) = without(&mut begun, sought.without);
        let area = beginning.area();
        let lines = area.map_or(0..u64::MAX, |area| area.first..area.last.saturating_add(1));
        let asked = area.map_or(0..usize::MAX, |area| area.columns.clone());
        let counts = CellCounts {
            errors: Arc::default(),
            left_out: Arc::default(),
            formulas: Arc::default(),
            uncalculated: (0..begun.headers.len()).map(|_| AtomicU64::new(0)).collect(),
        };
        let place = (begun.headers.clone(), begun.header_line);
        let columns = (lines, begun.columns.clone(), asked);
        let parser = SheetParser::new(place, columns, own.clone(), (meanings, counts));
        let formats = of_table(&own, number_formats(&parser, &seen));
        let head = seen.front().map(|piece| &piece.head[..]).unwrap_or_default();
        let widths = of_table(&own, editor::widths(head, &begun.columns));
        let place = SheetPlace {
            package: Arc::clone(package),
            book: book_part.clone(),
            worksheet: chosen,
            part: sheet.clone(),
            header_line: begun.header_line,
            columns: begun.columns.clone(),
            hidden,
            epoch: parser.meanings.epoch,
        };
        let package = Arc::clone(package);
        let merged = MergedCells {
            worksheet: Box::new(move || package.part(&sheet).and_then(std::result::Result::ok)),
            header_line: begun.header_line,
            columns: begun.columns.clone(),
        };
        let merged = Arc::new(merged);
        Ok(Self { begun, parser, seen, pieces, formats, widths, merged, place })
    }

    /// Its headers.
    pub(crate) fn headers(&self) -> &Headers {
        &self.begun.headers
    }

    /// The line that they are on, from 1; 0 when they are on none.
    pub(crate) fn header_line(&self) -> u64 {
        self.begun.header_line
    }

    /// The beginning of the worksheet.
    pub(super) fn begun(&self) -> &Begun {
        &self.begun
    }

    pub(super) fn begun_mut(&mut self) -> &mut Begun {
        &mut self.begun
    }

    /// How many cells hold an error, so far.
    pub(super) fn error_cells(&self) -> &Arc<AtomicU64> {
        &self.parser.counts.errors
    }

    /// Cells in columns without a header, so far.
    pub(super) fn left_out(&self) -> &Arc<LeftOut> {
        &self.parser.counts.left_out
    }

    /// The columns that are calculated, so far.
    pub(super) fn formulas(&self) -> &Arc<Formulas> {
        &self.parser.counts.formulas
    }

    /// The merged cells of the worksheet.
    pub(super) fn merged(&self) -> &Arc<MergedCells> {
        &self.merged
    }

    /// How many formulas of each column have no stored value, so far.
    pub(super) fn uncalculated(&self) -> &Arc<[AtomicU64]> {
        &self.parser.counts.uncalculated
    }

    /// The number format of each column, where it has one of its own.
    pub(crate) fn formats(&self) -> &[Option<String>] {
        &self.formats
    }

    /// The width of each column, where the worksheet says one.
    pub(crate) fn widths(&self) -> &[Option<f64>] {
        &self.widths
    }

    /// Where the table is in its workbook.
    pub(crate) fn place(&self) -> &SheetPlace {
        &self.place
    }

    /// The parser of its pieces.
    pub(crate) fn parser(&self) -> SheetParser {
        self.parser.clone()
    }

    /// The next piece, in exchange for a used one; `None` when there is none left.
    ///
    /// # Errors
    /// When the worksheet can't be read.
    pub(crate) fn read_chunk(&mut self, used: SheetChunk) -> Result<Option<SheetChunk>> {
        let next = match self.seen.pop_front() {
            Some(piece) => Some(piece),
            None => self
                .pieces
                .next(used.text)
                .map_err(|fault| fault.reported(self.headers().table()))?,
        };
        Ok(next.filter(|piece| piece.before + 1 < self.parser.lines.end))
    }
}

/// For each column of the worksheet the one of the table that it is.
type OwnColumns = Arc<[Option<usize>]>;

/// Columns that are not read: each header, and the column of the worksheet.
type Hidden = Vec<(String, usize)>;

/// Leaves columns out of a table, by their headers. Returns which column of the table each of the worksheet is then, and
/// the headers and columns that are left out.
fn without(begun: &mut Begun, left_out: &[String]) -> (OwnColumns, Hidden) {
    let (mut own, mut hidden, mut headers) = (Vec::new(), Vec::new(), Vec::new());
    for (nth, header) in begun.headers.iter().enumerate() {
        if left_out.iter().any(|other| other == header) {
            hidden.push((header.to_owned(), begun.columns.start + nth));
            own.push(None);
        } else {
            own.push(Some(headers.len()));
            headers.push(header.to_owned());
        }
    }
    if !hidden.is_empty() {
        begun.headers = Headers::new(begun.headers.table(), headers);
    }
    (own.into(), hidden)
}

/// Those values of the columns of a worksheet that are of columns of the table.
fn of_table<T>(own: &[Option<usize>], all: Vec<T>) -> Vec<T> {
    own.iter().zip(all).filter(|(own, _)| own.is_some()).map(|(_, value)| value).collect()
}

/// Reads pieces until it is settled where the headers are.
fn wait_for_headers(
    beginning: &mut Beginning,
    meanings: &Meanings,
    pieces: &mut Pieces,
) -> Result<VecDeque<SheetChunk>> {
    let (mut seen, mut row) = (VecDeque::new(), Row::default());
    let name = beginning.name().to_owned();
    let failed = |fault: CellFault| fault.reported(&name);
    while let Some(piece) = pieces.next(Vec::new()).map_err(|fault| fault.reported(&name))? {
        let mut rows = Rows::new(&piece.text, piece.before);
        let mut is_settled = false;
        while let Some(line) = rows.next_row().map_err(failed)?.filter(|_| !is_settled) {
            row.clear();
            while let Some(cell) = rows.next_cell().map_err(failed)? {
                let mut fault = None;
                row.put(cell.column, |text| {
                    let kind = meanings.push(&cell, text);
                    kind.unwrap_or_else(|found| {
                        fault = Some(found);
                        None
                    })
                    .unwrap_or(CellKind::Untyped)
                });
                fault.map_or(Ok(()), |fault| Err(failed(fault)))?;
                if row.text_length() > super::beginning::MOST_TEXT {
                    return Err(failed(CellFault::LongRow));
                }
            }
            is_settled = beginning.is_past(line)
                || beginning.clip(line, &mut row) && beginning.wait(line, &row);
        }
        seen.push_back(piece);
        if is_settled {
            break;
        }
    }
    Ok(seen)
}

/// The number of the style of each cell in the first row of a worksheet's text.
pub(super) fn styles_of_first_row(sheet: &str) -> Option<Vec<usize>> {
    let (_, rows) = sheet.split_once("<sheetData>")?;
    let (rows, _) = rows.split_once("</sheetData>")?;
    let (mut rows, mut styles) = (Rows::new(rows.as_bytes(), 0), Vec::new());
    rows.next_row().ok()??;
    while let Some(cell) = rows.next_cell().ok()? {
        styles.push(cell.style);
    }
    Some(styles)
}

/// A text of a cell as it is read.
#[cfg(test)]
pub(super) fn unescaped(written: &str) -> String {
    let mut text = String::new();
    if markup::push_text(written.as_bytes(), &mut text).is_ok() {
        markup::replace_escapes(&mut text, 0);
    }
    text
}

/// The number format that the numbers of each column have first, where it is one of its own.
fn number_formats(parser: &SheetParser, seen: &VecDeque<SheetChunk>) -> Vec<Option<String>> {
    let mut found: Vec<Option<&NumberFormat>> = vec![None; parser.columns.len()];
    let mut looked_at = 0;
    for piece in seen {
        let mut rows = Rows::new(&piece.text, piece.before);
        while let Ok(Some(line)) = rows.next_row() {
            if line <= parser.header_line || !parser.lines.contains(&line) {
                continue;
            }
            while let Ok(Some(cell)) = rows.next_cell() {
                let column = cell.column.checked_sub(parser.columns.start);
                let format = parser.meanings.formats.get(cell.style);
                let is_number = matches!(cell.value, Value::Number(_));
                if let Some(one) =
                    column.and_then(|column| found.get_mut(column)).filter(|_| is_number)
                {
                    *one = one.or(format);
                }
            }
            looked_at += 1;
            if looked_at == LOOKED_AT {
                break;
            }
        }
    }
    let own = |format: &&NumberFormat| format.code != "General" && format.code != "@";
    found.into_iter().map(|format| format.filter(own).map(|format| format.code.clone())).collect()
}

impl PackageFault {
    /// The fault in the workbook called `name`.
    fn reported(self, name: &str) -> Error {
        let (said, fix) = match self {
            Self::Damaged(said) => (said, "open it and save it again as XLSX"),
            Self::TooLarge(said) => (said, "save the worksheet as CSV"),
        };
        Error::Unread { name: name.to_owned(), said, fix }
    }
}

impl CutFault {
    /// The fault in the workbook called `name`.
    fn reported(self, name: &str) -> Error {
        let save = "open it and save it again as XLSX";
        let (said, fix) = match self {
            Self::Cell(fault) => return fault.reported(name),
            Self::Read(cause) => (cause.to_string(), save),
            Self::EndsTooEarly => ("it ends too early".to_owned(), save),
            Self::LongRow => {
                let mib = LONGEST_ROW >> 20;
                (
                    format!("a single row of it unpacks to more than {mib} MiB"),
                    "save the worksheet as CSV",
                )
            }
            Self::LongTail => {
                let mib = LONGEST_ROW >> 20;
                (
                    format!("what follows the rows of a worksheet unpacks to more than {mib} MiB"),
                    "write the result into another workbook, with -o",
                )
            }
            Self::Damaged => ("its content is damaged".to_owned(), save),
        };
        Error::Unread { name: name.to_owned(), said, fix }
    }
}
