//! A worksheet of its own for a table, in a workbook that is there.
//!
//! It is written as that of a new workbook is, with the styles of the workbook that it is for. All else in that stays.

use std::io::Write;
use std::sync::Arc;

use gather_keys_core::table::{OutputColumns, Sink};

use super::book_part::calculate_anew;
use super::changed_package::ChangedPackage;
use super::style_sheet::StyleSheet;
use super::worksheets::{NewSheet, put, styles_of};
use super::{Edited, store_styles};
use crate::delimited::HeaderRow;
use crate::workbook::reader::xlsx_book;
use crate::workbook::writer::{
    FoundSheet, HEADERS_OF_FINDINGS, Parts, SheetRows, WorkbookOptions, WorkbookRenderer,
    WorkbookWriter, findings_book,
};
use crate::workbook::xlsx::{PackageFault, SheetReader, XlsxBook};
use crate::workbook::{Refusal, Sought};
use crate::{Error, InputFile, Result};

/// Writes a table as a worksheet of a workbook that is there.
pub struct AddedWorksheet {
    writer: WorkbookWriter,
    book: ExistingBook,
    worksheet: String,
    findings: Option<String>,
}

/// A workbook that is there, into which worksheets are put.
pub(super) struct ExistingBook {
    name: String,
    package: ChangedPackage,
    /// The part that says what is in it, and that of its styles.
    part: String,
    style_part: Option<String>,
    styles: StyleSheet,
}

impl AddedWorksheet {
    /// Begins a worksheet of the workbook in a file. One that has its name is replaced only with `overwrite`.
    ///
    /// # Errors
    /// When the file is no workbook that can be written into, or has a worksheet of the name.
    pub fn new(file: &InputFile, overwrite: bool, options: WorkbookOptions<'_>) -> Result<Self> {
        let name = file.name();
        let book = xlsx_book(name, file)?;
        let worksheet = options.worksheet.unwrap_or_default().to_owned();
        if !overwrite
            && let Some(there) =
                book.names().find(|one| one.to_lowercase() == worksheet.to_lowercase())
        {
            let why = Refusal::Exists { worksheet: there.to_owned() };
            return Err(Error::NotInto { name: name.to_owned(), why });
        }
        let findings = options.findings.map(str::to_owned);
        if let Some(findings) = &findings {
            refuse_other_findings(&book, findings)?;
        }
        let book = ExistingBook::of(&book).map_err(|fault| fault.reported(name))?;
        book.refuse_strict()?;
        let writer = WorkbookWriter::new(name, options)?;
        Ok(Self { writer, book, worksheet, findings })
    }

    /// Sets the number format of each column of the output, where it has one of its own.
    pub fn set_number_formats(&mut self, formats: Vec<Option<String>>) {
        self.writer.set_number_formats(formats);
    }

    /// Sets how many columns each lookup adds, so that their cells show what became of a row.
    pub fn set_added(&mut self, columns: impl Iterator<Item = usize>) {
        self.writer.set_added(columns);
    }

    /// Ends the worksheet, and writes the workbook with it, and with the findings where they have a worksheet.
    ///
    /// # Errors
    /// When something can't be read or written.
    pub fn finish(self, found: &FoundSheet, output: impl Write) -> Result<Edited> {
        let Self { writer, mut book, worksheet, findings } = self;
        let name = book.name.clone();
        let fault = |fault: PackageFault| fault.reported(&name);
        let Parts { book: mut parts, rows, long } = writer.finish_parts(None)?;
        let sheet = NewSheet { name: &worksheet, book: &mut parts, number: 1, rows: Some(rows) };
        put(&mut book.package, &book.part, &mut book.styles, sheet).map_err(fault)?;
        if let Some(findings) = &findings {
            let mut parts = findings_book(&name, found, (&worksheet, findings))?;
            let sheet = NewSheet { name: findings, book: &mut parts, number: 1, rows: None };
            put(&mut book.package, &book.part, &mut book.styles, sheet).map_err(fault)?;
        }
        let has_formulas = book.has_formulas().map_err(fault)?;
        book.write(output)?;
        Ok(Edited { long, left: None, has_formulas })
    }
}

impl ExistingBook {
    fn of(book: &XlsxBook) -> std::result::Result<Self, PackageFault> {
        let package = ChangedPackage::new(Arc::clone(&book.package));
        let related = package.relationships(&book.part)?;
        let style_part = related.into_iter().find(|one| one.kind == "styles").map(|one| one.target);
        let styles = style_part.as_deref().map(|part| package.read(part)).transpose()?;
        let styles = StyleSheet::read(styles.flatten())?;
        Ok(Self { name: book.name.clone(), package, part: book.part.clone(), style_part, styles })
    }

    /// Refuses a workbook whose vocabulary is another than that of most.
    fn refuse_strict(&self) -> Result<()> {
        let part = self.package.read(&self.part).map_err(|fault| fault.reported(&self.name))?;
        if part.is_some_and(|part| part.text().contains("purl.oclc.org/ooxml")) {
            return Err(Error::NotInto { name: self.name.clone(), why: Refusal::OtherFormat });
        }
        Ok(())
    }

    /// Whether formulas of the workbook are known to be calculated.
    fn has_formulas(&self) -> std::result::Result<bool, PackageFault> {
        Ok(self.package.relationships(&self.part)?.iter().any(|one| one.kind == "calcChain"))
    }

    /// Writes the workbook, which is calculated anew when it is opened.
    fn write(mut self, output: impl Write) -> Result<()> {
        let fault = |fault: PackageFault| fault.reported(&self.name);
        if let Some(mut part) = self.package.read(&self.part).map_err(fault)? {
            calculate_anew(&mut part);
            self.package.put(&self.part, part.stored());
        }
        if self.styles.is_changed() {
            store_styles(&mut self.package, &self.part, self.style_part, self.styles)
                .map_err(fault)?;
        }
        let name = &self.name;
        self.package.write(output).map_err(|cause| Error::Write { name: name.clone(), cause })
    }
}

/// Refuses to write findings into a worksheet that holds something else than findings.
pub(super) fn refuse_other_findings(book: &XlsxBook, worksheet: &str) -> Result<()> {
    let Some(there) = book.names().find(|one| one.to_lowercase() == worksheet.to_lowercase())
    else {
        return Ok(());
    };
    let sought = Sought { headers: HeaderRow::First, asked: &[], without: &[] };
    let is_ours = match SheetReader::open(book, Some(there), &sought) {
        Ok(sheet) => sheet.headers().iter().take(HEADERS_OF_FINDINGS.len()).eq(HEADERS_OF_FINDINGS),
        // Of an empty one nothing is lost.
        Err(Error::Empty { .. }) => true,
        Err(error) => return Err(error),
    };
    if is_ours {
        return Ok(());
    }
    let why = Refusal::NotOfFindings { worksheet: there.to_owned() };
    Err(Error::NotInto { name: book.name.clone(), why })
}

impl Sink for AddedWorksheet {
    type Error = Error;
    type Renderer = WorkbookRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        let (styles, name) = (&mut self.book.styles, &self.book.name);
        self.writer.begin(columns.headers(), |book| {
            let own = styles_of(book).map_err(|fault| fault.reported(name))?;
            Ok(Some(styles.import(&own)))
        })
    }

    fn renderer(&self, columns: &OutputColumns) -> WorkbookRenderer {
        self.writer.renderer(columns)
    }

    fn write(&mut self, rendered: &mut SheetRows) -> Result<()> {
        self.writer.write(rendered)
    }
}
