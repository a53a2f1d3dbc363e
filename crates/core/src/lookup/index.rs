//! The hash index of a reference: from the hash of a key to the first row that holds it.
//!
//! A slot is twelve bytes: the key's hash, the row's number and where the key stands. A hash only finds
//! candidates; the caller, who has the keys, decides whether one is equal.

/// A table of slots, probed one after the other; at least three eighths of them are empty.
#[derive(Debug)]
pub(crate) struct Index {
    pub(super) slots: Vec<Slot>,
    /// How many rows are entered.
    pub(super) held: usize,
}

/// Where one row may stand.
#[derive(Debug, Clone, Copy)]
pub(super) struct Slot {
    pub(super) hash: u32,
    /// The row's number plus one; zero when the slot is empty.
    pub(super) behind: u32,
    /// What the caller gave with it.
    pub(super) place: u32,
}

impl Slot {
    const EMPTY: Self = Self { hash: 0, behind: 0, place: 0 };

    #[inline]
    pub(super) fn is_empty(self) -> bool {
        self.behind == 0
    }

    #[inline]
    pub(super) fn row(self) -> u32 {
        self.behind - 1
    }
}

/// The most rows an index can number.
pub(crate) const MOST_ROWS: u64 = u32::MAX as u64 - 1;

const FEWEST_SLOTS: usize = 16;

impl Index {
    pub(crate) fn new() -> Self {
        Self { slots: vec![Slot::EMPTY; FEWEST_SLOTS], held: 0 }
    }

    /// An index with room for so many keys, so that it need not grow.
    pub(super) fn for_keys(keys: usize) -> Self {
        let slots = (keys * 8 / 5 + 1).max(FEWEST_SLOTS);
        Self { slots: vec![Slot::EMPTY; slots], held: 0 }
    }

    /// The row that was entered under this hash and for which `is_equal` holds.
    pub(crate) fn find(&self, hash: u32, is_equal: impl Fn(u32) -> bool) -> Option<u32> {
        self.seek(hash, is_equal).ok()
    }

    /// The slot where the search for a hash begins, so that it is at hand.
    #[inline]
    pub(crate) fn touch(&self, hash: u32) -> u32 {
        self.slots[home(hash, self.slots.len())].hash
    }

    /// The first row that was entered under this hash, and the place that was given with it. Nearly
    /// always it is the one that is sought, if there is one; the caller, who knows the keys, goes on
    /// with [`Index::find`] when not.
    #[inline]
    pub(crate) fn candidate(&self, hash: u32) -> Option<(u32, u32)> {
        let mut at = home(hash, self.slots.len());
        loop {
            let slot = self.slots[at];
            if slot.is_empty() {
                return None;
            }
            if slot.hash == hash {
                return Some((slot.row(), slot.place));
            }
            at += 1;
            if at == self.slots.len() {
                at = 0;
            }
        }
    }

    /// Enters a row and a place, unless an equal row is there: then that one is returned.
    pub(crate) fn enter(
        &mut self,
        hash: u32,
        (row, place): (u32, u32),
        is_equal: impl Fn(u32) -> bool,
    ) -> Option<u32> {
        if (self.held + 1) * 8 > self.slots.len() * 5 {
            self.grow();
        }
        match self.seek(hash, is_equal) {
            Ok(equal) => Some(equal),
            Err(free) => {
                self.slots[free] = Slot { hash, behind: row + 1, place };
                self.held += 1;
                None
            }
        }
    }

    /// The equal row, or the slot where it would stand.
    fn seek(&self, hash: u32, is_equal: impl Fn(u32) -> bool) -> Result<u32, usize> {
        let mut at = home(hash, self.slots.len());
        loop {
            let slot = self.slots[at];
            if slot.is_empty() {
                return Err(at);
            }
            if slot.hash == hash && is_equal(slot.row()) {
                return Ok(slot.row());
            }
            at += 1;
            if at == self.slots.len() {
                at = 0;
            }
        }
    }

    /// Doubles the slots. The hashes are in them, so no key is looked at.
    fn grow(&mut self) {
        let doubled = vec![Slot::EMPTY; self.slots.len() * 2];
        for slot in std::mem::replace(&mut self.slots, doubled) {
            if !slot.is_empty() {
                // No two entered rows are equal, so each only needs a free slot.
                if let Err(free) = self.seek(slot.hash, |_| false) {
                    self.slots[free] = slot;
                }
            }
        }
    }
}

/// The slot where the search for a hash begins: its share of the whole range.
pub(super) fn home(hash: u32, slots: usize) -> usize {
    ((u64::from(hash) * slots as u64) >> 32) as usize
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Keys that somebody made to collide under one seed do not under that of another run: none of
    /// them makes others wait longer than keys that nobody chose.
    #[test]
    fn chosen_keys_collide_under_one_seed_only() {
        use super::super::reference::hash;
        use ahash::RandomState;
        const CHOSEN: usize = 400;
        let known = RandomState::with_seeds(1, 2, 3, 4);
        // Of many keys those whose search begins within one of five hundred parts of the index.
        let chosen: Vec<String> = (0..)
            .map(|n| format!("H-{n}"))
            .filter(|key| home(hash(&known, key.as_bytes()), 500) == 0)
            .take(CHOSEN)
            .collect();
        // The longest way from where a search begins to where it ends.
        let longest = |hasher: &RandomState| {
            let mut index = Index::for_keys(chosen.len());
            let mut longest = 0;
            for (row, key) in chosen.iter().enumerate() {
                let hash = hash(hasher, key.as_bytes());
                index.enter(hash, (row as u32, 0), |_| false);
                let (begin, slots) = (home(hash, index.slots.len()), index.slots.len());
                let end = index.slots.iter().position(|slot| slot.behind == row as u32 + 1);
                longest = longest.max((end.unwrap() + slots - begin) % slots);
            }
            longest
        };
        assert!(longest(&known) > CHOSEN / 2);
        for run in 5..25 {
            let seeds = RandomState::with_seeds(run, run + 1, run * 7, run * 31);
            assert!(longest(&seeds) < CHOSEN / 4, "run {run}: {}", longest(&seeds));
        }
    }
}
