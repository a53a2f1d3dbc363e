//! Reading the short texts in which a person names headers: `Apiary = Site code, "Queen, line"`.
//!
//! A header is bare, up to the next character or word with a meaning, or in double quotes with a doubled
//! quote for a quote.

use crate::{Error, Result};

/// A text being read from left to right.
#[derive(Debug)]
pub(crate) struct Phrase<'a> {
    option: &'static str,
    text: &'a str,
    at: usize,
}

impl<'a> Phrase<'a> {
    /// Begins to read `text`, which was given for `option`.
    pub(crate) fn new(option: &'static str, text: &'a str) -> Self {
        Self { option, text, at: 0 }
    }

    /// How far the text is read, in bytes.
    pub(crate) fn at(&self) -> usize {
        self.at
    }

    /// Goes back to a place of before, so that an error marks it.
    pub(crate) fn back_to(&mut self, at: usize) {
        self.at = at;
    }

    /// The text from `start` to here.
    pub(crate) fn since(&self, start: usize) -> &'a str {
        &self.text[start..self.at]
    }

    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    /// Goes on to what is no space.
    pub(crate) fn skip_space(&mut self) {
        self.at = self.text.len() - self.rest().trim_start().len();
    }

    /// The error that something else was `expected` here.
    pub(crate) fn expected<T>(&self, expected: impl Into<String>) -> Result<T> {
        Err(Error::Malformed {
            option: self.option,
            text: self.text.to_owned(),
            at: self.at,
            expected: expected.into(),
        })
    }

    /// Whether nothing but space is left.
    pub(crate) fn is_at_end(&mut self) -> bool {
        self.skip_space();
        self.rest().is_empty()
    }

    /// Takes the character `sign` if it is next.
    pub(crate) fn sign(&mut self, sign: char) -> bool {
        self.skip_space();
        let found = self.rest().starts_with(sign);
        if found {
            self.at += sign.len_utf8();
        }
        found
    }

    /// Whether the character `sign` is next, without space before it.
    pub(crate) fn stands(&self, sign: char) -> bool {
        self.rest().starts_with(sign)
    }

    /// Takes `text` if it is next, without space before it.
    pub(crate) fn takes(&mut self, text: &str) -> bool {
        let found = self.rest().starts_with(text);
        if found {
            self.at += text.len();
        }
        found
    }

    /// Takes the next character, unless it is one of `stops` or the end.
    pub(crate) fn next_unless(&mut self, stops: &[char]) -> Option<char> {
        let sign = self.rest().chars().next().filter(|sign| !stops.contains(sign))?;
        self.at += sign.len_utf8();
        Some(sign)
    }

    /// Whether a brace is before the next of `stops` and of the separate `words`; what is in
    /// double quotes does not count.
    pub(crate) fn has_brace_before(&self, stops: &[char], words: &[&str]) -> bool {
        let mut quoted = false;
        for (at, sign) in self.rest().char_indices() {
            match sign {
                '"' => quoted = !quoted,
                '{' | '}' if !quoted => return true,
                _ if !quoted && stops.contains(&sign) => return false,
                _ if !quoted && is_word_at(self.rest(), at, words) => return false,
                _ => {}
            }
        }
        false
    }

    /// Whether one of the separate `words` is next, without space before it.
    pub(crate) fn is_before_word(&self, words: &[&str]) -> bool {
        is_word_at(self.text, self.at, words)
    }

    /// Whether `word` and an opening parenthesis are next; moves to the word.
    pub(crate) fn opens(&mut self, word: &str) -> bool {
        self.skip_space();
        let behind = self.rest().strip_prefix(word);
        behind.is_some_and(|behind| behind.trim_start().starts_with('('))
    }

    /// Takes a word of letters, if one is next.
    pub(crate) fn letters(&mut self) -> Option<&'a str> {
        self.skip_space();
        self.run_of(|sign| sign.is_ascii_alphabetic())
    }

    /// Takes a whole number, if one is next.
    pub(crate) fn digits(&mut self) -> Option<&'a str> {
        self.skip_space();
        self.run_of(|sign| sign.is_ascii_digit())
    }

    /// Takes the characters from here on that fit, if there are any.
    pub(crate) fn run_of(&mut self, fits: impl Fn(char) -> bool) -> Option<&'a str> {
        let rest = self.rest();
        let run = &rest[..rest.find(|sign| !fits(sign)).unwrap_or(rest.len())];
        self.at += run.len();
        (!run.is_empty()).then_some(run)
    }

    /// Takes a text without quotes that begins with `sign`, if one is next: up to white space or a
    /// character with a meaning in a template.
    pub(crate) fn bare_from(&mut self, sign: char) -> Option<&'a str> {
        self.skip_space();
        let ends = |sign: char| sign.is_whitespace() || "|}{,=\"".contains(sign);
        if self.stands(sign) { self.run_of(|sign| !ends(sign)) } else { None }
    }

    /// Takes what is left, but for space around it and quotes; `what` says what it is.
    pub(crate) fn all_the_rest(&mut self, what: &str) -> Result<String> {
        self.skip_space();
        if self.rest().is_empty() {
            return self.expected(what);
        }
        if self.stands('"') {
            let text = self.quoted("text")?;
            return if self.is_at_end() { Ok(text) } else { self.expected("the end") };
        }
        let text = self.rest().trim_end().to_owned();
        self.at = self.text.len();
        Ok(text)
    }

    /// Takes a text in double quotes, if one begins here.
    pub(crate) fn text(&mut self) -> Result<Option<String>> {
        self.skip_space();
        if self.stands('"') { self.quoted("text").map(Some) } else { Ok(None) }
    }

    /// Takes `word` if it is next and followed by space or the end.
    pub(crate) fn word(&mut self, word: &str) -> bool {
        self.skip_space();
        let behind = self.rest().strip_prefix(word);
        let found = behind.is_some_and(|b| b.is_empty() || b.starts_with(char::is_whitespace));
        if found {
            self.at += word.len();
        }
        found
    }

    /// Takes `word` if it is next and no letter or digit follows it.
    pub(crate) fn bare_word(&mut self, word: &str) -> bool {
        self.skip_space();
        let after = self.rest().strip_prefix(word);
        let found = after.is_some_and(|after| !after.starts_with(char::is_alphanumeric));
        if found {
            self.at += word.len();
        }
        found
    }

    /// Takes a header: in quotes, or bare up to one of the characters `signs` or to one of the separate
    /// `words`.
    pub(crate) fn header(&mut self, signs: &[char], words: &[&str]) -> Result<String> {
        self.named("a header", signs, words)
    }

    /// Takes something as a header is taken; `what` says what it is.
    pub(crate) fn named(&mut self, what: &str, signs: &[char], words: &[&str]) -> Result<String> {
        self.skip_space();
        if self.rest().starts_with('"') {
            return self.quoted("header");
        }
        let bare = self.rest();
        let mut end = bare.find(signs).unwrap_or(bare.len());
        for word in words {
            end = word_in(&bare[..end], word).unwrap_or(end);
        }
        let header = bare[..end].trim_end();
        if header.is_empty() {
            return self.expected(what);
        }
        self.at += end;
        Ok(header.to_owned())
    }

    /// Takes what is in double quotes from here on; `what` says what it is.
    pub(crate) fn quoted(&mut self, what: &str) -> Result<String> {
        let mut inner = String::new();
        let mut from = self.at + 1;
        while let Some(length) = self.text[from..].find('"') {
            inner.push_str(&self.text[from..from + length]);
            from += length + 1;
            if !self.text[from..].starts_with('"') {
                self.at = from;
                return Ok(inner);
            }
            inner.push('"');
            from += 1;
        }
        self.expected(format!("a second double quote to end the {what} that this one begins"))
    }
}

/// The place of the separate word `word` in `text`, with space on both sides.
fn word_in(text: &str, word: &str) -> Option<usize> {
    text.match_indices(word).map(|(at, _)| at).find(|&at| is_word_at(text, at, &[word]))
}

/// Whether one of `words` is at a place in `text`, with space before it and space or the end
/// after it.
fn is_word_at(text: &str, at: usize, words: &[&str]) -> bool {
    let ends = |behind: &str| behind.is_empty() || behind.starts_with(char::is_whitespace);
    text[..at].ends_with(char::is_whitespace)
        && words.iter().any(|word| text[at..].strip_prefix(word).is_some_and(ends))
}
