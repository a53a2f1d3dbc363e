//! Elements, attributes and texts of plain XML.
//!
//! [`Markup`] goes through a piece of text that [`plain`](super::plain_xml) XML is made of: elements, their
//! attributes, and text in which `&` begins an entity. It returns slices of the piece and allocates nothing.
//! Prefixes of names are left out: the parts of a workbook use one vocabulary each.

use memchr::{memchr, memchr2};

/// The piece is not well formed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Malformed;

/// A place in a piece of XML.
#[derive(Debug, Clone, Copy)]
pub(super) struct Markup<'t> {
    text: &'t [u8],
    at: usize,
}

/// An element's start or end, whose attributes are still ahead.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Tag<'t> {
    /// Its name without a prefix.
    pub(super) name: &'t [u8],
    pub(super) is_end: bool,
    /// Where it begins in the piece.
    pub(super) begin: usize,
}

/// An attribute: its name without a prefix, and its value as it is written.
pub(super) type Attribute<'t> = (&'t [u8], &'t [u8]);

/// The end of a start tag.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum TagEnd {
    /// The element has content, which is ahead.
    Open,
    /// The element is closed already.
    Closed,
}

impl<'t> Markup<'t> {
    pub(super) fn new(text: &'t [u8]) -> Self {
        Self { text, at: 0 }
    }

    /// How many bytes were passed.
    pub(super) fn at(&self) -> usize {
        self.at
    }

    /// Passes so many bytes, up to where a tag or a text begins.
    pub(super) fn move_by(&mut self, bytes: usize) {
        self.at += bytes;
    }

    fn byte(&self) -> Result<u8, Malformed> {
        self.text.get(self.at).copied().ok_or(Malformed)
    }

    /// Moves to the next tag and past its name; `None` at the end of the piece. Texts are passed over.
    pub(super) fn tag(&mut self) -> Result<Option<Tag<'t>>, Malformed> {
        // Most tags follow one another directly.
        if self.text.get(self.at) != Some(&b'<') {
            match memchr(b'<', &self.text[self.at..]) {
                Some(before) => self.at += before,
                None => {
                    self.at = self.text.len();
                    return Ok(None);
                }
            }
        }
        let start = self.at;
        self.at += 1;
        let is_end = self.byte()? == b'/';
        self.at += usize::from(is_end);
        let mut begin = self.at;
        loop {
            match self.byte()? {
                b'>' | b'/' | b' ' | b'\t' | b'\r' | b'\n' => break,
                b':' => begin = self.at + 1,
                b'<' => return Err(Malformed),
                _ => {}
            }
            self.at += 1;
        }
        let name = &self.text[begin..self.at];
        if name.is_empty() { Err(Malformed) } else { Ok(Some(Tag { name, is_end, begin: start })) }
    }

    fn skip_space(&mut self) {
        while matches!(self.text.get(self.at), Some(b' ' | b'\t' | b'\r' | b'\n')) {
            self.at += 1;
        }
    }

    /// The next attribute of the tag, its name without a prefix; or how the tag ends, which is passed.
    pub(super) fn attribute(&mut self) -> Result<Result<Attribute<'t>, TagEnd>, Malformed> {
        self.skip_space();
        let mut begin = self.at;
        loop {
            match self.byte()? {
                b'>' if begin == self.at => {
                    self.at += 1;
                    return Ok(Err(TagEnd::Open));
                }
                b'/' if begin == self.at => {
                    self.at += 1;
                    self.skip_space();
                    return if self.byte()? == b'>' {
                        self.at += 1;
                        Ok(Err(TagEnd::Closed))
                    } else {
                        Err(Malformed)
                    };
                }
                b'=' | b' ' | b'\t' | b'\r' | b'\n' => break,
                b'<' | b'>' | b'/' | b'"' | b'\'' => return Err(Malformed),
                b':' => begin = self.at + 1,
                _ => {}
            }
            self.at += 1;
        }
        let name = &self.text[begin..self.at];
        self.skip_space();
        if self.byte()? != b'=' || name.is_empty() {
            return Err(Malformed);
        }
        self.at += 1;
        self.skip_space();
        let quote = self.byte()?;
        if !matches!(quote, b'"' | b'\'') {
            return Err(Malformed);
        }
        let begin = self.at + 1;
        // Values are short: a search of many bytes at a time would take longer.
        let rest = &self.text[begin..];
        let length = rest.iter().position(|&byte| byte == quote).ok_or(Malformed)?;
        self.at = begin + length + 1;
        Ok(Ok((name, &rest[..length])))
    }

    /// Passes the attributes that are left of the tag.
    pub(super) fn end_of_tag(&mut self) -> Result<TagEnd, Malformed> {
        if self.text.get(self.at) == Some(&b'>') {
            self.at += 1;
            return Ok(TagEnd::Open);
        }
        loop {
            if let Err(end) = self.attribute()? {
                return Ok(end);
            }
        }
    }

    /// The text up to the next tag.
    pub(super) fn text(&mut self) -> &'t [u8] {
        let rest = &self.text[self.at..];
        let length = if rest.len() < 16 {
            rest.iter().position(|&byte| byte == b'<')
        } else {
            memchr(b'<', rest)
        };
        let text = &rest[..length.unwrap_or(rest.len())];
        self.at += text.len();
        text
    }

    /// Passes the content of an element of this name, whose start tag has just ended, and its end tag.
    pub(super) fn skip_content(&mut self, name: &[u8]) -> Result<(), Malformed> {
        let mut depth = 1_u32;
        loop {
            let tag = self.tag()?.ok_or(Malformed)?;
            match (tag.is_end, self.end_of_tag()?) {
                (true, _) => depth -= 1,
                (false, TagEnd::Open) => depth += 1,
                (false, TagEnd::Closed) => {}
            }
            if depth == 0 {
                return if tag.name == name { Ok(()) } else { Err(Malformed) };
            }
        }
    }

    /// Passes an element whose start tag, of this name, has just been found.
    pub(super) fn skip_element(&mut self, name: &[u8]) -> Result<(), Malformed> {
        match self.end_of_tag()? {
            TagEnd::Open => self.skip_content(name),
            TagEnd::Closed => Ok(()),
        }
    }
}

