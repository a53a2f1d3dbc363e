//! Writing the [packed layout](super::packed).
//!
//! Cells go in, of a block or as texts; packed cells and rows come out, end to end. The buffer is allocated
//! before it is filled: copying a fixed number of bytes takes less time than looking up how many there are, and
//! the next cell overwrites the surplus.

use super::packed::{FIRST_VALUE, GAP, MORE, RowCell};
use super::raw_columns::RawFormScanner;
use super::{RawForm, Span};

/// The lengths up to which a cell is copied together with the bytes after it: most cells, and nearly all.
const SHORT: usize = 16;
const LONGER: usize = 48;

/// Packed cells, followed by the remains of earlier ones.
#[derive(Debug, Default)]
pub(crate) struct Packer {
    buffer: Vec<u8>,
    filled: usize,
}

/// A cell as a part of a larger text: the text from the cell's first byte on, and the cell's length in bytes.
pub(crate) type InText<'t> = (&'t [u8], usize);

impl Packer {
    /// Forgets all cells.
    pub(crate) fn clear(&mut self) {
        self.filled = 0;
    }

    /// How many bytes are packed.
    #[inline]
    pub(crate) fn len(&self) -> usize {
        self.filled
    }

    /// Forgets all but the first `length` bytes.
    pub(crate) fn truncate(&mut self, length: usize) {
        self.filled = self.filled.min(length);
    }

    /// All that is packed.
    #[inline]
    pub(crate) fn bytes(&self) -> &[u8] {
        &self.buffer[..self.filled]
    }

    /// All that is packed, as text. Only cells and ASCII lengths go in, so that it always is text.
    pub(crate) fn text(&self) -> &str {
        self.text_of(0..self.filled)
    }

    /// A range of what is packed, from the start of a cell to the end of one, as text.
    pub(crate) fn text_of(&self, range: std::ops::Range<usize>) -> &str {
        let text = simdutf8::basic::from_utf8(&self.bytes()[range]);
        debug_assert!(text.is_ok());
        text.unwrap_or_default()
    }

    /// Adds a cell.
    #[inline]
    pub(crate) fn push(&mut self, cell: &str) {
        self.push_length(cell.len());
        self.push_bytes(cell.as_bytes());
    }

    /// Adds cells of a text.
    #[inline(always)]
    pub(crate) fn push_all<'c>(&mut self, mut cells: impl Iterator<Item = InText<'c>>) {
        // Locals stay in registers while nothing but cells is written.
        let (buffer, mut filled) = (&mut self.buffer[..], self.filled);
        let rest = cells.find(|&cell| !copy(buffer, &mut filled, cell.1 as u8, cell));
        self.filled = filled;
        if let Some(cell) = rest {
            self.push_slowly(cell);
            cells.for_each(|cell| self.push_slowly(cell));
        }
    }

    #[cold]
    fn push_slowly(&mut self, (text, length): InText<'_>) {
        self.push_length(length);
        self.push_bytes(&text[..length]);
    }

    /// Adds the cells of `spans` in a text as a row. The cells of a row that `is_plain` are known to be in
    /// their raw form; others are scanned by `scanner`, where there is one.
    #[inline(always)]
    pub(crate) fn push_row_of(
        &mut self,
        (text, spans): (&[u8], &[Span]),
        scanner: Option<&RawFormScanner>,
        is_plain: bool,
    ) {
        let raw_form = scanner.map(|scanner| scanner.raw_form);
        let gap = raw_form.map_or(GAP, RawForm::gap) as u8;
        let (buffer, texts) = (&mut self.buffer[..], self.filled + spans.len());
        let mut filled = texts;
        let length = |span: &Span| (span.end - span.start) as usize;
        let mut all = 0;
        let is_short = buffer.get_mut(self.filled..texts).is_some_and(|lengths| {
            for (digit, span) in lengths.iter_mut().zip(spans) {
                *digit = length(span) as u8;
                all |= length(span);
            }
            all < MORE.into()
        });
        let mut copy_cell = |span: &Span| {
            let cell = (&text[span.start as usize..], length(span));
            // The source is scanned, not the copy: reading bytes that were just written stalls.
            let fits = is_plain || scanner.is_none_or(|scanner| scanner.is_raw(cell));
            fits && copy(buffer, &mut filled, gap, cell)
        };
        if is_short && spans.iter().all(&mut copy_cell) {
            self.filled = filled;
        } else {
            self.push_row_slowly((text, spans), raw_form);
        }
    }

    #[cold]
    fn push_row_slowly(&mut self, (text, spans): (&[u8], &[Span]), raw_form: Option<RawForm>) {
        let cell = |span: &Span| {
            let cell = &text[span.start as usize..span.end as usize];
            RowCell::Text(str::from_utf8(cell).unwrap_or_default())
        };
        self.push_row(spans.iter().map(cell), raw_form);
    }

    /// Adds cells as a row. A cell of a dictionary takes a two-byte character in place of its length, and no
    /// text.
    ///
    /// Where cells are to be in a `raw_form`, its separator fills the gaps. If some cell is not in its raw form,
    /// all lengths of the row take one character more than they need, which marks the row.
    pub(crate) fn push_row<'c>(
        &mut self,
        cells: impl Iterator<Item = RowCell<'c>> + Clone,
        raw_form: Option<RawForm>,
    ) {
        let is_raw = raw_form.is_none_or(|raw_form| {
            cells.clone().all(|cell| match cell {
                RowCell::Text(text) => raw_form.holds(text.as_bytes()),
                RowCell::Value(_) => true,
            })
        });
        for cell in cells.clone() {
            match cell {
                RowCell::Text(text) if is_raw => self.push_length(text.len()),
                RowCell::Text(text) => self.push_marked_length(text.len()),
                RowCell::Value(number) => {
                    let character = char::from_u32(u32::from(FIRST_VALUE + number));
                    let mut utf8 = [0; 4];
                    let utf8 = character.unwrap_or('\u{80}').encode_utf8(&mut utf8);
                    self.push_bytes(utf8.as_bytes());
                }
            }
        }
        let gap = raw_form.map_or(GAP, RawForm::gap) as u8;
        for cell in cells {
            if let RowCell::Text(text) = cell {
                self.push_bytes(&[gap]);
                self.push_bytes(text.as_bytes());
            }
        }
    }

    #[inline]
    fn push_length(&mut self, mut length: usize) {
        while length >= usize::from(MORE) {
            self.push_bytes(&[MORE | (length as u8 & (MORE - 1))]);
            length >>= 6;
        }
        self.push_bytes(&[length as u8]);
    }

    /// Adds a length with one character more than it needs.
    fn push_marked_length(&mut self, length: usize) {
        self.push_bytes(&[MORE | (length as u8 & (MORE - 1))]);
        self.push_length(length >> 6);
    }

    #[inline]
    fn push_bytes(&mut self, bytes: &[u8]) {
        let start = self.filled;
        self.filled += bytes.len();
        if self.buffer.len() < self.filled {
            self.grow();
        }
        self.buffer[start..self.filled].copy_from_slice(bytes);
    }

    #[cold]
    fn grow(&mut self) {
        self.buffer.resize((2 * self.filled).max(1024), 0);
    }
}

