//! Rows of a worksheet as text, but for where they are.
//!
//! Threads render the rows of their blocks before it is known on which lines these will be. So a row is kept as what
//! follows the place of each of its cells, and the places are put in once the rows before are counted.

use std::sync::Arc;

use gather_keys_core::table::{Block, CellKind, OutputCell, OutputColumns, Renderer, RowOutcomes};

use super::packer::AsText;
use super::styles::{Ground, Styles};
use crate::workbook::shown::Shown;
use crate::workbook::size::letters;

/// How many characters wide a column is at most.
pub(in crate::workbook) const WIDEST: usize = 60;

/// How many replaced cells get a note.
pub(super) const MOST_NOTES: usize = 2000;

/// How many characters a cell holds.
const LONGEST: usize = 32_767;

/// Rows as they are to be in a worksheet.
#[derive(Debug, Default)]
pub struct SheetRows {
    /// What follows the place of each cell, end to end.
    text: String,
    /// The end of each cell, row by row. A cell without text is not written.
    ends: Vec<u32>,
    pub(super) rows: usize,
    pub(super) facts: Facts,
}

/// Counts and notes on rows, for what is written after them.
#[derive(Debug, Default)]
pub(super) struct Facts {
    /// What the columns hold.
    pub(super) columns: Vec<ColumnFacts>,
    /// Cells that were replaced: the row, the column, and what was there.
    pub(super) replaced: Vec<(usize, usize, String)>,
    /// How many whole numbers are text, since they have too many digits, and the first of their columns.
    pub(super) long: (u64, Option<usize>),
    /// The row and column of the first text that is too long for a cell.
    pub(super) too_long: Option<(usize, usize)>,
}

/// What a column holds.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct ColumnFacts {
    /// How many characters wide it is.
    pub(super) width: usize,
    /// How many cells are numbers or dates, and how many are texts.
    pub(super) numbers: u64,
    pub(super) texts: u64,
    /// The number of the style that its first number has where nothing is coloured.
    pub(super) style: Option<usize>,
}

impl ColumnFacts {
    /// Adds what other rows say.
    pub(super) fn add(&mut self, other: &Self) {
        self.width = self.width.max(other.width);
        self.numbers += other.numbers;
        self.texts += other.texts;
        self.style = self.style.or(other.style);
    }
}

/// Rows with the place where they go: a line, counted from 1, and the letters of the columns.
#[derive(Debug, Default)]
pub(super) struct PlacedRows {
    pub(super) rows: SheetRows,
    pub(super) first: u64,
    pub(super) columns: Arc<[String]>,
}

impl AsText for PlacedRows {
    fn write_text(&self, text: &mut Vec<u8>) {
        self.rows.place(self.first, &self.columns, text);
    }
}

impl SheetRows {
    fn clear(&mut self, columns: usize) {
        self.text.clear();
        self.ends.clear();
        self.rows = 0;
        self.facts.columns.clear();
        self.facts.columns.resize(columns, ColumnFacts::default());
        self.facts.replaced.clear();
        self.facts.long = (0, None);
        self.facts.too_long = None;
    }

    /// Writes the rows as those of a worksheet from line `first` on, counted from 1.
    fn place(&self, first: u64, columns: &[String], out: &mut Vec<u8>) {
        out.clear();
        out.reserve(self.text.len() + self.ends.len() * 16 + self.rows * 24);
        let (mut begin, mut digits) = (0, itoa::Buffer::new());
        for (row, ends) in self.ends.chunks(columns.len().max(1)).enumerate() {
            let line = digits.format(first + row as u64).as_bytes();
            out.extend_from_slice(b"<row r=\"");
            out.extend_from_slice(line);
            out.extend_from_slice(b"\">");
            for (letters, &end) in columns.iter().zip(ends) {
                let cell = &self.text.as_bytes()[begin as usize..end as usize];
                begin = end;
                if cell.is_empty() {
                    continue;
                }
                out.extend_from_slice(b"<c r=\"");
                out.extend_from_slice(letters.as_bytes());
                out.extend_from_slice(line);
                out.extend_from_slice(cell);
            }
            out.extend_from_slice(b"</row>");
        }
    }
}

/// The letters of columns.
pub(super) fn columns(count: usize) -> Vec<String> {
    (0..count).map(letters).collect()
}

/// Makes rows of a worksheet.
#[derive(Debug, Clone)]
pub struct WorkbookRenderer {
    cells: Arc<[OutputCell]>,
    /// How many columns of the main table have new cells among the added ones.
    overlaid: usize,
    styles: Arc<Styles>,
    /// The lookup that each added column comes from.
    lookups: Arc<[usize]>,
    is_plain: bool,
}

