//! `when_duplicate` and `when_unmatched`: what to do where there is more than one answer, or none.

use crate::Result;
use crate::template::Template;
use crate::template::meant::{Elsewhere, WHEN_DUPLICATE, WHEN_UNMATCHED, meant};
use crate::template::phrase::Phrase;

/// What to do when several reference rows hold a key and disagree on what is taken.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum WhenDuplicate {
    /// Take nothing, and say so: the row is ambiguous.
    #[default]
    Report,
    /// Take from the first of them.
    First,
    /// Take from the last of them.
    Last,
    /// Take from the one with the highest number or latest date.
    Highest(Template),
    /// Take from the one with the lowest number or earliest date.
    Lowest(Template),
    /// Write the main row once for each reference row, whether or not they disagree.
    Every,
    /// Take the distinct values, joined by `; `.
    List,
    /// Take nothing, and end the run without a table.
    Stop,
}

/// What to do with a main row that no reference row answers.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum WhenUnmatched {
    /// Leave the taken cells blank.
    #[default]
    Blank,
    /// Leave the row out.
    Drop,
    /// Leave out all rows but these.
    Only,
    /// End the run without a table.
    Stop,
    /// Put this text in the taken cells.
    Fill(String),
}

impl WhenDuplicate {
    /// Reads a rule.
    ///
    /// ```
    /// use gather_keys_core::plan::WhenDuplicate;
    ///
    /// assert_eq!(WhenDuplicate::parse("last")?, WhenDuplicate::Last);
    /// assert!(WhenDuplicate::parse("highest Since | date %d.%m.%Y").is_ok());
    /// assert!(WhenDuplicate::parse("highest").is_err());
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Self> {
        let mut phrase = Phrase::new("when-duplicate", text);
        let plain = [
            ("report", Self::Report),
            ("first", Self::First),
            ("last", Self::Last),
            ("every", Self::Every),
            ("list", Self::List),
            ("stop", Self::Stop),
        ];
        let rule = if phrase.word("highest") {
            Self::Highest(ranking(&mut phrase)?)
        } else if phrase.word("lowest") {
            Self::Lowest(ranking(&mut phrase)?)
        } else if let Some((_, rule)) = plain.iter().find(|(word, _)| phrase.word(word)).cloned() {
            rule
        } else {
            let all = "report, first, last, highest HEADER, lowest HEADER, every, list or stop";
            let names = plain.map(|(word, _)| word);
            let names = names.into_iter().chain(["highest", "lowest"]).collect::<Vec<_>>();
            return phrase.expected(or_meant(all, text, &names, WHEN_DUPLICATE));
        };
        if phrase.is_at_end() { Ok(rule) } else { phrase.expected("the end") }
    }
}

impl WhenUnmatched {
    /// Reads a rule.
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Self> {
        let mut phrase = Phrase::new("when-unmatched", text);
        if phrase.word("fill") {
            return Ok(Self::Fill(phrase.all_the_rest("what to fill in")?));
        }
        let plain = [
            ("blank", Self::Blank),
            ("drop", Self::Drop),
            ("only", Self::Only),
            ("stop", Self::Stop),
        ];
        match plain.iter().find(|(word, _)| phrase.word(word)).cloned() {
            Some((_, rule)) if phrase.is_at_end() => Ok(rule),
            Some(_) => phrase.expected("the end"),
            None => {
                let all = "blank, drop, only, stop or fill TEXT";
                let names = plain.map(|(word, _)| word);
                let names = names.into_iter().chain(["fill"]).collect::<Vec<_>>();
                let expected = or_meant(all, text, &names, WHEN_UNMATCHED);
                let is_text = expected == all && !text.trim().is_empty();
                phrase.expected(if is_text {
                    format!("{all}; to put in this text write `fill {}`", text.trim())
                } else {
                    expected
                })
            }
        }
    }
}

/// Reads the value by which rows are ranked.
fn ranking(phrase: &mut Phrase<'_>) -> Result<Template> {
    if phrase.is_at_end() {
        return phrase.expected("the header of the reference whose value decides");
    }
    Template::read(phrase, &[], &[])
}

/// All rules, and what may have been meant by the first word of a text that is none of them.
fn or_meant(all: &str, text: &str, ours: &[&str], elsewhere: &[Elsewhere]) -> String {
    let word = text.split_whitespace().next().unwrap_or_default();
    match meant(word, ours, elsewhere) {
        Some(meant) => format!("{all}; {meant}"),
        None => all.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_are_read_or_refused_with_the_place() {
        assert_eq!(WhenUnmatched::parse(" fill n/a ").unwrap(), WhenUnmatched::Fill("n/a".into()));
        assert_eq!(
            WhenUnmatched::parse("fill \" a, b \"").unwrap(),
            WhenUnmatched::Fill(" a, b ".into())
        );
        assert_eq!(WhenUnmatched::parse("only").unwrap(), WhenUnmatched::Only);
        let places = [
            (WhenDuplicate::parse("").err(), 0),
            (WhenDuplicate::parse("newest").err(), 0),
            (WhenDuplicate::parse("first one").err(), 6),
            (WhenDuplicate::parse("lowest ").err(), 7),
            (WhenDuplicate::parse("highest A | b").err(), 12),
            (WhenUnmatched::parse("drops").err(), 0),
            (WhenUnmatched::parse("drop it").err(), 5),
            (WhenUnmatched::parse("fill").err(), 4),
        ];
        for (error, place) in places {
            match error {
                Some(crate::Error::Malformed { at, .. }) => assert_eq!(at, place),
                other => panic!("{other:?}"),
            }
        }
    }
}
