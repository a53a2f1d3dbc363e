//! A table in any format, opened by its address.
//!
//! In go an address and what the person said of it, out comes a [`Table`], which is a
//! [`Source`]. The format is the one that was named, or else the one that the content shows.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::sync::Arc;

use gather_keys_core::table::{Before, Block, Headers, Source};

use crate::address::Opened;
use crate::adjusted::Adjusted;
use crate::chunk::{Content, Form};
use crate::columnar::{BatchReader, Columnar, StoredType};
use crate::commit::{HiddenFile, named_hidden};
use crate::compression::{Looked, look};
use crate::delimited::{HeaderRow, Layout, ReadOptions, Reader, decoded};
use crate::json::LinesReader;
use crate::read_as::{Part, ReadAs};
use crate::rows::ReadRows;
use crate::sqlite::{TableReader, ValuesChunk};
use crate::workbook::{SheetChunk, SheetPlace, SheetReader, Sought};
use crate::{
    Address, Chunk, Described, Error, Format, InputFile, Result, TableParser, Tap, json,
    postgresql, unpacked, workbook,
};

/// A table that is open, its headers read.
pub struct Table {
    kind: Kind,
    /// How much of it is before the pieces that are not parsed yet, where its reader does not tell.
    before: Before,
    read_as: ReadAs,
    /// The file that it is read from, where it is one.
    file: Option<InputFile>,
    content: Arc<Content>,
    /// What an adjusted table was before.
    origin: Option<Origin>,
    /// A database that came out of a pipe, while it is read: only a name opens it.
    _spooled: Option<HiddenFile>,
}

/// What is known of a table that is adjusted as it is read.
struct Origin {
    layout: Layout,
    number_formats: Vec<Option<String>>,
    widths: Vec<Option<f64>>,
    stored_types: Vec<Option<StoredType>>,
    place: Option<SheetPlace>,
}

/// The reader of a table, by the form of its chunks.
enum Kind {
    /// As text.
    Text(Box<Reader<Box<dyn Read + Send>>>),
    /// As rows.
    Rows(Box<dyn ReadRows + Send>),
    /// As batches of columns.
    Batches(Box<BatchReader>),
    /// As lines of JSON.
    Lines(Box<LinesReader>),
    /// As values of a database.
    Values(Box<TableReader>),
    /// As text of a worksheet.
    Sheet(Box<SheetReader>),
}

impl Kind {
    fn headers(&self) -> &Headers {
        match self {
            Self::Text(reader) => reader.headers(),
            Self::Rows(rows) => rows.headers(),
            Self::Batches(batches) => batches.headers(),
            Self::Lines(lines) => lines.headers(),
            Self::Values(values) => values.headers(),
            Self::Sheet(sheet) => sheet.headers(),
        }
    }

    /// How much is before the first row. Rows without lines of their own are reported as if each were on
    /// the line after the headers.
    fn before(&self) -> Before {
        let lines = match self {
            Self::Rows(rows) => rows.header_line(),
            Self::Sheet(sheet) => sheet.header_line(),
            _ => 1,
        };
        Before { rows: 0, lines }
    }
}

/// The names of the formats of tables.
pub(crate) const TEXT: &str = "delimited text";
pub(crate) const DATABASE: &str = "database";

/// How many bytes pass at a time of a file that is read in another order.
const PASSED_AT_ONCE: usize = 256 << 10;

/// How many bytes show a file's format.
const FIRST: usize = 16;

/// How many bytes are looked at to find the encoding.
const SAMPLE: usize = 1 << 16;
const SAMPLE_OF_FILE: usize = 1 << 20;

impl Table {
    /// Opens a table. What is read of its file passes through `tap`, unless that lets it by. Gives the
    /// size of the file too, where it is known.
    ///
    /// # Errors
    /// When it can't be read, or its headers can't.
    pub fn open(
        address: &Address,
        described: &Described,
        tap: &dyn Tap,
    ) -> Result<(Self, Option<u64>)> {
        if let Address::Server(server) = address {
            Self::refuse_unfit(&address.to_string(), Format::Database, described)?;
            let (rows, opened) = postgresql::open(server, &described.order_by, tap)?;
            let read_as = ReadAs {
                format: "table of a server",
                part: Some(Part::of_database(opened.table, opened.tables, None)),
                identity: Some(opened.identity),
                declared: opened.declared,
                ..ReadAs::default()
            };
            return Ok((Self::of(Kind::Rows(Box::new(rows)), read_as).adjusted(described)?, None));
        }
        match address.open_file()? {
            Opened::File(file) => {
                let bytes = file.stamp().bytes();
                Ok((Self::open_file(address, &file, described, tap)?, Some(bytes)))
            }
            Opened::Stream(input) => Ok((Self::open_stream(address, input, described, tap)?, None)),
        }
    }

