//! The hashes of cells, by which values are counted and compared.

use ahash::RandomState;

use crate::table::Block;
use crate::value::is_blank;

/// The bit that the hash of every cell has which is not blank. No table of hashes depends on it.
const FILLED: u64 = 1 << 27;

/// Puts the hashes of a column's cells in place of `hashes`.
pub(super) fn hash_cells(
    block: &Block,
    column: usize,
    hasher: &RandomState,
    hashes: &mut Vec<u64>,
) {
    hashes.clear();
    hashes.extend((0..block.rows()).map(|row| {
        let text = block.cell(row, column);
        let hash = hasher.hash_one(text);
        if is_blank(text) { hash & !FILLED } else { hash | FILLED }
    }));
}

/// Whether the cell of a hash is not blank.
#[inline]
pub(super) fn is_filled(hash: u64) -> bool {
    hash & FILLED != 0
}

/// The hash of what was hashed before and one cell more.
#[inline]
pub(super) fn mixed(all: u64, hash: u64) -> u64 {
    let mixed = (all ^ hash).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    mixed ^ mixed >> 29
}
