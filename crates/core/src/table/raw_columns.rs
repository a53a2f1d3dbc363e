//! Pass-through: taken cells that a format copies from the reference as they are.
//!
//! A format that writes one byte before each added cell, and most cells as they are, says so with a
//! [`RawForm`]. A reference then keeps its taken cells in this form, and those of a row go out as one slice of
//! its arena, without a look at any cell. Cells that are not in the raw form go out in a block.

use wide::u8x16;

use super::Block;

/// How a format writes a cell that needs no change: the byte before it, and the bytes that must not occur in it.
///
/// # Advice for maintainers
/// The bytes here are those for which the writer of the format quotes or changes a cell. A writer that begins to
/// change other cells must add their bytes, or pass-through would skip the change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RawForm {
    separator: u8,
    special: [u8; 4],
}

impl RawForm {
    /// The form with the byte before each cell and the bytes that must not occur in one. `None` when one of them
    /// is not ASCII.
    ///
    /// ```
    /// use gather_keys_core::table::RawForm;
    ///
    /// let raw = RawForm::new(b',', *b",\"\r\n").unwrap();
    /// assert!(raw.holds(b"lime"));
    /// assert!(!raw.holds(b"a little, nervous"));
    /// assert_eq!(RawForm::new(0xa7, *b",\"\r\n"), None);
    /// ```
    pub fn new(separator: u8, special: [u8; 4]) -> Option<Self> {
        (separator.is_ascii() && special.is_ascii()).then_some(Self { separator, special })
    }

    /// `cells` blank cells as they are written, with surplus bytes after them.
    pub(crate) fn blank(self, cells: usize) -> Vec<u8> {
        vec![self.separator; cells + SURPLUS]
    }

    /// The byte before each cell.
    pub(crate) fn gap(self) -> char {
        char::from(self.separator)
    }

    /// Whether a cell is in this form.
    pub fn holds(self, cell: &[u8]) -> bool {
        !cell.iter().any(|byte| self.is_special(*byte))
    }

    /// Prepares to scan many cells.
    pub(crate) fn scanner(self) -> RawFormScanner {
        let [first, second, third, fourth] = self.special;
        RawFormScanner {
            raw_form: self,
            lanes: [self.separator, first, second, third, fourth].map(u8x16::splat),
        }
    }

    fn is_special(self, byte: u8) -> bool {
        byte == self.separator || self.special.contains(&byte)
    }
}

/// Scans cells for special bytes, sixteen bytes at a time.
#[derive(Debug, Clone, Copy)]
pub(crate) struct RawFormScanner {
    pub(crate) raw_form: RawForm,
    /// Each special byte in every lane.
    lanes: [u8x16; 5],
}

impl RawFormScanner {
    /// Whether a cell, given as the text from its first byte on and its length, is in the raw form.
    #[inline(always)]
    pub(crate) fn is_raw(&self, (text, length): (&[u8], usize)) -> bool {
        let mut at = 0;
        while at < length {
            let Some(lane) = text[at..].first_chunk::<LANE>() else {
                return self.raw_form.holds(&text[at..length]);
            };
            // A lane may reach past the cell; the mask below leaves those bytes out.
            let lane = u8x16::new(*lane);
            let [separator, first, second, third, fourth] =
                self.lanes.map(|byte| lane.simd_eq(byte));
            let found = (separator | first | second | third | fourth).to_bitmask();
            if found & ((1 << (length - at).min(LANE)) - 1) != 0 {
                return false;
            }
            at += LANE;
        }
        true
    }
}

/// How many bytes are scanned at a time.
const LANE: usize = 16;

/// How many bytes follow blank cells, so that a writer may copy a fixed number of bytes.
const SURPLUS: usize = 64;

/// The cells that one reference adds to each row of a block, in order.
#[derive(Debug, Clone, Copy)]
pub struct RawColumns<'a> {
    arena: &'a [u8],
    slices: &'a [RawSlice],
    blank: (&'a [u8], usize),
    cells: &'a Block,
}

/// Where the added cells of a row are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RawSlice {
    /// In the arena of the reference: the first byte and the length.
    InArena(usize, u32),
    /// Nowhere: every cell is blank.
    Blank,
    /// In the next row of the block of cells.
    InCells,
}

/// The added cells of one row.
#[derive(Debug, Clone, Copy)]
pub enum RawRow<'a> {
    /// The cells in their raw form, with the separator before each: a text from the first byte on, and their
    /// length in bytes.
    Slice(&'a [u8], usize),
    /// The cells in this row of a block that was filled cell by cell.
    Cells(&'a Block, usize),
}

impl<'a> RawColumns<'a> {
    /// Slices of an arena, and a block of the rows that have none. `blank` is a row of blank cells in their raw
    /// form: a text, and the length of the row in it.
    pub(crate) fn new(
        arena: &'a [u8],
        slices: &'a [RawSlice],
        blank: (&'a [u8], usize),
        cells: &'a Block,
    ) -> Self {
        Self { arena, slices, blank, cells }
    }

    /// About how many bytes all cells have.
    pub fn length(&self) -> usize {
        let of_slice = |slice: &RawSlice| match slice {
            RawSlice::InArena(_, length) => *length as usize,
            RawSlice::Blank => self.blank.1,
            RawSlice::InCells => 0,
        };
        self.slices.iter().map(of_slice).sum::<usize>() + self.cells.text_length()
    }

    /// The added cells of each row.
    pub fn rows(self) -> impl Iterator<Item = RawRow<'a>> {
        let mut in_cells = 0..;
        self.slices.iter().map(move |slice| match *slice {
            RawSlice::InArena(start, length) => {
                RawRow::Slice(&self.arena[start..], length as usize)
            }
            RawSlice::Blank => RawRow::Slice(self.blank.0, self.blank.1),
            RawSlice::InCells => RawRow::Cells(self.cells, in_cells.next().unwrap_or_default()),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// A cell is in the raw form when none of its bytes is special, whatever bytes follow it.
        #[test]
        fn special_bytes_are_found_in_cells(
            cell in "[a-cé]{0,40}",
            special in prop::option::of((0..40_usize, prop::sample::select(b"|\"\r\n;".to_vec()))),
            behind in "[a|\"]{0,40}",
        ) {
            let mut cell = cell.into_bytes();
            if let Some((at, byte)) = special
                && let Some(place) = cell.get_mut(at)
            {
                *place = byte;
            }
            let raw_form = RawForm::new(b'|', *b";\"\r\n").unwrap();
            let fits = !cell.iter().any(|byte| b"|;\"\r\n".contains(byte));
            let text = [&cell[..], behind.as_bytes()].concat();
            prop_assert_eq!(raw_form.scanner().is_raw((&text, cell.len())), fits);
            prop_assert_eq!(raw_form.holds(&cell), fits);
        }
    }
}
