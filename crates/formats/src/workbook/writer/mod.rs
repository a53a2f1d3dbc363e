//! Writing a table as a worksheet.
//!
//! Rows are [rendered](rows) by the threads that process them, and [packed](packer) by others into a
//! [part](packed_part) of its own, so that a large table is never in memory. All other parts of the workbook come from a
//! library, which makes a workbook with the same [styles] and an empty worksheet.
//!
//! The headers are bold and stay in sight, columns have a filter and are as wide as their cells, what was taken or
//! changed is on a coloured ground, and a cell that was replaced has a note with what it was.

mod findings_sheet;
mod packed_part;
mod packer;
mod rows;
mod styles;

use std::fmt::Write as _;
use std::fs::File;
use std::io::{self, Cursor, Write};
use std::sync::Arc;

use gather_keys_core::table::{Headers, OutputColumns, Sink};
use rust_xlsxwriter::{DocProperties, ExcelDateTime, Note, Workbook, Worksheet, XlsxError};
use zip::result::ZipError;
use zip::{ZipArchive, ZipWriter};

pub(super) use self::findings_sheet::HEADERS as HEADERS_OF_FINDINGS;
pub use self::findings_sheet::{FoundRow, FoundSheet, Links};
pub(super) use self::packed_part::PackedPart;
pub(super) use self::packer::{AsText, Packer};
pub use self::rows::{SheetRows, WorkbookRenderer};
pub(super) use self::rows::{WIDEST, is_too_long, push_content, width};
pub(super) use self::styles::{Ground, Look, Styles};

use self::rows::{ColumnFacts, Facts, MOST_NOTES, PlacedRows, columns, push_text};
use super::Refusal;
use super::size::{MOST_COLUMNS, MOST_ROWS};
use super::xlsx::losses::{BETWEEN, WRITTEN};
use super::xlsx::styles_of_first_row;
use crate::{Error, Result};

/// The name of the worksheet's part in the library's archive.
const SHEET: &str = "xl/worksheets/sheet1.xml";

/// How many bytes the head of a worksheet may take, and how many more for each column.
const HEAD: usize = 4096;
const HEAD_OF_COLUMN: usize = 200;

/// A workbook that the library made.
pub(super) type Archive = ZipArchive<Cursor<Vec<u8>>>;

/// How a workbook is written.
#[derive(Debug, Clone, Copy, Default)]
pub struct WorkbookOptions<'n> {
    /// The name of its worksheet; `Table` if it has none.
    pub worksheet: Option<&'n str>,
    /// The name of the worksheet of findings; `Findings` if it has none.
    pub findings: Option<&'n str>,
    /// Whether whatever is not a cell is left out.
    pub is_plain: bool,
    /// How many threads may pack its rows.
    pub threads: usize,
}

/// Writes a table as a worksheet of a workbook.
pub struct WorkbookWriter {
    name: String,
    worksheet: String,
    findings: String,
    is_plain: bool,
    threads: usize,
    headers: Vec<String>,
    /// The number formats of columns, where they have one of their own.
    number_formats: Vec<Option<String>>,
    styles: Arc<Styles>,
    /// The numbers that the library gives the styles.
    numbers: Vec<usize>,
    /// The numbers that these have in the workbook that the worksheet is for, where that is there already.
    mapped: Option<Vec<usize>>,
    /// The lookup that each added column comes from.
    lookups: Arc<[usize]>,
    /// The letters of the columns.
    columns: Arc<[String]>,
    /// The rows, once there are headers, and how many they are with the headers.
    rows: Option<Packer<PlacedRows>>,
    count: u64,
    facts: Facts,
}