    /// Opens the table of an address once more, in the file that was opened for it before.
    ///
    /// # Errors
    /// As with [`Table::open`].
    pub fn open_file(
        address: &Address,
        file: &InputFile,
        described: &Described,
        tap: &dyn Tap,
    ) -> Result<Self> {
        let name = address.to_string();
        let unreadable = |cause: io::Error| Error::Read { name: name.clone(), cause };
        let (format, _) = Self::format(address, file.reader(), described)?;
        let table = if format == Format::Text {
            Self::text(&name, tap.on(Box::new(file.checked_reader())), described, SAMPLE_OF_FILE)?
        } else {
            // It is not read from front to back, so that a digest needs another pass.
            if !tap.lets_by(file.stamp().bytes()) {
                let input = tap.on(Box::new(file.reader()));
                let mut input = BufReader::with_capacity(PASSED_AT_ONCE, input);
                io::copy(&mut input, &mut io::sink()).map_err(unreadable)?;
            }
            Self::rows(format, &name, file, address.part(), described)?
        };
        let content =
            Arc::new(Content::of(&name, Some(file.stamp().bytes()), table.read_as.format));
        Self { file: Some(file.clone()), content, ..table }.adjusted(described)
    }

    /// Opens a table that comes out of a pipe, and can be read only once.
    fn open_stream(
        address: &Address,
        input: Box<dyn Read + Send>,
        described: &Described,
        tap: &dyn Tap,
    ) -> Result<Self> {
        let name = address.to_string();
        let unreadable = |cause: io::Error| Error::Read { name: name.clone(), cause };
        let (format, input) = Self::format(address, input, described)?;
        if format == Format::Text {
            let table = Self::text(&name, tap.on(Box::new(input)), described, SAMPLE)?;
            return table.adjusted(described);
        }
        // The other formats are not read from front to back, so it is put into a file first.
        let folder = tempfile::env::temp_dir();
        let (mut file, hidden): (File, _) = match format {
            Format::Database => {
                let (file, hidden) = named_hidden(&folder).map_err(unreadable)?;
                (file, Some(hidden))
            }
            _ => (tempfile::tempfile().map_err(unreadable)?, None),
        };
        io::copy(&mut tap.on(Box::new(input)), &mut file).map_err(unreadable)?;
        let place = hidden.as_ref().map(|hidden| hidden.path().to_owned()).unwrap_or_default();
        let file = InputFile::of(file, place, name.clone()).map_err(unreadable)?;
        let table = Self::rows(format, &name, &file, address.part(), described)?;
        Self { _spooled: hidden, ..table }.adjusted(described)
    }

    fn refuse_unfit(name: &str, format: Format, described: &Described) -> Result<()> {
        match described.unfit(format) {
            Some(reading) => {
                let (name, format) = (name.to_owned(), format.info().name);
                Err(Error::NotOfFormat { name, format, reading })
            }
            None => Ok(()),
        }
    }

    /// The format of a table, said or found from its first bytes, and all of its bytes.
    fn format<R: Read>(
        address: &Address,
        input: R,
        described: &Described,
    ) -> Result<(Format, Looked<R>)> {
        let path = address.path();
        let found = |first: &[u8]| described.format.unwrap_or_else(|| Format::of(path, first));
        let unreadable = |cause| Error::Read { name: address.to_string(), cause };
        let (format, input) = look(input, FIRST, found).map_err(unreadable)?;
        Self::refuse_unfit(&address.to_string(), format, described)?;
        Ok((format, input))
    }

    /// Opens a table in delimited text.
    fn text(
        name: &str,
        input: Box<dyn Read + Send>,
        described: &Described,
        sample: usize,
    ) -> Result<Self> {
        let unreadable = |cause: io::Error| Error::Read { name: name.to_owned(), cause };
        let (input, packing) = unpacked(input).map_err(unreadable)?;
        let decoded = decoded(input, described.encoding, sample);
        let (input, encoding, guessed) = decoded.map_err(unreadable)?;
        let options = ReadOptions {
            delimiter: described.delimiter,
            headers: described.headers,
            pads: described.pads,
            decimal_comma: described.decimal_comma,
            encoding,
            ..ReadOptions::default()
        };
        let reader = Reader::asking(name, input, options, &described.asked)?;
        let read_as = ReadAs {
            format: TEXT,
            packing,
            encoding: Some((encoding, guessed)),
            title_rows: match described.headers {
                HeaderRow::Found => reader.title_rows(),
                _ => 0,
            },
            ..ReadAs::default()
        };
        Ok(Self::of(Kind::Text(Box::new(reader)), read_as))
    }

