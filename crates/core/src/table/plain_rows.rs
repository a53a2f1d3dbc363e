//! Which rows of a block have nothing but [plain](Plainly) cells, told by their own bytes.
//!
//! Where a format writes rows as their cells with one byte between two of them, only a row that holds
//! a quote can have a cell with that byte, or a line end, in it. A quote is sought in the text of all
//! rows at once, so that hardly anything is done for a row that has none.

use memchr::memchr;

use super::{Block, Plainly, RowBytes};

/// How the cells stand in the text of a block that is made of rows' own bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WrittenAs {
    /// How cells are written in rows without a quote, all of them.
    pub plainly: Plainly,
    /// The quote.
    pub quote: u8,
}

/// What tells of the rows of a block.
#[derive(Debug)]
pub(crate) struct PlainRows<'b> {
    text: &'b [u8],
    rows: &'b [RowBytes],
    quote: u8,
    /// The bytes from here on, and before there, are known to be no quote; none is known at first.
    from: usize,
    upto: usize,
}

impl PlainRows<'_> {
    /// Whether all cells of a row are plain; `false` too where that is not known. Takes no time when asked
    /// of one row after the other.
    #[inline]
    pub(crate) fn has(&mut self, row: usize) -> bool {
        let Some(row) = self.rows.get(row) else { return false };
        let (start, end) = (row.start as usize, row.content_end as usize);
        if start < self.from || self.upto < start {
            self.from = start;
            let ahead = self.text.get(start..).and_then(|text| memchr(self.quote, text));
            self.upto = ahead.map_or(self.text.len(), |ahead| start + ahead);
        }
        end <= self.upto
    }
}

impl Block {
    /// Which rows have cells that are all written `plainly` as they are.
    pub(crate) fn plain_rows(&self, plainly: Option<Plainly>) -> PlainRows<'_> {
        let written_as = self.written_as.filter(|written| Some(written.plainly) == plainly);
        // Of no row anything is known where cells are written otherwise.
        let rows = if written_as.is_some() { &self.own[..] } else { &[] };
        let quote = written_as.map_or(0, |written| written.quote);
        PlainRows { text: self.text.as_bytes(), rows, quote, from: usize::MAX, upto: 0 }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::table::{KeptColumns, Parts, Span};

    proptest! {
        /// A row is plain when its own bytes have no quote, in whatever order rows are asked about.
        #[test]
        fn rows_without_a_quote_are_plain(
            texts in prop::collection::vec("[a,']{0,5}", 1..20),
            order in prop::collection::vec(0..25_usize, 0..40),
            is_known in any::<bool>(),
        ) {
            let plainly = Plainly::new(b',', *b",'\r\n").unwrap();
            let mut parts = Parts::default();
            for text in &texts {
                let start = parts.text.len() as u32;
                parts.text.extend_from_slice(text.as_bytes());
                let content_end = parts.text.len() as u32;
                parts.text.push(b'\n');
                parts.own.push(RowBytes { start, content_end, end: content_end + 1 });
                parts.cells.push(Span { start, end: content_end });
            }
            parts.written_as = is_known.then_some(WrittenAs { plainly, quote: b'\'' });
            let block = Block::from_parts(KeptColumns::all(1), parts).unwrap();
            let mut rows = block.plain_rows(Some(plainly));
            for row in (0..texts.len()).chain(order) {
                let is_plain = texts.get(row).is_some_and(|text| !text.contains('\''));
                prop_assert_eq!(rows.has(row), is_known && is_plain);
            }
            let others = [None, Plainly::new(b';', *b";'\r\n")];
            prop_assert!(others.iter().all(|other| !block.plain_rows(*other).has(0)));
        }
    }
}