/// Copies a byte and a cell to the end of the filled part, together with bytes after the cell. Returns `false`
/// where the cell is too long, or is too near the end of its text or of the buffer.
#[inline(always)]
fn copy(buffer: &mut [u8], filled: &mut usize, before: u8, (text, length): InText<'_>) -> bool {
    let Some(free) = buffer.get_mut(*filled..) else { return false };
    if length <= SHORT
        && let Some(cell) = text.first_chunk::<SHORT>()
        && let Some([first, free @ ..]) = free.first_chunk_mut::<{ SHORT + 1 }>()
    {
        (*first, *free) = (before, *cell);
    } else if length <= LONGER
        && let Some(cell) = text.first_chunk::<LONGER>()
        && let Some([first, free @ ..]) = free.first_chunk_mut::<{ LONGER + 1 }>()
    {
        (*first, *free) = (before, *cell);
    } else {
        return false;
    }
    *filled += 1 + length;
    true
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
           /// Cells of a text are packed as the same cells are one by one, whatever was packed before.
           #[test]
           fn cells_are_packed_alike(
               batches in prop::collection::vec(
                   prop::collection::vec("[aé]{0,3}|[a-c]{14,18}|x{45,50}|x{60,70}", 0..20),
                   1..4,
               ),
               is_plain in any::<bool>(),
           ) {
               let mut packer = Packer::default();
               for cells in batches {
                   let text: String = cells.concat();
                   let mut end = 0;
                   let spans: Vec<Span> = cells
                       .iter()
                       .map(|cell| {
                           let start = end;
                           end += cell.len() as u32;
                           Span { start, end }
                       })
                       .collect();
                   let mut want = Packer::default();
                   for cell in &cells {
    want.push(cell);
    }
                   let raw_form = RawForm::new(b'|', *b"abab").filter(|_| is_plain);
                   want.push_row(cells.iter().map(|cell| RowCell::Text(cell)), raw_form);
                   packer.clear();
                   let text = text.as_bytes();
                   packer.push_all(spans.iter().map(|span| {
                       (&text[span.start as usize..], (span.end - span.start) as usize)
                   }));
                   let is_plain = cells.iter().all(|cell| !cell.contains(['a', 'b', '|']));
                   packer.push_row_of((text, &spans), raw_form.map(RawForm::scanner).as_ref(), is_plain);
                   prop_assert_eq!(packer.bytes(), want.bytes());
               }
           }
       }
}
