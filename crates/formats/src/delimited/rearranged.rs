//! Rows of which the columns are not in the order of the main table.
//!
//! In go rows of blocks, out come their cells in another order: columns that follow each other in both orders are copied
//! as one piece, and every cell keeps its bytes, with its quotes.

use std::ops::Range;

use gather_keys_core::table::{Block, RowPlaces, Run};
use memchr::memchr;

use super::copy_buffer::CopyBuffer;
use super::row_cells;
use super::writer::{LOOKED_AT, ONE_BLANK, SURPLUS, TextRenderer, holds_special};

/// Runs as they are copied from blocks in which a row's own cells have these places, counted among the cells that the block has
/// of it.
#[derive(Debug)]
enum Piece {
    /// The cells from one to another, and so on.
    Own(Vec<(u32, u32)>),
    /// The added cell at this place, if it is another than that of the column, which is at the other place.
    Over { column: usize, place: usize, own: u32 },
    /// The added cell at this place.
    Added(usize),
}

/// The pieces that a row of a block is copied in.
fn pieces(runs: &[Run], main: &Block) -> Vec<Piece> {
    let place = |column| main.kept_place(column).map_or(u32::MAX, |place| place as u32);
    let mut pieces: Vec<Piece> = Vec::new();
    for run in runs {
        match (*run, pieces.last_mut()) {
            (Run::Own { first, last }, Some(Piece::Own(cells))) => {
                cells.push((place(first), place(last)));
            }
            (Run::Own { first, last }, _) => {
                pieces.push(Piece::Own(vec![(place(first), place(last))]));
            }
            (Run::Over { column, place: at }, _) => {
                pieces.push(Piece::Over { column, place: at, own: place(column) });
            }
            (Run::Added(place), _) => pieces.push(Piece::Added(place)),
        }
    }
    pieces
}

impl TextRenderer {
    /// Replaces `bytes` with rows of a block, run by run.
    pub(super) fn render_runs(
        &self,
        runs: &[Run],
        (main, rows): (&Block, &[usize]),
        added: &Block,
        bytes: &mut Vec<u8>,
    ) {
        let size = main.text_length() + added.text_length() + SURPLUS;
        let mut buffer = CopyBuffer::of(std::mem::take(bytes), size);
        let pieces = pieces(runs, main);
        // Hardly any cell has quotes or needs them; it is quicker to find out for several rows at once.
        let may_have_quotes = main.holds_byte(b'"');
        let changes = self.guards || self.decimal_comma;
        let (mut is_special, mut has_quotes) = (false, false);
        let mut is_open = false;
        for (nth, &row) in rows.iter().enumerate() {
            if nth % LOOKED_AT == 0 {
                let next = nth..rows.len().min(nth + LOOKED_AT);
                is_special = holds_special(added.rows_with_gaps(next.clone(), 0), self.delimiter);
                has_quotes = may_have_quotes && main.rows_may_hold_byte(&rows[next], b'"');
            }
            if is_open {
                buffer.push_line_end(&self.line_end);
            }
            let own = if self.rewrites_rows { None } else { main.row_text(row) };
            let line_end = own.map_or(&self.line_end[..], |(.., line_end)| line_end);
            is_open = line_end.is_empty();
            let begun = buffer.length();
            let needs_quotes = || {
                let text = || added.row_with_gaps(nth, 0).0.as_bytes();
                changes || is_special && holds_special(text(), self.delimiter)
            };
            let is_plain = own.is_some_and(|(text, length, _)| {
                let is_quoted = has_quotes && memchr(b'"', &text[..length]).is_some();
                let push = if is_quoted { push_own::<true> } else { push_own::<false> };
                !needs_quotes()
                    && self.push_pieces(&pieces, (main, row), (added, nth), push, &mut buffer)
            });
            if !is_plain {
                buffer.truncate(begun);
                let own = own.map(|(text, length, _)| &text[..length]);
                buffer.push_by(|bytes| {
                    self.push_runs(runs, (main, row), (added, nth), own, bytes);
                });
            }
            if buffer.length() == begun {
                buffer.push(ONE_BLANK, ONE_BLANK.len());
            }
            buffer.push_line_end(line_end);
        }
        *bytes = buffer.into_bytes();
    }

