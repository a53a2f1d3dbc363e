//! Writing delimited text.

use std::io::Write;
use std::ops::Range;

use gather_keys_core::table::{
    Block, CellKind, OutputColumns, OwnCells, PassThrough, RawColumns, RawForm, RawRow, Renderer,
    Run, Sink,
};
use wide::u8x16;

use super::copy_buffer::CopyBuffer;
use super::{Layout, row_cells};
use crate::large_writes::LargeWrites;
use crate::workbook::is_plain_number;
use crate::{Error, Result};

/// Writes a table in the form of another one: rows that have their own bytes keep them, except for
/// changed cells, and added cells get quotes only where they need them.
#[derive(Debug)]
pub struct Writer<W> {
    name: String,
    output: LargeWrites<W>,
    layout: Layout,
    /// Whether the row that was written last has no line end, as the last row of a file may.
    is_open: bool,
}

impl<W: Write> Writer<W> {
    /// A writer to `output`, which is called `name` in messages.
    pub fn new(name: impl Into<String>, output: W, layout: Layout) -> Self {
        Self { name: name.into(), output: LargeWrites::to(output), layout, is_open: false }
    }

    /// The name of the output in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Gives the output back, with everything written.
    ///
    /// # Errors
    /// [`Error::Write`] when it can't be.
    pub fn finish(self) -> Result<W> {
        let finished = self.output.finish();
        finished.map_err(|cause| Error::Write { name: self.name, cause })
    }

    /// The line end of rows without one of their own.
    fn line_end(&self) -> &[u8] {
        match &self.layout.line_end[..] {
            [] => b"\n",
            line_end => line_end,
        }
    }

    fn write_out(&mut self, bytes: &mut Vec<u8>) -> Result<()> {
        let written = self.output.take(bytes);
        written.map_err(|cause| Error::Write { name: self.name.clone(), cause })
    }
}

impl<W: Write> Sink for Writer<W> {
    type Error = Error;
    type Renderer = TextRenderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<()> {
        let mut bytes = Vec::new();
        if self.layout.dialect.byte_order_mark {
            bytes.extend_from_slice("\u{feff}".as_bytes());
        }
        bytes.extend_from_slice(&self.layout.preamble);
        let Some(header_row) = &self.layout.header_row else {
            return self.write_out(&mut bytes);
        };
        let delimiter = self.layout.dialect.delimiter;
        if columns.begins_with_headers() {
            bytes.extend_from_slice(header_row);
            let behind = columns.headers().iter().skip(columns.own());
            push_cells(behind, columns.own() == 0, delimiter, &mut bytes);
        } else {
            bytes.extend_from_slice(&joined(columns.headers().iter(), delimiter));
        }
        bytes.extend_from_slice(&self.layout.line_end);
        self.is_open = self.layout.line_end.is_empty();
        self.write_out(&mut bytes)
    }

    fn renderer(&self, columns: &OutputColumns) -> TextRenderer {
        let dialect = self.layout.dialect;
        let (delimiter, raw_form) = (dialect.delimiter, self.layout.raw_form());
        let Layout { guards_formulas: guards, decimal_comma, rewrites_rows, .. } = self.layout;
        TextRenderer {
            delimiter,
            line_end: self.line_end().to_vec(),
            runs: columns.runs(),
            columns: columns.clone(),
            raw_form,
            guards,
            decimal_comma,
            rewrites_rows,
        }
    }

    fn wants(&self) -> OwnCells {
        if self.layout.rewrites_rows { OwnCells::All } else { OwnCells::WithoutBytes }
    }

    fn write(&mut self, rendered: &mut Vec<u8>) -> Result<()> {
        let Some(last) = rendered.last() else { return Ok(()) };
        if self.is_open {
            let mut line_end = self.line_end().to_vec();
            self.write_out(&mut line_end)?;
        }
        self.is_open = !matches!(last, b'\n' | b'\r');
        self.write_out(rendered)
    }
}

/// How many bytes the buffer has after the rendered rows, so that the last slices too are copied in blocks.
pub(super) const SURPLUS: usize = 256;

/// A row of one blank cell. An empty line would be no row.
pub(super) const ONE_BLANK: &[u8] = b"\"\"";

/// How many rows are looked at together for cells that need quotes.
pub(super) const LOOKED_AT: usize = 16;

