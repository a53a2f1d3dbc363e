//! `take`: the reference columns to add, `Keeper, Queen line as Line`.

use crate::Result;
use crate::template::phrase::Phrase;

/// One column to add.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Take {
    /// The reference's header.
    pub header: String,
    /// What the added column is called, when it is not the reference's header.
    pub rename: Option<String>,
}

impl Take {
    /// Reads one or several columns, separated by commas: `Header` or `Header as New`.
    ///
    /// ```
    /// use gather_keys_core::plan::Take;
    ///
    /// let columns = Take::parse("Keeper, Queen line as Line")?;
    /// assert_eq!(columns[1].rename.as_deref(), Some("Line"));
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new("take", text);
        let mut columns = Vec::new();
        loop {
            let header = phrase.header(&[','], Some("as"))?;
            let rename = if phrase.word("as") { Some(phrase.header(&[','], None)?) } else { None };
            columns.push(Self { header, rename });
            if phrase.is_at_end() {
                return Ok(columns);
            }
            if !phrase.sign(',') {
                return phrase.expected("`as`, a comma before the next column, or the end");
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_read() {
        let columns = |text: &str| -> Vec<(String, String)> {
            let taken = Take::parse(text).unwrap().into_iter();
            taken.map(|take| (take.header, take.rename.unwrap_or_default())).collect()
        };
        for (text, header, rename) in [
            ("Keeper", "Keeper", ""),
            ("Queen line  as  Line of = queens ", "Queen line", "Line of = queens"),
            ("Cases as as", "Cases", "as"),
            ("Casual", "Casual", ""),
            (r#""Sold as seen" as "A, B""#, "Sold as seen", "A, B"),
        ] {
            assert_eq!(columns(text), [(header.into(), rename.into())], "{text}");
        }
        assert_eq!(columns("A,B as C,D").len(), 3);
    }

    #[test]
    fn errors_mark_the_place() {
        for (text, want) in [("", 0), ("A,", 2), ("A as ", 5), ("A as , B", 5), ("\"A\" B", 4)] {
            match Take::parse(text).unwrap_err() {
                crate::Error::Malformed { at, .. } => assert_eq!(at, want, "{text}"),
                other => panic!("{other}"),
            }
        }
    }
}
