//! Headers named one by one or many at a time: `Keeper`, `April .. June`, `Size *`, `*`.

use crate::Result;
use crate::template::phrase::Phrase;

/// Columns of a table, by their headers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Selection {
    /// One column.
    Header(String),
    /// The columns from one header to another, both included.
    Run {
        /// The first of them.
        first: String,
        /// The last of them.
        last: String,
    },
    /// The columns whose headers match this pattern; `*` stands for any text.
    Like(String),
    /// Every column that is not otherwise part of the key.
    All,
}

impl Selection {
    /// Reads one selection, up to one of the characters `ends` or of the separate `words`.
    pub(super) fn read(phrase: &mut Phrase<'_>, ends: &[char], words: &[&str]) -> Result<Self> {
        phrase.skip_space();
        let is_quoted = phrase.stands('"');
        let stops: Vec<&str> = words.iter().copied().chain([".."]).collect();
        let header = phrase.header(ends, &stops)?;
        if phrase.word("..") {
            let last = phrase.header(ends, words)?;
            return Ok(Self::Run { first: header, last });
        }
        Ok(match header {
            header if is_quoted || !header.contains('*') => Self::Header(header),
            all if all == "*" => Self::All,
            pattern => Self::Like(pattern),
        })
    }

    /// Reads one or several selections, separated by commas, given for `option`.
    ///
    /// ```
    /// use gather_keys_core::plan::Selection;
    ///
    /// let left = Selection::parse("leave", "Note, Size *")?;
    /// assert_eq!(left[1], Selection::Like("Size *".into()));
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(option: &'static str, text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new(option, text);
        let mut all = Vec::new();
        loop {
            all.push(Self::read(&mut phrase, &[','], &[])?);
            if phrase.is_at_end() {
                return Ok(all);
            }
            if !phrase.sign(',') {
                return phrase.expected("a comma before the next header, or the end");
            }
        }
    }
}