/// Makes the text of rows.
#[derive(Debug, Clone)]
pub struct TextRenderer {
    pub(super) delimiter: u8,
    /// The line end of rows without one of their own.
    pub(super) line_end: Vec<u8>,
    columns: OutputColumns,
    /// The columns that are written together, after a row as it came where the output begins with that.
    pub(super) runs: Vec<Run>,
    raw_form: Option<RawForm>,
    /// Whether cells from other tables that look like formulas are guarded.
    pub(super) guards: bool,
    /// Whether numbers from other tables are written with a decimal comma.
    pub(super) decimal_comma: bool,
    /// Whether the own bytes of rows are of another form.
    pub(super) rewrites_rows: bool,
}

impl TextRenderer {
    /// Appends cells that are end to end in a text, with a delimiter in each of the gaps at these offsets.
    #[inline]
    fn push_with_gaps(&self, text: &str, gaps: impl Iterator<Item = usize>, bytes: &mut Vec<u8>) {
        let from = bytes.len();
        bytes.extend_from_slice(text.as_bytes());
        for gap in gaps {
            bytes[from + gap] = self.delimiter;
        }
    }

    /// Appends a row of a block that was filled cell by cell, after other cells.
    fn push_row(&self, block: &Block, row: usize, bytes: &mut Vec<u8>) {
        let cells = || (0..block.columns()).map(|column| block.cell(row, column));
        let is_raw = |form: RawForm| cells().all(|cell| form.holds(cell.as_bytes()));
        if self.raw_form.is_some_and(is_raw) {
            let (text, gaps) = block.row_with_gaps(row, 0);
            self.push_with_gaps(text, gaps, bytes);
        } else {
            push_cells(cells(), false, self.delimiter, bytes);
        }
    }

    /// Appends a cell that came from another table.
    pub(super) fn push_foreign(&self, bytes: &mut Vec<u8>, cell: &str, kind: CellKind) {
        if self.guards && looks_like_formula(cell) {
            push_cell(bytes, format!("'{cell}").as_bytes(), self.delimiter, false);
        } else {
            self.push_value(bytes, cell, kind);
        }
    }

    /// Appends a cell, a number as the output writes them.
    fn push_value(&self, bytes: &mut Vec<u8>, cell: &str, kind: CellKind) {
        let is_fraction = || kind != CellKind::Text && cell.contains('.') && is_plain_number(cell);
        if self.decimal_comma && is_fraction() {
            push_cell(bytes, cell.replace('.', ",").as_bytes(), self.delimiter, false);
        } else {
            push_cell(bytes, cell.as_bytes(), self.delimiter, false);
        }
    }

    /// A row's own bytes, where they are of the form that is written.
    pub(super) fn own_bytes<'b>(
        &self,
        main: &'b Block,
        row: usize,
    ) -> Option<(&'b [u8], &'b [u8])> {
        main.row_bytes(row).filter(|_| !self.rewrites_rows)
    }

    /// Appends a row of `main` with its overlaid cells, which are the first of a row of `added`. Those
    /// of its own bytes that are of other cells are kept.
    fn push_own(
        &self,
        (main, row): (&Block, usize),
        (added, nth): (&Block, usize),
        bytes: &mut Vec<u8>,
    ) {
        let overlay = self.columns.overlay();
        let changed = |column: usize| {
            let place = overlay.place(column)?;
            let cell = added.cell(nth, place);
            (cell != main.cell(row, column)).then(|| (cell, added.kind(nth, place)))
        };
        match self.own_bytes(main, row) {
            Some((own, _)) if overlay.columns().iter().all(|&c| changed(c).is_none()) => {
                bytes.extend_from_slice(own);
            }
            Some((own, _)) => {
                if self.push_around((main, row), (added, nth), own, bytes) {
                    return;
                }
                for (column, cell) in row_cells(own, self.delimiter).enumerate() {
                    if column > 0 {
                        bytes.push(self.delimiter);
                    }
                    match changed(column) {
                        Some((cell, kind)) => self.push_foreign(bytes, cell, kind),
                        None => bytes.extend_from_slice(cell),
                    }
                }
            }
            None => {
                for column in 0..main.columns() {
                    if column > 0 {
                        bytes.push(self.delimiter);
                    }
                    match changed(column) {
                        Some((cell, kind)) => self.push_foreign(bytes, cell, kind),
                        None => self.push_bare(bytes, (main, row), column),
                    }
                }
            }
        }
    }

    /// Appends a cell of a row that has no bytes to keep.
    pub(super) fn push_bare(
        &self,
        bytes: &mut Vec<u8>,
        (main, row): (&Block, usize),
        column: usize,
    ) {
        let (cell, kind) = (main.cell(row, column), main.kind(row, column));
        if main.row_bytes(row).is_none() {
            // It is from another format, or another table.
            self.push_foreign(bytes, cell, kind);
        } else {
            self.push_value(bytes, cell, kind);
        }
    }

    /// Appends what follows a row of the main table, run by run.
    fn push_behind(&self, main: (&Block, usize), added: (&Block, usize), bytes: &mut Vec<u8>) {
        let own = self.own_bytes(main.0, main.1).map(|(own, _)| own);
        let cell = |place| (added.0.cell(added.1, place), added.0.kind(added.1, place));
        for &run in &self.runs {
            bytes.push(self.delimiter);
            self.push_run(run, main, cell, own, bytes);
        }
    }
}

