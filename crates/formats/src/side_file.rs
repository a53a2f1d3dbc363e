//! Side files: small tables that a run keeps next to the data, such as corrections, aliases and lists.
//!
//! A side file is read whole, in any format. A person may have saved it in another form, so a delimited one is
//! written back in its [`SideForm`]: encoding, byte-order mark, delimiter, line ends, quoting and packing.

use std::io::{self, Write};
use std::path::Path;

use gather_keys_core::table::{Block, Headers, Row, Source};

use crate::delimited::{
    Dialect, Encoded, Encoding, HeaderRow, Layout, Unencodable, push_cell, row_cells,
};
use crate::error::said;
use crate::{Address, Codec, Described, Error, InputFile, Packed, Result, Sum, Table, Untapped};

/// A side file that was read.
pub struct SideFile {
    headers: Headers,
    blocks: Vec<Block>,
    form: Option<SideForm>,
    sum: Sum,
    file: Option<InputFile>,
}

impl SideFile {
    /// Reads the file at an address, its first row being the headers.
    ///
    /// # Errors
    /// When it can't be read as a table.
    ///
    /// # Examples
    /// ```
    /// use gather_keys_formats::{Address, SideFile};
    ///
    /// let folder = tempfile::tempdir()?;
    /// let path = folder.path().join("fixes.csv");
    /// std::fs::write(&path, "Id;header;value\nK2;Round;north\n")?;
    /// let file = SideFile::read(&Address::new(path.as_os_str()))?;
    /// let rows: Vec<&str> = file.rows().map(|row| row.cell(2)).collect();
    /// assert_eq!(rows, ["north"]);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn read(address: &Address) -> Result<Self> {
        let described = Described { headers: HeaderRow::First, ..Described::default() };
        let (mut table, _) = Table::open(address, &described, &Untapped)?;
        let mut blocks = Vec::new();
        let mut block = Block::default();
        while table.read_block(&mut block)? {
            blocks.push(std::mem::take(&mut block));
        }
        let sum = match table.file() {
            Some(file) => Sum::of_reader(&mut file.reader(), &address.to_string())?,
            None => Sum::default(),
        };
        let form = table.is_text().then(|| SideForm::of(&table, blocks.first()));
        let (headers, file) = (table.headers().clone(), table.file().cloned());
        Ok(Self { headers, blocks, form, sum, file })
    }

    /// Its headers.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// Its rows.
    pub fn rows(&self) -> impl Iterator<Item = Row<'_>> {
        self.blocks.iter().flat_map(|block| (0..block.rows()).map(|row| Row::of(block, row)))
    }

    /// The bytes of each row in UTF-8, without line ends; empty when the file is not delimited text.
    pub fn row_bytes(&self) -> impl Iterator<Item = &[u8]> {
        let rows =
            self.blocks.iter().flat_map(|block| (0..block.rows()).map(move |row| (block, row)));
        rows.filter_map(|(block, row)| block.row_bytes(row)).map(|(bytes, _)| bytes)
    }

    /// The form to write it back in; `None` when it is not delimited text.
    pub fn form(&self) -> Option<&SideForm> {
        self.form.as_ref()
    }

    /// Its size and digest.
    pub fn sum(&self) -> &Sum {
        &self.sum
    }

    /// The file that it was read from, where it is one.
    pub fn file(&self) -> Option<&InputFile> {
        self.file.as_ref()
    }
}

/// The form of a delimited side file.
#[derive(Debug, Clone)]
pub struct SideForm {
    layout: Layout,
    /// Whether cells are in quotes that need none.
    quotes_all: bool,
    packing: Option<Codec>,
}

impl SideForm {
    /// The form of a new file: commas, UTF-8, line feeds, and quotes only where they are needed.
    pub fn new() -> Self {
        let dialect =
            Dialect { delimiter: b',', byte_order_mark: false, encoding: Encoding::UTF_8 };
        let layout = Layout {
            dialect,
            guards_formulas: false,
            decimal_comma: false,
            rewrites_rows: false,
            preamble: Vec::new(),
            header_row: None,
            line_end: b"\n".to_vec(),
        };
        Self { layout, quotes_all: false, packing: None }
    }