impl WorkbookWriter {
    /// Begins a workbook that is called `name` in messages, with one worksheet.
    ///
    /// # Errors
    /// When the worksheet can't have its name.
    pub fn new(name: impl Into<String>, options: WorkbookOptions<'_>) -> Result<Self> {
        let (name, worksheet) = (name.into(), options.worksheet.unwrap_or("Table"));
        let findings = findings_sheet::name_beside(worksheet, options.findings);
        for worksheet in [worksheet, findings] {
            check_name(&name, worksheet)?;
        }
        if worksheet.eq_ignore_ascii_case(findings) {
            let worksheet = worksheet.to_owned();
            return Err(Error::NotInto { name, why: Refusal::SameName { worksheet } });
        }
        Ok(Self {
            name,
            worksheet: worksheet.to_owned(),
            findings: findings.to_owned(),
            is_plain: options.is_plain,
            threads: options.threads,
            headers: Vec::new(),
            number_formats: Vec::new(),
            styles: Arc::new(Styles::new(&[], options.is_plain)),
            numbers: Vec::new(),
            mapped: None,
            lookups: [].into(),
            columns: [].into(),
            rows: None,
            count: 1,
            facts: Facts::default(),
        })
    }

    /// Begins the worksheet of a table; see [`Sink::write_headers`]. Where it is for a workbook that is there, `map` gets
    /// one of its own with all styles, and gives the numbers that these have there.
    ///
    /// # Errors
    /// When the table does not fit into a worksheet, or the error of `map`.
    pub(super) fn begin(
        &mut self,
        headers: &Headers,
        map: impl FnOnce(&mut Archive) -> Result<Option<Vec<usize>>>,
    ) -> Result<()> {
        let name = self.name.clone();
        self.headers = headers.iter().map(str::to_owned).collect();
        if self.headers.len() > MOST_COLUMNS {
            return Err(Error::WideForWorkbook { name, columns: self.headers.len() });
        }
        if let Some(header) = self.headers.iter().find(|header| is_too_long(header)) {
            let header = header.chars().take(60).collect();
            return Err(Error::LongForWorkbook { name, row: 0, header });
        }
        let facts = self.headers.iter().map(|header| {
            let width = if self.is_plain { 0 } else { header.chars().count() + 2 };
            ColumnFacts { width, ..ColumnFacts::default() }
        });
        self.facts.columns = facts.collect();
        self.number_formats.resize(self.headers.len(), None);
        let mut styles = Styles::new(&self.number_formats, self.is_plain);
        self.styles = Arc::new(styles.clone());
        let book = self.book(|_| Ok(()), None).map_err(|error| unwritten(&name, &error))?;
        let failed = |cause| Error::Write { name: name.clone(), cause };
        let book = ZipArchive::new(Cursor::new(book)).map_err(io::Error::other);
        let mut book = book.map_err(failed)?;
        let sheet = sheet_of(&mut book).map_err(failed)?;
        self.numbers = styles_of_first_row(&sheet).unwrap_or_default();
        self.mapped = map(&mut book)?;
        styles.number(self.numbers.iter().map(|&number| self.mapped(number)).collect());
        self.styles = Arc::new(styles);
        let headers: usize = self.headers.iter().map(|header| header.len() * 7).sum();
        let room = HEAD + HEAD_OF_COLUMN * self.headers.len() + headers;
        let part = PackedPart::begin(room).map_err(failed)?;
        self.columns = columns(self.headers.len()).into();
        self.rows = Some(Packer::new(part, self.threads));
        Ok(())
    }

    /// The number of a style in the workbook that the worksheet is for.
    fn mapped(&self, number: usize) -> usize {
        let mapped = self.mapped.as_ref().and_then(|mapped| mapped.get(number));
        mapped.copied().unwrap_or(number)
    }

    /// Sets the number format of each column of the output, where it has one of its own.
    pub fn set_number_formats(&mut self, formats: Vec<Option<String>>) {
        self.number_formats = formats;
    }

    /// Sets how many columns each lookup adds, so that their cells show what became of a row.
    pub fn set_added(&mut self, columns: impl Iterator<Item = usize>) {
        let lookups = columns.enumerate();
        let each = lookups.flat_map(|(lookup, count)| std::iter::repeat_n(lookup, count));
        self.lookups = each.collect();
    }

