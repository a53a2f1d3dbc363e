//! Writing into a workbook that is there: added columns, updates and new rows in the worksheet of a table.
//!
//! In go the rows of an enrichment in the order of the table, as the [cells](cell_edits) that differ from what is there.
//! They are [merged](merger) into the text of the worksheet, which is read once more along with them and packed again,
//! piece by piece. What follows from the cells is changed too: the [used range and the filter](surroundings), a
//! [table](table_part) of the worksheet, [names and the order of calculation](book_part), and
//! [styles](style_sheet). All [other parts](changed_package) of the workbook stay as they are packed.

mod added_worksheet;
mod book_part;
mod cell_edits;
mod cell_writer;
mod changed_package;
mod edit_queue;
mod formula;
mod merger;
mod small_part;
mod style_sheet;
mod surroundings;
mod table_part;
mod there;
mod worksheets;

use std::collections::HashSet;
use std::io::Write;
use std::sync::Arc;

use gather_keys_core::table::{OutputColumns, OwnCells, Sink};
use gather_keys_core::value::date::Epoch;

pub use self::added_worksheet::AddedWorksheet;
pub use self::cell_edits::{CellEdits, EditRenderer};
pub(super) use self::surroundings::widths;

use self::book_part::{calculate_anew, forget_formulas, stretch_names};
use self::cell_edits::EditFacts;
use self::cell_writer::CellWriter;
use self::changed_package::ChangedPackage;
use self::edit_queue::EditQueue;
use self::merger::{MergeFault, Merger, cell_name};
use self::small_part::{Element, SmallPart};
use self::style_sheet::StyleSheet;
use self::surroundings::{Head, NewColumn, Stretch, Tail};
use self::worksheets::{NewSheet, put};
use super::cut::{Pieces, SheetChunk};
use super::{PackageFault, SheetPlace, XlsxBook};
use crate::workbook::Refusal;
use crate::workbook::part::Area;
use crate::workbook::size::{MOST_COLUMNS, MOST_ROWS};
use crate::workbook::writer::{
    AsText, FoundSheet, PackedPart, Packer, Styles, WIDEST, findings_book,
};
use crate::{Error, Result};

/// How many bytes the text before the rows of a worksheet may grow by, and how many more for each added column.
const HEAD: usize = 512;
const HEAD_OF_COLUMN: usize = 120;

/// How many days the epoch of some workbooks is later than the usual one.
const LATER: f64 = 1462.0;

/// How cells are written into a workbook that is there.
#[derive(Debug, Clone, Copy, Default)]
pub struct EditOptions {
    /// Whether written cells are coloured.
    pub highlights: bool,
    /// Whether rows may be appended to the table.
    pub appends: bool,
    /// How many threads may pack its rows.
    pub threads: usize,
}

/// What was found while cells were written.
#[derive(Debug, Clone, Default)]
pub struct Edited {
    /// How many whole numbers are text, since a spreadsheet would round them, and the header of the first.
    pub long: Option<(u64, String)>,
    /// How many cells keep their formula although an update was for them, and the first of them.
    pub left: Option<(u64, String)>,
    /// Whether the workbook has formulas, whose stored values are of before.
    pub has_formulas: bool,
}

/// Writes an enriched table into its worksheet.
pub struct SheetEditor {
    name: String,
    place: SheetPlace,
    options: EditOptions,
    package: ChangedPackage,
    /// The number formats and the widths of columns, those of the table first, where they have some of their own.
    number_formats: Vec<Option<String>>,
    widths: Vec<Option<f64>>,
    lookups: Arc<[usize]>,
    /// The columns of the table in which an update may replace a formula.
    replaced_formulas: Vec<usize>,
    /// The worksheet of findings, if there is to be one.
    findings: Option<String>,
    styles: Arc<Styles>,
    /// The column of the worksheet that each column of the table is.
    own: Arc<[u32]>,
    /// The headers of the added columns, the column of the worksheet of each, and whether an earlier run added it.
    headers: Vec<String>,
    added: Arc<[(u32, bool)]>,
    work: Option<Work>,
    facts: EditFacts,
    /// The last line of the table, and how many rows were appended.
    last_line: u64,
    appended: u64,
}

