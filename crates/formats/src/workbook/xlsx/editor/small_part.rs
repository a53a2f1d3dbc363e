//! Changes to a small part of a workbook, as text.
//!
//! In goes the text of a part, or of its beginning or end; its elements are found, and text is put in their place.
//! Everything that is not changed stays as it is, byte for byte, but for comments and processing instructions.

use std::io::Read;
use std::ops::Range;

use super::super::markup::{Malformed, Markup, TagEnd, push_text};
use super::super::package::PackageFault;
use super::super::plain_xml::make_plain;

/// What a part begins with.
pub(super) const DECLARATION: &str =
    "<?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>\n";

/// The text of a part, with its elements and the changes so far.
#[derive(Debug, Default)]
pub(super) struct SmallPart {
    text: String,
    elements: Vec<Element>,
    /// What replaces ranges of the text.
    changes: Vec<(Range<usize>, String)>,
}

/// An element: where it is in the text.
#[derive(Debug, Clone)]
pub(super) struct Element {
    name: Range<usize>,
    /// The whole of it; up to the end of the text where it is not closed there.
    pub(super) whole: Range<usize>,
    /// What is between its tags.
    pub(super) content: Range<usize>,
    is_empty: bool,
    attributes: Vec<(Range<usize>, Range<usize>)>,
}

impl SmallPart {
    /// Reads a part.
    ///
    /// # Errors
    /// When it can't be read, or is no XML.
    pub(super) fn read(mut part: impl Read) -> Result<Self, PackageFault> {
        let mut text = Vec::new();
        part.read_to_end(&mut text)?;
        make_plain(&mut text, 0);
        let damaged = || PackageFault::Damaged("its content is damaged".to_owned());
        let text = String::from_utf8(text).map_err(|_| damaged())?;
        Self::of(text.trim_start_matches('\u{feff}').trim_start().to_owned()).map_err(|_| damaged())
    }

    /// The elements of plain XML, which may be a piece of a part.
    pub(super) fn of(text: String) -> Result<Self, Malformed> {
        let (mut elements, mut open): (Vec<Element>, Vec<usize>) = (Vec::new(), Vec::new());
        let bytes = text.as_bytes();
        let mut markup = Markup::new(bytes);
        let place = |slice: &[u8]| {
            let begin = slice.as_ptr() as usize - bytes.as_ptr() as usize;
            begin..begin + slice.len()
        };
        while let Some(tag) = markup.tag()? {
            let (name, begin) = (place(tag.name), tag.begin);
            let mut attributes = Vec::new();
            let end = loop {
                match markup.attribute()? {
                    Ok((name, value)) => attributes.push((place(name), place(value))),
                    Err(end) => break end,
                }
            };
            if tag.is_end {
                // The end of a part has ends of elements that began before it.
                if let Some(nth) = open.pop() {
                    let element: &mut Element = &mut elements[nth];
                    if text[element.name.clone()] != text[name] {
                        return Err(Malformed);
                    }
                    element.content.end = begin;
                    element.whole.end = markup.at();
                }
                continue;
            }
            let (at, is_empty) = (markup.at(), end == TagEnd::Closed);
            let upto = if is_empty { at } else { text.len() };
            if !is_empty {
                open.push(elements.len());
            }
            let content = at..if is_empty { at } else { upto };
            elements.push(Element { name, whole: begin..upto, content, is_empty, attributes });
        }
        Ok(Self { text, elements, changes: Vec::new() })
    }

    /// Its text, as it was.
    pub(super) fn text(&self) -> &str {
        &self.text
    }

    /// All elements, in order.
    pub(super) fn elements(&self) -> &[Element] {
        &self.elements
    }

    /// The elements of a name without a prefix.
    pub(super) fn named<'p>(&'p self, name: &'p str) -> impl Iterator<Item = &'p Element> {
        self.elements.iter().filter(move |element| self.name(element) == name)
    }

    /// The elements that are right within another one.
    pub(super) fn children<'p>(&'p self, of: &'p Element) -> impl Iterator<Item = &'p Element> {
        let mut upto = of.content.start;
        let within = self.elements.iter().filter(move |one| {
            of.content.start <= one.whole.start && one.whole.end <= of.content.end
        });
        within.filter(move |one| {
            let is_child = one.whole.start >= upto;
            if is_child {
                upto = one.whole.end;
            }
            is_child
        })
    }

    /// The name of an element, without its prefix.
    pub(super) fn name(&self, element: &Element) -> &str {
        &self.text[element.name.clone()]
    }