/// Appends a text with its entities replaced, and its line ends as XML has them.
pub(super) fn push_text(text: &[u8], out: &mut String) -> Result<(), Malformed> {
    let mut rest = text;
    while let Some(at) = memchr2(b'&', b'\r', rest) {
        push_utf_8(&rest[..at], out)?;
        if rest[at] == b'\r' {
            out.push('\n');
            rest = &rest[at + 1..];
            rest = rest.strip_prefix(b"\n").unwrap_or(rest);
            continue;
        }
        let length = memchr(b';', &rest[at..]).ok_or(Malformed)?;
        out.push(entity(&rest[at + 1..at + length]).ok_or(Malformed)?);
        rest = &rest[at + length + 1..];
    }
    push_utf_8(rest, out)
}

fn push_utf_8(text: &[u8], out: &mut String) -> Result<(), Malformed> {
    out.push_str(std::str::from_utf8(text).map_err(|_| Malformed)?);
    Ok(())
}

/// The character of an entity, which is between `&` and `;`.
fn entity(name: &[u8]) -> Option<char> {
    Some(match name {
        b"amp" => '&',
        b"lt" => '<',
        b"gt" => '>',
        b"quot" => '"',
        b"apos" => '\'',
        [b'#', b'x', hex @ ..] => number(hex, 16)?,
        [b'#', decimal @ ..] => number(decimal, 10)?,
        _ => return None,
    })
}

fn number(digits: &[u8], radix: u32) -> Option<char> {
    // A sign would be read as part of the number.
    let digits = std::str::from_utf8(digits).ok().filter(|digits| !digits.starts_with('+'))?;
    char::from_u32(u32::from_str_radix(digits, radix).ok()?)
}