/// A worksheet that is on its way.
struct Work {
    pieces: Pieces,
    /// A piece whose cells have not all come yet.
    waiting: Option<SheetChunk>,
    queue: EditQueue,
    merger: Merger,
    packer: Option<Packer<Text>>,
    text: Text,
    head: Option<Head>,
    tail: Vec<u8>,
}

/// The text of rows.
#[derive(Debug, Default)]
struct Text(Vec<u8>);

impl AsText for Text {
    fn write_text(&self, text: &mut Vec<u8>) {
        text.clear();
        text.extend_from_slice(&self.0);
    }
}

impl SheetEditor {
    /// Begins to write into a table of the workbook called `name` in messages.
    pub fn new(name: impl Into<String>, place: &SheetPlace, options: EditOptions) -> Self {
        let package = ChangedPackage::new(Arc::clone(&place.package));
        Self {
            name: name.into(),
            place: place.clone(),
            options,
            package,
            number_formats: Vec::new(),
            widths: Vec::new(),
            lookups: [].into(),
            replaced_formulas: Vec::new(),
            findings: None,
            styles: Arc::new(Styles::new(&[], true)),
            own: [].into(),
            headers: Vec::new(),
            added: [].into(),
            work: None,
            facts: EditFacts::default(),
            last_line: place.header_line,
            appended: 0,
        }
    }

    /// Sets the number format and the width of each column, those of the table first, where it has its own.
    pub fn set_columns(&mut self, number_formats: Vec<Option<String>>, widths: Vec<Option<f64>>) {
        self.number_formats = number_formats;
        self.widths = widths;
    }

    /// Sets how many columns each lookup adds.
    pub fn set_added(&mut self, columns: impl Iterator<Item = usize>) {
        let lookups = columns.enumerate();
        let each = lookups.flat_map(|(lookup, count)| std::iter::repeat_n(lookup, count));
        self.lookups = each.collect();
    }

    /// Sets the worksheet of findings, which is replaced if it is there.
    ///
    /// # Errors
    /// When it holds something else than findings.
    pub fn set_findings(&mut self, worksheet: &str) -> Result<()> {
        if worksheet.to_lowercase() == self.place.worksheet.to_lowercase() {
            return Err(self.refused(|worksheet| Refusal::SameName { worksheet }));
        }
        let book = XlsxBook::of(&self.name, Arc::clone(&self.place.package))?;
        added_worksheet::refuse_other_findings(&book, worksheet)?;
        self.findings = Some(worksheet.to_owned());
        Ok(())
    }

    /// Sets the columns of the table in which an update may replace a formula.
    pub fn set_replaced_formulas(&mut self, columns: Vec<usize>) {
        self.replaced_formulas = columns;
    }

    fn fault(&self, fault: PackageFault) -> Error {
        fault.reported(&self.name)
    }

    fn refused(&self, why: impl FnOnce(String) -> Refusal) -> Error {
        let why = why(self.place.worksheet.clone());
        Error::NotInto { name: self.name.clone(), why }
    }

    fn damaged(&self) -> Error {
        self.fault(PackageFault::Damaged("its content is damaged".to_owned()))
    }

    /// The columns of the worksheet that columns of the table are, and those that added ones are.
    fn place_columns(&mut self, own: usize, added: &[String]) -> Result<()> {
        let SheetPlace { columns, hidden, .. } = &self.place;
        let is_read = |column: &usize| !hidden.iter().any(|(_, other)| other == column);
        self.own = columns.clone().filter(is_read).take(own).map(|column| column as u32).collect();
        let mut free = columns.end;
        let places = added.iter().map(|header| {
            if let Some((_, column)) = hidden.iter().find(|(other, _)| other == header) {
                return (*column as u32, true);
            }
            free += 1;
            (free as u32 - 1, false)
        });
        self.added = places.collect();
        self.headers = added.to_vec();
        if free > MOST_COLUMNS {
            return Err(Error::WideForWorkbook { name: self.name.clone(), columns: free });
        }
        Ok(())
    }

    /// The headers that are new, each with its column.
    fn new_headers(&self) -> impl Iterator<Item = (u32, &str)> {
        let places = self.added.iter().zip(&self.headers);
        places
            .filter(|((_, is_there), _)| !is_there)
            .map(|((column, _), header)| (*column, &header[..]))
    }

