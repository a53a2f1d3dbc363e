//! Blocks as bytes, to wait in a scratch space.

use super::scratch::{numbers, push_numbers};
use crate::table::{Block, CellKind, KeptColumns, Lines, RowBytes, Span};

impl Block {
    /// Replaces `bytes` with the block, but for its columns and its position in the table.
    pub(crate) fn store(&self, bytes: &mut Vec<u8>) {
        bytes.clear();
        let shifts = self.lines.shifts();
        let counts = [self.text.len(), self.cells.len(), self.kinds.len(), self.own.len()];
        let counts = counts.into_iter().chain([shifts.len()]).map(|count| count as u32);
        push_numbers(bytes, counts);
        let lines = [self.lines.of(0), self.lines.rows()].into_iter();
        let shifts = shifts.iter().flat_map(|(row, shift)| [*row, *shift]);
        bytes.extend(lines.chain(shifts).flat_map(u64::to_le_bytes));
        push_numbers(bytes, self.cells.iter().flat_map(|cell| [cell.start, cell.end]));
        push_numbers(bytes, self.own.iter().flat_map(|own| [own.start, own.content_end, own.end]));
        bytes.extend(self.kinds.iter().map(|kind| *kind as u8));
        bytes.extend_from_slice(self.text.as_bytes());
    }

    /// Restores a block from the bytes of [`Block::store`]; `None` when they are damaged.
    pub(crate) fn restore(&mut self, columns: KeptColumns, bytes: &[u8]) -> Option<()> {
        self.reset_to(columns);
        let (counts, rest) = bytes.split_at_checked(5 * 4)?;
        let counts: Vec<usize> = numbers(counts).map(|count| count as usize).collect();
        let &[text, cells, kinds, own, shifts] = &counts[..] else { return None };
        let (lines, rest) = rest.split_at_checked((2 + 2 * shifts) * 8)?;
        let (spans, rest) = rest.split_at_checked(cells * 8)?;
        let (rows, rest) = rest.split_at_checked(own * 12)?;
        let (said, rest) = rest.split_at_checked(kinds)?;
        let eight = |eight: &[u8]| u64::from_le_bytes(eight.try_into().unwrap_or_default());
        let mut lines = lines.chunks_exact(8).map(eight);
        let mut next = || lines.next().unwrap_or_default();
        let (first, count) = (next(), next());
        let shifts = (0..shifts).map(|_| (next(), next())).collect();
        self.lines = Lines::from_shifts(first, count, shifts);
        let four = |bytes: &[u8], at: usize| numbers(&bytes[at..at + 4]).next().unwrap_or_default();
        let span = |span: &[u8]| Span { start: four(span, 0), end: four(span, 4) };
        self.cells.extend(spans.chunks_exact(8).map(span));
        self.own.extend(rows.chunks_exact(12).map(|row| RowBytes {
            start: four(row, 0),
            content_end: four(row, 4),
            end: four(row, 8),
        }));
        self.kinds.extend(said.iter().map(|&kind| CellKind::of(kind)));
        self.text.push_str(std::str::from_utf8(rest.get(..text)?).ok()?);
        Some(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_block_that_was_stored_comes_back() {
        let mut block = Block::of_rows(3, &[["a", "", "é"], ["b", "7", "c"]]);
        block.push_cells("\0d\08\0\n", &[1, 1, 1]);
        block.set_kinds(&[CellKind::Text, CellKind::Number, CellKind::Truth]);
        block.push_line(5);
        block.own.push(RowBytes { start: 1, content_end: 3, end: 4 });
        let (mut bytes, mut back) = (Vec::new(), Block::default());
        block.store(&mut bytes);
        for cut in 0..bytes.len() {
            assert!(back.restore(KeptColumns::all(3), &bytes[..cut]).is_none());
        }
        back.restore(KeptColumns::all(3), &bytes).unwrap();
        back.place(block.first_row, block.lines_before);
        assert_eq!(format!("{back:?}"), format!("{block:?}"));
    }
}
