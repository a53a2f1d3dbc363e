//! Reading the short texts in which a person names headers: `Apiary = Site code, "Queen, line"`.
//!
//! A header stands bare, up to the next sign or word that means something, or in double quotes
//! with a doubled quote for a quote.

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

    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn skip_space(&mut self) {
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

    /// Takes `sign` if it stands here.
    pub(crate) fn sign(&mut self, sign: char) -> bool {
        self.skip_space();
        let found = self.rest().starts_with(sign);
        if found {
            self.at += sign.len_utf8();
        }
        found
    }

    /// Takes `word` if it stands here with space, or the end, behind it.
    pub(crate) fn word(&mut self, word: &str) -> bool {
        self.skip_space();
        let behind = self.rest().strip_prefix(word);
        let found = behind.is_some_and(|b| b.is_empty() || b.starts_with(char::is_whitespace));
        if found {
            self.at += word.len();
        }
        found
    }

    /// Takes a header: in quotes, or bare up to one of the `signs` or to the separate word `stop`.
    pub(crate) fn header(&mut self, signs: &[char], stop: Option<&str>) -> Result<String> {
        self.skip_space();
        if self.rest().starts_with('"') {
            return self.quoted();
        }
        let bare = self.rest();
        let mut end = bare.find(signs).unwrap_or(bare.len());
        if let Some(stop) = stop {
            end = word_in(&bare[..end], stop).unwrap_or(end);
        }
        let header = bare[..end].trim_end();
        if header.is_empty() {
            return self.expected("a header");
        }
        self.at += end;
        Ok(header.to_owned())
    }

    fn quoted(&mut self) -> Result<String> {
        let mut header = String::new();
        let mut from = self.at + 1;
        while let Some(length) = self.text[from..].find('"') {
            header.push_str(&self.text[from..from + length]);
            from += length + 1;
            if !self.text[from..].starts_with('"') {
                self.at = from;
                return Ok(header);
            }
            header.push('"');
            from += 1;
        }
        self.expected("a second double quote to end the header that this one begins")
    }
}

/// Where the separate word `word` stands in `text`, space on both sides.
fn word_in(text: &str, word: &str) -> Option<usize> {
    text.match_indices(word).map(|(at, _)| at).find(|&at| {
        let behind = &text[at + word.len()..];
        text[..at].ends_with(char::is_whitespace)
            && (behind.is_empty() || behind.starts_with(char::is_whitespace))
    })
}