    /// Merges cells up to a line into the pieces before it.
    fn advance(&mut self, upto: u64) -> Result<()> {
        let Some(mut work) = self.work.take() else { return Ok(()) };
        let done = self.advance_with(&mut work, upto);
        self.work = Some(work);
        done
    }

    fn advance_with(&self, work: &mut Work, upto: u64) -> Result<()> {
        loop {
            let piece = match work.waiting.take() {
                Some(piece) => piece,
                None => match work
                    .pieces
                    .next(Vec::new())
                    .map_err(|fault| fault.reported(&self.name))?
                {
                    Some(piece) => piece,
                    None => return Ok(()),
                },
            };
            if upto < u64::MAX && piece.last.is_none_or(|last| last > upto) {
                work.waiting = Some(piece);
                return Ok(());
            }
            self.take_piece(work, piece)?;
        }
    }

    fn take_piece(&self, work: &mut Work, mut piece: SheetChunk) -> Result<()> {
        if !piece.head.is_empty() {
            let room = piece.head.len() + HEAD + HEAD_OF_COLUMN * self.added.len();
            let head =
                Head::read(std::mem::take(&mut piece.head)).map_err(|fault| self.fault(fault))?;
            head.prefix().clone_into(&mut work.merger.cells().prefix);
            work.head = Some(head);
            let failed = |cause| Error::Write { name: self.name.clone(), cause };
            let part = PackedPart::begin(room).map_err(failed)?;
            work.packer = Some(Packer::new(part, self.options.threads));
        }
        work.text.0.clear();
        let merged = work.merger.merge(&piece, &mut work.queue, &mut work.text.0);
        merged.map_err(|fault| match fault {
            MergeFault::Cell(fault) => fault.reported(&self.name),
            MergeFault::InTheWay(cell) => {
                self.refused(|worksheet| Refusal::CellInTheWay { worksheet, cell })
            }
        })?;
        let packer = work.packer.as_mut().ok_or_else(|| self.damaged())?;
        let packed = packer.take(&mut work.text);
        packed.map_err(|cause| Error::Write { name: self.name.clone(), cause })?;
        if piece.last.is_none() {
            work.tail = std::mem::take(&mut piece.tail);
        }
        Ok(())
    }

    /// Ends the worksheet, and writes the workbook.
    ///
    /// # Errors
    /// When the worksheet is protected, or something can't be read or written.
    pub fn finish(mut self, found: &FoundSheet, output: impl Write) -> Result<Edited> {
        self.advance(u64::MAX)?;
        let Some(work) = self.work.take() else { return Ok(Edited::default()) };
        let Work { mut merger, packer, head, tail, .. } = work;
        let (Some(packer), Some(mut head)) = (packer, head) else { return Err(self.damaged()) };
        let name = self.name.clone();
        let failed = |cause| Error::Write { name: name.clone(), cause };
        let fault = |fault: PackageFault| fault.reported(&name);
        let mut tail = Tail::read(tail).map_err(fault)?;
        if tail.is_protected() {
            return Err(self.refused(|worksheet| Refusal::Protected { worksheet }));
        }
        let by = self.stretch();
        tail.stretch(&by);
        head.stretch(merger.cells().last);
        let new = self.new_columns(&mut merger);
        head.add_columns(&new);
        let prefix = head.prefix().to_owned();
        let (head, rest) = head.changed();
        let part = packer.finish().map_err(failed)?;
        let part = part.finish((&head, rest), &tail.changed(&prefix)).map_err(failed)?;
        self.package.put_packed(&self.place.part, part);
        self.follow_tables(&by)?;
        let book = self.package.relationships(&self.place.book).map_err(fault)?;
        let has_formulas = merger.has_formulas || book.iter().any(|one| one.kind == "calcChain");
        self.follow_book(&by, &merger.without_formula).map_err(fault)?;
        let (left, mut sheet) = (merger.left.clone(), merger.into_styles());
        if let Some(findings) = &self.findings {
            let mut parts = findings_book(&name, found, (&self.place.worksheet, findings))?;
            let new = NewSheet { name: findings, book: &mut parts, number: 1, rows: None };
            put(&mut self.package, &self.place.book, &mut sheet, new).map_err(fault)?;
        }
        if sheet.is_changed() {
            let styles = book.into_iter().find(|one| one.kind == "styles");
            let styles = styles.map(|one| one.target);
            store_styles(&mut self.package, &self.place.book, styles, sheet).map_err(fault)?;
        }
        let package = std::mem::replace(&mut self.package, ChangedPackage::new(self.place.package));
        package.write(output).map_err(failed)?;
        let (count, column) = self.facts.long;
        let long = column.and_then(|column| {
            let header = self.headers.get(column.checked_sub(self.own.len())?)?;
            Some((count, header.clone()))
        });
        let (count, first) = left;
        Ok(Edited { long, left: first.map(|first| (count, first)), has_formulas })
    }

