//! `take`: what to add, `Keeper, Queen line as Line, Size *, {Month} as Bloom, @row`.

use super::Selection;
use crate::Result;
use crate::template::Template;
use crate::template::phrase::Phrase;

/// Something to add.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Take {
    /// One column.
    Column {
        /// The reference's header.
        header: String,
        /// The name of the added column, if it is not the reference's header.
        rename: Option<String>,
    },
    /// Several columns, under their own headers.
    Many(Selection),
    /// The column whose header each main row makes by this template.
    Named {
        /// The template, over the main table's headers.
        template: Template,
        /// The name of the added column, if it is not the template as written.
        rename: Option<String>,
    },
    /// A mark: something that the lookup knows of the row.
    Mark {
        /// The mark.
        mark: Mark,
        /// The name of the added column.
        rename: Option<String>,
    },
}

/// Something that a lookup knows of a main row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    /// Its finding: matched, chosen, unmatched, …
    Status,
    /// The number of the reference row that it is answered by.
    Row,
    /// The table that this row is in.
    Table,
    /// The column that holds its value, in a reverse lookup.
    Column,
    /// How many reference rows hold its key.
    Count,
    /// Its key as it is compared.
    Key,
}

impl Mark {
    /// Every mark with its name.
    pub const ALL: [(&'static str, Self); 6] = [
        ("status", Self::Status),
        ("row", Self::Row),
        ("table", Self::Table),
        ("column", Self::Column),
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
    /// `First .. Last`, `Size *`, `*`, `{Month} as Bloom` or `@status`.
    ///
    /// ```
    /// use gather_keys_core::plan::{Selection, Take};
    ///
    /// let columns = Take::parse("Keeper, Queen line as Line, April .. June, @row")?;
    /// let run = Selection::Run { first: "April".into(), last: "June".into() };
    /// assert_eq!(columns[2], Take::Many(run));
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
        if phrase.has_brace_before(&[','], &["as"]) {
            let template = Template::read(phrase, &[','], &["as"])?;
            return Ok(Self::Named { template, rename: rename(phrase)? });
        }
        Ok(match Selection::read(phrase, &[','], &["as"])? {
            Selection::Header(header) => Self::Column { header, rename: rename(phrase)? },
            many => Self::Many(many),
        })
    }
}

pub(super) fn rename(phrase: &mut Phrase<'_>) -> Result<Option<String>> {
    if phrase.word("as") { phrase.header(&[','], &[]).map(Some) } else { Ok(None) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reported(take: &Take) -> String {
        let with = |name: &str, rename: &Option<String>| match rename {
            Some(new) => format!("{name}>{new}"),
            None => name.to_owned(),
        };
        match take {
            Take::Column { header, rename } => with(header, rename),
            Take::Many(Selection::Header(header)) => header.clone(),
            Take::Many(Selection::Run { first, last }) => format!("{first}~{last}"),
            Take::Many(Selection::Like(pattern)) => format!("like {pattern}"),
            Take::Many(Selection::All) => "all".to_owned(),
            Take::Named { template, rename } => with(&format!("named {template}"), rename),
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
            ("{Month} as Bloom, K", "named {Month}>Bloom;K"),
            ("Price {Size | upper}", "named Price {Size | upper}"),
            (
                "Last {Seen as one} as S, {A | before \",\"}",
                "named Last {Seen as one}>S;named {A | before \",\"}",
            ),
        ] {
            let taken = Take::parse(text).unwrap();
            assert_eq!(taken.iter().map(reported).collect::<Vec<_>>().join(";"), want, "{text}");
        }
        let left = Selection::parse("leave", "Note, Size *, \"a*\", a .. b").unwrap();
        let left = left.into_iter().map(|one| reported(&Take::Many(one)));
        assert_eq!(left.collect::<Vec<_>>().join(";"), "Note;like Size *;a*;a~b");
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
            ("{Month", 6),
            ("{Month} as ", 11),
            ("{} as Bloom", 1),
        ] {
            match Take::parse(text).unwrap_err() {
                crate::Error::Malformed { at, .. } => assert_eq!(at, want, "{text}"),
                other => panic!("{other}"),
            }
        }
    }
}
