//! Writing a table as a worksheet.
//!
//! Rows go to a temporary file of the writing crate as they come, so that a large table is never
//! in memory. The headers are bold and stay in sight, columns have a filter and are as wide as
//! their cells, what was taken or changed is on a coloured ground, and a cell that was replaced
//! has a note with what it was.

use std::io::Write;

use gather_keys_core::table::{Block, Headers, Overlay, Renderer, Sink};
use rust_xlsxwriter::{
    Color, DocProperties, ExcelDateTime, Format, Note, Workbook, Worksheet, XlsxError,
};

use super::shown::Shown;
use crate::{Error, Result};

/// How many rows a worksheet has.
const MOST_ROWS: u32 = 1_048_576;

/// How many replaced cells get a note.
const MOST_NOTES: usize = 2000;

/// How many characters wide a column is at most.
const WIDEST: usize = 60;

const TAKEN: Color = Color::RGB(0x00FF_F4D6);
const CHANGED: Color = Color::RGB(0x00FF_DF94);

/// The grounds that cells are on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Ground {
    Plain,
    Taken,
    Changed,
}

/// Writes a table as a worksheet of a workbook.
pub struct WorkbookWriter {
    name: String,
    workbook: Workbook,
    headers: Vec<String>,
    /// How many columns are the main table's own.
    own: usize,
    plain: bool,
    /// The next row of the worksheet, from 0.
    row: u32,
    /// How many characters each column needs.
    widths: Vec<usize>,
    notes: usize,
    /// How many whole numbers are text, since they have too many digits, and the first of their columns.
    long: (u64, Option<usize>),
    formats: Formats,
}

/// The formats of cells, made once.
struct Formats(Vec<Format>);

/// How many decimals a number is shown with at most.
const MOST_DECIMALS: usize = 15;

impl Formats {
    fn new() -> Self {
        let grounds = [None, Some(TAKEN), Some(CHANGED)];
        let decimals = (0..=MOST_DECIMALS).map(|decimals| match decimals {
            0 => "General".to_owned(),
            decimals => format!("0.{}", "0".repeat(decimals)),
        });
        let moments = ["@", "yyyy-mm-dd", "yyyy-mm-dd hh:mm:ss", "[h]:mm:ss"];
        let shapes: Vec<String> = decimals.chain(moments.map(str::to_owned)).collect();
        let all = grounds.iter().flat_map(|ground| {
            shapes.iter().map(move |shape| {
                let format = Format::new().set_num_format(shape);
                match ground {
                    Some(color) => format.set_background_color(*color),
                    None => format,
                }
            })
        });
        Self(all.collect())
    }

    fn get(&self, shown: &Shown, ground: Ground) -> &Format {
        let shape = match shown {
            Shown::Number(_, decimals) => (*decimals).min(MOST_DECIMALS),
            Shown::Blank | Shown::Truth(_) => 0,
            Shown::Text(_) | Shown::LongNumber(_) => MOST_DECIMALS + 1,
            Shown::Date(_) => MOST_DECIMALS + 2,
            Shown::DateTime(_) => MOST_DECIMALS + 3,
            Shown::Time(_) => MOST_DECIMALS + 4,
        };
        &self.0[ground as usize * (MOST_DECIMALS + 5) + shape]
    }
}

/// A row as it is to be in a worksheet.
#[derive(Debug)]
pub struct ShownRow(Vec<(Shown, Option<String>)>);

