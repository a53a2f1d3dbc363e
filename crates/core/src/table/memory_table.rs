//! Tables in memory: a source for rows that a program already has, and a sink that collects rows.

use super::{Before, Block, Headers, OutputColumns, Parser, Renderer, Row, Sink, Source};
use crate::Error;

/// A table in memory.
///
/// ```
/// use gather_keys_core::table::{MemoryTable, Row};
///
/// let hives = MemoryTable::new("hives", ["Apiary", "Hive"], [["Fellside", "7"]]);
/// assert_eq!(hives.headers().len(), 2);
/// assert_eq!(hives.row(0).cell(1), "7");
/// ```
#[derive(Debug, Clone)]
pub struct MemoryTable {
    headers: Headers,
    rows: Block,
    is_read: bool,
}

impl MemoryTable {
    /// A table with this name in messages, these headers and these rows. A row with fewer cells than headers is
    /// filled up with blanks; surplus cells are ignored.
    pub fn new<H: AsRef<str>, R: IntoIterator<Item: AsRef<str>>>(
        name: &str,
        headers: impl IntoIterator<Item = H>,
        rows: impl IntoIterator<Item = R>,
    ) -> Self {
        let names: Vec<String> =
            headers.into_iter().map(|header| header.as_ref().to_owned()).collect();
        let mut block = Block::new(names.len());
        for (row, line) in rows.into_iter().zip(0..) {
            let mut cells = row.into_iter();
            for _ in 0..names.len() {
                block.push_cell(cells.next().as_ref().map_or("", AsRef::as_ref));
            }
            block.push_line(line);
        }
        let rows = block.placed(1, 2);
        Self { headers: Headers::new(name, names.iter().map(String::as_str)), rows, is_read: false }
    }

    /// The headers.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.rows.rows()
    }

    /// Whether there are no rows.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// A row, from 0.
    ///
    /// # Panics
    /// The cells of a row that the table does not have can't be read.
    pub fn row(&self, nth: usize) -> Row<'_> {
        Row::of(&self.rows, nth)
    }
}

impl Source for MemoryTable {
    type Error = Error;
    type Chunk = Block;
    type Parser = MemoryParser;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn parser(&self) -> MemoryParser {
        MemoryParser
    }

    fn read_chunk(&mut self, chunk: &mut Block) -> Result<bool, Error> {
        if std::mem::replace(&mut self.is_read, true) {
            return Ok(false);
        }
        *chunk = self.rows.clone();
        Ok(true)
    }

    fn before(&self) -> Before {
        Before { rows: 0, lines: 1 }
    }

    fn passed(&mut self, _: u64, _: u64) {}
}

/// The parser of a [`MemoryTable`], whose chunks are blocks already.
#[derive(Debug, Clone, Copy)]
pub struct MemoryParser;

impl Parser for MemoryParser {
    type Chunk = Block;
    type Error = Error;
    type Fault = std::convert::Infallible;

    fn want(&mut self, _: &[usize]) {}

    fn parse(&self, chunk: &mut Block, block: &mut Block) -> Result<u64, Self::Fault> {
        std::mem::swap(chunk, block);
        Ok(block.rows() as u64)
    }

    fn error(&self, fault: Self::Fault, _: Before) -> Error {
        match fault {}
    }
}

/// A sink that collects the rows of an output in memory.
#[derive(Debug, Default)]
pub struct Collected {
    /// The headers, in order.
    pub headers: Vec<String>,
    /// The cells of each row, in the order of the headers.
    pub rows: Vec<Vec<String>>,
}

impl Sink for Collected {
    type Error = Error;
    type Renderer = CellRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<(), Error> {
        self.headers = columns.headers().iter().map(str::to_owned).collect();
        Ok(())
    }

    fn renderer(&self, columns: &OutputColumns) -> CellRenderer {
        CellRenderer { columns: columns.clone() }
    }

    fn write(&mut self, rendered: &mut Vec<Vec<String>>) -> Result<(), Error> {
        self.rows.append(rendered);
        Ok(())
    }
}

/// The renderer of [`Collected`]: the cells of each row.
#[derive(Debug)]
pub struct CellRenderer {
    columns: OutputColumns,
}

impl Renderer for CellRenderer {
    type Rendered = Vec<Vec<String>>;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, rendered: &mut Self::Rendered) {
        let cells = |(nth, &row): (usize, &usize)| {
            let cells = self.columns.cells().iter();
            cells.map(|cell| cell.of((main, row), (added, nth)).0.to_owned()).collect()
        };
        *rendered = rows.iter().enumerate().map(cells).collect();
    }
}