    /// Stretches the tables of the worksheet that cover what was enriched.
    fn follow_tables(&mut self, by: &Stretch) -> Result<()> {
        let headers: Vec<String> =
            self.new_headers().map(|(_, header)| header.to_owned()).collect();
        let related = self.package.relationships(&self.place.part);
        let related = related.map_err(|fault| self.fault(fault))?;
        for table in related.iter().filter(|one| one.kind == "table") {
            let part = self.package.read(&table.target).map_err(|fault| self.fault(fault))?;
            let Some(mut part) = part else { continue };
            if self.appended > 0 && table_part::has_totals(&part, by) {
                return Err(self.refused(|worksheet| Refusal::Totals { worksheet }));
            }
            if table_part::stretch(&mut part, by, &headers) {
                self.package.put(&table.target, part.stored());
            }
        }
        Ok(())
    }

    /// Stretches names, and has everything calculated anew.
    fn follow_book(
        &mut self,
        by: &Stretch,
        without_formula: &[(usize, u64)],
    ) -> std::result::Result<(), PackageFault> {
        let (book, worksheet) = (&self.place.book, &self.place.worksheet);
        let Some(mut part) = self.package.read(book)? else { return Ok(()) };
        stretch_names(&mut part, worksheet, by);
        calculate_anew(&mut part);
        let sheet = sheet_number(&part, worksheet);
        self.package.put(book, part.stored());
        if without_formula.is_empty() {
            return Ok(());
        }
        let gone: HashSet<String> =
            without_formula.iter().map(|(column, line)| cell_name(*column, *line)).collect();
        let is_gone = |of: usize, cell: &str| of == sheet && gone.contains(cell);
        forget_formulas(&mut self.package, book, is_gone)
    }

    /// How the table has grown.
    fn stretch(&self) -> Stretch {
        let table = Area {
            first: self.place.header_line.max(1),
            last: self.last_line,
            columns: self.place.columns.clone(),
        };
        let columns = self.new_headers().count();
        Stretch { table, columns, last: self.last_line + self.appended }
    }

    /// The added columns that are new, as the worksheet is to show them.
    fn new_columns(&self, merger: &mut Merger) -> Vec<NewColumn> {
        let own = self.own.len();
        let places = self.added.iter().zip(&self.headers).enumerate();
        let new = places.filter(|(_, ((_, is_there), _))| !is_there);
        new.map(|(nth, ((column, _), header))| {
            let cells = self.facts.widths.get(nth).copied().unwrap_or_default();
            let shown = cells.max(header.chars().count()).clamp(6, WIDEST) + 2;
            let width = self.widths.get(own + nth).copied().flatten().unwrap_or(shown as f64);
            let numbers = self.facts.numbers.get(nth).copied().unwrap_or_default();
            // Cells that somebody adds below have the format of the column.
            let look = numbers.2.filter(|_| numbers.0 > numbers.1);
            let style = look.map_or(0, |look| merger.cells().style_of(look));
            NewColumn { column: *column as usize, width, style }
        })
        .collect()
    }
}

/// The number by which formulas know a worksheet.
fn sheet_number(book: &SmallPart, worksheet: &str) -> usize {
    let is_it = |one: &&Element| book.attribute(one, "name").as_deref() == Some(worksheet);
    let sheet = book.named("sheet").find(is_it);
    sheet.and_then(|sheet| book.number(sheet, "sheetId")).unwrap_or_default()
}