impl WorkbookWriter {
    /// Begins a workbook that is called `name` in messages, with one worksheet; `plain` leaves out
    /// whatever is not a cell.
    ///
    /// # Errors
    /// When the worksheet can't have its name, or no temporary file can be made.
    pub fn new(name: impl Into<String>, worksheet: Option<&str>, plain: bool) -> Result<Self> {
        let name = name.into();
        let mut workbook = Workbook::new();
        let unwritten = |error: XlsxError| unwritten(&name, &error);
        // The same table gives the same file, whenever it is written.
        let made = ExcelDateTime::from_ymd(2000, 1, 1).map_err(unwritten)?;
        workbook.set_properties(&DocProperties::new().set_creation_datetime(&made));
        let sheet = workbook.add_worksheet_with_constant_memory().map_err(unwritten)?;
        sheet.set_name(worksheet.unwrap_or("Table")).map_err(unwritten)?;
        Ok(Self {
            name,
            workbook,
            headers: Vec::new(),
            own: 0,
            plain,
            row: 0,
            widths: Vec::new(),
            notes: 0,
            long: (0, None),
            formats: Formats::new(),
        })
    }

    /// Writes the workbook, with a second worksheet of what was found, a line for each. Gives how many whole
    /// numbers are text, since a spreadsheet would round them, and the header of the first.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn finish(
        mut self,
        found: &[[String; 3]],
        output: impl Write + Send,
    ) -> Result<Option<(u64, String)>> {
        let name = self.name.clone();
        let failed = |error: XlsxError| unwritten(&name, &error);
        if !self.plain {
            let (rows, columns) = (self.row.max(1) - 1, self.headers.len().max(1) as u16 - 1);
            let widths = std::mem::take(&mut self.widths);
            let sheet = self.workbook.worksheet_from_index(0).map_err(failed)?;
            sheet.set_freeze_panes(1, 0).map_err(failed)?;
            sheet.autofilter(0, 0, rows, columns).map_err(failed)?;
            for (column, width) in (0..).zip(widths) {
                let width = (width + 2).clamp(8, WIDEST);
                sheet.set_column_width(column, width as f64).map_err(failed)?;
            }
            let sheet = self.workbook.add_worksheet();
            sheet.set_name("Findings").map_err(failed)?;
            let bold = Format::new().set_bold();
            for (column, header) in (0..).zip(["reference", "finding", "count"]) {
                sheet.write_string_with_format(0, column, header, &bold).map_err(failed)?;
            }
            for (row, [reference, finding, count]) in (1..).zip(found) {
                sheet.write_string(row, 0, reference).map_err(failed)?;
                sheet.write_string(row, 1, finding).map_err(failed)?;
                let count: f64 = count.parse().unwrap_or_default();
                sheet.write_number(row, 2, count).map_err(failed)?;
            }
            sheet.set_column_width(0, 20).map_err(failed)?;
            sheet.set_column_width(1, 16).map_err(failed)?;
        }
        self.workbook.save_to_writer(output).map_err(failed)?;
        let (count, column) = self.long;
        Ok(column.map(|column| (count, self.headers[column].clone())))
    }

    fn write_row(&mut self, row: &ShownRow) -> Result<()> {
        let at = self.row;
        if at == MOST_ROWS {
            return Err(Error::TooManyForWorkbook { name: self.name.clone(), most: MOST_ROWS - 1 });
        }
        let (name, headers, formats) = (&self.name, &self.headers, &self.formats);
        let sheet = self.workbook.worksheet_from_index(0);
        let sheet = sheet.map_err(|error| unwritten(name, &error))?;
        for (column, (shown, before)) in row.0.iter().enumerate() {
            let ground = match before {
                _ if self.plain => Ground::Plain,
                Some(_) => Ground::Changed,
                None if column >= self.own => Ground::Taken,
                None => Ground::Plain,
            };
            let format = formats.get(shown, ground);
            write_cell(sheet, (at, column as u16), shown, format).map_err(|error| match error {
                XlsxError::MaxStringLengthExceeded => Error::LongForWorkbook {
                    name: name.clone(),
                    row: u64::from(at),
                    header: headers.get(column).cloned().unwrap_or_default(),
                },
                error => unwritten(name, &error),
            })?;
            if matches!(shown, Shown::LongNumber(_)) {
                self.long.0 += 1;
                self.long.1.get_or_insert(column);
            }
            let width = &mut self.widths[column];
            *width = (*width).max(width_of(shown));
            let replaced = before.as_ref().filter(|before| !before.is_empty());
            if let (Some(before), false, true) = (replaced, self.plain, self.notes < MOST_NOTES) {
                self.notes += 1;
                let was: String = format!("was: {before}").chars().take(1000).collect();
                // Otherwise the author of a note is named in it.
                let note = Note::new(was).add_author_prefix(false);
                let noted = sheet.insert_note(at, column as u16, &note);
                noted.map_err(|error| unwritten(name, &error))?;
            }
        }
        self.row += 1;
        Ok(())
    }
}