    /// Writes the workbook, with a second worksheet of what was found. Gives how many whole
    /// numbers are text, since a spreadsheet would round them, and the header of the first.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn finish(
        self,
        found: &FoundSheet,
        output: impl Write + Send,
    ) -> Result<Option<(u64, String)>> {
        let (name, found) = (self.name.clone(), (!self.is_plain).then_some(found));
        let failed = |cause| Error::Write { name: name.clone(), cause };
        let Parts { mut book, rows, long } = self.finish_parts(found)?;
        join(&mut book, rows, output).map_err(failed)?;
        Ok(long)
    }

    /// Ends the worksheet; gives the workbook that it is in with an empty worksheet, and the part that takes the place
    /// of that.
    ///
    /// # Errors
    /// When it can't be written.
    pub(super) fn finish_parts(mut self, found: Option<&FoundSheet>) -> Result<Parts> {
        let name = self.name.clone();
        let failed = |cause| Error::Write { name: name.clone(), cause };
        let Some(packer) = self.rows.take() else {
            let none = Headers::new(&name, [""; 0]);
            self.write_headers(&OutputColumns::from(&none))?;
            return self.finish_parts(found);
        };
        let rows = self.count;
        let part = packer.finish().map_err(failed)?;
        let book = self.book(|sheet| self.furnish(sheet, rows), found);
        let book = book.map_err(|error| unwritten(&name, &error))?;
        let mut book =
            ZipArchive::new(Cursor::new(book)).map_err(io::Error::other).map_err(failed)?;
        let sheet = self.sheet(&mut book, rows).map_err(failed)?;
        let rows = part.finish((&sheet.0, ""), &sheet.1).map_err(failed)?;
        let (count, column) = self.facts.long;
        let long = column.map(|column| (count, self.headers[column].clone()));
        Ok(Parts { book, rows, long })
    }

    /// Everything of the workbook but the worksheet's rows, as an archive.
    fn book(
        &self,
        furnish: impl FnOnce(&mut Worksheet) -> std::result::Result<(), XlsxError>,
        found: Option<&FoundSheet>,
    ) -> std::result::Result<Vec<u8>, XlsxError> {
        let mut workbook = Workbook::new();
        // The same table gives the same file, whenever it is written.
        let made = ExcelDateTime::from_ymd(2000, 1, 1)?;
        let mut own = vec![&self.worksheet[..]];
        own.extend(found.map(|_| &self.findings[..]));
        let properties = DocProperties::new().set_creation_datetime(&made);
        workbook.set_properties(&properties.set_custom_property(WRITTEN, own.join(BETWEEN)));
        let sheet = workbook.add_worksheet();
        sheet.set_name(&self.worksheet)?;
        // Blank cells tell which number each style has.
        for (column, format) in (0..).zip(&self.styles.formats()) {
            sheet.write_blank(0, column, format)?;
        }
        furnish(sheet)?;
        if let Some(found) = found {
            let sheet = workbook.add_worksheet();
            sheet.set_name(&self.findings)?;
            findings_sheet::write(found, &self.worksheet, sheet)?;
        }
        workbook.save_to_buffer()
    }

    /// Sets up everything of a worksheet but its cells.
    fn furnish(&self, sheet: &mut Worksheet, rows: u64) -> std::result::Result<(), XlsxError> {
        if self.is_plain || self.headers.is_empty() {
            return Ok(());
        }
        let (last_row, last_column) = (rows.max(1) as u32 - 1, self.headers.len() as u16 - 1);
        sheet.set_freeze_panes(1, 0)?;
        sheet.autofilter(0, 0, last_row, last_column)?;
        for (column, facts) in (0..).zip(&self.facts.columns) {
            let width = (facts.width + 2).clamp(8, WIDEST);
            sheet.set_column_width(column, width as f64)?;
            // Cells that somebody adds below have the format of the column.
            let style = facts.style.filter(|_| facts.numbers > facts.texts);
            if let Some(format) = style.and_then(|style| self.styles.of_number(style)) {
                sheet.set_column_format(column, &format)?;
            }
        }
        sheet.set_landscape().set_print_fit_to_pages(1, 0).set_repeat_rows(0, 0)?;
        for (row, column, before) in &self.facts.replaced {
            let was: String = format!("was: {before}").chars().take(1000).collect();
            // Otherwise the author of a note is named in it.
            let note = Note::new(was).add_author_prefix(false);
            sheet.insert_note(*row as u32, *column as u16, &note)?;
        }
        Ok(())
    }

    /// What the worksheet has before its rows, headers included, and after them.
    fn sheet(&self, book: &mut Archive, rows: u64) -> io::Result<(String, String)> {
        let text = sheet_of(book)?;
        let other = || io::Error::other("the styles of a workbook are not what they were");
        let numbers = styles_of_first_row(&text).filter(|numbers| *numbers == self.numbers);
        numbers.ok_or_else(other)?;
        let (head, rest) = text.split_once("<sheetData>").ok_or_else(other)?;
        let (_, tail) = rest.split_once("</sheetData>").ok_or_else(other)?;
        let head = &self.for_workbook(head);
        // The size of the worksheet is that of its rows.
        let mut sized = String::new();
        match (head.split_once("<dimension "), columns(self.headers.len()).last()) {
            (Some((before, after)), Some(column)) => {
                let after = after.split_once("/>").map_or(after, |(_, after)| after);
                sized.push_str(before);
                let dimension = format!("<dimension ref=\"A1:{column}{}\"/>", rows.max(1));
                sized.push_str(&dimension);
                sized.push_str(after);
            }
            _ => sized.push_str(head),
        }
        sized.push_str("<sheetData>");
        sized.push_str(&self.header_row());
        Ok((sized, format!("</sheetData>{tail}")))
    }

    /// What is before the rows, as it is in the workbook that it is for: the numbers of the columns' styles, and whether
    /// the worksheet is selected, which another one is already.
    fn for_workbook(&self, head: &str) -> String {
        const STYLE: &str = " style=\"";
        if self.mapped.is_none() {
            return head.to_owned();
        }
        let head = head.replacen(" tabSelected=\"1\"", "", 1);
        let mut pieces = head.split(STYLE);
        let mut out = pieces.next().unwrap_or_default().to_owned();
        for piece in pieces {
            let digits = piece.bytes().take_while(u8::is_ascii_digit).count();
            let number = piece[..digits].parse().map_or(0, |number| self.mapped(number));
            // Writing to a text can't fail.
            let _ = write!(out, "{STYLE}{number}{}", &piece[digits..]);
        }
        out
    }

    /// The row of the headers, each aligned as most cells below it.
    fn header_row(&self) -> String {
        let mut row = "<row r=\"1\">".to_owned();
        for ((header, letters), facts) in
            self.headers.iter().zip(columns(self.headers.len())).zip(&self.facts.columns)
        {
            let of_column = self.styles.of_header(facts.numbers > facts.texts);
            let style = if self.is_plain { 0 } else { of_column };
            // Writing to a text can't fail.
            let _ = write!(row, "<c r=\"{letters}1\" s=\"{style}\"");
            push_text(header, &mut row);
        }
        row.push_str("</row>");
        row
    }
}

