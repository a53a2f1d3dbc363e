//! ODS: read along the way, by elements.
//!
//! The content is gone through twice: once for the names of its worksheets and ranges, of which some
//! are at its end, and once for the cells. A cell or row that is reported to repeat is repeated here, and
//! no element, cell or row is held that would fill the memory.

use std::borrow::Cow;
use std::io::{BufReader, Read};

use gather_keys_core::table::CellKind;
use quick_xml::Reader;
use quick_xml::escape::{resolve_predefined_entity, unescape};
use quick_xml::events::{BytesRef, BytesStart, Event};
use zip::ZipArchive;
use zip::read::ZipFile;

use super::beginning::MOST_TEXT;
use super::headers::Merged;
use super::paced::MOST_BETWEEN;
use super::part::{Named, range, ranges};
use super::row::Row;
use super::size::MOST_ROWS;
use super::value::{iso, span};
use super::worksheet::Worksheet;
use crate::rows::End;
use crate::{Error, FileReader, Result};
use gather_keys_core::value::number::push_spreadsheet_number;

/// The part that holds all worksheets, and the part that says whether they are encrypted.
const CONTENT: &str = "content.xml";
const MANIFEST: &str = "META-INF/manifest.xml";

/// How much of the manifest is looked at.
const MOST_MANIFEST: u64 = 1 << 20;

/// How many bytes are unpacked at a time.
const AT_ONCE: usize = 64 << 10;

/// The style name of worksheets that hold data of another file.
const KEPT_OF_ANOTHER: &str = "ta_extref";

/// Reads the worksheet that is meant of a file.
///
/// # Errors
/// When the file is no such workbook, has no such worksheet, or would fill the memory.
pub(super) fn read(file: FileReader, worksheet: &mut Worksheet) -> std::result::Result<(), End> {
    let archive = ZipArchive::new(BufReader::new(file));
    let mut archive = archive.map_err(|error| worksheet.unread(error.to_string()))?;
    if is_locked(&mut archive) {
        return Err(worksheet.locked().into());
    }
    let (names, named) = Content::open(&mut archive, worksheet)?.names(worksheet)?;
    let chosen = worksheet.chosen(&names, || named)?;
    Content::open(&mut archive, worksheet)?.rows(&chosen, worksheet)
}

fn is_locked(archive: &mut ZipArchive<BufReader<FileReader>>) -> bool {
    let mut text = Vec::new();
    let Ok(manifest) = archive.by_name(MANIFEST) else { return false };
    let _ = manifest.take(MOST_MANIFEST).read_to_end(&mut text);
    memchr::memmem::find(&text, b"encryption-data").is_some()
}

/// Reads until the next cell, and no further.
struct Measured<R> {
    content: R,
    left: u64,
}

impl<R: Read> Read for Measured<R> {
    fn read(&mut self, room: &mut [u8]) -> std::io::Result<usize> {
        let read = self.content.read(room)?;
        self.left = self.left.saturating_sub(read as u64);
        if self.left == 0 { Err(std::io::Error::other("too much")) } else { Ok(read) }
    }
}

/// The elements of the content.
struct Content<'a> {
    reader: Reader<BufReader<Measured<ZipFile<'a, BufReader<FileReader>>>>>,
    buffer: Vec<u8>,
}

/// A cell, or several that are the same.
#[derive(Default)]
struct Repeated {
    text: String,
    kind: CellKind,
    is_error: bool,
    times: u64,
    /// How many columns and rows it is merged over.
    over: (u64, u64),
}

impl<'a> Content<'a> {
    fn open(
        archive: &'a mut ZipArchive<BufReader<FileReader>>,
        worksheet: &Worksheet,
    ) -> Result<Self> {
        let content = archive.by_name(CONTENT);
        let content = content.map_err(|error| worksheet.unread(error.to_string()))?;
        let measured = Measured { content, left: MOST_BETWEEN };
        let mut reader = Reader::from_reader(BufReader::with_capacity(AT_ONCE, measured));
        reader.config_mut().expand_empty_elements = true;
        Ok(Self { reader, buffer: Vec::new() })
    }