    fn of(kind: Kind, read_as: ReadAs) -> Self {
        let before = kind.before();
        let content = Arc::new(Content::of("", None, read_as.format));
        Self { kind, before, read_as, file: None, content, origin: None, _spooled: None }
    }

    /// Opens a table that is no text.
    fn rows(
        format: Format,
        name: &str,
        file: &InputFile,
        part: Option<&str>,
        described: &Described,
    ) -> Result<Self> {
        let (kind, read_as) = match format {
            Format::Workbook => {
                let sought = Sought {
                    headers: described.headers,
                    asked: &described.asked,
                    without: &described.without,
                };
                let opened = workbook::open(name, file, part, &sought)?;
                let read_as = ReadAs {
                    format: "workbook",
                    part: Some(opened.part(part)),
                    title_rows: opened.title_rows(),
                    header_rows: opened.header_rows(),
                    error_cells: Some(opened.error_cells()),
                    uncalculated: opened.uncalculated(),
                    left_out: Some(opened.left_out()),
                    formulas: opened.formulas(),
                    merged: opened.merged(),
                    ..ReadAs::default()
                };
                let kind = match opened {
                    workbook::Opened::Sheet(sheet) => Kind::Sheet(sheet),
                    workbook::Opened::Rows(rows) => Kind::Rows(rows),
                };
                (kind, read_as)
            }
            Format::Database => {
                let (opened, (table, tables)) =
                    TableReader::open(name, file.path(), part, &described.order_by)?;
                let part = Some(Part::of_database(table, tables, part));
                (
                    Kind::Values(Box::new(opened)),
                    ReadAs { format: DATABASE, part, ..ReadAs::default() },
                )
            }
            Format::Parquet | Format::Arrow => {
                let columnar = match format {
                    Format::Parquet => Columnar::Parquet,
                    _ => Columnar::Arrow,
                };
                let batches = Box::new(BatchReader::open(name, file, columnar)?);
                let read_as = ReadAs { format: columnar.name(), ..ReadAs::default() };
                (Kind::Batches(batches), read_as)
            }
            Format::JsonLines => {
                let lines = Box::new(LinesReader::open(name, file)?);
                (Kind::Lines(lines), ReadAs { format: "JSON", ..ReadAs::default() })
            }
            Format::Text | Format::Json => {
                let opened = json::open_document(name, file, part)?;
                (Kind::Rows(Box::new(opened)), ReadAs { format: "JSON", ..ReadAs::default() })
            }
        };
        Ok(Self::of(kind, read_as))
    }

    /// The table with blank cells filled from above and without its last rows, where that was asked for.
    fn adjusted(self, described: &Described) -> Result<Self> {
        if described.fill_down.is_empty() && described.skip_last == 0 {
            return Ok(self);
        }
        let origin = Origin {
            layout: self.layout(),
            number_formats: self.number_formats(),
            widths: self.widths(),
            place: self.sheet_place().cloned(),
            stored_types: self.stored_types(),
        };
        let (read_as, file) = (self.read_as.clone(), self.file.clone());
        let rows = Adjusted::new(self, &described.fill_down, described.skip_last)?;
        let table = Self::of(Kind::Rows(Box::new(rows)), read_as);
        Ok(Self { file, origin: Some(origin), ..table })
    }

    /// The other worksheets of its workbook that have a header.
    pub fn worksheets_with(&self, header: &str) -> Vec<String> {
        let Some((part, file)) = self.read_as.part.as_ref().zip(self.file.as_ref()) else {
            return Vec::new();
        };
        let others = part.all.iter().filter(|name| **name != part.name);
        let asked = [header.to_owned()];
        workbook::holders(file, &asked, others.map(String::as_str)).unwrap_or_default()
    }

    /// The file that it is read from; `None` for a pipe or a server.
    pub fn file(&self) -> Option<&InputFile> {
        self.file.as_ref()
    }

    /// How the table was read.
    pub fn read_as(&self) -> &ReadAs {
        &self.read_as
    }

    /// Whether it is delimited text.
    pub fn is_text(&self) -> bool {
        matches!(self.kind, Kind::Text(_))
    }

    /// Whether it is a table of a database, in a file or on a server, that nothing is adjusted of.
    pub fn is_database(&self) -> bool {
        self.read_as.identity.is_some() && self.origin.is_none()
            || matches!(self.kind, Kind::Values(_))
    }

    /// The form of delimited text that is like this table; the usual form if the table is not text.
    pub fn layout(&self) -> Layout {
        match (&self.origin, &self.kind) {
            (Some(origin), _) => origin.layout.clone(),
            (None, Kind::Text(reader)) => reader.layout().clone(),
            (None, other) => Layout::usual(other.headers()),
        }
    }

