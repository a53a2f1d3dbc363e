//! Worksheets that are put into a workbook that is there: new ones, or in the place of others.
//!
//! In goes a workbook of a library with the worksheet, out comes the changed workbook, in which it has a part of its own,
//! the styles that it had, and what belongs to it, such as notes. A worksheet that is replaced keeps its name, its place
//! and its number, so that formulas that refer to it still do; what belonged to it alone goes.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Read};

use super::super::package::PackageFault;
use super::book_part::forget_formulas;
use super::changed_package::{ChangedPackage, relationships_of};
use super::small_part::{Element, SmallPart, escaped};
use super::style_sheet::StyleSheet;
use crate::workbook::writer::Archive;

const RELATIONSHIPS: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
const WORKSHEET_TYPE: &str =
    "application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml";

/// The type of the drawings of notes.
const DRAWING_TYPE: &str = "application/vnd.openxmlformats-officedocument.vmlDrawing";

/// A worksheet to be put into a workbook.
pub(super) struct NewSheet<'a> {
    pub(super) name: &'a str,
    /// The workbook that it is in so far, and its number there, from 1.
    pub(super) book: &'a mut Archive,
    pub(super) number: usize,
    /// Its part with its rows, where that is not the one of the workbook.
    pub(super) rows: Option<File>,
}

/// A worksheet of a workbook, as the workbook says it.
pub(super) struct Listed {
    pub(super) part: String,
    /// Its place among all, and the number by which formulas know it.
    place: usize,
    number: usize,
}

/// The worksheet of a name, whatever its case.
///
/// # Errors
/// When the workbook can't be read.
pub(super) fn listed(
    package: &ChangedPackage,
    book: &str,
    name: &str,
) -> Result<Option<Listed>, PackageFault> {
    let Some(part) = package.read(book)? else { return Ok(None) };
    let related = package.relationships(book)?;
    let same = |one: &&Element| {
        part.attribute(one, "name").is_some_and(|other| other.to_lowercase() == name.to_lowercase())
    };
    let found = part.named("sheet").enumerate().find(|(_, one)| same(one));
    Ok(found.and_then(|(place, sheet)| {
        let id = part.attribute(sheet, "id")?;
        let target = related.into_iter().find(|one| one.id == id)?.target;
        let number = part.number(sheet, "sheetId").unwrap_or_default();
        Some(Listed { part: target, place, number })
    }))
}

/// The styles of a workbook of the library, read from its archive.
///
/// # Errors
/// When they can't be read.
pub(super) fn styles_of(book: &mut Archive) -> Result<StyleSheet, PackageFault> {
    StyleSheet::read(Some(read(book, "xl/styles.xml")?))
}

/// Puts a worksheet into a workbook, in the place of the one that has its name if there is one.
///
/// # Errors
/// When a part can't be read.
pub(super) fn put(
    package: &mut ChangedPackage,
    book: &str,
    styles: &mut StyleSheet,
    sheet: NewSheet<'_>,
) -> Result<(), PackageFault> {
    let NewSheet { name, book: from, number, rows } = sheet;
    let source = format!("xl/worksheets/sheet{number}.xml");
    let (place, part) = match listed(package, book, name)? {
        Some(there) => {
            forget(package, book, &there)?;
            (there.place, there.part)
        }
        None => list(package, book, name)?,
    };
    match rows {
        Some(rows) => package.put_packed(&part, rows),
        None => {
            let mapped = styles.import(&styles_of(from)?);
            let texts = shared_texts(from);
            package.put(&part, plain_sheet(read(from, &source)?, &mapped, &texts));
        }
    }
    bring_related(package, from, (&source, &part))?;
    bring_names(package, (book, place), from, number - 1)
}