    /// The next element, text or end.
    fn next(&mut self, worksheet: &Worksheet) -> Result<Event<'_>> {
        self.buffer.clear();
        let event = self.reader.read_event_into(&mut self.buffer);
        event.map_err(|error| bad(worksheet, &error))
    }

    /// As much as may be read from here on to the next cell.
    fn measure(&mut self) {
        self.reader.get_mut().get_mut().left = MOST_BETWEEN;
    }

    /// Moves past an element that has just begun.
    fn skip(&mut self, worksheet: &Worksheet) -> Result<()> {
        let mut depth = 1;
        while depth > 0 {
            match self.next(worksheet)? {
                Event::Start(_) => depth += 1,
                Event::End(_) => depth -= 1,
                Event::Eof => return Err(worksheet.unread("it ends too early")),
                _ => {}
            }
        }
        Ok(())
    }

    /// The names of the worksheets, and what else has a name.
    fn names(mut self, worksheet: &Worksheet) -> Result<(Vec<String>, Vec<Named>)> {
        let (mut names, mut defined, mut tables) = (Vec::new(), Vec::new(), Vec::new());
        let mut is_workbook = false;
        loop {
            match self.next(worksheet)? {
                Event::Start(element) => match element.local_name().as_ref() {
                    "spreadsheet" => is_workbook = true,
                    "table"
                        if text_of(&element, "table:style-name").as_deref()
                            != Some(KEPT_OF_ANOTHER) =>
                    {
                        names.push(text_of(&element, "table:name").unwrap_or_default());
                    }
                    "named-range" => defined.extend(
                        text_of(&element, "table:name")
                            .zip(text_of(&element, "table:cell-range-address")),
                    ),
                    "database-range" => tables.extend(table(&element)),
                    // Cells hold no names; a text or shape within one may look like a worksheet.
                    "table-cell" | "covered-table-cell" | "shapes" | "dde-links" => {
                        self.skip(worksheet)?;
                        self.measure();
                    }
                    _ => {}
                },
                Event::Eof => break,
                _ => {}
            }
        }
        // Documents of other kinds may hold tables of theirs.
        if !is_workbook {
            return Err(worksheet.unread("it is not a workbook"));
        }
        tables.retain(|table: &Named| names.contains(&table.worksheet));
        tables.extend(ranges(&defined, &names));
        Ok((names, tables))
    }

    /// Hands over the rows of a worksheet.
    fn rows(mut self, chosen: &str, worksheet: &mut Worksheet) -> std::result::Result<(), End> {
        let is_chosen = |element: &BytesStart<'_>| {
            element.local_name().as_ref() == "table"
                && text_of(element, "table:name").as_deref() == Some(chosen)
        };
        loop {
            match self.next(worksheet)? {
                Event::Start(element) if is_chosen(&element) => break,
                Event::Eof => return Err(worksheet.unread("its content is damaged").into()),
                _ => self.measure(),
            }
        }
        let (mut line, mut row, mut cell) = (1, Row::default(), Repeated::default());
        loop {
            match self.next(worksheet)? {
                Event::Start(element) => match element.local_name().as_ref() {
                    "table-row" => {
                        let times = number_of(&element, "table:number-rows-repeated").unwrap_or(1);
                        row.clear();
                        self.cells(line, &mut row, &mut cell, worksheet)?;
                        line = Self::take(line, times, &mut row, worksheet)?;
                        if worksheet.is_past(line) {
                            break;
                        }
                    }
                    "shapes" => self.skip(worksheet)?,
                    _ => {}
                },
                Event::End(element) if element.local_name().as_ref() == "table" => break,
                Event::Eof => return Err(worksheet.unread("it ends too early").into()),
                _ => {}
            }
        }
        worksheet.finish(Vec::new)
    }

    /// Hands over a row, as often as it repeats, and gives the line after it.
    fn take(
        line: u64,
        times: u64,
        row: &mut Row,
        worksheet: &mut Worksheet,
    ) -> std::result::Result<u64, End> {
        let behind = line.saturating_add(times);
        if row.is_blank() {
            return Ok(behind);
        }
        if behind > MOST_ROWS + 1 {
            return Err(worksheet.unread("it has more than 1,048,576 rows").into());
        }
        for line in line..behind {
            worksheet.take(line, row, Vec::new)?;
        }
        Ok(behind)
    }

    /// Reads the cells of a row.
    fn cells(
        &mut self,
        line: u64,
        row: &mut Row,
        cell: &mut Repeated,
        worksheet: &mut Worksheet,
    ) -> Result<()> {
        let mut column = 0_u64;
        loop {
            match self.next(worksheet)? {
                Event::Start(element) => match element.local_name().as_ref() {
                    "table-cell" | "covered-table-cell" => {
                        let is_said = cell.begin(&element);
                        self.cell(cell, is_said, worksheet)?;
                        self.measure();
                    }
                    _ => {
                        self.skip(worksheet)?;
                        continue;
                    }
                },
                Event::End(_) => return Ok(()),
                Event::Eof => return Err(worksheet.unread("it ends too early")),
                _ => continue,
            }
            let behind = column.saturating_add(cell.times);
            let (wide, tall) = cell.over;
            if wide.max(tall) > 1 && !worksheet.has_begun() {
                let columns = column as usize..column.saturating_add(wide) as usize;
                let last = line.saturating_add(tall.saturating_sub(1));
                worksheet.merge([Merged { first: line, last, columns }]);
            }
            // Blank ones may repeat to the end of all columns.
            let is_blank = cell.text.is_empty() && !cell.is_error;
            for column in (column..behind).take_while(|_| !is_blank) {
                worksheet.put_by(column as usize, row, |text| {
                    if cell.is_error {
                        worksheet.error_cell();
                        return CellKind::Untyped;
                    }
                    text.push_str(&cell.text);
                    cell.kind
                })?;
            }
            column = behind;
        }
    }

    /// Reads what is in a cell, up to its end. It is the cell's text unless that `is_said`.
    fn cell(&mut self, cell: &mut Repeated, is_said: bool, worksheet: &Worksheet) -> Result<()> {
        let (mut depth, mut paragraphs, mut in_paragraph) = (1, 0, 0);
        // Several spaces count as one, and spaces at the beginning as none; those that count are
        // elements.
        let mut is_behind_space = true;
        loop {
            let is_wanted = !is_said && in_paragraph > 0;
            match self.next(worksheet)? {
                Event::Start(element) => match element.local_name().as_ref() {
                    // Notes that are pinned to a cell are not in it.
                    "annotation" | "frame" | "custom-shape" | "g" | "control" => {
                        self.skip(worksheet)?;
                    }
                    "p" if in_paragraph == 0 => {
                        depth += 1;
                        in_paragraph = depth;
                        paragraphs += 1;
                        is_behind_space = true;
                        if paragraphs > 1 && !is_said {
                            cell.text.push('\n');
                        }
                    }
                    "s" if is_wanted => {
                        let times = number_of(&element, "text:c").unwrap_or(1);
                        let room = (MOST_TEXT - cell.text.len().min(MOST_TEXT)) as u64;
                        if times > room {
                            return Err(too_much(worksheet));
                        }
                        cell.text.extend((0..times).map(|_| ' '));
                        is_behind_space = false;
                        depth += 1;
                    }
                    "tab" | "line-break" if is_wanted => {
                        let is_tab = element.local_name().as_ref() == "tab";
                        cell.text.push(if is_tab { '\t' } else { '\n' });
                        is_behind_space = false;
                        depth += 1;
                    }
                    _ => depth += 1,
                },
                Event::End(_) => {
                    if depth == in_paragraph {
                        in_paragraph = 0;
                    }
                    depth -= 1;
                    if depth == 0 {
                        break;
                    }
                }
                Event::Text(text) if is_wanted => {
                    for letter in text.xml10_content().chars() {
                        let is_space = matches!(letter, ' ' | '\t' | '\r' | '\n');
                        if !is_space {
                            cell.text.push(letter);
                        } else if !is_behind_space {
                            cell.text.push(' ');
                        }
                        is_behind_space = is_space;
                    }
                }
                Event::CData(text) if is_wanted => cell.text.push_str(&text),
                Event::GeneralRef(entity) if is_wanted => {
                    let letter = letter(&entity);
                    cell.text
                        .push(letter.ok_or_else(|| worksheet.unread("its content is damaged"))?);
                    is_behind_space = false;
                }
                Event::Eof => return Err(worksheet.unread("it ends too early")),
                _ => {}
            }
        }
        if cell.is_error {
            cell.text.clear();
        }
        Ok(())
    }
}

