//! What a worksheet says before and after its rows, where cells were written.
//!
//! Only what follows from the cells is changed: the used range, the columns, and the filter. Everything else, such as
//! panes, merged cells, conditional formats, validation and the print set-up, stays as it is.

use std::ops::Range;

use super::super::package::PackageFault;
use super::small_part::{DECLARATION, Element, SmallPart};
use crate::workbook::part::{Area, area};
use crate::workbook::size::letters;

/// The text before the rows of a worksheet, ready to be changed.
pub(super) struct Head(SmallPart);

/// A column that is added.
#[derive(Debug, Clone, Copy)]
pub(super) struct NewColumn {
    pub(super) column: usize,
    pub(super) width: f64,
    pub(super) style: usize,
}

impl Head {
    /// Reads the text up to the end of the tag that begins the rows.
    ///
    /// # Errors
    /// When it is no XML.
    pub(super) fn read(text: Vec<u8>) -> Result<Self, PackageFault> {
        let damaged = || PackageFault::Damaged("its content is damaged".to_owned());
        let text = String::from_utf8(text).map_err(|_| damaged())?;
        let text = text.trim_start_matches('\u{feff}').trim_start().to_owned();
        SmallPart::of(text).map(Self).map_err(|_| damaged())
    }

    fn rows(&self) -> Option<&Element> {
        self.0.elements().last()
    }

    /// The prefix of the worksheet's elements.
    pub(super) fn prefix(&self) -> &str {
        self.rows().map_or("", |rows| self.0.prefix(rows))
    }

    /// Stretches the used range to a line and a column.
    pub(super) fn stretch(&mut self, (line, column): (u64, usize)) {
        let found = self.0.named("dimension").next().cloned();
        let Some(dimension) = found else { return };
        let range = self.0.attribute(&dimension, "ref");
        let Some(mut used) = range.as_deref().and_then(cells) else { return };
        used.last = used.last.max(line);
        used.columns.end = used.columns.end.max(column + 1);
        self.0.set(&dimension, "ref", &reference(&used));
    }

    /// Adds columns, but for those that the worksheet says something of already.
    pub(super) fn add_columns(&mut self, new: &[NewColumn]) {
        let prefix = self.prefix().to_owned();
        let list = self.0.named("cols").next().cloned();
        let mut all: Vec<(usize, String)> = Vec::new();
        let mut covered: Vec<Range<usize>> = Vec::new();
        for column in list.iter().flat_map(|list| self.0.children(list)) {
            let bounds = self.0.number(column, "min").zip(self.0.number(column, "max"));
            let (min, max) = bounds.unwrap_or_default();
            covered.push(min..max + 1);
            all.push((min, self.0.text()[column.whole.clone()].to_owned()));
        }
        let is_free = |new: &&NewColumn| !covered.iter().any(|one| one.contains(&(new.column + 1)));
        let new: Vec<&NewColumn> = new.iter().filter(is_free).collect();
        if new.is_empty() {
            return;
        }
        for NewColumn { column, width, style } in new {
            let number = column + 1;
            let style = if *style == 0 { String::new() } else { format!(" style=\"{style}\"") };
            all.push((number, format!(
                "<{prefix}col min=\"{number}\" max=\"{number}\" width=\"{width}\"{style} customWidth=\"1\"/>"
            )));
        }
        all.sort_by_key(|(min, _)| *min);
        let all: String = all.into_iter().map(|(_, text)| text).collect();
        let rows = self.rows().map(|rows| rows.whole.start).unwrap_or_default();
        match list.filter(|list| !list.content.is_empty()) {
            Some(list) => self.0.replace(list.content.clone(), all),
            None => self.0.replace(rows..rows, format!("<{prefix}cols>{all}</{prefix}cols>")),
        }
    }

    /// The whole text, in two pieces between which there may be spaces.
    pub(super) fn changed(self) -> (String, &'static str) {
        let text = DECLARATION.to_owned() + &self.0.changed();
        let text = text.strip_suffix('>').map_or(&text[..], str::trim_end);
        (text.to_owned(), ">")
    }
}

/// The width of each column that a worksheet says one for, by the text before its rows.
pub(in crate::workbook::xlsx) fn widths(head: &[u8], columns: &Range<usize>) -> Vec<Option<f64>> {
    let mut widths = vec![None; columns.len()];
    let Ok(Head(part)) = Head::read(head.to_vec()) else { return widths };
    for column in part.named("col") {
        let bounds = part.number(column, "min").zip(part.number(column, "max"));
        let width = part.attribute(column, "width").and_then(|width| width.trim().parse().ok());
        let (Some((min, max)), Some(width)) = (bounds, width) else { continue };
        let first = min.saturating_sub(1).max(columns.start);
        for column in first..max.min(columns.end) {
            widths[column - columns.start] = Some(width);
        }
    }
    widths
}

/// The text after the rows of a worksheet.
pub(super) struct Tail(SmallPart);

