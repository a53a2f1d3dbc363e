//! Rows of a reference that are taken in as they were read: their key parts and taken cells are cells as
//! they stand, and nothing else is kept of them. Most references are so.

use super::reference::hash;
use super::taken_in::TakenIn;
use super::{Reference, RowId};
use crate::key::pack_cells;
use crate::table::{Block, Packing, Plainly, Span};
use crate::template::PartState;

/// The rows of a block, packed; kept from block to block.
#[derive(Debug, Default)]
pub(super) struct PackedBlock {
    packing: Packing,
    /// Where each row ends.
    ends: Vec<usize>,
    /// Where the key of each stands.
    keys: Vec<(usize, usize)>,
    /// Where the taken cells of a row stand.
    spans: Vec<Span>,
}

impl Reference {
    /// Packs the rows of a block as they were read, where that can be done; says whether it was.
    pub(super) fn take_in_as_read(&self, block: &Block, taken_in: &mut TakenIn) -> bool {
        let keeps_more = !self.looked_in.is_empty()
            || self.only_asked.is_some()
            || self.rank.is_some()
            || self.ranged.is_some()
            || self.values.get().is_some();
        let taken: Option<Vec<usize>> =
            self.taken.iter().map(|&column| block.kept_columns().kept_place(column)).collect();
        let (false, Some(key), Some(taken)) = (keeps_more, self.key().places(block), taken) else {
            return false;
        };
        let PackedBlock { mut packing, mut ends, mut keys, spans: mut cells } =
            std::mem::take(&mut taken_in.packed);
        packing.clear();
        ends.clear();
        keys.clear();
        let looks = self.plainly.map(Plainly::looks);
        let mut plain_rows = block.plain_rows(self.plainly);
        ends.reserve(block.rows());
        let first = taken_in.rows.len() as u32;
        for row in 0..block.rows() {
            let start = packing.len();
            let state = pack_cells(&mut packing, block, row, &key);
            if state == PartState::Blank && !self.match_blanks {
                let id = RowId(first + row as u32);
                taken_in.without_key.push(id);
                taken_in.keyless.push(id);
            }
            keys.push((start, packing.len()));
            let (text, spans) = block.kept_cells(row);
            cells.clear();
            cells.extend(taken.iter().map(|&place| spans[place]));
            packing.push_row((text, &cells), looks.as_ref(), plain_rows.has(row));
            ends.push(packing.len());
        }
        // Reading what was written just before takes longer.
        let hash =
            |&(start, end): &(usize, usize)| hash(&self.hasher, &packing.bytes()[start..end]);
        taken_in.hashes.extend(keys.iter().map(hash));
        // Cells of a text and lengths in ASCII are text.
        let text = simdutf8::basic::from_utf8(packing.bytes());
        debug_assert!(text.is_ok());
        taken_in.rows.add(text.unwrap_or_default(), &ends);
        taken_in.seen += block.rows() as u32;
        taken_in.packed = PackedBlock { packing, ends, keys, spans: cells };
        true
    }
}
