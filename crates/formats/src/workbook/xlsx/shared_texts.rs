//! The texts that cells share, in one arena.

use std::io::{ErrorKind, Read};

use super::markup::{Malformed, Markup, Tag, TagEnd, push_text, replace_escapes};
use super::package::{MOST_HELD, PackageFault};
use super::plain_xml::make_plain;

/// How many bytes are read at a time.
const AT_ONCE: usize = 128 << 10;

/// The texts of a workbook, by their numbers.
#[derive(Debug, Default)]
pub(super) struct SharedTexts {
    /// All texts, end to end.
    text: String,
    /// The end of each.
    ends: Vec<u32>,
    /// How many bytes the longest has.
    pub(super) longest: usize,
}

impl SharedTexts {
    /// A text by its number.
    #[inline]
    pub(super) fn get(&self, number: usize) -> Option<&str> {
        let end = *self.ends.get(number)?;
        let begin = number.checked_sub(1).map_or(0, |before| self.ends[before]);
        Some(&self.text[begin as usize..end as usize])
    }

    /// Reads the part that holds them.
    ///
    /// # Errors
    /// When it is damaged, or would fill the memory.
    pub(super) fn read(mut part: impl Read) -> Result<Self, PackageFault> {
        let mut all = Self::default();
        let (mut pending, mut settled, mut read) = (Vec::new(), 0, 0_u64);
        loop {
            let before = pending.len();
            // A text that does not end within the piece needs a larger one.
            let want = before.max(AT_ONCE);
            let more = part.by_ref().take(want as u64).read_to_end(&mut pending);
            let more = more.map_err(|error| match error.kind() {
                ErrorKind::OutOfMemory => PackageFault::TooLarge(error.to_string()),
                _ => PackageFault::Damaged(error.to_string()),
            })?;
            read += more as u64;
            if read > MOST_HELD {
                let said = format!(
                    "what all its worksheets share unpacks to over {} MiB",
                    MOST_HELD >> 20
                );
                return Err(PackageFault::TooLarge(said));
            }
            settled = make_plain(&mut pending, settled);
            let end = if more == 0 { settled } else { item_end(&pending[..settled]) };
            all.add(&pending[..end]).map_err(|Malformed| {
                PackageFault::Damaged("the texts that its cells share are damaged".to_owned())
            })?;
            if more == 0 {
                return Ok(all);
            }
            pending.drain(..end);
            settled -= end;
        }
    }

    /// Adds the texts of a piece that ends where one does.
    fn add(&mut self, piece: &[u8]) -> Result<(), Malformed> {
        let mut markup = Markup::new(piece);
        while let Some(tag) = markup.tag()? {
            let end = markup.end_of_tag()?;
            if tag.is_end || tag.name != b"si" {
                continue;
            }
            if end == TagEnd::Open {
                push_item(&mut markup, &mut self.text)?;
            }
            let before = self.ends.last().map_or(0, |end| *end as usize);
            self.longest = self.longest.max(self.text.len() - before);
            self.ends.push(u32::try_from(self.text.len()).map_err(|_| Malformed)?);
        }
        Ok(())
    }
}

/// Where the last text ends.
fn item_end(piece: &[u8]) -> usize {
    let mut from = piece.len();
    while let Some(at) = memchr::memmem::rfind(&piece[..from], b"si>") {
        let open = piece[..at].iter().rposition(|&byte| byte == b'<');
        if open.is_some_and(|open| piece[open + 1..at].first() == Some(&b'/')) {
            return at + 3;
        }
        from = at;
    }
    0
}

/// Appends the text of an item, shared or in a cell, whose start tag has just ended: its runs, without how they
/// are pronounced. Its end tag is passed.
pub(super) fn push_item(markup: &mut Markup<'_>, text: &mut String) -> Result<(), Malformed> {
    let mut depth = 1_u32;
    while depth > 0 {
        let tag = markup.tag()?.ok_or(Malformed)?;
        match (tag.name, tag.is_end) {
            (_, true) => {
                markup.end_of_tag()?;
                depth -= 1;
            }
            (b"t", false) => push_run(markup, text)?,
            (b"rPh", false) => markup.skip_element(tag.name)?,
            (_, false) => depth += u32::from(markup.end_of_tag()? == TagEnd::Open),
        }
    }
    Ok(())
}

/// Appends a run of text, whose start tag is being read.
fn push_run(markup: &mut Markup<'_>, text: &mut String) -> Result<(), Malformed> {
    let mut keeps_space = false;
    let end = loop {
        match markup.attribute()? {
            Ok((name, value)) => keeps_space |= name == b"space" && value == b"preserve",
            Err(end) => break end,
        }
    };
    if end == TagEnd::Closed {
        return Ok(());
    }
    let from = text.len();
    let written = markup.text();
    push_text(written, text)?;
    let is_space = |character: char| matches!(character, ' ' | '\t' | '\r' | '\n');
    if !keeps_space && !written.is_empty() {
        text.truncate(from + text[from..].trim_end_matches(is_space).len());
        let spaces = text[from..].len() - text[from..].trim_start_matches(is_space).len();
        text.replace_range(from..from + spaces, "");
    }
    replace_escapes(text, from);
    match markup.tag()? {
        Some(Tag { name: b"t", is_end: true, .. }) => markup.end_of_tag().map(drop),
        _ => Err(Malformed),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_what_a_spreadsheet_shows() {
        let part = "<?xml version=\"1.0\"?><sst count=\"9\"><si><t>Fellside</t></si><si/><si><t/></si>\
            <si><t> a &amp; b </t></si><si><t xml:space=\"preserve\"> a_x000D_\n</t></si>\
            <si><r><rPr><b/></rPr><t>La</t></r><r><t xml:space=\"preserve\"> rk</t></r><rPh sb=\"0\"><t>no</t></rPh>\
            <phoneticPr/></si><x:si><x:t><![CDATA[<x>]]></x:t></x:si><si><!-- no --><t>é</t></si></sst>";
        let all = SharedTexts::read(part.as_bytes()).unwrap();
        let texts: Vec<&str> = (0..).map_while(|number| all.get(number)).collect();
        assert_eq!(texts, ["Fellside", "", "", "a & b", " a\r\n", "La rk", "<x>", "é"]);
        for damaged in ["<sst><si><t>a</si></sst>", "<sst><si><t>&x;</t></si>", "<sst><si><t>a"] {
            assert!(SharedTexts::read(damaged.as_bytes()).is_err(), "{damaged}");
        }
    }

    #[test]
    fn a_text_may_be_longer_than_a_piece() {
        let long = "ab".repeat(AT_ONCE);
        let part = format!("<sst><si><t>x</t></si><si><t>{long}</t></si><si><t>y</t></si></sst>");
        let all = SharedTexts::read(part.as_bytes()).unwrap();
        assert_eq!((all.get(1), all.get(2), all.get(3)), (Some(&long[..]), Some("y"), None));
    }
}