/// Notes a new worksheet at the end of all; gives its place and its part.
fn list(
    package: &mut ChangedPackage,
    book: &str,
    name: &str,
) -> Result<(usize, String), PackageFault> {
    let damaged = || PackageFault::Damaged("it has no worksheets".to_owned());
    let folder = book.rsplit_once('/').map_or("", |(folder, _)| folder);
    let part = free_part(package, &format!("{folder}/worksheets/sheet"), ".xml");
    let id = package.relate(book, &format!("{RELATIONSHIPS}/worksheet"), &part)?;
    package.declare(&part, WORKSHEET_TYPE)?;
    let mut all = package.read(book)?.ok_or_else(damaged)?;
    let sheets = all.named("sheets").next().cloned().ok_or_else(damaged)?;
    let (prefix, children) = (all.prefix(&sheets).to_owned(), all.children(&sheets).count());
    let last = all.named("sheet").filter_map(|one| all.number(one, "sheetId")).max();
    let number = last.unwrap_or_default() + 1;
    let name = escaped(name);
    all.append(&sheets, &format!(
        "<{prefix}sheet xmlns:rel=\"{RELATIONSHIPS}\" name=\"{name}\" sheetId=\"{number}\" rel:id=\"{id}\"/>"
    ));
    package.put(book, all.stored());
    Ok((children, part))
}

/// A name that no part has: `before`, a number, `after`.
fn free_part(package: &ChangedPackage, before: &str, after: &str) -> String {
    let mut names =
        (1..).map(|number| format!("{}{number}{after}", before.trim_start_matches('/')));
    names.find(|name| !package.has(name)).unwrap_or_default()
}

/// Removes what belongs to a worksheet that is replaced, and to nothing else.
fn forget(package: &mut ChangedPackage, book: &str, sheet: &Listed) -> Result<(), PackageFault> {
    let own = reached(package, &sheet.part)?;
    package.remove(&relationships_of(&sheet.part));
    // What others use too stays.
    let others = reached(package, "")?;
    for part in own.into_iter().filter(|part| *part != sheet.part && !others.contains(part)) {
        package.remove(&relationships_of(&part));
        package.undeclare(&part)?;
        package.remove(&part);
    }
    if let Some(mut all) = package.read(book)? {
        let place = sheet.place;
        let is_of_sheet = |one: &&Element| {
            let name = all.attribute(one, "name").unwrap_or_default();
            all.number(one, "localSheetId") == Some(place) && name.starts_with("_xlnm.")
        };
        let names: Vec<Element> = all.named("definedName").filter(is_of_sheet).cloned().collect();
        for name in names {
            all.replace(name.whole, String::new());
        }
        package.put(book, all.stored());
    }
    let number = sheet.number;
    forget_formulas(package, book, |of, _| of == number)
}

/// The parts that can be reached from one, itself included.
fn reached(package: &ChangedPackage, from: &str) -> Result<HashSet<String>, PackageFault> {
    let (mut all, mut next) = (HashSet::new(), vec![from.to_owned()]);
    while let Some(part) = next.pop() {
        if all.insert(part.clone()) {
            let related = package.relationships(&part)?;
            next.extend(related.into_iter().map(|one| one.target).filter(|one| package.has(one)));
        }
    }
    Ok(all)
}

/// The text of a worksheet of the library, with styles and texts as they are in another workbook.
fn plain_sheet(mut sheet: SmallPart, styles: &[usize], texts: &[String]) -> Vec<u8> {
    let cells: Vec<Element> = sheet.elements().to_vec();
    let mapped = |number: usize| styles.get(number).copied().unwrap_or_default().to_string();
    for element in &cells {
        for attribute in ["s", "style"] {
            let is_styled = matches!(sheet.name(element), "c" | "row" | "col");
            if let Some(number) = sheet.number(element, attribute).filter(|_| is_styled) {
                sheet.set(element, attribute, &mapped(number));
            }
        }
        if sheet.name(element) == "sheetView" {
            // Only one may be, or what is typed goes into all of them.
            sheet.set(element, "tabSelected", "0");
        }
        let is_shared = sheet.attribute(element, "t").as_deref() == Some("s");
        if sheet.name(element) == "c" && is_shared {
            let nth = sheet.content(element).unwrap_or_default();
            let nth = nth.trim_start_matches("<v>").trim_end_matches("</v>").parse().ok();
            let text = nth.and_then(|nth: usize| texts.get(nth)).cloned().unwrap_or_default();
            sheet.set(element, "t", "inlineStr");
            sheet.replace(element.content.clone(), format!("<is>{text}</is>"));
        }
    }
    sheet.stored()
}

