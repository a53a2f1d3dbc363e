//! The styles of a workbook that is there, and more of them.
//!
//! In goes its part of styles. A style that is asked for is one that is there already, or is added at the end, so that
//! the numbers of all others stay.

use std::collections::HashMap;

use super::super::number_format::{Shows, built_in, shows};
use super::super::package::PackageFault;
use super::small_part::{Element, SmallPart, escaped};
use crate::workbook::writer::Ground;

/// The styles of a workbook without any.
const NONE: &str = "<styleSheet xmlns=\"http://schemas.openxmlformats.org/spreadsheetml/2006/main\">\
    <fonts count=\"1\"><font><sz val=\"11\"/><name val=\"Calibri\"/></font></fonts>\
    <fills count=\"2\"><fill><patternFill patternType=\"none\"/></fill>\
    <fill><patternFill patternType=\"gray125\"/></fill></fills>\
    <borders count=\"1\"><border><left/><right/><top/><bottom/><diagonal/></border></borders>\
    <cellStyleXfs count=\"1\"><xf numFmtId=\"0\" fontId=\"0\" fillId=\"0\" borderId=\"0\"/></cellStyleXfs>\
    <cellXfs count=\"1\"><xf numFmtId=\"0\" fontId=\"0\" fillId=\"0\" borderId=\"0\" xfId=\"0\"/></cellXfs>\
    </styleSheet>";

/// The first number of a number format that is not built in.
const FIRST_CODE: usize = 164;

/// The lists that a style refers to, each with the attribute by which it does.
const LISTS: [(&str, &str); 3] =
    [("fonts", "fontId"), ("fills", "fillId"), ("borders", "borderId")];

/// The styles of a workbook.
#[derive(Debug)]
pub(super) struct StyleSheet {
    part: SmallPart,
    /// The elements of the lists, and of the styles of cells.
    lists: [Items; 3],
    styles: Items,
    /// The number formats that are not built in.
    codes: Vec<(usize, String)>,
    own_codes: usize,
    /// Styles that were asked for.
    known: HashMap<(usize, Option<String>, Option<Ground>), usize>,
}

/// The elements of a list, as text, those that are added at the end.
#[derive(Debug, Default)]
struct Items {
    all: Vec<String>,
    own: usize,
}

impl Items {
    fn of(part: &SmallPart, list: &str) -> Self {
        let list = part.named(list).next();
        let all: Vec<String> = list
            .map(|list| {
                let items = part.children(list);
                items.map(|item| part.text()[item.whole.clone()].to_owned()).collect()
            })
            .unwrap_or_default();
        Self { own: all.len(), all }
    }

    /// The number of an element, which is added if it is not there.
    fn number(&mut self, item: String) -> usize {
        self.all.iter().position(|one| *one == item).unwrap_or_else(|| {
            self.all.push(item);
            self.all.len() - 1
        })
    }

    fn added(&self) -> &[String] {
        &self.all[self.own..]
    }
}

impl StyleSheet {
    /// Reads the styles of a workbook; of one without any if there is no part.
    ///
    /// # Errors
    /// When they can't be read.
    pub(super) fn read(part: Option<SmallPart>) -> Result<Self, PackageFault> {
        let damaged = |_| PackageFault::Damaged("its styles are damaged".to_owned());
        let part = match part {
            Some(part) => part,
            None => SmallPart::of(NONE.to_owned()).map_err(damaged)?,
        };
        let codes: Vec<(usize, String)> = part
            .named("numFmt")
            .filter_map(|one| part.number(one, "numFmtId").zip(part.attribute(one, "formatCode")))
            .collect();
        let lists = LISTS.map(|(list, _)| Items::of(&part, list));
        let styles = Items::of(&part, "cellXfs");
        let (own_codes, known) = (codes.len(), HashMap::new());
        Ok(Self { part, lists, styles, codes, own_codes, known })
    }

    /// Whether anything was added.
    pub(super) fn is_changed(&self) -> bool {
        self.styles.own < self.styles.all.len()
    }