impl WorkbookRenderer {
    pub(super) fn new(
        columns: &OutputColumns,
        styles: Arc<Styles>,
        lookups: Arc<[usize]>,
        is_plain: bool,
    ) -> Self {
        let (cells, overlaid) = (columns.cells().into(), columns.overlay().len());
        Self { cells, overlaid, styles, lookups, is_plain }
    }

    fn push(
        &self,
        (row, column): (usize, usize),
        (text, kind): (&str, CellKind),
        ground: Ground,
        rows: &mut SheetRows,
    ) {
        let shown = Shown::of(text, kind);
        let look = self.styles.look(column, &shown, text);
        let style = self.styles.of(look, ground);
        let facts = &mut rows.facts.columns[column];
        if !matches!(shown, Shown::Blank) {
            facts.width = facts.width.max(width(text, &shown));
            if matches!(shown, Shown::Text | Shown::LongNumber | Shown::Truth(_)) {
                facts.texts += 1;
            } else {
                facts.numbers += 1;
                if facts.style.is_none() {
                    facts.style = Some(self.styles.of(look, Ground::Plain));
                }
            }
        }
        if matches!(shown, Shown::Blank) && ground.shows_blanks() {
            push_style(style, &mut rows.text);
            rows.text.push_str("/>");
        }
        if !matches!(shown, Shown::Blank) {
            push_style(style, &mut rows.text);
            push_content(text, &shown, 0.0, &mut rows.text);
        }
        match shown {
            Shown::LongNumber => {
                rows.facts.long.0 += 1;
                rows.facts.long.1.get_or_insert(column);
            }
            Shown::Text if is_too_long(text) => {
                rows.facts.too_long.get_or_insert((row, column));
            }
            _ => {}
        }
        rows.ends.push(rows.text.len() as u32);
    }
}

impl Renderer for WorkbookRenderer {
    type Rendered = SheetRows;

    fn wants_outcomes(&self) -> bool {
        !self.is_plain
    }

    fn render(&self, main: &Block, rows: &[usize], added: &Block, rendered: &mut SheetRows) {
        self.render_with_outcomes(main, rows, added, &RowOutcomes::default(), rendered);
    }

    fn render_with_outcomes(
        &self,
        main: &Block,
        rows: &[usize],
        added: &Block,
        outcomes: &RowOutcomes,
        rendered: &mut SheetRows,
    ) {
        rendered.clear(self.cells.len());
        rendered.rows = rows.len();
        for (nth, &row) in rows.iter().enumerate() {
            for (at, &from) in self.cells.iter().enumerate() {
                let cell = from.of((main, row), (added, nth));
                let ground = match from {
                    _ if self.is_plain => Ground::Plain,
                    OutputCell::Over { column, .. } if main.cell(row, column) != cell.0 => {
                        Ground::Changed
                    }
                    OutputCell::Own(_) | OutputCell::Over { .. } => Ground::Plain,
                    OutputCell::Added(place) => match self.lookups.get(place - self.overlaid) {
                        Some(&lookup) => Ground::of_outcome(outcomes.get(nth, lookup)),
                        None => Ground::Taken,
                    },
                };
                self.push((nth, at), cell, ground, rendered);
                if let (Ground::Changed, OutputCell::Over { column, .. }) = (ground, from) {
                    let before = main.cell(row, column);
                    if !before.is_empty() && rendered.facts.replaced.len() < MOST_NOTES {
                        rendered.facts.replaced.push((nth, at, before.to_owned()));
                    }
                }
            }
        }
    }
}

/// Appends the style of a cell, after its place.
fn push_style(style: usize, out: &mut String) {
    out.push('"');
    if style > 0 {
        out.push_str(" s=\"");
        out.push_str(itoa::Buffer::new().format(style));
        out.push('"');
    }
}

/// Appends what follows the place and the style of a cell; nothing for a blank one. Day numbers are those of a workbook
/// whose epoch is so many days later than the usual one.
pub(in crate::workbook) fn push_content(text: &str, shown: &Shown, later: f64, out: &mut String) {
    match shown {
        Shown::Blank => {}
        Shown::Number(_) => {
            out.push_str("><v>");
            out.push_str(text);
            out.push_str("</v></c>");
        }
        Shown::Time(days) => push_days(*days, out),
        Shown::Date(days) | Shown::DateTime(days) => push_days(days - later, out),
        Shown::Truth(is) => {
            out.push_str(if *is { " t=\"b\"><v>1</v></c>" } else { " t=\"b\"><v>0</v></c>" });
        }
        Shown::Text | Shown::LongNumber => push_text(text, out),
    }
}

fn push_days(days: f64, out: &mut String) {
    out.push_str("><v>");
    out.push_str(zmij::Buffer::new().format(days).trim_end_matches(".0"));
    out.push_str("</v></c>");
}

