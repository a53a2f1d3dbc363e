//! Rows and cells of a worksheet that are there, as text.

use std::ops::Range;

use memchr::memmem;

use super::super::cells::{CellFault, number, place};
use super::super::markup::{Malformed, Markup, TagEnd, push_text};

/// A row that is there.
pub(super) struct Row<'t> {
    pub(super) line: u64,
    /// All of its text.
    pub(super) text: &'t [u8],
    /// Where its start tag ends.
    pub(super) content: usize,
    pub(super) end: TagEnd,
    /// The value of its attribute that says which columns it has.
    pub(super) spans: Option<&'t [u8]>,
}

/// A cell that is there.
pub(super) struct Cell<'t> {
    pub(super) column: usize,
    pub(super) style: usize,
    /// Where it is in its row.
    pub(super) range: Range<usize>,
    /// Its start tag, without its end.
    pub(super) start: &'t [u8],
    /// What is between its tags.
    pub(super) content: &'t [u8],
}

/// Whether a cell holds a value or a formula.
pub(super) fn holds_something(cell: &Cell<'_>) -> bool {
    let mut rows = Markup::new(cell.content);
    while let Ok(Some(tag)) = rows.tag() {
        if tag.is_end {
            continue;
        }
        match tag.name {
            b"f" => return true,
            b"v" | b"t" if rows.end_of_tag() == Ok(TagEnd::Open) && !rows.text().is_empty() => {
                return true;
            }
            _ => {}
        }
    }
    false
}

impl Row<'_> {
    /// Writes its start tag, which is not closed, with the columns that it has up to `last`; returns how much of its
    /// text that was.
    pub(super) fn write_start(&self, last: Option<usize>, out: &mut Vec<u8>) -> usize {
        let mut tag = &self.text[..self.content];
        if self.end == TagEnd::Closed {
            let slash = memchr::memrchr(b'/', tag).unwrap_or(tag.len());
            tag = &tag[..slash];
        }
        let stretched = self.spans.and_then(|spans| {
            let (first, upto) = std::str::from_utf8(spans).ok()?.split_once(':')?;
            let (first, upto) = (first.parse::<usize>().ok()?, upto.parse::<usize>().ok()?);
            let begin = spans.as_ptr() as usize - self.text.as_ptr() as usize;
            let new = last.filter(|last| *last >= upto)? + 1;
            Some((begin..begin + spans.len(), format!("{first}:{new}")))
        });
        match stretched {
            Some((range, spans)) => {
                out.extend_from_slice(&tag[..range.start]);
                out.extend_from_slice(spans.as_bytes());
                out.extend_from_slice(&tag[range.end..]);
            }
            None => out.extend_from_slice(tag),
        }
        if self.end == TagEnd::Closed {
            out.push(b'>');
        }
        self.content
    }

    /// Writes what is left of its text from a place on, and its end.
    pub(super) fn write_end(&self, at: usize, prefix: &[u8], out: &mut Vec<u8>) {
        if self.end == TagEnd::Open {
            out.extend_from_slice(&self.text[at..]);
        } else {
            out.extend_from_slice(b"</");
            out.extend_from_slice(prefix);
            out.extend_from_slice(b"row>");
        }
    }

    /// Where its cell in the column of some letters begins, if it says its place.
    pub(super) fn cell_at(&self, letters: &str) -> Option<usize> {
        let mut place = [0; 24];
        let mut length = 0;
        let mut digits = itoa::Buffer::new();
        for piece in ["r=\"", letters, digits.format(self.line), "\""] {
            place.get_mut(length..length + piece.len())?.copy_from_slice(piece.as_bytes());
            length += piece.len();
        }
        let found = self.content + memmem::find(&self.text[self.content..], &place[..length])?;
        // It may be an attribute of another name.
        let begin = memchr::memrchr(b'<', &self.text[..found])?;
        (self.text.get(begin..begin + 3) == Some(b"<c ")).then_some(begin)
    }

    /// Where its last cell begins, if that is in a column before one.
    pub(super) fn last_cell_before(&self, column: usize) -> Option<usize> {
        let content = &self.text[self.content..];
        let begin = self.content + memmem::rfind(content, b"<c ")?;
        let mut markup = Markup::new(self.text);
        markup.move_by(begin);
        markup.tag().ok()??;
        loop {
            match markup.attribute().ok()? {
                Ok((b"r", value)) => {
                    return place(value).filter(|(at, _)| *at < column).map(|_| begin);
                }
                Ok(_) => {}
                Err(_) => return None,
            }
        }
    }
}

