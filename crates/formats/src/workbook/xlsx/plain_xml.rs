//! Making XML plain: UTF-8 with nothing but elements and texts.
//!
//! Comments and processing instructions are left out, and CDATA becomes text with entities, so that `<` begins
//! a tag and `>` ends one wherever they are in a text. Hardly any worksheet has any of them: a search for their
//! second character is all that most cost.

use std::io::{self, Read};

use memchr::memmem;

use crate::delimited::{Encoding, decoded};

/// How many bytes are looked at to find the encoding.
const DECLARATION: usize = 256;

/// The text of a part in UTF-8, by its byte-order mark or its declaration.
///
/// # Errors
/// When it can't be read.
pub(super) fn in_utf_8(mut part: impl Read + Send + 'static) -> io::Result<Box<dyn Read + Send>> {
    let mut first = Vec::new();
    part.by_ref().take(DECLARATION as u64).read_to_end(&mut first)?;
    let encoding = encoding(&first);
    let whole = io::Cursor::new(first).chain(part);
    match encoding {
        None => Ok(Box::new(whole)),
        Some(encoding) => Ok(decoded(Box::new(whole), Some(encoding), DECLARATION)?.0),
    }
}

/// The encoding that the first bytes of a part show, unless that is UTF-8.
fn encoding(first: &[u8]) -> Option<Encoding> {
    match first {
        [0xff, 0xfe, ..] | [b'<', 0, ..] => return Encoding::named("utf-16le"),
        [0xfe, 0xff, ..] | [0, b'<', ..] => return Encoding::named("utf-16be"),
        _ => {}
    }
    let declaration = first.strip_prefix(b"<?xml")?;
    let declaration = &declaration[..memmem::find(declaration, b"?>")?];
    let value = &declaration[memmem::find(declaration, b"encoding")?..];
    let quote = value.iter().position(|byte| matches!(byte, b'"' | b'\''))?;
    let name = value[quote + 1..].split(|byte| *byte == value[quote]).next()?;
    let name = std::str::from_utf8(name).ok()?;
    Encoding::named(name).filter(|encoding| !encoding.is_utf_8())
}

/// Makes the bytes from a place on plain. Returns how many bytes of all are plain: the rest, at the end, may
/// belong to something whose end is not read yet.
pub(super) fn make_plain(text: &mut Vec<u8>, from: usize) -> usize {
    // A `<` at the very end may begin anything.
    let held = usize::from(text[from..].last() == Some(&b'<'));
    let Some(first) = special(&text[from..]) else { return text.len() - held };
    let rest = text.split_off(from + first);
    let mut rest = &rest[..];
    loop {
        let Some((content, after)) = passed(rest) else {
            let settled = text.len();
            text.extend_from_slice(rest);
            return settled;
        };
        push_escaped(content, text);
        rest = &rest[after..];
        let next = special(rest).unwrap_or(rest.len());
        text.extend_from_slice(&rest[..next]);
        rest = &rest[next..];
        if rest.is_empty() {
            let held = usize::from(text.last() == Some(&b'<'));
            return text.len() - held;
        }
    }
}

/// Where the next comment, CDATA section, instruction or declaration begins.
fn special(text: &[u8]) -> Option<usize> {
    let mut marks = memchr::memchr2_iter(b'!', b'?', text);
    let at = marks.find(|&at| at > 0 && text[at - 1] == b'<')?;
    Some(at - 1)
}

/// The text of what begins here, and how long it is; `None` when it does not end here.
fn passed(text: &[u8]) -> Option<(&[u8], usize)> {
    const CDATA: &[u8] = b"<![CDATA[";
    let ends = |begin: usize, end: &[u8]| {
        memmem::find(text.get(begin..)?, end)
            .map(|length| (begin + length, begin + length + end.len()))
    };
    // What is cut off may be the beginning of either.
    let may_be = |begin: &[u8]| begin.starts_with(&text[..text.len().min(begin.len())]);
    if may_be(CDATA) {
        let (end, after) = ends(CDATA.len(), b"]]>")?;
        return Some((&text[CDATA.len()..end], after));
    }
    if may_be(b"<!--") {
        return ends(4, b"-->").map(|(_, after)| (&b""[..], after));
    }
    if text.starts_with(b"<?") {
        return ends(2, b"?>").map(|(_, after)| (&b""[..], after));
    }
    // A declaration of the document's type, which may hold others in brackets.
    let mut depth = 0_u32;
    for (at, byte) in text.iter().enumerate() {
        match byte {
            b'[' => depth += 1,
            b']' => depth = depth.saturating_sub(1),
            b'>' if depth == 0 => return Some((b"", at + 1)),
            _ => {}
        }
    }
    None
}

fn push_escaped(content: &[u8], text: &mut Vec<u8>) {
    for byte in content {
        match byte {
            b'&' => text.extend_from_slice(b"&amp;"),
            b'<' => text.extend_from_slice(b"&lt;"),
            b'>' => text.extend_from_slice(b"&gt;"),
            byte => text.push(*byte),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A text made plain as its bytes come `at_once` at a time.
    fn plain(text: &[u8], at_once: usize) -> String {
        let (mut all, mut settled) = (Vec::new(), 0);
        for piece in text.chunks(at_once) {
            all.extend_from_slice(piece);
            settled = make_plain(&mut all, settled);
        }
        String::from_utf8(all).unwrap()
    }

    #[test]
    fn only_elements_and_texts_are_left() {
        for (text, want) in [
            ("<a>1</a>", "<a>1</a>"),
            ("<?xml version=\"1.0\"?><a>!?</a>", "<a>!?</a>"),
            ("<a><!-- <b> --->1</a>", "<a>1</a>"),
            ("<a><![CDATA[<b> & ]] > ]]>2</a>", "<a>&lt;b&gt; &amp; ]] &gt; 2</a>"),
            ("<!DOCTYPE a [<!ENTITY b \"c\">]><a/>", "<a/>"),
            ("<a><![CDATA[]]></a><!---->", "<a></a>"),
            ("<a><!-- never", "<a><!-- never"),
            ("<a><![CDA", "<a><![CDA"),
            ("<a><", "<a><"),
        ] {
            for at_once in 1..=text.len() {
                assert_eq!(plain(text.as_bytes(), at_once), want, "{at_once}");
            }
        }
    }

    #[test]
    fn encodings_are_those_that_are_declared() {
        let utf_16 =
            |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>();
        for part in [
            "<?xml version=\"1.0\"?><a>é</a>".as_bytes().to_vec(),
            b"<?xml version='1.0' encoding='windows-1252'?><a>\xe9</a>".to_vec(),
            utf_16("\u{feff}<?xml version=\"1.0\" encoding=\"UTF-16\"?><a>é</a>"),
            utf_16("<?xml version=\"1.0\" encoding=\"UTF-16\"?><a>é</a>"),
        ] {
            let mut text = Vec::new();
            in_utf_8(io::Cursor::new(part)).unwrap().read_to_end(&mut text).unwrap();
            make_plain(&mut text, 0);
            assert_eq!(String::from_utf8(text).unwrap().trim_start_matches('\u{feff}'), "<a>é</a>");
        }
    }

    proptest! {
        /// It does not matter how many bytes come at a time.
        #[test]
        fn pieces_make_the_same(text in "(<a>|</a>|x|<!--|-->|<!\\[CDATA\\[|]]>|<\\?|\\?>|!){0,20}", at_once in 1..9_usize) {
            prop_assert_eq!(plain(text.as_bytes(), at_once), plain(text.as_bytes(), 1 << 10));
        }
    }
}
