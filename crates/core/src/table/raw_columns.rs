//! Pass-through: taken cells that a format copies from the reference as they are.
//!
//! A format that writes one byte before each added cell, and most cells as they are, says so with a
//! [`RawForm`]. A reference then keeps its taken cells in this form, and those of a row go out as one slice of
//! its arena, without a look at any cell. Cells that are not in the raw form go out in a block.

use wide::u8x16;

use super::Block;
use super::packed::joined_size;

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

    /// A packed row of `cells` blank cells, with surplus bytes after it.
    pub(crate) fn blank(self, cells: usize) -> String {
        let mut packed = "\0".repeat(cells);
        packed.extend(std::iter::repeat_n(self.gap(), cells + SURPLUS));
        packed
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
    arena: &'a str,
    slices: &'a [RawSlice],
    blank: &'a str,
    columns: usize,
    cells: &'a Block,
}

/// Where the added cells of a row are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RawSlice {
    /// In the arena of the reference: where their packed row begins, and how many bytes they take after their lengths.
    InArena(usize, u32),
    /// Nowhere: every cell is blank.
    Blank,
    /// In the next row of the block of cells.
    InCells,
}

/// The added cells of one row.
#[derive(Debug, Clone, Copy)]
pub enum RawRow<'a> {
    /// The cells in their raw form.
    Raw(RawCells<'a>),
    /// The cells in this row of a block that was filled cell by cell.
    Cells(&'a Block, usize),
}

/// Cells of a row in their raw form, end to end with the separator before each.
#[derive(Debug, Clone, Copy)]
pub struct RawCells<'a> {
    /// From the length of the first cell on.
    packed: &'a str,
    columns: usize,
    /// How many bytes the cells take.
    length: usize,
}

impl<'a> RawColumns<'a> {
    /// Slices of an arena, each of `columns` cells, and a block of the rows that have none. `blank` is a packed row of
    /// as many blank cells.
    pub(crate) fn new(
        (arena, slices): (&'a str, &'a [RawSlice]),
        (blank, columns): (&'a str, usize),
        cells: &'a Block,
    ) -> Self {
        Self { arena, slices, blank, columns, cells }
    }

    /// How many cells each row gets.
    pub fn columns(&self) -> usize {
        self.columns
    }

    /// About how many bytes all cells have.
    pub fn length(&self) -> usize {
        let of_slice = |slice: &RawSlice| match slice {
            RawSlice::InArena(_, length) => *length as usize,
            RawSlice::Blank => self.columns,
            RawSlice::InCells => 0,
        };
        self.slices.iter().map(of_slice).sum::<usize>() + self.cells.text_length()
    }

    /// The added cells of each row.
    pub fn rows(self) -> impl Iterator<Item = RawRow<'a>> {
        let Self { arena, blank, columns, cells, .. } = self;
        let mut in_cells = 0..;
        self.slices.iter().map(move |slice| match *slice {
            RawSlice::InArena(start, length) => {
                RawRow::Raw(RawCells::new(&arena[start..], columns, length as usize))
            }
            RawSlice::Blank => RawRow::Raw(RawCells::new(blank, columns, columns)),
            RawSlice::InCells => RawRow::Cells(cells, in_cells.next().unwrap_or_default()),
        })
    }
}

impl<'a> RawCells<'a> {
    /// The cells of a packed row, which take `length` bytes after their lengths.
    #[inline]
    fn new(packed: &'a str, columns: usize, length: usize) -> Self {
        Self { packed, columns, length }
    }

    /// All cells with the separator before each: the text from the first separator on, and how many bytes they take.
    #[inline]
    pub fn all(self) -> (&'a [u8], usize) {
        (&self.packed.as_bytes()[self.columns..], self.length)
    }

    /// The cells from one to another, with the separators between them: the text from the first one's first byte on, and how
    /// many bytes they take; `None` where there are no such cells.
    #[inline(always)]
    pub fn between(self, first: usize, last: usize) -> Option<(&'a [u8], usize)> {
        let packed = self.packed.as_bytes();
        let before = joined_size(packed, 0, first)?;
        let length = joined_size(packed, 0, last + 1)?.checked_sub(before + 1)?;
        Some((packed.get(self.columns + before + 1..)?, length))
    }

    /// The text of a cell; empty where there is no such cell.
    pub fn cell(self, nth: usize) -> &'a str {
        let Some((text, length)) = self.between(nth, nth) else { return "" };
        let from = self.packed.len() - text.len();
        self.packed.get(from..from + length).unwrap_or_default()
    }
}

impl<'a> RawRow<'a> {
    /// How many cells the row has.
    pub fn columns(self) -> usize {
        match self {
            Self::Raw(cells) => cells.columns,
            Self::Cells(block, _) => block.columns(),
        }
    }

    /// The text of a cell.
    ///
    /// # Panics
    /// When there is no such cell.
    pub fn cell(self, nth: usize) -> &'a str {
        match self {
            Self::Raw(cells) => cells.cell(nth),
            Self::Cells(block, row) => block.cell(row, nth),
        }
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