/// A worksheet that is written, and what else is in a workbook of it alone.
pub(super) struct Parts {
    /// A workbook with an empty worksheet, and the one of findings if there is one.
    pub(super) book: Archive,
    /// The part with the rows, as the only one of an archive.
    pub(super) rows: File,
    /// How many whole numbers are text, and the header of the first.
    pub(super) long: Option<(u64, String)>,
}

/// A workbook of nothing but a worksheet of what was found in the table of a worksheet.
///
/// # Errors
/// When the worksheet can't have its name.
pub(super) fn findings_book(
    name: &str,
    found: &FoundSheet,
    (table, worksheet): (&str, &str),
) -> Result<Archive> {
    check_name(name, worksheet)?;
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet();
    let written = sheet.set_name(worksheet).map(drop);
    let written = written.and_then(|()| findings_sheet::write(found, table, sheet));
    let book = written.and_then(|()| workbook.save_to_buffer());
    let book = book.map_err(|error| unwritten(name, &error))?;
    let failed = |error| Error::Write { name: name.to_owned(), cause: io::Error::other(error) };
    ZipArchive::new(Cursor::new(book)).map_err(failed)
}

/// Refuses a name that a worksheet can't have, which the library knows.
fn check_name(name: &str, worksheet: &str) -> Result<()> {
    let named = Worksheet::new().set_name(worksheet).map(drop);
    let bad = |_| Error::BadWorksheet { name: name.to_owned(), worksheet: worksheet.to_owned() };
    named.map_err(bad)
}

