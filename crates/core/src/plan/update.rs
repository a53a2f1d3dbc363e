//! `update` and `replace`: columns of the main table that a reference writes into, `Round, Keeper =
//! Name`, and what it may replace there.

use crate::Result;
use crate::template::phrase::Phrase;

/// A column of the main table that a column of the reference is written into.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Update {
    /// The main table's header.
    pub main: String,
    /// The reference's header.
    pub reference: String,
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
    /// when both are the same.
    ///
    /// ```
    /// use gather_keys_core::plan::Update;
    ///
    /// let updates = Update::parse("Round, Keeper = Name")?;
    /// assert_eq!((&updates[1].main[..], &updates[1].reference[..]), ("Keeper", "Name"));
    /// assert_eq!(updates[0].main, updates[0].reference);
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new("update", text);
        let mut all = Vec::new();
        loop {
            let main = phrase.header(&['=', ','], &[])?;
            let reference =
                if phrase.sign('=') { phrase.header(&[','], &[])? } else { main.clone() };
            all.push(Self { main, reference });
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
                let all = all.iter().map(|one| format!("{}<{}", one.main, one.reference));
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
        for (text, at) in [("", 0), ("A =", 3), ("A,", 2), ("= B", 0), ("\"A\" B", 4)] {
            assert_eq!(reported(text), Err(at), "{text}");
        }
        assert_eq!(Replace::parse(" blanks "), Ok(Replace::Blanks));
        assert!(Replace::parse("blank").is_err() && Replace::parse("all of it").is_err());
    }
}