fn write_cell(
    sheet: &mut Worksheet,
    (row, column): (u32, u16),
    shown: &Shown,
    format: &Format,
) -> std::result::Result<(), XlsxError> {
    match shown {
        Shown::Blank => Ok(()),
        Shown::Text(text) | Shown::LongNumber(text) => {
            sheet.write_string_with_format(row, column, text, format).map(drop)
        }
        Shown::Truth(is) => sheet.write_boolean_with_format(row, column, *is, format).map(drop),
        Shown::Number(number, _)
        | Shown::Date(number)
        | Shown::DateTime(number)
        | Shown::Time(number) => {
            sheet.write_number_with_format(row, column, *number, format).map(drop)
        }
    }
}

/// How many characters a cell takes.
fn width_of(shown: &Shown) -> usize {
    match shown {
        Shown::Blank => 0,
        Shown::Text(text) | Shown::LongNumber(text) => text.chars().take(WIDEST).count(),
        Shown::Truth(_) => 5,
        Shown::Date(_) | Shown::Time(_) => 10,
        Shown::DateTime(_) => 19,
        Shown::Number(number, decimals) => format!("{number:.0}").len() + decimals + 1,
    }
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

    fn write_headers(&mut self, main: &Headers, added: &[String]) -> Result<()> {
        self.own = main.len();
        self.headers = main.iter().map(str::to_owned).chain(added.iter().cloned()).collect();
        self.widths = self.headers.iter().map(|header| header.chars().count() + 2).collect();
        let name = self.name.clone();
        let failed = |error: XlsxError| unwritten(&name, &error);
        let format = if self.plain { Format::new() } else { Format::new().set_bold() };
        let sheet = self.workbook.worksheet_from_index(0).map_err(failed)?;
        for (column, header) in self.headers.iter().enumerate() {
            let column = u16::try_from(column).unwrap_or(u16::MAX);
            sheet.write_string_with_format(0, column, header, &format).map_err(failed)?;
        }
        self.row = 1;
        Ok(())
    }

    fn renderer(&self, overlay: Overlay) -> WorkbookRenderer {
        WorkbookRenderer { overlay }
    }

    fn write(&mut self, rendered: &mut Vec<ShownRow>) -> Result<()> {
        rendered.iter().try_for_each(|row| self.write_row(row))
    }
}

/// Makes rows of a worksheet.
#[derive(Debug, Clone)]
pub struct WorkbookRenderer {
    overlay: Overlay,
}

impl Renderer for WorkbookRenderer {
    type Rendered = Vec<ShownRow>;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, rendered: &mut Vec<ShownRow>) {
        rendered.clear();
        let own = |row: usize, nth: usize, column: usize| match self.overlay.place(column) {
            Some(place) => {
                let (before, now) = (main.cell(row, column), added.cell(nth, place));
                let changed = (before != now).then(|| before.to_owned());
                (Shown::of(now, added.kind(nth, place)), changed)
            }
            None => (Shown::of(main.cell(row, column), main.kind(row, column)), None),
        };
        for (nth, &row) in rows.iter().enumerate() {
            let first = self.overlay.len();
            let behind = (first..added.columns())
                .map(|place| (Shown::of(added.cell(nth, place), added.kind(nth, place)), None));
            let cells = (0..main.columns()).map(|column| own(row, nth, column)).chain(behind);
            rendered.push(ShownRow(cells.collect()));
        }
    }
}
