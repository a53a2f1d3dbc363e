//! What would be lost if a new workbook took the place of one that is there.
//!
//! A workbook that this program wrote says which worksheets it was written with. Anything else in it is somebody's own.

use std::io::Read;
use std::sync::Arc;

use memchr::memmem;

use super::XlsxBook;
use super::package::{Package, PackageFault, attribute};

/// The name of the property of a workbook that names its worksheets, separated by a character that is in no name.
pub(in crate::workbook) const WRITTEN: &str = "Written by Gather Keys";
pub(in crate::workbook) const BETWEEN: &str = "/";

/// Parts that this program does not write, by a piece of their names, and what they are.
const OTHERS: [(&str, &str); 8] = [
    ("xl/charts/", "its charts"),
    ("xl/media/", "its pictures"),
    ("xl/pivottables/", "its pivot tables"),
    ("xl/tables/", "its tables"),
    ("xl/externallinks/", "its links to other workbooks"),
    ("vbaproject.bin", "its macros"),
    ("xl/threadedcomments/", "its comments"),
    ("xl/chartsheets/", "its sheets of charts"),
];

/// What cells and their surroundings may have that this program does not write.
const IN_WORKSHEETS: [(&[u8], &str); 3] = [
    (b"<f>", "formulas"),
    (b"<conditionalFormatting", "conditional formats"),
    (b"<dataValidation ", "validation"),
];

/// How many bytes of a worksheet are looked at at a time.
const AT_ONCE: usize = 1 << 16;

/// What would be lost, each thing in a few words; nothing for a workbook as this program writes it.
pub(in crate::workbook) fn losses(book: &XlsxBook) -> Result<Vec<String>, PackageFault> {
    let package = &book.package;
    let own = own_worksheets(package)?;
    let mut lost = Vec::new();
    for (name, part) in &book.worksheets {
        if !own.contains(name) {
            lost.push(format!("its worksheet `{name}`"));
            continue;
        }
        for what in in_worksheet(package, part)? {
            lost.push(format!("the {what} in its worksheet `{name}`"));
        }
    }
    let there = |piece: &str| package.names().any(|name| name.contains(piece));
    lost.extend(
        OTHERS.iter().filter(|(piece, _)| there(piece)).map(|(_, what)| (*what).to_owned()),
    );
    let names =
        book.defined.iter().map(|(name, _)| name).filter(|name| !name.starts_with("_xlnm."));
    lost.extend(names.map(|name| format!("its name `{name}`")));
    Ok(lost)
}

/// The worksheets that this program wrote a workbook with, that of the table first.
pub(in crate::workbook) fn own_worksheets(
    package: &Arc<Package>,
) -> Result<Vec<String>, PackageFault> {
    let related = package.relationships("")?;
    let Some(part) = related.into_iter().find(|one| one.kind == "custom-properties") else {
        return Ok(Vec::new());
    };
    let (mut is_ours, mut own) = (false, Vec::new());
    package.elements(&part.target, &["lpwstr"], |element, text| {
        match element.local_name().as_ref() {
            "property" => is_ours = attribute(element, "name").as_deref() == Some(WRITTEN),
            "lpwstr" if is_ours => own = text.split(BETWEEN).map(str::to_owned).collect(),
            _ => {}
        }
    })?;
    Ok(own)
}

/// What a worksheet has that this program does not write.
fn in_worksheet(package: &Package, part: &str) -> Result<Vec<&'static str>, PackageFault> {
    let Some(part) = package.part(part) else { return Ok(Vec::new()) };
    let (mut part, mut text, mut found) = (part?, Vec::new(), Vec::new());
    loop {
        let read = part.by_ref().take(AT_ONCE as u64).read_to_end(&mut text)?;
        for (piece, what) in IN_WORKSHEETS {
            if memmem::find(&text, piece).is_some() && !found.contains(&what) {
                found.push(what);
            }
        }
        if read == 0 {
            return Ok(found);
        }
        // What is looked for may go on in what is read next.
        let kept = text.len().saturating_sub(64);
        text.drain(..kept);
    }
}