    /// The style of a cell that has one already, for a value that shows itself by a number format, on a ground. With
    /// neither it is the one that it has.
    pub(super) fn with(
        &mut self,
        base: usize,
        code: Option<&str>,
        ground: Option<Ground>,
    ) -> usize {
        let code = code.filter(|code| *code != self.code_of(base));
        if code.is_none() && ground.is_none() {
            return base;
        }
        let key = (base, code.map(str::to_owned), ground);
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        let own = self.styles.all.get(base).cloned();
        let own = own.unwrap_or_else(|| {
            "<xf numFmtId=\"0\" fontId=\"0\" fillId=\"0\" borderId=\"0\"/>".to_owned()
        });
        let mut settings = Vec::new();
        if let Some(code) = code {
            settings.push(("numFmtId", self.code(code).to_string()));
            settings.push(("applyNumberFormat", "1".to_owned()));
        }
        if let Some(ground) = ground {
            let fill = match ground.fill() {
                Some(fill) => self.lists[1].number(fill),
                None => 0,
            };
            settings.push(("fillId", fill.to_string()));
            settings.push(("applyFill", "1".to_owned()));
        }
        let number = self.styles.number(set(own, &settings));
        self.known.insert(key, number);
        number
    }

    /// What the number format of a style shows.
    pub(super) fn shows(&self, style: usize) -> Shows {
        shows(self.code_of(style))
    }

    /// Whether a style shows any value as it is.
    pub(super) fn is_general(&self, style: usize) -> bool {
        self.code_of(style) == "General"
    }

    /// The code of a style's number format.
    fn code_of(&self, style: usize) -> &str {
        let item = self.styles.all.get(style).map(String::as_str).unwrap_or_default();
        let id = number_in(item, "numFmtId");
        let own = self.codes.iter().find(|(one, _)| *one == id).map(|(_, code)| &code[..]);
        own.or_else(|| built_in(id as u32)).unwrap_or("General")
    }

    /// The number of a number format, which is added if it is not there.
    fn code(&mut self, code: &str) -> usize {
        // Others depend on the language.
        let mut own = (0..=22).chain(37..=49);
        if let Some(id) = own.find(|id| built_in(*id) == Some(code)) {
            return id as usize;
        }
        if let Some((id, _)) = self.codes.iter().find(|(_, one)| one == code) {
            return *id;
        }
        let last = self.codes.iter().map(|(id, _)| *id).max().unwrap_or_default();
        let id = (last + 1).max(FIRST_CODE);
        self.codes.push((id, code.to_owned()));
        id
    }

    /// Adds the styles of another workbook, and gives the number that each of them has here.
    pub(super) fn import(&mut self, other: &Self) -> Vec<usize> {
        let styles = other.styles.all.iter().enumerate();
        styles
            .map(|(nth, style)| {
                let mut settings = vec![
                    ("numFmtId", self.code(other.code_of(nth)).to_string()),
                    ("xfId", "0".to_owned()),
                ];
                for (nth, (_, attribute)) in LISTS.iter().enumerate() {
                    let item = other.lists[nth].all.get(number_in(style, attribute)).cloned();
                    let item =
                        if nth == 0 { item.map(|font| self.font_like(&font, other)) } else { item };
                    let number = item.map_or(0, |item| self.lists[nth].number(item));
                    settings.push((attribute, number.to_string()));
                }
                self.styles.number(set(style.clone(), &settings))
            })
            .collect()
    }

    /// The font here for one of another workbook: its usual one, plain or bold, is the usual one of this workbook.
    fn font_like(&self, font: &str, other: &Self) -> String {
        const BOLD: &str = "<b/>";
        let usual = |sheet: &Self| {
            let style = sheet.styles.all.first().map_or(0, |style| number_in(style, LISTS[0].1));
            sheet.lists[0].all.get(style).cloned().unwrap_or_default()
        };
        let (ours, theirs) = (usual(self), usual(other));
        if font == theirs {
            ours
        } else if font.replacen(BOLD, "", 1) == theirs
            && !ours.contains(BOLD)
            && ours.starts_with("<font>")
        {
            ours.replacen("<font>", "<font><b/>", 1)
        } else {
            font.to_owned()
        }
    }