    /// Appends a row whose added cells need no quotes, its own cells by `push_own`. Says whether all its cells are there as they
    /// are.
    fn push_pieces(
        &self,
        pieces: &[Piece],
        (main, row): (&Block, usize),
        (added, nth): (&Block, usize),
        push_own: PushOwn,
        buffer: &mut CopyBuffer,
    ) -> bool {
        let Some(places) = main.row_places(row) else { return false };
        let (begun, delimiter) = (buffer.length(), self.delimiter);
        for piece in pieces {
            let is_own =
                |column: usize, place: usize| added.cell(nth, place) == main.cell(row, column);
            let is_pushed = match *piece {
                Piece::Own(ref cells) => push_own(cells, places, delimiter, buffer),
                Piece::Over { column, place, own } if is_own(column, place) => {
                    push_own(&[(own, own)], places, delimiter, buffer)
                }
                Piece::Over { place, .. } | Piece::Added(place) => {
                    let (text, length) = added.cell_with_behind(nth, place);
                    let whole = std::iter::once(Some((0, length as u32)));
                    buffer.push_slices(text, whole, delimiter)
                }
            };
            if !is_pushed {
                return false;
            }
        }
        // There is none after the last cell.
        buffer.truncate(begun.max(buffer.length().saturating_sub(1)));
        true
    }

    /// Appends a row of which the columns are not in the order of the main table. Cells that are taken over from its own
    /// bytes keep these, with their quotes.
    fn push_runs(
        &self,
        runs: &[Run],
        main: (&Block, usize),
        added: (&Block, usize),
        own: Option<&[u8]>,
        bytes: &mut Vec<u8>,
    ) {
        for (nth, &run) in runs.iter().enumerate() {
            if nth > 0 {
                bytes.push(self.delimiter);
            }
            self.push_run(run, main, added, own, bytes);
        }
    }

    pub(super) fn push_run(
        &self,
        run: Run,
        (main, row): (&Block, usize),
        (added, nth): (&Block, usize),
        own: Option<&[u8]>,
        bytes: &mut Vec<u8>,
    ) {
        let (first, last) = match run {
            Run::Own { first, last } => (first, last),
            Run::Over { column, place } if added.cell(nth, place) == main.cell(row, column) => {
                (column, column)
            }
            Run::Over { place, .. } | Run::Added(place) => {
                self.push_foreign(bytes, added.cell(nth, place), added.kind(nth, place));
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
        let is_quoted = before(at.start) == Some(&b'"') && own.get(at.end) == Some(&b'"');
        if is_bare {
            return Some(at);
        }
        let whole = at.start.checked_sub(1).filter(|_| is_quoted)?..at.end + 1;
        let stands = is_bound(before(whole.start)) && is_bound(own.get(whole.end));
        stands.then_some(whole)
    }
}

/// Appends cells of a row, each from the first to the last of several, to a buffer.
type PushOwn = fn(&[(u32, u32)], RowPlaces<'_>, u8, &mut CopyBuffer) -> bool;

/// Appends cells of a row as they are, with the delimiter after each, where some are `QUOTED` with their quotes. Says whether
/// all are there.
// By itself it is small enough for all it needs to be in registers.
#[inline(never)]
fn push_own<const QUOTED: bool>(
    cells: &[(u32, u32)],
    places: RowPlaces<'_>,
    delimiter: u8,
    buffer: &mut CopyBuffer,
) -> bool {
    let text = places.text();
    let cells = cells.iter().map(|&(first, last)| {
        let slice = places.between(first, last)?;
        Some(if QUOTED { with_quotes(text, slice) } else { slice })
    });
    buffer.push_slices(text, cells, delimiter)
}

/// A slice of a row's own bytes, from one cell to another, with the quotes around them.
fn with_quotes(text: &[u8], (from, length): (u32, u32)) -> (u32, u32) {
    let is_quote = |at: u32| text.get(at as usize) == Some(&b'"');
    let before = u32::from(from.checked_sub(1).is_some_and(is_quote));
    let after = u32::from(is_quote(from + length));
    (from - before, length + before + after)
}
