//! Updates: which cells of a main row a lookup replaces.
//!
//! The cell of the main row and the reference's cell go in; what to do comes out. Nothing is replaced but as the
//! person stated, and every cell is counted.

use crate::findings::Written;
use crate::plan::Replace;
use crate::value::is_blank;

/// One column that a lookup writes into.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Updating {
    /// The column: one of the main table's own, or a later number for one that an earlier lookup added.
    pub column: usize,
    /// The new cell, by its number among the reference's taken columns.
    pub taken: usize,
}

/// Which cells may be replaced, and whether by blanks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Replacing {
    /// Which cells may be replaced.
    pub replace: Replace,
    /// Whether a blank cell may take the place of a value.
    pub bring_blanks: bool,
}

impl Replacing {
    /// What to do with a cell `now` when the reference holds `new`. A cell of white space only is blank.
    ///
    /// ```
    /// use gather_keys_core::enrich::Replacing;
    /// use gather_keys_core::findings::Written;
    ///
    /// let all = Replacing::default();
    /// assert_eq!(all.written("", "north"), Written::Filled);
    /// assert_eq!(all.written("south", "north"), Written::Replaced);
    /// assert_eq!(all.written("south", ""), Written::Left);
    /// ```
    pub fn written(self, now: &str, new: &str) -> Written {
        match (is_blank(now), is_blank(new)) {
            _ if now == new => Written::Same,
            (true, true) => Written::Same,
            (true, false) => Written::Filled,
            (false, _) if self.replace == Replace::Blanks => Written::Left,
            (false, true) if self.bring_blanks => Written::Erased,
            (false, true) => Written::Left,
            (false, false) => Written::Replaced,
        }
    }
}
