//! Rows of delimited text without a quote: all their cells are in the [raw form](RawForm).
//!
//! Only a row with a quote can have a cell that contains a delimiter or a line end. One search for a quote covers
//! many rows, so that a row without one costs next to nothing.

use memchr::memchr;

use super::{Block, RawForm, RowBytes};

/// How the cells of unquoted rows are written in the text of a block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RawRowForm {
    /// The raw form of every cell of an unquoted row.
    pub raw_form: RawForm,
    /// The quote.
    pub quote: u8,
}

/// Finds the unquoted rows of a block.
#[derive(Debug)]
pub(crate) struct UnquotedRows<'b> {
    text: &'b [u8],
    rows: &'b [RowBytes],
    quote: u8,
    /// The range of bytes that is known to have no quote.
    from: usize,
    upto: usize,
}

impl UnquotedRows<'_> {
    /// Whether a row has no quote; `false` also where that is not known. Cheap when asked for rows in order.
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
    /// Finds the rows whose cells are all in `raw_form`.
    pub(crate) fn unquoted_rows(&self, raw_form: Option<RawForm>) -> UnquotedRows<'_> {
        let raw_row_form = self.raw_row_form.filter(|written| Some(written.raw_form) == raw_form);
        // Nothing is known where cells have another raw form.
        let rows = if raw_row_form.is_some() { &self.own[..] } else { &[] };
        let quote = raw_row_form.map_or(0, |written| written.quote);
        UnquotedRows { text: self.text.as_bytes(), rows, quote, from: usize::MAX, upto: 0 }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::table::{KeptColumns, Parts, Span};

    proptest! {
        /// A row is unquoted when its own bytes have no quote, in whatever order rows are asked about.
        #[test]
        fn rows_without_a_quote_are_found(
            texts in prop::collection::vec("[a,']{0,5}", 1..20),
            order in prop::collection::vec(0..25_usize, 0..40),
            is_known in any::<bool>(),
        ) {
            let raw_form = RawForm::new(b',', *b",'\r\n").unwrap();
            let mut parts = Parts::default();
            for text in &texts {
                let start = parts.text.len() as u32;
                parts.text.extend_from_slice(text.as_bytes());
                let content_end = parts.text.len() as u32;
                parts.text.push(b'\n');
                parts.own.push(RowBytes { start, content_end, end: content_end + 1 });
                parts.cells.push(Span { start, end: content_end });
            }
            parts.raw_row_form = is_known.then_some(RawRowForm { raw_form, quote: b'\'' });
            let block = Block::from_parts(KeptColumns::all(1), parts).unwrap();
            let mut rows = block.unquoted_rows(Some(raw_form));
            for row in (0..texts.len()).chain(order) {
                let is_plain = texts.get(row).is_some_and(|text| !text.contains('\''));
                prop_assert_eq!(rows.has(row), is_known && is_plain);
            }
            let others = [None, RawForm::new(b';', *b";'\r\n")];
            prop_assert!(others.iter().all(|other| !block.unquoted_rows(*other).has(0)));
        }
    }
}
