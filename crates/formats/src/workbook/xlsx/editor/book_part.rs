//! The part of a workbook that says what is in it: its worksheets, names, and how it is calculated.

use super::super::package::PackageFault;
use super::changed_package::ChangedPackage;
use super::small_part::{Element, SmallPart, escaped};
use super::surroundings::Stretch;
use crate::workbook::part::{Area, range};
use crate::workbook::size::letters;

/// The elements of a workbook that come before how it is calculated.
const BEFORE: [&str; 10] = [
    "fileVersion",
    "workbookPr",
    "AlternateContent",
    "workbookProtection",
    "bookViews",
    "sheets",
    "functionGroups",
    "externalReferences",
    "definedNames",
    "revisionPtr",
];

/// Marks a workbook to be calculated anew when it is opened.
pub(super) fn calculate_anew(book: &mut SmallPart) {
    let found = book.named("calcPr").next().cloned();
    if let Some(settings) = found {
        book.set(&settings, "fullCalcOnLoad", "1");
        return;
    }
    let Some(root) = book.elements().first().cloned() else { return };
    let prefix = book.prefix(&root).to_owned();
    let last = book.children(&root).filter(|one| BEFORE.contains(&book.name(one))).last();
    let at = last.map_or(root.content.start, |one| one.whole.end);
    book.replace(at..at, format!("<{prefix}calcPr fullCalcOnLoad=\"1\"/>"));
}

/// Stretches the names of ranges that cover a table of a worksheet. What is printed stays.
pub(super) fn stretch_names(book: &mut SmallPart, worksheet: &str, by: &Stretch) {
    let names: Vec<Element> = book.named("definedName").cloned().collect();
    for name in names {
        let called = book.attribute(&name, "name").unwrap_or_default();
        let is_of_print = called.starts_with("_xlnm.Print");
        let Some(formula) = book.content(&name).filter(|_| !is_of_print) else { continue };
        let found = range(&formula).filter(|(of, _)| of == worksheet);
        let Some(stretched) = found.and_then(|(_, area)| by.of(&area)) else { continue };
        let Some((of, _)) = formula.rsplit_once('!') else { continue };
        book.replace(name.content.clone(), escaped(&format!("{of}!{}", fixed(&stretched))));
    }
}

/// A range whose name stays what it is wherever it is used.
pub(super) fn fixed(area: &Area) -> String {
    let Area { first, last, columns } = area;
    format!("${}${first}:${}${last}", letters(columns.start), letters(columns.end - 1))
}

/// Takes cells without a formula out of the order in which formulas are calculated.
///
/// # Errors
/// When the order can't be read.
pub(super) fn forget_formulas(
    package: &mut ChangedPackage,
    book: &str,
    is_gone: impl Fn(usize, &str) -> bool,
) -> Result<(), PackageFault> {
    let relationships = package.relationships(book)?;
    let Some(chain) = relationships.into_iter().find(|one| one.kind == "calcChain") else {
        return Ok(());
    };
    let Some(mut part) = package.read(&chain.target)? else { return Ok(()) };
    let cells: Vec<Element> = part.named("c").cloned().collect();
    // A cell says of which worksheet it is only where that is another than that of the cell before.
    let (mut sheet, mut said, mut left) = (0, 0, 0);
    for cell in cells {
        sheet = part.number(&cell, "i").unwrap_or(sheet);
        let name = part.attribute(&cell, "r").unwrap_or_default();
        if is_gone(sheet, &name) {
            part.replace(cell.whole.clone(), String::new());
            continue;
        }
        if said != sheet {
            part.set(&cell, "i", &sheet.to_string());
        }
        (said, left) = (sheet, left + 1);
    }
    if left == 0 {
        // A chain of nothing is none.
        package.remove(&chain.target);
        package.undeclare(&chain.target)?;
        return package.unrelate(book, &chain.id);
    }
    package.put(&chain.target, part.stored());
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::surroundings::cells;
    use super::*;

    #[test]
    fn names_and_settings_follow() {
        let text = "<workbook><bookViews/><sheets/><definedNames><definedName name=\"_xlnm.Print_Area\">\
                    'A b'!$A$1:$B$9</definedName><definedName name=\"All\">'A b'!$A$1:$B$9</definedName>\
                    <definedName name=\"Own\">Other!$A$1:$B$9</definedName></definedNames><extLst/></workbook>";
        let mut book = SmallPart::of(text.to_owned()).unwrap();
        let by = Stretch { table: cells("A1:B9").unwrap(), columns: 1, last: 10 };
        stretch_names(&mut book, "A b", &by);
        calculate_anew(&mut book);
        let want = text
            .replace("\"All\">'A b'!$A$1:$B$9", "\"All\">'A b'!$A$1:$C$10")
            .replace("<extLst/>", "<calcPr fullCalcOnLoad=\"1\"/><extLst/>");
        assert_eq!(book.changed(), want);
        let mut book =
            SmallPart::of("<workbook><calcPr calcId='1'/></workbook>".to_owned()).unwrap();
        calculate_anew(&mut book);
        assert_eq!(
            book.changed(),
            "<workbook><calcPr fullCalcOnLoad=\"1\" calcId='1'/></workbook>"
        );
    }
}