/// Replaces what a workbook writes as `_x000D_`, from a place in a text on: characters that XML does not have.
pub(super) fn replace_escapes(text: &mut String, from: usize) {
    let Some(first) = text[from..].find("_x") else { return };
    let rest = text.split_off(from + first);
    let mut rest = &rest[..];
    while let Some(at) = rest.find("_x") {
        text.push_str(&rest[..at]);
        rest = &rest[at..];
        let Some(unit) = escaped(rest) else {
            text.push_str("_x");
            rest = &rest[2..];
            continue;
        };
        rest = &rest[ESCAPE..];
        // A character may take two.
        let low = escaped(rest).filter(|low| (0xdc00..0xe000).contains(low));
        let units = [unit, low.unwrap_or_default()];
        let is_pair = (0xd800..0xdc00).contains(&unit) && low.is_some();
        let units = &units[..if is_pair { 2 } else { 1 }];
        let decoded = char::decode_utf16(units.iter().copied());
        text.extend(decoded.map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)));
        if is_pair {
            rest = &rest[ESCAPE..];
        }
    }
    text.push_str(rest);
}

/// How many bytes `_x000D_` has.
const ESCAPE: usize = 7;

fn escaped(text: &str) -> Option<u16> {
    let digits = text.get(..ESCAPE)?.strip_prefix("_x")?.strip_suffix('_')?;
    let is_hex = digits.bytes().all(|byte| byte.is_ascii_hexdigit());
    is_hex.then(|| u16::from_str_radix(digits, 16).ok())?
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn elements_and_attributes_are_slices() {
        let text = br#"  <x:row r = "1" x:b='>"'><c/>a<c t="s" ><v>1</v ></c ></x:row>"#;
        let mut markup = Markup::new(text);
        let mut said = String::new();
        while let Some(tag) = markup.tag().unwrap() {
            let name = std::str::from_utf8(tag.name).unwrap();
            said += if tag.is_end { "/" } else { "" };
            said += name;
            let end = loop {
                match markup.attribute().unwrap() {
                    Ok((name, value)) => {
                        let text = |text| std::str::from_utf8(text).unwrap();
                        said.extend([" ", text(name), "=", text(value)]);
                    }
                    Err(end) => break end,
                }
            };
            said += if end == TagEnd::Closed { "! " } else { " " };
            said += std::str::from_utf8(markup.text()).unwrap();
        }
        assert_eq!(said, "row r=1 b=>\" c! ac t=s v 1/v /c /row ");
    }

    #[test]
    fn malformed_markup_is_refused() {
        for text in ["<", "<c", "<c a", "<c a=", "<c a=1>", "<c a=\"1>", "<c / a>", "<c<v>", "< c>"]
        {
            let mut markup = Markup::new(text.as_bytes());
            let all = markup.tag().and_then(|_| markup.end_of_tag());
            assert_eq!(all, Err(Malformed), "{text}");
        }
        let mut markup = Markup::new(b"<a><b><c/></b>");
        markup.tag().unwrap();
        assert_eq!(markup.skip_element(b"a"), Err(Malformed));
        let mut markup = Markup::new(b"<a><b></b></c>");
        markup.tag().unwrap();
        assert_eq!(markup.skip_element(b"a"), Err(Malformed));
    }

    #[test]
    fn texts_have_their_entities_and_escapes_replaced() {
        for (written, want) in [
            ("a &amp; b&lt;&gt;&quot;&apos;", Some("a & b<>\"'")),
            ("&#233;&#xe9;", Some("éé")),
            ("a\r\nb\rc", Some("a\nb\nc")),
            ("a_x000D_b_x005F_x000D_", Some("a\rb_x000D_")),
            ("_xD83D__xDCF7_ _xD83D_ _xDCF7_", Some("\u{1f4f7} \u{fffd} \u{fffd}")),
            ("_x00_ _xyz_ _x", Some("_x00_ _xyz_ _x")),
            ("&nbsp;", None),
            ("&#xD800;", None),
            ("&#+65;", None),
            ("&amp", None),
        ] {
            let mut text = String::new();
            let read = push_text(written.as_bytes(), &mut text).map(|()| {
                replace_escapes(&mut text, 0);
                &text[..]
            });
            assert_eq!(read.ok(), want, "{written}");
        }
        assert_eq!(push_text(b"\xff", &mut String::new()), Err(Malformed));
    }
}
