//! The structural index of a part of a text: the positions of its delimiters, line ends and opening
//! quotes.
//!
//! They are written down for many rows at once, without asking where a row ends: a processor that
//! guesses wrongly which way it goes on loses more time than it takes to look at 64 bytes. Which of them
//! make a row is read from the list afterwards.

use super::byte_classifier::{ByteClasses, ByteClassifier, STRIDE};

/// The structural index of a part of a text, which begins where a row does.
#[derive(Debug)]
pub(super) struct StructuralIndex {
    /// The byte before the first row, then each delimiter and line end, followed by entries without
    /// meaning.
    marks: Vec<u32>,
    /// Which of the positions are line ends, followed by entries without meaning.
    ends: Vec<u32>,
    /// How many line ends there are.
    rows: usize,
    /// Quotes that open a cell, unless they are within another one.
    opening: Vec<u32>,
    next: Next,
    /// The beginning of the part, once a text was indexed.
    start: Option<usize>,
    /// How many bytes are looked at in one go.
    length: usize,
}

/// The next entries of an index.
#[derive(Debug, Default)]
struct Next {
    /// The mark before the row.
    before: usize,
    /// Its line end, among the line ends.
    end: usize,
    /// The first quote that is not before it.
    quote: usize,
}

/// How many bytes are looked at in one go, and at most where a row is longer. Tests reach both sooner.
const LENGTH: usize = if cfg!(test) { STRIDE } else { 4 << 10 };
const LONGEST: usize = if cfg!(test) { 4 * STRIDE } else { 1 << 20 };

/// How many marks are written down whether they are there or not.
const AT_ONCE: usize = 8;

impl Default for StructuralIndex {
    fn default() -> Self {
        Self {
            marks: Vec::new(),
            ends: Vec::new(),
            rows: 0,
            opening: Vec::new(),
            next: Next::default(),
            start: None,
            length: LENGTH,
        }
    }
}

impl StructuralIndex {
    /// Knows nothing any more, and keeps its buffers unless they are large.
    pub(super) fn emptied(mut self) -> Self {
        if self.length > LENGTH {
            return Self::default();
        }
        self.rows = 0;
        self.opening.clear();
        self.next = Next::default();
        self.start = None;
        self
    }

    /// Passes what is before a byte, at which a row begins.
    #[inline(always)]
    pub(super) fn come_to(&mut self, start: usize) {
        let next = &mut self.next;
        while next.end < self.rows && self.marks[next.before].wrapping_add(1) < start as u32 {
            next.before += 1;
            while next.end < self.rows && self.ends[next.end] as usize <= next.before {
                next.end += 1;
            }
        }
        while self.opening.get(next.quote).is_some_and(|&quote| (quote as usize) < start) {
            next.quote += 1;
        }
    }

    /// The marks around the cells of the next row, the last of which ends it; `None` where that is not
    /// known.
    #[inline(always)]
    pub(super) fn row(&self) -> Option<&[u32]> {
        let Next { before, end, .. } = self.next;
        (end < self.rows).then(|| &self.marks[before..=self.ends[end] as usize])
    }

    /// The entries of the next rows: all positions, the one before the first row, and which of them end
    /// rows; and the first quote that opens a cell.
    #[inline(always)]
    pub(super) fn rows(&self) -> (&[u32], usize, &[u32], Option<u32>) {
        let Next { before, end, quote } = self.next;
        (&self.marks, before, &self.ends[end..self.rows], self.opening.get(quote).copied())
    }

    /// Moves past `rows` rows, to the one after this position.
    #[inline(always)]
    pub(super) fn pass_rows(&mut self, rows: usize, before: usize) {
        self.next.before = before;
        self.next.end += rows;
    }

    /// Whether a cell of the next row, which ends at a byte, is opened by a quote.
    #[inline(always)]
    pub(super) fn opens_before(&self, end: u32) -> bool {
        self.opening.get(self.next.quote).is_some_and(|&quote| quote < end)
    }

