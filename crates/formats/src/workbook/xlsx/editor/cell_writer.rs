//! Writing cells of a worksheet, each in the style that it is to have.

use std::collections::HashMap;
use std::sync::Arc;

use super::super::number_format::{Shows, shows};
use super::cell_edits::{CellEdit, Role};
use super::edit_queue::NewCell;
use super::style_sheet::StyleSheet;
use crate::workbook::size::letters;
use crate::workbook::writer::{Ground, Look, Styles};

/// Writes cells in the style that each has.
pub(super) struct CellWriter {
    styles: Arc<Styles>,
    pub(super) sheet: StyleSheet,
    /// The styles of cells by the style that is there, the look, the ground, and whether the cell is new.
    known: HashMap<(usize, Look, Option<Ground>, bool), usize>,
    /// The prefix of the worksheet's elements.
    pub(super) prefix: String,
    letters: Vec<String>,
    /// The last line and the last column that were written to.
    pub(super) last: (u64, usize),
}

impl CellWriter {
    pub(super) fn new(styles: Arc<Styles>, sheet: StyleSheet) -> Self {
        let (known, prefix, letters) = (HashMap::new(), String::new(), Vec::new());
        Self { styles, sheet, known, prefix, letters, last: (0, 0) }
    }

    pub(super) fn letters_of(&mut self, column: usize) -> &str {
        while self.letters.len() <= column {
            self.letters.push(letters(self.letters.len()));
        }
        &self.letters[column]
    }

    /// Writes a cell where there is none, which looks like one of a style as far as its value allows. One that would
    /// show nothing is left out.
    pub(super) fn new_cell(
        &mut self,
        (edit, content): NewCell<'_>,
        line: u64,
        base: usize,
        out: &mut Vec<u8>,
    ) {
        let style = self.style(base, edit, content.is_empty());
        if !content.is_empty() || style > 0 {
            self.cell((edit.column as usize, line), style, content, out);
        }
    }

    /// Writes a cell in the place of one of style `base`, even if it shows nothing: cells behind it may say no place of
    /// their own.
    pub(super) fn instead(
        &mut self,
        (edit, content): NewCell<'_>,
        line: u64,
        base: usize,
        out: &mut Vec<u8>,
    ) {
        let style = self.style(base, edit, content.is_empty());
        self.cell((edit.column as usize, line), style, content, out);
    }

    fn cell(
        &mut self,
        (column, line): (usize, u64),
        style: usize,
        content: &str,
        out: &mut Vec<u8>,
    ) {
        self.last = (self.last.0.max(line), self.last.1.max(column));
        out.push(b'<');
        out.extend_from_slice(self.prefix.as_bytes());
        out.extend_from_slice(b"c r=\"");
        out.extend_from_slice(self.letters_of(column).as_bytes());
        let mut digits = itoa::Buffer::new();
        out.extend_from_slice(digits.format(line).as_bytes());
        out.push(b'"');
        if style > 0 {
            out.extend_from_slice(b" s=\"");
            out.extend_from_slice(digits.format(style).as_bytes());
            out.push(b'"');
        }
        if content.is_empty() {
            out.extend_from_slice(b"/>");
        } else if self.prefix.is_empty() {
            out.extend_from_slice(content.as_bytes());
        } else {
            // In a text this character is escaped.
            let (begin, end) = (format!("<{}", self.prefix), format!("</{}", self.prefix));
            let content = content.replace('<', &begin).replace(&format!("{begin}/"), &end);
            out.extend_from_slice(content.as_bytes());
        }
    }

    /// The style of a look where there is no cell.
    pub(super) fn style_of(&mut self, look: Look) -> usize {
        let code = self.styles.code(look);
        self.sheet.with(0, code.as_deref(), None)
    }

    fn style(&mut self, base: usize, edit: CellEdit, is_blank: bool) -> usize {
        let CellEdit { look, ground, role, .. } = edit;
        if is_blank && ground.is_none() {
            return base;
        }
        let is_new = matches!(role, Role::Added | Role::Header);
        let key = (base, look, ground, is_new);
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        let code = self.styles.code(look).filter(|_| !is_blank && role != Role::Header);
        // A number format of the person's own stays where it shows what the value is.
        let there = self.sheet.shows(base);
        let code = code.filter(|code| match &code[..] {
            "@" => self.sheet.is_general(base),
            code => is_new || (there == Shows::Number) != (shows(code) == Shows::Number),
        });
        let style = self.sheet.with(base, code.as_deref(), ground);
        self.known.insert(key, style);
        style
    }
}
