//! Rows of which the columns are not in the order of the main table.
//!
//! In go rows of blocks, out come their cells in another order: columns that follow each other in both orders are copied
//! as one piece, and every cell keeps its bytes, with its quotes.

use std::ops::Range;

use gather_keys_core::table::{Block, CellKind, RawColumns, RawRow, RowPlaces, Run};

use super::byte_classifier::QUOTE;
use super::copy_buffer::CopyBuffer;
use super::row_cells;
use super::writer::{LOOKED_AT, ONE_BLANK, SURPLUS, TextRenderer, holds_special};

/// Cells that are copied together. A row's own cells are given by their places among the cells that the block has of it.
#[derive(Debug)]
enum Piece {
    /// The cells from one place to another, and so on.
    Own(Vec<(u32, u32)>),
    /// The added cell of a column, if it is another than that of the row itself, which is at the place `own`.
    Over { column: usize, place: usize, own: u32 },
    /// The cells that this source adds, from one to another.
    Added { source: usize, first: usize, last: usize },
}

impl Piece {
    /// The pieces that a row of a block is copied in. The added cells come from `added`.
    fn all(runs: &[Run], main: &Block, added: &impl AddedRows) -> Vec<Self> {
        let own = |column| main.kept_place(column).map_or(u32::MAX, |place| place as u32);
        let mut pieces: Vec<Self> = Vec::new();
        for run in runs {
            let next = match *run {
                Run::Own { first, last } => Self::Own(vec![(own(first), own(last))]),
                Run::Over { column, place } => Self::Over { column, place, own: own(column) },
                Run::Added(place) => {
                    let (source, nth) = added.source_of(place);
                    Self::Added { source, first: nth, last: nth }
                }
            };
            match (pieces.last_mut(), next) {
                (Some(Self::Own(places)), Self::Own(more)) => places.extend(more),
                (
                    Some(Self::Added { source, last, .. }),
                    Self::Added { source: same, first: next, .. },
                ) if added.has_delimiters() && same == *source && next == *last + 1 => *last = next,
                (_, next) => pieces.push(next),
            }
        }
        pieces
    }
}

/// The added cells of rows, one row after the other.
trait AddedRows {
    /// The source of an added cell, and its number among the cells of this one.
    fn source_of(&self, place: usize) -> (usize, usize);

    /// Whether delimiters are between the cells of a source.
    fn has_delimiters(&self) -> bool;

    /// Goes to the next row. Says whether its cells are written as they are.
    fn go_on(&mut self) -> bool;

    /// The cells that a source adds to the row, from one to another: the text from the first one's first byte on, and how many
    /// bytes they take. `None` where they are not there as they are written.
    fn between(&self, source: usize, first: usize, last: usize) -> Option<(&[u8], usize)>;

    /// An added cell of the row.
    fn cell(&self, place: usize) -> (&str, CellKind);
}

/// The source that adds the cell at a place, and its number there. `columns` says how many cells each source adds.
fn source_of(place: usize, columns: impl Iterator<Item = usize>) -> (usize, usize) {
    let mut nth = place;
    for (source, columns) in columns.enumerate() {
        match nth.checked_sub(columns) {
            Some(left) => nth = left,
            None => return (source, nth),
        }
    }
    (usize::MAX, nth)
}

/// Added cells in a block.
struct InBlock<'a> {
    block: &'a Block,
    /// The row, if there was one.
    row: Option<usize>,
    delimiter: u8,
    /// Whether cells may have to be changed.
    changes: bool,
    /// Whether a cell of the row or one near it needs quotes. Hardly any does; it is quicker to find out for several rows at once.
    is_special: bool,
}

impl InBlock<'_> {
    /// Finds out whether some of the next rows need quotes.
    #[cold]
    fn look(&mut self, row: usize) {
        let next = row..self.block.rows().min(row + LOOKED_AT);
        self.is_special = holds_special(self.block.rows_with_gaps(next, 0), self.delimiter);
    }

    #[cold]
    fn needs_quotes(&self, row: usize) -> bool {
        holds_special(self.block.row_with_gaps(row, 0).0.as_bytes(), self.delimiter)
    }
}

