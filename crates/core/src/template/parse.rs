//! Reading a template.
//!
//! Bare, `Hive | last 2` is one placeholder. With braces, text outside them is literal; `{{` and
//! `}}` are braces, and double quotes hold literal text that would otherwise end the template,
//! such as a comma in `--on`.

use super::phrase::Phrase;
use super::steps::{self, StepUse};
use super::{Placeholder, Segment, Template};
use crate::Result;

impl Template {
    /// Reads a whole text, given for `option`, as one template.
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(option: &'static str, text: &str) -> Result<Self> {
        let mut phrase = Phrase::new(option, text);
        let template = Self::read(&mut phrase, &[], &[])?;
        if phrase.is_at_end() { Ok(template) } else { phrase.expected("the end") }
    }

    /// Reads a template up to one of the characters `stops`, of the separate words `words`, or the end.
    pub(crate) fn read(phrase: &mut Phrase<'_>, stops: &[char], words: &[&str]) -> Result<Self> {
        phrase.skip_space();
        let start = phrase.at();
        let segments = if phrase.has_brace_before(stops, words) {
            read_pieces(phrase, stops, words)?
        } else {
            vec![Segment::Placeholder(read_placeholder(phrase, stops, words)?)]
        };
        Ok(Self { text: phrase.since(start).trim_end().to_owned(), segments })
    }
}

/// Reads steps alone, `tidy | fold`, given for `option`.
///
/// # Errors
/// [`crate::Error::Malformed`], with the place.
pub fn read_steps(option: &'static str, text: &str) -> Result<Vec<StepUse>> {
    let mut phrase = Phrase::new(option, text);
    let mut all = vec![steps::read(&mut phrase)?];
    all.extend(read_steps_behind(&mut phrase)?);
    if phrase.is_at_end() {
        Ok(all)
    } else {
        phrase.expected("`|` before the next step, or the end")
    }
}

/// Reads the steps that follow something, each after a `|`; there may be none.
pub(crate) fn read_steps_behind(phrase: &mut Phrase<'_>) -> Result<Vec<StepUse>> {
    let mut all = Vec::new();
    while phrase.sign('|') {
        all.push(steps::read(phrase)?);
    }
    Ok(all)
}

fn read_placeholder(phrase: &mut Phrase<'_>, ends: &[char], words: &[&str]) -> Result<Placeholder> {
    let ends: Vec<char> = ends.iter().copied().chain(['|']).collect();
    let header = phrase.header(&ends, words)?;
    Ok(Placeholder { header, steps: read_steps_behind(phrase)? })
}

fn read_pieces(phrase: &mut Phrase<'_>, stops: &[char], words: &[&str]) -> Result<Vec<Segment>> {
    let mut segments = Vec::new();
    let mut literal = String::new();
    let mut placeholders = 0;
    loop {
        if phrase.is_before_word(words) {
            break;
        } else if phrase.takes("{{") {
            literal.push('{');
        } else if phrase.takes("}}") {
            literal.push('}');
        } else if phrase.takes("{") {
            if !literal.is_empty() {
                segments.push(Segment::Literal(std::mem::take(&mut literal)));
            }
            segments.push(Segment::Placeholder(read_placeholder(phrase, &['}'], &[])?));
            placeholders += 1;
            if !phrase.sign('}') {
                return phrase.expected("`|` before a step, or `}` to end the placeholder");
            }
        } else if phrase.stands('}') {
            return phrase.expected("`}}` for a brace, or a `{` before it");
        } else if phrase.stands('"') {
            literal.push_str(&phrase.quoted("text")?);
        } else if let Some(sign) = phrase.next_unless(stops) {
            literal.push(sign);
        } else {
            break;
        }
    }
    // Space before the character that ends the template is not part of it.
    let kept = literal.trim_end();
    if !kept.is_empty() {
        segments.push(Segment::Literal(kept.to_owned()));
    }
    if placeholders == 0 {
        return phrase.expected("a placeholder, `{HEADER}`");
    }
    Ok(segments)
}