    /// The number format that the cells of each column have, as far as its format has any.
    pub fn number_formats(&self) -> Vec<Option<String>> {
        match (&self.origin, &self.kind) {
            (Some(origin), _) => origin.number_formats.clone(),
            (None, Kind::Sheet(sheet)) => sheet.formats().to_vec(),
            (None, other) => vec![None; other.headers().len()],
        }
    }

    /// The width of each column, as far as its format has any.
    pub fn widths(&self) -> Vec<Option<f64>> {
        match (&self.origin, &self.kind) {
            (Some(origin), _) => origin.widths.clone(),
            (None, Kind::Sheet(sheet)) => sheet.widths().to_vec(),
            (None, other) => vec![None; other.headers().len()],
        }
    }

    /// Where it is in a workbook that can be written into; `None` where it is in none.
    pub fn sheet_place(&self) -> Option<&SheetPlace> {
        match (&self.origin, &self.kind) {
            (Some(origin), _) => origin.place.as_ref(),
            (None, Kind::Sheet(sheet)) => Some(sheet.place()),
            _ => None,
        }
    }

    /// The types that its columns have in its file, as far as the file has any.
    pub fn stored_types(&self) -> Vec<Option<StoredType>> {
        match (&self.origin, &self.kind) {
            (Some(origin), _) => origin.stored_types.clone(),
            (None, Kind::Batches(batches)) => batches.stored_types(),
            (None, other) => vec![None; other.headers().len()],
        }
    }
}

impl Source for Table {
    type Error = Error;
    type Chunk = Chunk;
    type Parser = TableParser;

    fn headers(&self) -> &Headers {
        self.kind.headers()
    }

    fn want(&mut self, columns: &[usize]) {
        match &mut self.kind {
            Kind::Batches(batches) => batches.want(columns),
            Kind::Values(values) => values.want(columns),
            Kind::Text(_) | Kind::Rows(_) | Kind::Lines(_) | Kind::Sheet(_) => {}
        }
    }

    fn has_row_bytes(&self) -> bool {
        self.is_text()
    }

    fn parser(&self) -> TableParser {
        let form = match &self.kind {
            Kind::Text(reader) => Form::Text(reader.parser()),
            Kind::Rows(_) => Form::Rows,
            Kind::Batches(batches) => Form::Batches(batches.parser()),
            Kind::Lines(lines) => Form::Lines(lines.parser(), lines.headers().table().to_owned()),
            Kind::Values(values) => Form::Values(values.parser()),
            Kind::Sheet(sheet) => Form::Sheet(Box::new(sheet.parser())),
        };
        TableParser::new(form, self.content.clone())
    }

    fn read_chunk(&mut self, piece: &mut Chunk) -> Result<bool> {
        let next = match (&mut self.kind, std::mem::take(piece)) {
            (Kind::Text(reader), own) => {
                let mut text = match own {
                    Chunk::Text(text) => text,
                    _ => Vec::new(),
                };
                let is_next = reader.read_chunk(&mut text)?;
                *piece = Chunk::Text(text);
                return Ok(is_next);
            }
            (Kind::Rows(rows), own) => {
                let mut block = match own {
                    Chunk::Rows(block, _) => block,
                    _ => Block::default(),
                };
                rows.read_rows(&mut block)?.map(|lines| Chunk::Rows(block, lines))
            }
            (Kind::Batches(batches), _) => batches.read_chunk()?.map(Chunk::Batch),
            (Kind::Lines(lines), _) => lines.read_chunk()?.map(Chunk::Lines),
            (Kind::Sheet(sheet), own) => {
                let used = match own {
                    Chunk::Sheet(used) => used,
                    _ => SheetChunk::default(),
                };
                sheet.read_chunk(used)?.map(Chunk::Sheet)
            }
            (Kind::Values(values), own) => {
                let used = match own {
                    Chunk::Values(used) => used,
                    _ => ValuesChunk::default(),
                };
                values.read_chunk(used)?.map(Chunk::Values)
            }
        };
        let is_next = next.is_some();
        *piece = next.unwrap_or_default();
        Ok(is_next)
    }

    fn before(&self) -> Before {
        match &self.kind {
            Kind::Text(reader) => reader.before(),
            _ => self.before,
        }
    }

    fn passed(&mut self, rows: u64, lines: u64) {
        if let Kind::Text(reader) = &mut self.kind {
            reader.passed(rows, lines);
        } else {
            self.before.rows += rows;
            self.before.lines += lines;
        }
    }
}