/// The texts that cells share in a workbook of the library, as they are written.
fn shared_texts(book: &mut Archive) -> Vec<String> {
    let Ok(part) = read(book, "xl/sharedStrings.xml") else { return Vec::new() };
    part.named("si").map(|one| part.text()[one.content.clone()].to_owned()).collect()
}

/// Brings the parts that belong to a worksheet.
fn bring_related(
    package: &mut ChangedPackage,
    from: &mut Archive,
    (source, target): (&str, &str),
) -> Result<(), PackageFault> {
    let Ok(mut related) = read(from, &relationships_of(source)) else { return Ok(()) };
    let types = read(from, "[Content_Types].xml")?;
    let kinds: HashMap<String, String> = types
        .named("Override")
        .filter_map(|one| types.attribute(one, "PartName").zip(types.attribute(one, "ContentType")))
        .collect();
    let all: Vec<Element> = related.named("Relationship").cloned().collect();
    for one in all {
        let Some(place) = related.attribute(&one, "Target") else { continue };
        let Some(own) = place.strip_prefix("../").map(|place| format!("xl/{place}")) else {
            continue;
        };
        let (stem, ending) = own.rsplit_once('.').unwrap_or((&own, ""));
        let stem = stem.trim_end_matches(|last: char| last.is_ascii_digit());
        let new = free_part(package, stem, &format!(".{ending}"));
        let mut bytes = Vec::new();
        from.by_name(&own).map_err(io::Error::other)?.read_to_end(&mut bytes)?;
        package.put(&new, bytes);
        let kind = kinds.get(&format!("/{own}")).map_or(DRAWING_TYPE, |kind| kind);
        package.declare(&new, kind)?;
        related.set(&one, "Target", &format!("/{new}"));
    }
    package.put(&relationships_of(target), related.stored());
    Ok(())
}

/// Brings the names of a worksheet's filter and of what is repeated on every page.
fn bring_names(
    package: &mut ChangedPackage,
    (book, place): (&str, usize),
    from: &mut Archive,
    number: usize,
) -> Result<(), PackageFault> {
    let names = read(from, "xl/workbook.xml")?;
    let own =
        names.named("definedName").filter(|one| names.number(one, "localSheetId") == Some(number));
    let Some(mut all) = package.read(book)? else { return Ok(()) };
    let Some(root) = all.elements().first().cloned() else { return Ok(()) };
    let prefix = all.prefix(&root).to_owned();
    let more: String = own
        .filter_map(|one| {
            let name = names.attribute(one, "name")?;
            let hidden = if names.attribute(one, "hidden").is_some() { " hidden=\"1\"" } else { "" };
            let range = &names.text()[one.content.clone()];
            Some(format!(
                "<{prefix}definedName name=\"{name}\" localSheetId=\"{place}\"{hidden}>{range}</{prefix}definedName>"
            ))
        })
        .collect();
    if more.is_empty() {
        return Ok(());
    }
    let list = all.named("definedNames").next().cloned();
    match list {
        Some(list) => all.append(&list, &more),
        None => {
            const BEFORE: [&str; 3] = ["sheets", "functionGroups", "externalReferences"];
            let last = all.children(&root).filter(|one| BEFORE.contains(&all.name(one))).last();
            let at = last.map_or(root.content.start, |one| one.whole.end);
            all.replace(at..at, format!("<{prefix}definedNames>{more}</{prefix}definedNames>"));
        }
    }
    package.put(book, all.stored());
    Ok(())
}

fn read(book: &mut Archive, name: &str) -> Result<SmallPart, PackageFault> {
    SmallPart::read(book.by_name(name).map_err(io::Error::other)?)
}
