//! `columns`: which columns the output has, in which order and under which names, `Batch, Keeper as Beekeeper, Size *,
//! *`.

use super::Selection;
use super::take::rename;
use crate::Result;
use crate::template::phrase::Phrase;

/// Columns of the output, of the main table's own and the added ones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Columns {
    /// One column.
    One {
        /// Its header in the enriched table.
        header: String,
        /// Its header in the output, if that is another.
        rename: Option<String>,
    },
    /// Several columns, under their own headers; of all, those that are named nowhere else.
    Many(Selection),
}

impl Columns {
    /// Reads one or several columns, separated by commas: `Header`, `Header as New`, `First .. Last`, `Size *`, or `*`
    /// for the rest.
    ///
    /// ```
    /// use gather_keys_core::plan::{Columns, Selection};
    ///
    /// let columns = Columns::parse("Keeper as Beekeeper, *")?;
    /// assert_eq!(columns[1], Columns::Many(Selection::All));
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new("columns", text);
        let mut all = Vec::new();
        loop {
            all.push(match Selection::read(&mut phrase, &[','], &["as"])? {
                Selection::Header(header) => Self::One { header, rename: rename(&mut phrase)? },
                many => Self::Many(many),
            });
            if phrase.is_at_end() {
                return Ok(all);
            }
            if !phrase.sign(',') {
                return phrase.expected("`as`, a comma before the next column, or the end");
            }
        }
    }
}