    /// Goes on to the row after the next one.
    #[inline(always)]
    pub(super) fn pass_row(&mut self) {
        self.next.before = self.ends[self.next.end] as usize;
        self.next.end += 1;
    }

    /// Indexes a text from the start of a row. Returns `false` when this row was indexed before, so that no more
    /// bytes may be read at once.
    #[inline(always)]
    pub(super) fn look(
        &mut self,
        classifier: impl ByteClassifier,
        (text, delimiter): (&[u8], u8),
        start: usize,
    ) -> bool {
        let before = (start as u32).wrapping_sub(1);
        if self.start.replace(start) == Some(start) {
            if self.length >= LONGEST {
                return false;
            }
            self.length *= 4;
        }
        let room = self.length + STRIDE;
        self.marks.resize(room, 0);
        self.ends.resize(room, 0);
        self.opening.clear();
        self.next = Next::default();
        // As slices they stay where the processor has them available.
        let (all, ends) = (&mut self.marks[..], &mut self.ends[..]);
        all[0] = before;
        let (mut count, mut rows) = (1, 0);
        let upto = text.len().min(start + self.length);
        let mut base = start;
        // A quote opens a cell at the beginning of the row, and after a mark.
        let mut begins = 1;
        let mut last = [0; STRIDE];
        while base < upto {
            let rest = &text[base..];
            let bytes = rest.first_chunk::<STRIDE>().unwrap_or_else(|| {
                last[..rest.len()].copy_from_slice(rest);
                &last
            });
            let ByteClasses { delimiters, line_ends, quotes } = classifier.marks(bytes, delimiter);
            let mut marks = delimiters | line_ends;
            for quote in bits(quotes & (marks << 1 | begins)) {
                self.opening.push(base as u32 + quote);
            }
            begins = marks >> (STRIDE - 1);
            let upto_first = |bits: u64| bits ^ bits.wrapping_sub(1);
            let mut end = |line_ends: u64| {
                ends[rows] = count as u32 - 1 + (marks & upto_first(line_ends)).count_ones();
                rows += usize::from(line_ends != 0);
            };
            // One line end is noted whether it is there or not; hardly ever are there more.
            end(line_ends);
            let mut more = line_ends & line_ends.wrapping_sub(1);
            while more != 0 {
                end(more);
                more &= more - 1;
            }
            let found = marks.count_ones() as usize;
            // Two make one number, and four such are written by themselves: eight would be gathered first,
            // which takes a processor longer.
            let mut write = |room: &mut [u32; AT_ONCE]| {
                let bases = base as u64 * (1 << u32::BITS | 1);
                for pair in room.as_chunks_mut::<2>().0 {
                    let one = u64::from(marks.trailing_zeros());
                    marks &= marks.wrapping_sub(1);
                    let other = u64::from(marks.trailing_zeros());
                    marks &= marks.wrapping_sub(1);
                    let both = (one | other << u32::BITS).wrapping_add(bases);
                    *pair = [both as u32, (both >> u32::BITS) as u32];
                }
            };
            let (rooms, _) = all[count..].as_chunks_mut();
            let mut rooms = rooms.iter_mut();
            rooms.next().map(&mut write);
            if found > AT_ONCE {
                rooms.take((found - 1) / AT_ONCE).for_each(write);
            }
            count += found;
            base += STRIDE;
        }
        let is_ended = rows > 0
            && ends[rows - 1] as usize == count - 1
            && all[count - 1] as usize + 1 == text.len();
        if base >= text.len() && !is_ended {
            // The last row has no line end.
            all[count] = text.len() as u32;
            ends[rows] = count as u32;
            rows += 1;
        }
        self.rows = rows;
        true
    }
}

/// The places of the bits that are set, from the lowest on.
#[inline(always)]
fn bits(mut all: u64) -> impl Iterator<Item = u32> {
    std::iter::from_fn(move || {
        let place = (all != 0).then(|| all.trailing_zeros());
        all &= all.wrapping_sub(1);
        place
    })
}