impl Repeated {
    /// Takes what an element says of the cell; whether it says its text.
    fn begin(&mut self, element: &BytesStart<'_>) -> bool {
        self.text.clear();
        (self.times, self.over) = (1, (1, 1));
        (self.kind, self.is_error) = (CellKind::Text, false);
        let (mut kind, mut value, mut text) = (Cow::default(), Cow::default(), None);
        for attribute in element.attributes().with_checks(false).flatten() {
            let said = attribute.value;
            let number = |said: &str| said.parse().unwrap_or(1);
            match attribute.key.local_name().as_ref() {
                "number-columns-repeated" => self.times = number(&said),
                "number-columns-spanned" => self.over.0 = number(&said),
                "number-rows-spanned" => self.over.1 = number(&said),
                "value-type" if said == "error" => self.is_error = true,
                // An application with texts of its own repeats it in them.
                "value-type" if attribute.key.as_ref().starts_with("office:") => kind = said,
                "value" | "date-value" | "time-value" | "boolean-value" => value = said,
                "string-value" => text = Some(said),
                _ => {}
            }
        }
        let kind = match kind.as_ref() {
            "float" | "percentage" | "currency" => CellKind::Number,
            "date" => CellKind::Date,
            "time" => CellKind::Time,
            "boolean" => CellKind::Truth,
            _ => {
                let Some(text) = text.as_deref().map(unescape) else { return false };
                self.text.push_str(&text.unwrap_or_default());
                return true;
            }
        };
        match kind {
            CellKind::Number => match value.parse::<f64>() {
                Ok(number) => {
                    push_spreadsheet_number(number, &mut self.text);
                }
                Err(_) => return false,
            },
            CellKind::Date => self.text.push_str(iso(&value)),
            CellKind::Time => match span(&value) {
                Some(span) => self.text.push_str(&span),
                None => self.text.push_str(&value),
            },
            _ => self.text.push_str(&value),
        }
        self.kind = kind;
        true
    }
}

