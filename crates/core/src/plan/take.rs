//! `take`: what to add, `Keeper, Queen line as Line, Size *, @row`.

use crate::Result;
use crate::template::phrase::Phrase;

/// Something to add.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Take {
    /// One column.
    Column {
        /// The reference's header.
        header: String,
        /// What the added column is called, when it is not the reference's header.
        rename: Option<String>,
    },
    /// The columns from one header to another.
    Run {
        /// The first of them.
        first: String,
        /// The last of them.
        last: String,
    },
    /// The columns whose headers are like this; `*` stands for any text.
    Like(String),
    /// Every column that is not part of the key.
    All,
    /// What the lookup knows of the row.
    Mark {
        /// What of it.
        mark: Mark,
        /// What the added column is called.
        rename: Option<String>,
    },
}

/// What a lookup knows of a main row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    /// Its finding: matched, chosen, unmatched, …
    Status,
    /// The number of the reference row that it is answered by.
    Row,
    /// The table that this row stands in.
    Table,
    /// How many reference rows hold its key.
    Count,
    /// Its key as it is compared.
    Key,
}

impl Mark {
    /// Every mark with its name.
    pub const ALL: [(&'static str, Self); 5] = [
        ("status", Self::Status),
        ("row", Self::Row),
        ("table", Self::Table),
        ("count", Self::Count),
        ("key", Self::Key),
    ];

    /// Its name, without the `@`.
    pub fn name(self) -> &'static str {
        Self::ALL.into_iter().find(|(_, mark)| *mark == self).map_or("", |(name, _)| name)
    }
}

impl Take {
    /// Reads one or several things to add, separated by commas: `Header`, `Header as New`,
    /// `First .. Last`, `Size *`, `*` or `@status`.
    ///
    /// ```
    /// use gather_keys_core::plan::Take;
    ///
    /// let columns = Take::parse("Keeper, Queen line as Line, April .. June, @row")?;
    /// assert_eq!(columns[2], Take::Run { first: "April".into(), last: "June".into() });
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new("take", text);
        let mut all = Vec::new();
        loop {
            all.push(Self::read(&mut phrase)?);
            if phrase.is_at_end() {
                return Ok(all);
            }
            if !phrase.sign(',') {
                return phrase.expected("`as`, a comma before the next column, or the end");
            }
        }
    }

    fn read(phrase: &mut Phrase<'_>) -> Result<Self> {
        phrase.skip_space();
        if phrase.sign('@') {
            let start = phrase.at();
            let word = phrase.letters().unwrap_or_default();
            let Some((_, mark)) = Mark::ALL.into_iter().find(|(name, _)| *name == word) else {
                phrase.back_to(start);
                let names = Mark::ALL.map(|(name, _)| name).join(", ");
                return phrase.expected(format!("one of {names}"));
            };
            return Ok(Self::Mark { mark, rename: rename(phrase)? });
        }
        let is_quoted = phrase.stands('"');
        let header = phrase.header(&[','], &["as", ".."])?;
        if phrase.word("..") {
            let last = phrase.header(&[','], &["as"])?;
            return Ok(Self::Run { first: header, last });
        }
        if !is_quoted && header.contains('*') {
            return Ok(if header == "*" { Self::All } else { Self::Like(header) });
        }
        Ok(Self::Column { header, rename: rename(phrase)? })
    }

    /// Reads what such things are not to bring: headers, and texts with `*` that they are like.
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse_leave(text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new("leave", text);
        let mut all = Vec::new();
        loop {
            phrase.skip_space();
            let is_quoted = phrase.stands('"');
            let header = phrase.header(&[','], &[])?;
            let is_like = !is_quoted && header.contains('*');
            all.push(if is_like {
                Self::Like(header)
            } else {
                Self::Column { header, rename: None }
            });
            if phrase.is_at_end() {
                return Ok(all);
            }
            if !phrase.sign(',') {
                return phrase.expected("a comma before the next header, or the end");
            }
        }
    }
}

fn rename(phrase: &mut Phrase<'_>) -> Result<Option<String>> {
    if phrase.word("as") { phrase.header(&[','], &[]).map(Some) } else { Ok(None) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(take: &Take) -> String {
        let with = |name: &str, rename: &Option<String>| match rename {
            Some(new) => format!("{name}>{new}"),
            None => name.to_owned(),
        };
        match take {
            Take::Column { header, rename } => with(header, rename),
            Take::Run { first, last } => format!("{first}~{last}"),
            Take::Like(pattern) => format!("like {pattern}"),
            Take::All => "all".to_owned(),
            Take::Mark { mark, rename } => with(&format!("@{}", mark.name()), rename),
        }
    }

    #[test]
    fn columns_are_read() {
        for (text, want) in [
            ("Keeper", "Keeper"),
            ("Queen line  as  Line of = queens ", "Queen line>Line of = queens"),
            ("Cases as as", "Cases>as"),
            ("Casual", "Casual"),
            (r#""Sold as seen" as "A, B""#, "Sold as seen>A, B"),
            ("A,B as C,D", "A;B>C;D"),
            ("April .. \"June, early\"", "April~June, early"),
            ("Size *, *, \"*\"", "like Size *;all;*"),
            ("@row, @ status as State", "@row;@status>State"),
            ("a..b", "a..b"),
        ] {
            let taken = Take::parse(text).unwrap();
            assert_eq!(taken.iter().map(told).collect::<Vec<_>>().join(";"), want, "{text}");
        }
        let left = Take::parse_leave("Note, Size *, \"a*\"").unwrap();
        assert_eq!(left.iter().map(told).collect::<Vec<_>>().join(";"), "Note;like Size *;a*");
    }

    #[test]
    fn errors_mark_the_place() {
        for (text, want) in [
            ("", 0),
            ("A,", 2),
            ("A as ", 5),
            ("A as , B", 5),
            ("\"A\" B", 4),
            ("A .. ", 5),
            ("Size * as B", 7),
            ("@colour", 1),
            ("@row B", 5),
        ] {
            match Take::parse(text).unwrap_err() {
                crate::Error::Malformed { at, .. } => assert_eq!(at, want, "{text}"),
                other => panic!("{other}"),
            }
        }
    }
}