impl AddedRows for InBlock<'_> {
    fn source_of(&self, place: usize) -> (usize, usize) {
        (0, place)
    }

    fn has_delimiters(&self) -> bool {
        false
    }

    #[inline]
    fn go_on(&mut self) -> bool {
        let row = self.row.map_or(0, |row| row + 1);
        self.row = Some(row);
        if row.is_multiple_of(LOOKED_AT) {
            self.look(row);
        }
        !(self.changes || self.is_special && self.needs_quotes(row))
    }

    #[inline(always)]
    fn between(&self, _: usize, first: usize, _: usize) -> Option<(&[u8], usize)> {
        Some(self.block.cell_with_behind(self.row?, first))
    }

    fn cell(&self, place: usize) -> (&str, CellKind) {
        let row = self.row.unwrap_or_default();
        (self.block.cell(row, place), self.block.kind(row, place))
    }
}

/// Added cells as the references have them.
struct PassedThrough<'a, I> {
    columns: &'a [RawColumns<'a>],
    /// What each adds to the row, and to those after it.
    rows: Vec<(Option<RawRow<'a>>, I)>,
}

impl<'a, I: Iterator<Item = RawRow<'a>>> AddedRows for PassedThrough<'a, I> {
    fn source_of(&self, place: usize) -> (usize, usize) {
        source_of(place, self.columns.iter().map(RawColumns::columns))
    }

    fn has_delimiters(&self) -> bool {
        true
    }

    #[inline(always)]
    fn go_on(&mut self) -> bool {
        for (row, left) in &mut self.rows {
            *row = left.next();
        }
        true
    }

    #[inline(always)]
    fn between(&self, source: usize, first: usize, last: usize) -> Option<(&[u8], usize)> {
        match self.rows.get(source)?.0? {
            RawRow::Raw(cells) => cells.between(first, last),
            RawRow::Cells(..) => None,
        }
    }

    fn cell(&self, place: usize) -> (&str, CellKind) {
        let (source, nth) = self.source_of(place);
        let row = self.rows.get(source).and_then(|(row, _)| *row);
        (row.map(|row| row.cell(nth)).unwrap_or_default(), CellKind::Untyped)
    }
}

impl TextRenderer {
    /// Replaces `bytes` with rows of a block, run by run, each with the next of the added rows.
    pub(super) fn render_runs(
        &self,
        (main, rows): (&Block, &[usize]),
        added: &Block,
        bytes: &mut Vec<u8>,
    ) {
        let size = main.text_length() + added.text_length();
        let (delimiter, changes) = (self.delimiter, self.guards || self.decimal_comma);
        let added = InBlock { block: added, row: None, delimiter, changes, is_special: false };
        self.render_arranged((main, rows.iter().copied()), added, size, bytes);
    }