impl TextRenderer {
    /// Appends the bytes of a row with its overlaid cells in place of its own, if each changed cell is
    /// there without quotes and after the one before. Returns `false` otherwise.
    fn push_around(
        &self,
        (main, row): (&Block, usize),
        (added, nth): (&Block, usize),
        own: &[u8],
        bytes: &mut Vec<u8>,
    ) -> bool {
        let (begun, mut from) = (bytes.len(), 0);
        for (place, &column) in self.columns.overlay().columns().iter().enumerate() {
            let cell = added.cell(nth, place);
            if cell == main.cell(row, column) {
                continue;
            }
            let is_bound = |byte: Option<&u8>| byte.is_none_or(|byte| *byte == self.delimiter);
            let is_bare = |at: &Range<usize>| {
                let before = at.start.checked_sub(1).and_then(|before| own.get(before));
                from <= at.start && is_bound(before) && is_bound(own.get(at.end))
            };
            let Some(at) = main.place_in_row(row, column).filter(is_bare) else {
                bytes.truncate(begun);
                return false;
            };
            bytes.extend_from_slice(&own[from..at.start]);
            self.push_foreign(bytes, cell, added.kind(nth, place));
            from = at.end;
        }
        bytes.extend_from_slice(&own[from..]);
        true
    }
}

impl Renderer for TextRenderer {
    type Rendered = Vec<u8>;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, bytes: &mut Vec<u8>) {
        if !self.columns.begins_with_main() {
            return self.render_runs((main, rows), added, bytes);
        }
        bytes.clear();
        // The size of most blocks: growing to it step by step would fragment memory.
        bytes.reserve(main.text_length() + added.text_length());
        let first = self.columns.overlay().len();
        let takes_all = self.columns.are_all() && !self.guards && !self.decimal_comma;
        let mut is_open = false;
        // Hardly any cell needs quotes; it is quicker to find out for all of some rows at once.
        let mut is_special = false;
        for (nth, &row) in rows.iter().enumerate() {
            if takes_all && nth % LOOKED_AT == 0 {
                let all = nth..rows.len().min(nth + LOOKED_AT);
                is_special = holds_special(added.rows_with_gaps(all, first), self.delimiter);
            }
            if is_open {
                bytes.extend_from_slice(&self.line_end);
            }
            let begun = bytes.len();
            let own = self.own_bytes(main, row);
            let line_end = own.map_or(&self.line_end[..], |(_, line_end)| line_end);
            is_open = line_end.is_empty();
            match own {
                Some((own, _)) if first == 0 => bytes.extend_from_slice(own),
                _ => self.push_own((main, row), (added, nth), bytes),
            }
            if takes_all {
                let (text, gaps) = added.row_with_gaps(nth, first);
                if is_special && holds_special(text.as_bytes(), self.delimiter) {
                    let cells = (first..added.columns()).map(|column| added.cell(nth, column));
                    push_cells(cells, false, self.delimiter, bytes);
                } else {
                    self.push_with_gaps(text, gaps, bytes);
                }
            } else {
                self.push_behind((main, row), (added, nth), bytes);
            }
            if bytes.len() == begun {
                bytes.extend_from_slice(ONE_BLANK);
            }
            bytes.extend_from_slice(line_end);
        }
    }

    fn pass_through(&self) -> Option<(RawForm, &dyn PassThrough<Vec<u8>>)> {
        // A row as it came, with other columns after it, is not written so.
        let is_written_so = self.columns.are_all() || !self.columns.begins_with_main();
        Some((self.raw_form.filter(|_| is_written_so)?, self))
    }
}