/// The cells of a row that is there.
pub(super) struct Cells<'r, 't> {
    pub(super) row: &'r Row<'t>,
    pub(super) markup: Markup<'t>,
    pub(super) next_column: usize,
}

impl<'t> Cells<'_, 't> {
    /// Moves to where a cell begins, unless it is passed.
    pub(super) fn move_on_to(&mut self, begin: usize) {
        self.markup.move_by(begin.saturating_sub(self.markup.at()));
    }

    /// The next cell; `None` when there is none left.
    pub(super) fn next(&mut self) -> Result<Option<Cell<'t>>, CellFault> {
        if self.row.end == TagEnd::Closed {
            return Ok(None);
        }
        loop {
            let tag = self.markup.tag()?.ok_or(Malformed)?;
            if tag.is_end {
                return Ok(None);
            }
            if tag.name != b"c" {
                self.markup.skip_element(tag.name)?;
                continue;
            }
            let (mut column, mut style) = (self.next_column, 0);
            let end = loop {
                match self.markup.attribute()? {
                    Ok((b"r", value)) => column = place(value).ok_or(Malformed)?.0,
                    Ok((b"s", value)) => style = number(value).unwrap_or_default() as usize,
                    Ok(_) => {}
                    Err(end) => break end,
                }
            };
            self.next_column = column + 1;
            let (text, begin) = (self.row.text, self.markup.at());
            let (mut content, mut start) = (&text[begin..begin], &text[tag.begin..begin - 1]);
            if end == TagEnd::Open {
                self.markup.skip_content(b"c")?;
                let all = &text[begin..self.markup.at()];
                content = &all[..memchr::memrchr(b'<', all).unwrap_or_default()];
            } else {
                start = &start[..memchr::memrchr(b'/', start).unwrap_or(start.len())];
            }
            let range = tag.begin..self.markup.at();
            return Ok(Some(Cell { column, style, range, start, content }));
        }
    }
}

/// The formula of a cell.
pub(super) struct Formula {
    /// Where its element is in the content of the cell.
    pub(super) range: Range<usize>,
    pub(super) text: Option<String>,
    /// The number by which other cells share it.
    pub(super) shared: Option<u64>,
    /// Whether it fills several cells.
    pub(super) is_of_range: bool,
}

impl Formula {
    pub(super) fn of(content: &[u8]) -> Result<Option<Self>, CellFault> {
        let mut markup = Markup::new(content);
        while let Some(tag) = markup.tag()? {
            if tag.name != b"f" || tag.is_end {
                markup.end_of_tag()?;
                continue;
            }
            let (mut kind, mut number_of, mut text) = (&b""[..], None, String::new());
            let end = loop {
                match markup.attribute()? {
                    Ok((b"t", value)) => kind = value,
                    Ok((b"si", value)) => number_of = number(value),
                    Ok(_) => {}
                    Err(end) => break end,
                }
            };
            if end == TagEnd::Open {
                push_text(markup.text(), &mut text)?;
                markup.skip_content(b"f")?;
            }
            return Ok(Some(Self {
                range: tag.begin..markup.at(),
                text: Some(text).filter(|text| !text.is_empty()),
                shared: number_of.filter(|_| kind == b"shared"),
                is_of_range: matches!(kind, b"array" | b"dataTable"),
            }));
        }
        Ok(None)
    }
}