impl Tail {
    /// Reads the text after the rows.
    ///
    /// # Errors
    /// When it is no XML.
    pub(super) fn read(text: Vec<u8>) -> Result<Self, PackageFault> {
        let damaged = || PackageFault::Damaged("its content is damaged".to_owned());
        let text = String::from_utf8(text).map_err(|_| damaged())?;
        SmallPart::of(text).map(Self).map_err(|_| damaged())
    }

    /// Whether cells of the worksheet are protected from changes.
    pub(super) fn is_protected(&self) -> bool {
        let protection = self.0.named("sheetProtection").next();
        let on = protection.and_then(|one| self.0.attribute(one, "sheet"));
        matches!(on.as_deref(), Some("1" | "true"))
    }

    /// Stretches the filter of the worksheet as its table is.
    pub(super) fn stretch(&mut self, by: &Stretch) {
        let found = self.0.named("autoFilter").next().cloned();
        let Some(filter) = found else { return };
        let range = self.0.attribute(&filter, "ref");
        let stretched = range.as_deref().and_then(cells).and_then(|range| by.of(&range));
        if let Some(stretched) = stretched {
            self.0.set(&filter, "ref", &reference(&stretched));
        }
    }

    /// The text, with the end of the rows before it.
    pub(super) fn changed(self, prefix: &str) -> String {
        format!("</{prefix}sheetData>{}", self.0.changed())
    }
}

/// How a table of a worksheet has grown.
#[derive(Debug, Clone)]
pub(super) struct Stretch {
    /// The table as it was, from the line of its headers to its last row.
    pub(super) table: Area,
    /// How many columns it has more.
    pub(super) columns: usize,
    /// Its last line now.
    pub(super) last: u64,
}

impl Stretch {
    /// A range that covers the table, stretched as that was; `None` for other ranges, and where nothing changes.
    pub(super) fn of(&self, range: &Area) -> Option<Area> {
        let Area { first, last, columns } = &self.table;
        let begins = range.first == *first || range.first == first + 1;
        if !begins || range.columns != *columns || range.last < *last {
            return None;
        }
        let end = columns.end + self.columns;
        let upto = if range.last == *last { self.last } else { range.last };
        let new = Area { first: range.first, last: upto, columns: columns.start..end };
        Some(new).filter(|new| new != range)
    }
}

/// The cells that a range names: `A1:F9`, or `A1` alone.
pub(super) fn cells(range: &str) -> Option<Area> {
    if range.contains(':') { area(range) } else { area(&format!("{range}:{range}")) }
}

/// The name of a range.
pub(super) fn reference(area: &Area) -> String {
    let Area { first, last, columns } = area;
    format!("{}{first}:{}{last}", letters(columns.start), letters(columns.end - 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_before_the_rows_follows_them() {
        let text = "<x:worksheet><x:dimension ref=\"A1:C9\"/><x:sheetViews/><x:cols><x:col min=\"1\" \
                    max=\"4\" width=\"9\"/><x:col min=\"6\" max=\"9\" width=\"7.5\"/></x:cols><x:sheetData  >";
        assert_eq!(widths(text.as_bytes(), &(2..6)), [Some(9.0), Some(9.0), None, Some(7.5)]);
        let mut head = Head::read(text.as_bytes().to_vec()).unwrap();
        assert_eq!(head.prefix(), "x:");
        head.stretch((12, 5));
        let new = |column| NewColumn { column, width: 12.0, style: 3 };
        head.add_columns(&[new(3), new(4)]);
        let (head, rest) = head.changed();
        let want = text.replace("C9", "F12").replace("  >", "").replace(
            "<x:col min=\"6\"",
            "<x:col min=\"5\" max=\"5\" width=\"12\" style=\"3\" customWidth=\"1\"/><x:col min=\"6\"",
        );
        assert_eq!((head.strip_prefix(DECLARATION), rest), (Some(&want[..]), ">"));
        // Without columns so far.
        let mut head = Head::read(b"<worksheet><sheetData>".to_vec()).unwrap();
        head.add_columns(&[new(1)]);
        assert!(head.changed().0.ends_with("customWidth=\"1\"/></cols><sheetData"));
    }

    #[test]
    fn ranges_that_cover_the_table_grow_with_it() {
        let table = cells("B3:D9").unwrap();
        let stretch = Stretch { table, columns: 2, last: 11 };
        for (range, want) in [
            ("B3:D9", Some("B3:F11")),
            ("B4:D9", Some("B4:F11")),
            ("B3:D1048576", Some("B3:F1048576")),
            ("B3:C9", None),
            ("B5:D9", None),
            ("B3:D8", None),
            ("A3:D9", None),
        ] {
            let stretched = stretch.of(&cells(range).unwrap());
            assert_eq!(stretched.as_ref().map(reference).as_deref(), want, "{range}");
        }
        let mut tail =
            Tail::read(b"<autoFilter ref=\"B3:D9\"/><sheetProtection sheet=\"1\"/></w>".to_vec())
                .unwrap();
        assert!(tail.is_protected());
        tail.stretch(&stretch);
        let want = "</sheetData><autoFilter ref=\"B3:F11\"/><sheetProtection sheet=\"1\"/></w>";
        assert_eq!(tail.changed(""), want);
    }
}