    /// Replaces `bytes` with all rows of a block, run by run, each with what the references add to it.
    pub(super) fn render_raw_runs(
        &self,
        main: &Block,
        columns: &[RawColumns<'_>],
        bytes: &mut Vec<u8>,
    ) {
        let size = main.text_length() + columns.iter().map(RawColumns::length).sum::<usize>();
        let rows = columns.iter().map(|columns| (None, columns.rows())).collect();
        let added = PassedThrough { columns, rows };
        self.render_arranged((main, 0..main.rows()), added, size, bytes);
    }

    /// Replaces `bytes` with rows of a block, run by run, each with the next of the added rows; these are about `size` bytes.
    fn render_arranged(
        &self,
        (main, mut rows): (&Block, impl ExactSizeIterator<Item = usize> + Clone),
        mut added: impl AddedRows,
        size: usize,
        bytes: &mut Vec<u8>,
    ) {
        let mut buffer = CopyBuffer::of(std::mem::take(bytes), size + SURPLUS);
        let pieces = Piece::all(&self.runs, main, &added);
        // Hardly any cell has quotes; it is quicker to find out for several rows at once.
        let may_have_quotes = main.holds_byte(QUOTE);
        let mut is_open = false;
        while rows.len() > 0 {
            let mut next = rows.clone().take(LOOKED_AT);
            let has_quotes = may_have_quotes && main.rows_may_hold_byte(&next, QUOTE);
            rows.nth(LOOKED_AT - 1);
            while next.len() > 0 {
                if is_open {
                    buffer.push_line_end(&self.line_end);
                }
                let (rows, added) = ((main, &mut next), &mut added);
                let left_over = if has_quotes {
                    self.push_plain::<true>(&pieces, rows, added, &mut buffer)
                } else {
                    self.push_plain::<false>(&pieces, rows, added, &mut buffer)
                };
                is_open = left_over.is_some_and(|row| {
                    let own = if self.rewrites_rows { None } else { main.row_bytes(row) };
                    let line_end = own.map_or(&self.line_end[..], |(_, line_end)| line_end);
                    let own = own.map(|(text, _)| text);
                    buffer.push_by(|bytes| {
                        self.push_runs((main, row), added, own, bytes);
                        if bytes.is_empty() {
                            bytes.extend_from_slice(ONE_BLANK);
                        }
                    });
                    buffer.push_line_end(line_end);
                    line_end.is_empty()
                });
            }
        }
        *bytes = buffer.into_bytes();
    }

    /// Appends rows as long as all their cells are there as they are written; returns the first other one, to whose cells `added`
    /// has gone on. Quotes around own cells are looked for only if they may be `QUOTED`.
    #[inline(never)]
    fn push_plain<const QUOTED: bool>(
        &self,
        pieces: &[Piece],
        (main, rows): (&Block, &mut impl Iterator<Item = usize>),
        added: &mut impl AddedRows,
        buffer: &mut CopyBuffer,
    ) -> Option<usize> {
        for row in rows {
            let begun = buffer.length();
            let is_plain = added.go_on()
                && !self.rewrites_rows
                && self.push_pieces::<QUOTED>(pieces, (main, row), added, buffer);
            if !is_plain {
                buffer.truncate(begun);
                return Some(row);
            }
        }
        None
    }

    /// Appends a row with its line end, if all its cells are there as they are; says whether they are.
    #[inline(always)]
    fn push_pieces<const QUOTED: bool>(
        &self,
        pieces: &[Piece],
        (main, row): (&Block, usize),
        added: &impl AddedRows,
        buffer: &mut CopyBuffer,
    ) -> bool {
        let Some(own) = main.row_places(row) else { return false };
        let (begun, delimiter) = (buffer.length(), self.delimiter);
        for piece in pieces {
            let is_pushed = match *piece {
                Piece::Own(ref cells) => push_own::<QUOTED>(cells, &own, delimiter, buffer),
                Piece::Over { column, place, own: same }
                    if added.cell(place).0 == main.cell(row, column) =>
                {
                    push_own::<QUOTED>(&[(same, same)], &own, delimiter, buffer)
                }
                Piece::Over { place, .. } => {
                    push_added(added.between(0, place, place), delimiter, buffer)
                }
                Piece::Added { source, first, last } => {
                    push_added(added.between(source, first, last), delimiter, buffer)
                }
            };
            if !is_pushed {
                return false;
            }
        }
        // A blank cell is no row by itself, and after the last cell there is no delimiter.
        buffer.length() > begun + 1 && buffer.end_row(own.line_end())
    }

    /// Appends a row of which the columns are not in the order of the main table. Cells that are taken over from its own
    /// bytes keep these, with their quotes.
    fn push_runs(
        &self,
        main: (&Block, usize),
        added: &impl AddedRows,
        own: Option<&[u8]>,
        bytes: &mut Vec<u8>,
    ) {
        for (nth, &run) in self.runs.iter().enumerate() {
            if nth > 0 {
                bytes.push(self.delimiter);
            }
            self.push_run(run, main, |place| added.cell(place), own, bytes);
        }
    }

    /// Appends columns that are written together; `added` gives the added cells of the row.
    pub(super) fn push_run<'a>(
        &self,
        run: Run,
        (main, row): (&Block, usize),
        added: impl Fn(usize) -> (&'a str, CellKind),
        own: Option<&[u8]>,
        bytes: &mut Vec<u8>,
    ) {
        let (first, last) = match run {
            Run::Own { first, last } => (first, last),
            Run::Over { column, place } if added(place).0 == main.cell(row, column) => {
                (column, column)
            }
            Run::Over { place, .. } | Run::Added(place) => {
                let (cell, kind) = added(place);
                self.push_foreign(bytes, cell, kind);
                return;
            }
        };
        let Some(own) = own else {
            for column in first..=last {
                if column > first {
                    bytes.push(self.delimiter);
                }
                self.push_bare(bytes, (main, row), column);
            }
            return;
        };
        let place = |column| self.written_place((main, row), column, own);
        if let (Some(from), Some(to)) = (place(first), place(last)) {
            bytes.extend_from_slice(&own[from.start..to.end]);
            return;
        }
        for (at, cell) in row_cells(own, self.delimiter).enumerate().take(last + 1).skip(first) {
            if at > first {
                bytes.push(self.delimiter);
            }
            bytes.extend_from_slice(cell);
        }
    }

    /// The range of a cell in the bytes of its row, with its quotes; `None` where it is not there as it is.
    #[inline]
    fn written_place(
        &self,
        (main, row): (&Block, usize),
        column: usize,
        own: &[u8],
    ) -> Option<Range<usize>> {
        let at = main.place_in_row(row, column)?;
        let is_bound = |byte: Option<&u8>| byte.is_none_or(|byte| *byte == self.delimiter);
        let before = |at: usize| at.checked_sub(1).and_then(|at| own.get(at));
        let is_bare = is_bound(before(at.start)) && is_bound(own.get(at.end));
        let is_quoted = before(at.start) == Some(&QUOTE) && own.get(at.end) == Some(&QUOTE);
        if is_bare {
            return Some(at);
        }
        let whole = at.start.checked_sub(1).filter(|_| is_quoted)?..at.end + 1;
        let stands = is_bound(before(whole.start)) && is_bound(own.get(whole.end));
        stands.then_some(whole)
    }
}

/// Appends cells of a row, each from the first to the last of several, with the delimiter after each. Says whether all are there.
// By itself it is small enough for all it needs to be in registers.
#[inline(never)]
fn push_own<const QUOTED: bool>(
    places: &[(u32, u32)],
    own: &RowPlaces<'_>,
    delimiter: u8,
    buffer: &mut CopyBuffer,
) -> bool {
    let slices = places.iter().map(|&(first, last)| {
        let slice = own.between(first, last)?;
        Some(shown::<QUOTED>(own, slice))
    });
    buffer.push_slices(own.text(), slices, delimiter)
}

/// Appends added cells, which are the first bytes of a text, with the delimiter after them. Says whether they are there.
#[inline(always)]
fn push_added(cells: Option<(&[u8], usize)>, delimiter: u8, buffer: &mut CopyBuffer) -> bool {
    let Some((text, length)) = cells else { return false };
    buffer.push(text, length);
    buffer.push_byte(delimiter);
    true
}

/// A slice of a row's bytes, from one cell to another; if cells may be `QUOTED`, with the quotes around them.
#[inline(always)]
fn shown<const QUOTED: bool>(own: &RowPlaces<'_>, (from, length): (u32, u32)) -> (u32, u32) {
    if !QUOTED {
        return (from, length);
    }
    let is_quote = |at: u32| own.text().get(at as usize) == Some(&QUOTE);
    let before = u32::from(from.checked_sub(1).is_some_and(is_quote));
    let after = u32::from(is_quote(from + length));
    (from - before, length + before + after)
}