/// A range of a database, which is a table.
fn table(element: &BytesStart<'_>) -> Option<Named> {
    let name = text_of(element, "table:name")?;
    let (worksheet, area) = range(&text_of(element, "table:target-range-address")?)?;
    let has_headers = text_of(element, "table:contains-header").as_deref() != Some("false");
    Some(Named { name, worksheet, area, has_headers: Some(has_headers) })
}

/// An attribute of an element.
fn text_of(element: &BytesStart<'_>, name: &str) -> Option<String> {
    let value = element.try_get_attribute(name).ok()??.value;
    unescape(&value).ok().map(Cow::into_owned)
}

fn number_of(element: &BytesStart<'_>, name: &str) -> Option<u64> {
    element.try_get_attribute(name).ok()??.value.parse().ok()
}

/// The character of an entity.
fn letter(entity: &BytesRef<'_>) -> Option<char> {
    match entity.resolve_char_ref() {
        Ok(Some(letter)) => Some(letter),
        _ => resolve_predefined_entity(entity)?.chars().next(),
    }
}

fn bad(worksheet: &Worksheet, error: &quick_xml::Error) -> Error {
    match error {
        quick_xml::Error::Io(error) if error.kind() == std::io::ErrorKind::Other => {
            too_much(worksheet)
        }
        error => worksheet.unread(error.to_string()),
    }
}

fn too_much(worksheet: &Worksheet) -> Error {
    let mib = MOST_BETWEEN >> 20;
    worksheet.too_large(format!("a single cell of it unpacks to more than {mib} MiB"))
}