    /// The form of the file at a path; that of a new file when there is none that is delimited text.
    pub fn of_path(path: &Path) -> Self {
        let described = Described { headers: HeaderRow::First, ..Described::default() };
        let opened = Table::open(&Address::File(path.to_owned()), &described, &Untapped);
        match opened {
            Ok((mut table, _)) if table.is_text() => {
                let mut first = Block::default();
                let is_read = table.read_block(&mut first).is_ok_and(|is_next| is_next);
                Self::of(&table, is_read.then_some(&first))
            }
            _ => Self::new(),
        }
    }

    fn of(table: &Table, first: Option<&Block>) -> Self {
        let mut layout = table.layout();
        if layout.line_end.is_empty() {
            layout.line_end = b"\n".to_vec();
        }
        let is_quoted = |row: &[u8]| {
            let mut cells = row_cells(row, layout.dialect.delimiter);
            cells.all(|cell| cell.starts_with(b"\""))
        };
        // A file without rows shows it by its headers alone.
        let row = first.filter(|block| block.rows() > 0).and_then(|block| block.row_bytes(0));
        let quotes_all = layout.header_row.as_deref().is_some_and(is_quoted)
            && row.is_none_or(|(bytes, _)| is_quoted(bytes));
        Self { layout, quotes_all, packing: table.read_as().packing }
    }

    /// Cells as a row of this form, in UTF-8 and without a line end.
    pub fn row<'c>(&self, cells: impl IntoIterator<Item = &'c str>) -> Vec<u8> {
        let mut row = Vec::new();
        self.push_row(cells, &mut row);
        row
    }

    fn push_row<'c>(&self, cells: impl IntoIterator<Item = &'c str>, bytes: &mut Vec<u8>) {
        let begin = bytes.len();
        for (nth, cell) in cells.into_iter().enumerate() {
            if nth > 0 {
                bytes.push(self.layout.dialect.delimiter);
            }
            push_cell(bytes, cell.as_bytes(), self.layout.dialect.delimiter, self.quotes_all);
        }
        if bytes.len() == begin {
            // An empty line would be no row.
            bytes.extend_from_slice(b"\"\"");
        }
    }
}

impl Default for SideForm {
    fn default() -> Self {
        Self::new()
    }
}

/// How many bytes are collected before they are written.
const AT_ONCE: usize = 1 << 16;

/// Writes a side file in a form, row by row.
pub struct SideWriter<W: Write> {
    name: String,
    output: Encoded<Packed<W>>,
    form: SideForm,
    bytes: Vec<u8>,
}

impl<W: Write> SideWriter<W> {
    /// A writer to `output`, which is called `name` in messages.
    ///
    /// # Errors
    /// [`Error::Write`] when it can't be packed.
    pub fn new(name: impl Into<String>, output: W, form: SideForm) -> Result<Self> {
        let name = name.into();
        let packed = Packed::new(output, form.packing);
        let packed = packed.map_err(|cause| Error::Write { name: name.clone(), cause })?;
        let mut bytes = Vec::new();
        if form.layout.dialect.byte_order_mark {
            bytes.extend_from_slice("\u{feff}".as_bytes());
        }
        bytes.extend_from_slice(&form.layout.preamble);
        let output = Encoded::new(packed, form.layout.dialect.encoding);
        Ok(Self { name, output, form, bytes })
    }

