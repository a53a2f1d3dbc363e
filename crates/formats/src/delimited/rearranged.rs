//! Rows of which the columns are not in the order of the main table.
//!
//! In go rows of blocks, out come their cells in another order: columns that follow each other in both orders are copied
//! as one piece, and every cell keeps its bytes, with its quotes.

use std::ops::Range;

use gather_keys_core::table::{Block, Run};
use memchr::memchr;

use super::copy_buffer::CopyBuffer;
use super::row_cells;
use super::writer::{LOOKED_AT, ONE_BLANK, SURPLUS, TextRenderer, holds_special};

/// The runs of some rows.
#[derive(Clone, Copy)]
struct Runs<'r> {
    each: &'r [Run],
    /// Where the first and the last column of each run are among those that the block holds.
    places: &'r [(usize, usize)],
    /// Whether an added cell of the rows may need quotes, or another form.
    is_special: bool,
}

/// Where the first and the last column of a run are among those that a block holds; nowhere for added ones.
fn places_of(run: Run, main: &Block) -> (usize, usize) {
    let place = |column| main.kept_place(column).unwrap_or(usize::MAX);
    match run {
        Run::Own { first, last } => (place(first), place(last)),
        Run::Over { column, .. } => (place(column), place(column)),
        Run::Added(_) => (usize::MAX, usize::MAX),
    }
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
        let places: Vec<(usize, usize)> = runs.iter().map(|run| places_of(*run, main)).collect();
        // Hardly any cell has quotes or needs them; it is quicker to find out for many rows at once.
        let has_quotes = main.holds_byte(b'"');
        let mut is_special = self.guards || self.decimal_comma;
        let changes = is_special;
        let mut is_open = false;
        for (nth, &row) in rows.iter().enumerate() {
            if nth % LOOKED_AT == 0 && !changes {
                let all = nth..rows.len().min(nth + LOOKED_AT);
                is_special = holds_special(added.rows_with_gaps(all, 0), self.delimiter);
            }
            if is_open {
                buffer.push_line_end(&self.line_end);
            }
            let own = self.own_bytes(main, row).and_then(|_| main.row_text(row));
            let line_end = own.map_or(&self.line_end[..], |(.., line_end)| line_end);
            is_open = line_end.is_empty();
            let has_quotes =
                |text: &[u8], length: usize| has_quotes && memchr(b'"', &text[..length]).is_some();
            let plain = own.filter(|(text, length, _)| !has_quotes(text, *length));
            let begun = buffer.length();
            match plain {
                Some((text, ..)) => {
                    let runs = Runs { each: runs, places: &places, is_special };
                    self.push_plain_runs(runs, text, (main, row), (added, nth), &mut buffer);
                }
                None => {
                    let own = own.map(|(text, length, _)| &text[..length]);
                    buffer.push_by(|bytes| {
                        self.push_runs(runs, (main, row), (added, nth), own, bytes);
                    });
                }
            }
            if buffer.length() == begun {
                buffer.push(ONE_BLANK, ONE_BLANK.len());
            }
            buffer.push_line_end(line_end);
        }
        *bytes = buffer.into_bytes();
    }

    /// Appends a row without quotes; `text` begins with its own bytes.
    #[inline]
    fn push_plain_runs(
        &self,
        all: Runs<'_>,
        text: &[u8],
        (main, row): (&Block, usize),
        (added, nth): (&Block, usize),
        buffer: &mut CopyBuffer,
    ) {
        let Some(cells) = main.row_places(row) else { return };
        let mut needs_delimiter = false;
        for (at, (&run, &(first, last))) in all.each.iter().zip(all.places).enumerate() {
            if needs_delimiter {
                buffer.push_line_end(&[self.delimiter]);
            }
            needs_delimiter = true;
            let place = match run {
                Run::Own { .. } => None,
                Run::Over { column, place } => {
                    let is_same = added.cell(nth, place) == main.cell(row, column);
                    (!is_same).then_some(place)
                }
                Run::Added(place) => Some(place),
            };
            if let Some(place) = place {
                let (cell, length) = added.cell_with_behind(nth, place);
                if all.is_special {
                    let kind = added.kind(nth, place);
                    buffer.push_by(|bytes| self.push_foreign(bytes, added.cell(nth, place), kind));
                } else {
                    buffer.push(cell, length);
                }
            } else if let Some(place) = cells.between(first, last) {
                // The delimiter after it there is the one before the next run.
                let is_followed = at + 1 < all.each.len()
                    && text.get(place.end).is_some_and(|byte| *byte == self.delimiter);
                needs_delimiter = !is_followed;
                let length = place.end - place.start + usize::from(is_followed);
                buffer.push(&text[place.start..], length);
            } else {
                buffer.push_by(|bytes| {
                    let own = main.row_bytes(row).map(|(own, _)| own);
                    self.push_run(run, (main, row), (added, nth), own, bytes);
                });
            }
        }
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