    /// The prefix of an element's name, such as `x:`.
    pub(super) fn prefix(&self, element: &Element) -> &str {
        &self.text[element.whole.start + 1..element.name.start]
    }

    /// An attribute of an element, as text.
    pub(super) fn attribute(&self, element: &Element, name: &str) -> Option<String> {
        let (_, value) =
            element.attributes.iter().find(|(key, _)| &self.text[key.clone()] == name)?;
        let mut text = String::new();
        push_text(self.text[value.clone()].as_bytes(), &mut text).ok()?;
        Some(text)
    }

    /// An attribute of an element that is a number.
    pub(super) fn number(&self, element: &Element, name: &str) -> Option<usize> {
        self.attribute(element, name)?.trim().parse().ok()
    }

    /// The text of an element that holds nothing but a text.
    pub(super) fn content(&self, element: &Element) -> Option<String> {
        let mut text = String::new();
        push_text(self.text[element.content.clone()].as_bytes(), &mut text).ok()?;
        Some(text)
    }

    /// Sets an attribute of an element.
    pub(super) fn set(&mut self, element: &Element, name: &str, value: &str) {
        let found = element.attributes.iter().find(|(key, _)| &self.text[key.clone()] == name);
        let value = escaped(value);
        let change = match found {
            Some((_, place)) => (place.clone(), value),
            None => (element.name.end..element.name.end, format!(" {name}=\"{value}\"")),
        };
        self.changes.push(change);
    }

    /// Puts text at the end of an element's content.
    pub(super) fn append(&mut self, element: &Element, text: &str) {
        if !element.is_empty {
            self.replace(element.content.end..element.content.end, text.to_owned());
            return;
        }
        let name = &self.text[element.whole.start + 1..element.name.end];
        let slash = self.text[..element.whole.end].rfind('/').unwrap_or(element.whole.end);
        self.changes.push((slash..element.whole.end, format!(">{text}</{name}>")));
    }

    /// Puts text in the place of other text.
    pub(super) fn replace(&mut self, range: Range<usize>, text: String) {
        self.changes.push((range, text));
    }

    /// Its text with all changes.
    pub(super) fn changed(mut self) -> String {
        // What is put in one place stays in the order in which it was.
        self.changes.sort_by_key(|(range, _)| range.start);
        let (mut text, mut at) = (String::with_capacity(self.text.len() + 256), 0);
        for (range, new) in &self.changes {
            text.push_str(&self.text[at..range.start.max(at)]);
            text.push_str(new);
            at = range.end.max(at);
        }
        text.push_str(&self.text[at..]);
        text
    }

    /// The whole part with all changes, as it is stored.
    pub(super) fn stored(self) -> Vec<u8> {
        (DECLARATION.to_owned() + &self.changed()).into_bytes()
    }
}

/// A text as an attribute or an element has it.
pub(super) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\n' => out.push_str("&#10;"),
            '\r' => out.push_str("&#13;"),
            '\t' => out.push_str("&#9;"),
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_stays_as_it_is_but_for_its_changes() {
        let text =
            "<?xml version='1.0'?><x:t a='1'>\n <x:b/> <x:c n=\"&lt;2\"><x:b>k</x:b></x:c>\n</x:t>";
        let read = || SmallPart::read(text.as_bytes()).unwrap();
        assert_eq!(read().changed(), text.split_once("?>").unwrap().1);
        let mut part = read();
        let all: Vec<String> = part.elements().iter().map(|e| part.name(e).to_owned()).collect();
        assert_eq!(all, ["t", "b", "c", "b"]);
        let [root, first, second, inner] = [0, 1, 2, 3].map(|nth| part.elements()[nth].clone());
        assert_eq!(part.children(&root).count(), 2);
        assert_eq!((part.prefix(&second), part.content(&inner).as_deref()), ("x:", Some("k")));
        assert_eq!(part.attribute(&second, "n").as_deref(), Some("<2"));
        part.set(&second, "n", "a\"b");
        part.set(&first, "k", "1");
        part.append(&first, "<d/>");
        part.append(&root, "<e/>");
        let want = "<x:t a='1'>\n <x:b k=\"1\"><d/></x:b> <x:c n=\"a&quot;b\"><x:b>k</x:b></x:c>\n<e/></x:t>";
        assert_eq!(part.changed(), want);
        // The end of a part, and one that is damaged.
        assert!(SmallPart::of("<a b='1'/></t>".to_owned()).is_ok());
        assert!(SmallPart::of("<a><b></a></b>".to_owned()).is_err());
    }
}