/// Joins the parts of a workbook with the one that holds the rows of its worksheet.
fn join(book: &mut Archive, part: File, output: impl Write + Send) -> io::Result<()> {
    let failed = |error: ZipError| match error {
        ZipError::Io(error) => error,
        error => io::Error::other(error),
    };
    let mut part = ZipArchive::new(io::BufReader::with_capacity(1 << 18, part)).map_err(failed)?;
    let mut whole = ZipWriter::new_stream(output);
    for nth in 0..book.len() {
        let other = book.by_index_raw(nth).map_err(failed)?;
        if other.name().is_ok_and(|name| name == SHEET) {
            drop(other);
            let rows = part.by_index_raw(0).map_err(failed)?;
            whole.raw_copy_file_rename(rows, SHEET).map_err(failed)?;
        } else {
            whole.raw_copy_file(other).map_err(failed)?;
        }
    }
    whole.finish().map_err(failed)?.into_inner().flush()
}

/// The text of the worksheet that the library made.
fn sheet_of(book: &mut Archive) -> io::Result<String> {
    io::read_to_string(book.by_name(SHEET).map_err(io::Error::other)?)
}

fn unwritten(name: &str, error: &XlsxError) -> Error {
    match error {
        XlsxError::IoError(cause) => {
            let cause = std::io::Error::new(cause.kind(), cause.to_string());
            Error::Write { name: name.to_owned(), cause }
        }
        error => Error::Unwritten { name: name.to_owned(), said: error.to_string() },
    }
}

impl Sink for WorkbookWriter {
    type Error = Error;
    type Renderer = WorkbookRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        self.begin(columns.headers(), |_| Ok(None))
    }

    fn renderer(&self, columns: &OutputColumns) -> WorkbookRenderer {
        WorkbookRenderer::new(columns, self.styles.clone(), self.lookups.clone(), self.is_plain)
    }

    fn write(&mut self, rendered: &mut SheetRows) -> Result<()> {
        let Some(packer) = &mut self.rows else { return Ok(()) };
        let before = self.count;
        if before + rendered.rows as u64 > MOST_ROWS {
            return Err(Error::TooManyForWorkbook {
                name: self.name.clone(),
                most: MOST_ROWS as u32 - 1,
            });
        }
        let facts = &mut rendered.facts;
        if let Some((row, column)) = facts.too_long {
            return Err(Error::LongForWorkbook {
                name: self.name.clone(),
                row: before + row as u64,
                header: self.headers.get(column).cloned().unwrap_or_default(),
            });
        }
        for (all, new) in self.facts.columns.iter_mut().zip(&facts.columns) {
            all.add(new);
        }
        self.facts.long.0 += facts.long.0;
        self.facts.long.1 = self.facts.long.1.or(facts.long.1);
        let room = MOST_NOTES - self.facts.replaced.len().min(MOST_NOTES);
        let replaced = facts.replaced.drain(..).take(room);
        let placed = replaced.map(|(row, column, was)| (before as usize + row, column, was));
        self.facts.replaced.extend(placed);
        self.count += rendered.rows as u64;
        let (rows, columns) = (std::mem::take(rendered), self.columns.clone());
        let mut placed = PlacedRows { rows, first: before + 1, columns };
        let written = packer.take(&mut placed);
        *rendered = placed.rows;
        written.map_err(|cause| Error::Write { name: self.name.clone(), cause })
    }
}