/// Stores the styles of a workbook, which may have had none.
fn store_styles(
    package: &mut ChangedPackage,
    book: &str,
    part: Option<String>,
    styles: StyleSheet,
) -> std::result::Result<(), PackageFault> {
    const KIND: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships/styles";
    const TYPE: &str = "application/vnd.openxmlformats-officedocument.spreadsheetml.styles+xml";
    let target = match part {
        Some(part) => part,
        None => {
            let folder = book.rsplit_once('/').map_or("", |(folder, _)| folder);
            let target = format!("{folder}/styles.xml").trim_start_matches('/').to_owned();
            package.relate(book, KIND, &target)?;
            package.declare(&target, TYPE)?;
            target
        }
    };
    package.put(&target, styles.stored());
    Ok(())
}

impl Sink for SheetEditor {
    type Error = Error;
    type Renderer = EditRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        let added: Vec<String> =
            columns.headers().iter().skip(columns.own()).map(str::to_owned).collect();
        self.place_columns(columns.own(), &added)?;
        self.number_formats.resize(columns.len(), None);
        self.styles = Arc::new(Styles::new(&self.number_formats, true));
        let fault = |fault: PackageFault| fault.reported(&self.name);
        let book = self.package.relationships(&self.place.book).map_err(fault)?;
        let styles = book.iter().find(|one| one.kind == "styles");
        let styles = styles.map(|one| self.package.read(&one.target)).transpose().map_err(fault)?;
        let sheet = StyleSheet::read(styles.flatten()).map_err(fault)?;
        let cells = CellWriter::new(self.styles.clone(), sheet);
        let replaced = self.replaced_formulas.iter().filter_map(|&column| self.own.get(column));
        let replaced = replaced.map(|column| *column as usize).collect();
        let columns = self.place.columns.clone();
        let merger = Merger::new(cells, columns, replaced, self.options.appends);
        let text = self.place.package.part(&self.place.part).ok_or_else(|| self.damaged())?;
        let pieces = Pieces::begin_whole(&self.name, text.map_err(fault)?);
        let pieces = pieces.map_err(|cause| Error::Read { name: self.name.clone(), cause })?;
        let mut queue = EditQueue::default();
        if self.place.header_line > 0 && self.new_headers().next().is_some() {
            let line = self.place.header_line;
            queue.push(&mut CellEdits::of_headers(line, self.new_headers(), &self.styles));
        }
        self.work = Some(Work {
            pieces,
            waiting: None,
            queue,
            merger,
            packer: None,
            text: Text::default(),
            head: None,
            tail: Vec::new(),
        });
        Ok(())
    }

    fn renderer(&self, columns: &OutputColumns) -> EditRenderer {
        EditRenderer {
            overlay: columns.overlay().clone(),
            styles: self.styles.clone(),
            own: self.own.clone(),
            added: self.added.clone(),
            lookups: self.lookups.clone(),
            highlights: self.options.highlights,
            later: if self.place.epoch == Epoch::Of1904 { LATER } else { 0.0 },
        }
    }

    fn wants(&self) -> OwnCells {
        // Those that are replaced are looked at in any case.
        OwnCells::None
    }

    fn write(&mut self, rendered: &mut CellEdits) -> Result<()> {
        self.write_at(self.last_line + 1, rendered)
    }

    fn write_at(&mut self, first_line: u64, rendered: &mut CellEdits) -> Result<()> {
        let facts = std::mem::take(&mut rendered.facts);
        if let Some((row, column)) = facts.too_long {
            let header = column.checked_sub(self.own.len()).and_then(|nth| self.headers.get(nth));
            let header = header.cloned().unwrap_or_default();
            return Err(Error::LongForWorkbook { name: self.name.clone(), row: row + 1, header });
        }
        self.facts.add(&facts);
        rendered.facts = facts;
        if rendered.are_appended {
            rendered.place(self.last_line + self.appended + 1);
            self.appended += rendered.rows() as u64;
        } else {
            rendered.place(first_line);
            self.last_line = rendered.last_line().unwrap_or(self.last_line);
        }
        let last = self.last_line + self.appended;
        if last > MOST_ROWS {
            let (name, most) = (self.name.clone(), MOST_ROWS as u32 - 1);
            return Err(Error::TooManyForWorkbook { name, most });
        }
        if let Some(work) = &mut self.work {
            work.queue.push(rendered);
        }
        self.advance(last)
    }
}