    /// Writes the header row of the file that the form comes from, if there is one, else these headers.
    ///
    /// # Errors
    /// [`Error::Write`] when it can't be written.
    pub fn write_header_row<'c>(
        &mut self,
        headers: impl IntoIterator<Item = &'c str>,
    ) -> Result<()> {
        match self.form.layout.header_row.clone() {
            Some(own) => self.write_raw(&own),
            None => self.write(headers),
        }
    }

    /// Writes a row.
    ///
    /// # Errors
    /// [`Error::Write`] when it can't be written, also when its encoding lacks a character.
    pub fn write<'c>(&mut self, cells: impl IntoIterator<Item = &'c str>) -> Result<()> {
        self.form.push_row(cells, &mut self.bytes);
        self.end_row()
    }

    /// Writes the bytes of a row as they were read.
    ///
    /// # Errors
    /// Those of [`write`](Self::write).
    pub fn write_raw(&mut self, row: &[u8]) -> Result<()> {
        self.bytes.extend_from_slice(row);
        self.end_row()
    }

    fn end_row(&mut self) -> Result<()> {
        self.bytes.extend_from_slice(&self.form.layout.line_end);
        if self.bytes.len() >= AT_ONCE { self.write_out() } else { Ok(()) }
    }

    fn write_out(&mut self) -> Result<()> {
        let written = self.output.write_all(&self.bytes);
        self.bytes.clear();
        written.map_err(|cause| self.refused(cause))
    }

    fn refused(&self, cause: io::Error) -> Error {
        let cause = match cause.get_ref().and_then(|cause| cause.downcast_ref::<Unencodable>()) {
            Some(Unencodable { character, encoding }) => said(format!(
                "it is in {encoding}, which has no character `{character}`; save it as UTF-8, or \
                 remove it"
            )),
            None => cause,
        };
        Error::Write { name: self.name.clone(), cause }
    }

    /// Writes what is left, and gives the output back.
    ///
    /// # Errors
    /// Those of [`write`](Self::write).
    pub fn finish(mut self) -> Result<W> {
        self.write_out()?;
        let Self { name, output, .. } = self;
        output.into_inner().finish().map_err(|cause| Error::Write { name, cause })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A file that is read and written again, with one more row, keeps its form.
    #[test]
    fn the_form_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let utf_16: Vec<u8> =
            "\u{feff}A\tB\r\nä\tb\r\nn\tü,\r\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let packed = |text: &[u8]| {
            let mut file = Packed::new(Vec::new(), Some(Codec::Gzip)).unwrap();
            file.write_all(text).unwrap();
            file.finish().unwrap()
        };
        let cases: [(&[u8], &[u8]); 6] = [
            (b"A,B\n1,\"2\"\n", b"A,B\n1,\"2\"\nn,\"\xc3\xbc,\"\n"),
            (b"A;B\r\n1;2", b"A;B\r\n1;2\r\nn;\xc3\xbc,\r\n"),
            (
                b"\"A\";\"B\"\r\n\"1\";\"2\"\r\n",
                b"\"A\";\"B\"\r\n\"1\";\"2\"\r\n\"n\";\"\xc3\xbc,\"\r\n",
            ),
            (b"A,B\n\xe4 and \xf6 and \xdf,x\n", b"A,B\n\xe4 and \xf6 and \xdf,x\nn,\"\xfc,\"\n"),
            (&utf_16[..utf_16.len() - 12], &utf_16),
            (&packed(b"A,B\n"), &packed(b"A,B\nn,\"\xc3\xbc,\"\n")),
        ];
        for (nth, (content, want)) in cases.iter().enumerate() {
            let path = folder.path().join(format!("{nth}.csv"));
            std::fs::write(&path, content).unwrap();
            let file = SideFile::read(&Address::File(path.clone())).unwrap();
            let mut writer =
                SideWriter::new("side", Vec::new(), file.form().unwrap().clone()).unwrap();
            writer.write_header_row(["A", "B"]).unwrap();
            for row in file.row_bytes() {
                writer.write_raw(row).unwrap();
            }
            writer.write(["n", "ü,"]).unwrap();
            let written = writer.finish().unwrap();
            assert_eq!(written, *want, "{nth}: {}", String::from_utf8_lossy(&written));
        }
        // Quotes around the headers alone are no reason to quote every cell.
        let path = folder.path().join("headers.csv");
        std::fs::write(&path, "\"A\";\"B\"\n1;2\n").unwrap();
        assert_eq!(SideForm::of_path(&path).row(["n", "a;b"]), b"n;\"a;b\"");
        let missing = SideForm::of_path(&folder.path().join("none.csv"));
        assert_eq!(missing.row(["a", "b,c", ""]), b"a,\"b,c\",");
        assert_eq!(missing.row([""]), b"\"\"");
    }
}
