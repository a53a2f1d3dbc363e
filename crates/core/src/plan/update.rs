//! `update` and `replace`: columns of the main table that a reference writes into, `Round, Keeper =
//! Name, Size *`, and what it may replace there.

use super::Selection;
use crate::Result;
use crate::template::phrase::Phrase;

/// Columns of the main table that columns of the reference are written into.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Update {
    /// One column.
    Column {
        /// The main table's header.
        main: String,
        /// The reference's header.
        reference: String,
    },
    /// Those of the main table's columns in a selection that the reference has too, but for those of the key.
    Many(Selection),
}

/// Which cells an update may replace.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Replace {
    /// Every cell.
    #[default]
    All,
    /// Blank cells only.
    Blanks,
}

impl Update {
    /// Reads one or several columns, separated by commas: `MAIN = REFERENCE`, or one header alone
    /// when both are the same; `First .. Last`, `Size *` or `*` for those that both tables have.
    ///
    /// ```
    /// use gather_keys_core::plan::{Selection, Update};
    ///
    /// let updates = Update::parse("Keeper = Name, Size *")?;
    /// let keeper = Update::Column { main: "Keeper".into(), reference: "Name".into() };
    /// assert_eq!(updates, [keeper, Update::Many(Selection::Like("Size *".into()))]);
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new("update", text);
        let mut all = Vec::new();
        loop {
            all.push(match Selection::read(&mut phrase, &['=', ','], &[])? {
                Selection::Header(main) => {
                    let renamed =
                        phrase.sign('=').then(|| phrase.header(&[','], &[])).transpose()?;
                    let reference = renamed.unwrap_or_else(|| main.clone());
                    Self::Column { main, reference }
                }
                many => Self::Many(many),
            });
            if phrase.is_at_end() {
                return Ok(all);
            }
            if !phrase.sign(',') {
                return phrase.expected("`=`, a comma before the next column, or the end");
            }
        }
    }
}

impl Replace {
    /// Reads `all` or `blanks`.
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Self> {
        let mut phrase = Phrase::new("replace", text);
        let replace = if phrase.word("all") {
            Self::All
        } else if phrase.word("blanks") {
            Self::Blanks
        } else {
            return phrase.expected("all or blanks");
        };
        if phrase.is_at_end() { Ok(replace) } else { phrase.expected("the end") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_read_or_refused_with_the_place() {
        let reported = |text: &str| {
            let reported = Update::parse(text).map(|all| {
                let all = all.iter().map(|one| match one {
                    Update::Column { main, reference } => format!("{main}<{reference}"),
                    Update::Many(selection) => format!("{selection:?}"),
                });
                all.collect::<Vec<_>>().join(";")
            });
            reported.map_err(|error| match error {
                crate::Error::Malformed { at, .. } => at,
                other => panic!("{other}"),
            })
        };
        assert_eq!(reported("Round"), Ok("Round<Round".to_owned()));
        assert_eq!(reported(" A = B,C#2 "), Ok("A<B;C#2<C#2".to_owned()));
        assert_eq!(reported("\"A, = B\" = \"C\"\"\", D"), Ok("A, = B<C\";D<D".to_owned()));
        assert_eq!(reported("*, \"*\""), Ok("All;*<*".to_owned()));
        for (text, at) in [("* = A", 2), ("", 0), ("A =", 3), ("A,", 2), ("= B", 0), ("\"A\" B", 4)]
        {
            assert_eq!(reported(text), Err(at), "{text}");
        }
        assert_eq!(Replace::parse(" blanks "), Ok(Replace::Blanks));
        assert!(Replace::parse("blank").is_err() && Replace::parse("all of it").is_err());
    }
}