    /// The part, with what was added.
    pub(super) fn stored(self) -> Vec<u8> {
        let Self { mut part, lists, styles, codes, own_codes, .. } = self;
        let prefix = part.elements().first().map(|root| part.prefix(root).to_owned());
        let prefix = prefix.unwrap_or_default();
        let added = |items: &[String]| items.concat();
        for ((list, _), items) in LISTS.iter().zip(&lists) {
            append(&mut part, list, &added(items.added()), items.all.len());
        }
        append(&mut part, "cellXfs", &added(styles.added()), styles.all.len());
        let mut more = String::new();
        for (id, code) in &codes[own_codes..] {
            let code = escaped(code);
            more.extend([
                &format!("<{prefix}numFmt numFmtId=\"{id}\" formatCode=\"{code}\"/>")[..],
            ]);
        }
        if !more.is_empty() && part.named("numFmts").next().is_none() {
            // They come first.
            let root = part.elements().first().map(|root| root.content.start).unwrap_or_default();
            let count = codes.len();
            let all = format!("<{prefix}numFmts count=\"{count}\">{more}</{prefix}numFmts>");
            part.replace(root..root, all);
        } else {
            append(&mut part, "numFmts", &more, codes.len());
        }
        part.stored()
    }
}

/// Puts elements at the end of a list, which has so many then.
fn append(part: &mut SmallPart, list: &str, more: &str, count: usize) {
    let found: Option<Element> = part.named(list).next().cloned();
    if let Some(list) = found.filter(|_| !more.is_empty()) {
        part.set(&list, "count", &count.to_string());
        part.append(&list, more);
    }
}

/// An attribute of the first element of a text that is a number; 0 if there is none.
fn number_in(text: &str, name: &str) -> usize {
    let number = |part: SmallPart| part.number(part.elements().first()?, name);
    SmallPart::of(text.to_owned()).ok().and_then(number).unwrap_or_default()
}

/// The text of an element with attributes set.
fn set(text: String, settings: &[(&str, String)]) -> String {
    let Ok(mut part) = SmallPart::of(text.clone()) else { return text };
    let Some(root) = part.elements().first().cloned() else { return text };
    for (name, value) in settings {
        part.set(&root, name, value);
    }
    part.changed()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sheet(codes: &str, styles: &str) -> StyleSheet {
        let text = NONE
            .replace("<fonts", &format!("{codes}<fonts"))
            .replace("<cellXfs count=\"1\">", &format!("<cellXfs count=\"9\">{styles}"));
        StyleSheet::read(Some(SmallPart::of(text).unwrap())).unwrap()
    }

    #[test]
    fn styles_are_added_once_and_only_where_there_are_none() {
        let mut sheet = sheet("", "<xf numFmtId=\"14\" fontId=\"0\"/>");
        assert_eq!(sheet.with(1, None, None), 1);
        assert_eq!(sheet.with(1, Some("General"), None), 1);
        let day = sheet.with(1, Some("yyyy-mm-dd"), None);
        assert_eq!((day, sheet.with(1, Some("yyyy-mm-dd"), None)), (2, 2));
        assert_eq!(
            (sheet.shows(0), sheet.shows(1), sheet.shows(day)),
            (Shows::Moment, Shows::Number, Shows::Moment)
        );
        let ground = sheet.with(day, None, Some(Ground::Unmatched));
        assert_eq!(sheet.shows(ground), Shows::Moment);
        let text = String::from_utf8(sheet.stored()).unwrap();
        assert!(text.contains(
            "<numFmts count=\"1\"><numFmt numFmtId=\"164\" formatCode=\"yyyy-mm-dd\"/></numFmts>"
        ));
        assert!(
            text.contains("<cellXfs count=\"4\">") && text.contains("<fills count=\"3\">"),
            "{text}"
        );
        // Read again, nothing more is added.
        let mut again = StyleSheet::read(Some(SmallPart::read(text.as_bytes()).unwrap())).unwrap();
        assert_eq!(again.with(1, Some("yyyy-mm-dd"), None), day);
        assert!(!again.is_changed());
    }

    #[test]
    fn styles_of_another_workbook_look_the_same_here() {
        let codes = "<numFmts count=\"1\"><numFmt numFmtId=\"164\" formatCode=\"0.0 &quot;kg&quot;\"/></numFmts>";
        let other = sheet(codes, "<xf numFmtId=\"164\" fontId=\"0\" fillId=\"1\" xfId=\"3\"/>");
        let days = "<numFmts count=\"1\"><numFmt numFmtId=\"164\" formatCode=\"yyyy\"/></numFmts>";
        let mut sheet = sheet(days, "");
        let numbers = sheet.import(&other);
        assert_eq!(numbers.len(), 2);
        assert_eq!(sheet.code_of(numbers[0]), "0.0 \"kg\"");
        assert_eq!(sheet.import(&other), numbers);
    }
}