/// Whether a text has more characters than a cell holds.
pub(in crate::workbook) fn is_too_long(text: &str) -> bool {
    text.len() > LONGEST && text.encode_utf16().count() > LONGEST
}

/// Appends the content of a cell that is a text, from the end of its style on.
pub(in crate::workbook) fn push_text(text: &str, out: &mut String) {
    let is_space = |byte: Option<&u8>| byte.is_some_and(u8::is_ascii_whitespace);
    let bytes = text.as_bytes();
    let keeps = is_space(bytes.first()) || is_space(bytes.last()) || bytes.contains(&b'\n');
    out.push_str(" t=\"inlineStr\"><is><t");
    out.push_str(if keeps { " xml:space=\"preserve\">" } else { ">" });
    push_escaped(text, out);
    out.push_str("</t></is></c>");
}

/// Appends a text as XML has it, and as a workbook has the characters that XML does not.
fn push_escaped(text: &str, out: &mut String) {
    let is_plain = |byte: &u8| !matches!(byte, b'&' | b'<' | b'>' | b'_' | 0..=8 | 11..=31 | 0xef);
    let mut rest = text;
    while let Some(at) = rest.bytes().position(|byte| !is_plain(&byte)) {
        out.push_str(&rest[..at]);
        // A byte that is not plain begins a character.
        let Some(character) = rest[at..].chars().next() else { break };
        rest = &rest[at + character.len_utf8()..];
        match character {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '_' if is_escape(rest) => out.push_str("_x005F_"),
            '\u{fffe}' | '\u{ffff}' | '\0'..'\u{20}' => {
                // The code takes four digits.
                let code = u32::from(character);
                let digit = |by: u32| char::from_digit(code >> by & 15, 16).unwrap_or_default();
                out.push_str("_x");
                out.extend([12, 8, 4, 0].map(|by| digit(by).to_ascii_uppercase()));
                out.push('_');
            }
            other => out.push(other),
        }
    }
    out.push_str(rest);
}

/// Whether a text after `_` would be read as a character's code.
fn is_escape(text: &str) -> bool {
    let bytes = text.as_bytes();
    bytes.len() >= 6
        && bytes[0] == b'x'
        && bytes[1..5].iter().all(u8::is_ascii_hexdigit)
        && bytes[5] == b'_'
}

/// How many characters a cell takes.
pub(in crate::workbook) fn width(text: &str, shown: &Shown) -> usize {
    match shown {
        Shown::Blank => 0,
        Shown::Truth(_) => 5,
        Shown::Date(_) | Shown::Time(_) => 10,
        Shown::DateTime(_) => 19,
        Shown::Number(_) => text.len() + 1,
        Shown::Text | Shown::LongNumber if text.is_ascii() && !text.contains('\n') => {
            text.len().min(WIDEST)
        }
        Shown::Text | Shown::LongNumber => {
            let lines = text.lines().map(|line| line.chars().take(WIDEST).count());
            lines.max().unwrap_or_default()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::workbook::xlsx::unescaped;
    use gather_keys_core::table::{Headers, Overlay};
    use proptest::prelude::*;

    #[test]
    fn rows_are_placed_where_they_go() {
        let styles = Arc::new(Styles::new(&[None, None, None], true));
        let main = Headers::new("t", ["A", "B"]);
        let all = OutputColumns::all(&main, &["C".to_owned()], Overlay::default());
        let renderer = WorkbookRenderer::new(&all, styles, [].into(), true);
        let main = Block::of_rows(2, &[["42", "a <b>"], ["", "042"]]);
        let added = Block::of_rows(1, &[["2026-05-19"], [""]]);
        let (mut rows, mut out) = (SheetRows::default(), Vec::new());
        renderer.render(&main, &[0, 1], &added, &mut rows);
        rows.place(9, &columns(3), &mut out);
        let text = "<t>a &lt;b&gt;</t>";
        let want = format!(
            "<row r=\"9\"><c r=\"A9\"><v>42</v></c><c r=\"B9\" t=\"inlineStr\"><is>{text}</is></c>\
             <c r=\"C9\"><v>46161</v></c></row><row r=\"10\"><c r=\"B10\" t=\"inlineStr\"><is><t>042</t></is></c></row>"
        );
        assert_eq!(String::from_utf8(out).unwrap(), want);
    }

    proptest! {
        /// Every text comes back.
        #[test]
        fn texts_come_back(text in "(\\PC|[\\x00-\\x1f_x0aF<>&\u{fffe}]){0,20}") {
            let mut written = String::new();
            push_escaped(&text, &mut written);
            let is_xml = |one: char| one >= ' ' || one == '\t' || one == '\n';
            prop_assert!(written.chars().all(is_xml), "{}", written);
            prop_assert_eq!(unescaped(&written), text);
        }
    }
}