impl PassThrough<Vec<u8>> for TextRenderer {
    fn render_pass_through(&self, main: &Block, columns: &[RawColumns<'_>], bytes: &mut Vec<u8>) {
        if !self.columns.are_all() {
            return self.render_raw_runs(main, columns, bytes);
        }
        let size = main.text_length() + columns.iter().map(RawColumns::length).sum::<usize>();
        let mut buffer = CopyBuffer::of(std::mem::take(bytes), size + SURPLUS);
        let mut added_rows: Vec<_> = columns.iter().map(|columns| columns.rows()).collect();
        let mut is_open = false;
        for row in 0..main.rows() {
            if is_open {
                buffer.push_line_end(&self.line_end);
            }
            let line_end = match main.row_text(row) {
                Some((text, length, line_end)) => {
                    buffer.push(text, length);
                    line_end
                }
                None if added_rows.is_empty()
                    && main.columns() == 1
                    && main.cell(row, 0).is_empty() =>
                {
                    buffer.push(ONE_BLANK, ONE_BLANK.len());
                    &self.line_end
                }
                None => {
                    let cells = (0..main.columns()).map(|column| main.cell(row, column));
                    buffer.push_by(|bytes| push_cells(cells, true, self.delimiter, bytes));
                    &self.line_end
                }
            };
            is_open = line_end.is_empty();
            for added in added_rows.iter_mut().filter_map(Iterator::next) {
                match added {
                    RawRow::Raw(cells) => {
                        let (text, length) = cells.all();
                        buffer.push(text, length);
                    }
                    RawRow::Cells(block, row) => {
                        buffer.push_by(|bytes| self.push_row(block, row, bytes));
                    }
                }
            }
            buffer.push_line_end(line_end);
        }
        *bytes = buffer.into_bytes();
    }
}

/// Appends cells, those but the first of a row after a delimiter.
fn push_cells<'a>(
    cells: impl Iterator<Item = &'a str>,
    mut is_first: bool,
    delimiter: u8,
    bytes: &mut Vec<u8>,
) {
    for cell in cells {
        if !is_first {
            bytes.push(delimiter);
        }
        is_first = false;
        push_cell(bytes, cell.as_bytes(), delimiter, false);
    }
}

/// Whether a spreadsheet that opens the text would run a cell: it begins like a formula and is no number.
fn looks_like_formula(cell: &str) -> bool {
    let begins = matches!(cell.as_bytes().first(), Some(b'=' | b'+' | b'-' | b'@' | b'\t' | b'\r'));
    let number = cell.strip_prefix('+').unwrap_or(cell);
    begins && !is_plain_number(number)
}

/// Cells as they are in a row, without a line end.
pub(super) fn joined<'a>(cells: impl Iterator<Item = &'a str>, delimiter: u8) -> Vec<u8> {
    let mut row = Vec::new();
    push_cells(cells, true, delimiter, &mut row);
    if row.is_empty() {
        row.extend_from_slice(ONE_BLANK);
    }
    row
}

/// Whether a text holds a quote, a line end or the delimiter. Most texts are a few dozen bytes, so that
/// a search made for long ones would take longer to begin than this one takes.
#[inline]
pub(super) fn holds_special(text: &[u8], delimiter: u8) -> bool {
    let special = |lane: u8x16| {
        lane.simd_eq(u8x16::splat(b'"'))
            | lane.simd_eq(u8x16::splat(b'\n'))
            | lane.simd_eq(u8x16::splat(b'\r'))
            | lane.simd_eq(u8x16::splat(delimiter))
    };
    let (lanes, rest) = text.as_chunks::<16>();
    let mut found = u8x16::splat(0);
    for lane in lanes {
        found |= special(u8x16::new(*lane));
    }
    match text.last_chunk::<16>() {
        // Some bytes may be compared twice.
        Some(last) => (found | special(u8x16::new(*last))).to_bitmask() != 0,
        None => needs_quotes(rest, delimiter),
    }
}

/// [`holds_special`] for a short text.
fn needs_quotes(cell: &[u8], delimiter: u8) -> bool {
    let special = |byte: &u8| matches!(byte, b'"' | b'\r' | b'\n') || *byte == delimiter;
    cell.iter().fold(false, |needs, byte| needs | special(byte))
}

/// Appends a cell, in quotes if it contains a quote, a line end or the delimiter, or if it `is_quoted` anyway.
#[inline]
pub(crate) fn push_cell(buffer: &mut Vec<u8>, cell: &[u8], delimiter: u8, is_quoted: bool) {
    if !is_quoted && !needs_quotes(cell, delimiter) {
        buffer.extend_from_slice(cell);
        return;
    }
    buffer.push(b'"');
    for &byte in cell {
        if byte == b'"' {
            buffer.push(b'"');
        }
        buffer.push(byte);
    }
    buffer.push(b'"');
}
