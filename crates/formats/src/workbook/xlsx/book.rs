//! What a workbook says of itself: its worksheets, names, tables, epoch and number formats.

use std::collections::HashMap;

use gather_keys_core::value::date::Epoch;

use super::number_format::{Shows, built_in, shows};
use super::package::{Package, PackageFault, Relationship, attribute};
use crate::workbook::part::{Named, range, ranges};

/// A workbook, but for its worksheets' content.
#[derive(Debug)]
pub(super) struct Book {
    /// The worksheets, each with its part.
    pub(super) worksheets: Vec<(String, String)>,
    /// The part of the texts that cells share.
    pub(super) shared_texts: Option<String>,
    pub(super) epoch: Epoch,
    /// The number format of each style.
    pub(super) formats: Vec<NumberFormat>,
    pub(super) defined: Vec<(String, String)>,
    /// The part that says all of this.
    pub(super) part: String,
}

/// A number format of a style.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct NumberFormat {
    pub(super) code: String,
    pub(super) shows: Shows,
}

impl Book {
    /// Reads a workbook.
    ///
    /// # Errors
    /// When it is none, or damaged.
    pub(super) fn read(package: &Package) -> Result<Self, PackageFault> {
        let is_workbook = |one: &Relationship| one.kind == "officeDocument";
        let root = package.relationships("")?;
        let part = root.iter().find(|one| is_workbook(one)).map(|one| one.target.clone());
        let part = part.unwrap_or_else(|| "xl/workbook.xml".to_owned());
        let relationships = package.relationships(&part)?;
        let target = |kind: &str| {
            relationships.iter().find(|one| one.kind == kind).map(|one| one.target.clone())
        };
        let (mut worksheets, mut defined, mut is_1904) = (Vec::new(), Vec::new(), false);
        let is_there = package.elements(&part, &["definedName"], |element, text| {
            match element.local_name().as_ref() {
                "sheet" => {
                    let id = relationship_id(element).unwrap_or_default();
                    let part = relationships.iter().find(|one| one.id == id);
                    // Others are charts and dialogs.
                    let part = part.filter(|one| one.kind == "worksheet");
                    let part = part.map(|one| one.target.clone());
                    worksheets.extend(attribute(element, "name").zip(part));
                }
                "workbookPr" => {
                    is_1904 |=
                        matches!(attribute(element, "date1904").as_deref(), Some("1" | "true"));
                }
                "definedName" => {
                    defined.extend(attribute(element, "name").map(|name| (name, text.to_owned())));
                }
                _ => {}
            }
        })?;
        if !is_there || worksheets.is_empty() {
            return Err(PackageFault::Damaged("it has no worksheets".to_owned()));
        }
        let styles = target("styles");
        let formats = styles.map(|part| formats(package, &part)).transpose()?;
        Ok(Self {
            worksheets,
            shared_texts: target("sharedStrings"),
            epoch: if is_1904 { Epoch::Of1904 } else { Epoch::Of1900 },
            formats: formats.unwrap_or_default(),
            defined,
            part,
        })
    }

    /// Everything in it that has a name of its own: tables, and ranges.
    pub(super) fn named(&self, package: &Package) -> Vec<Named> {
        let mut named = Vec::new();
        for (worksheet, part) in &self.worksheets {
            let tables = package.relationships(part).unwrap_or_default();
            for table in tables.iter().filter(|one| one.kind == "table") {
                // One that can't be read has no name.
                let _ = package.elements(&table.target, &[], |element, _| {
                    if element.local_name().as_ref() == "table" {
                        named.extend(self::table(element, worksheet));
                    }
                });
            }
        }
        let names: Vec<String> = self.worksheets.iter().map(|(name, _)| name.clone()).collect();
        named.extend(ranges(&self.defined, &names));
        named
    }
}

/// The id of the relationship that an element names, which has a prefix.
fn relationship_id(element: &quick_xml::events::BytesStart<'_>) -> Option<String> {
    let mut all = element.attributes();
    let mut all = all.with_checks(false).flatten();
    let is_id = |key: &str| key.split_once(':').is_some_and(|(_, local)| local == "id");
    let found = all.find(|attribute| is_id(attribute.key.as_ref()))?;
    Some(found.value.into_owned())
}

fn table(element: &quick_xml::events::BytesStart<'_>, worksheet: &str) -> Option<Named> {
    let number = |name| attribute(element, name).and_then(|text| text.parse::<u64>().ok());
    let name = attribute(element, "displayName").or_else(|| attribute(element, "name"))?;
    let (_, mut area) = range(&format!("table!{}", attribute(element, "ref")?))?;
    area.last -= number("totalsRowCount").unwrap_or_default().min(area.last);
    let has_headers = Some(number("headerRowCount") != Some(0));
    Some(Named { name, worksheet: worksheet.to_owned(), area, has_headers })
}

/// The number format of each style.
fn formats(package: &Package, part: &str) -> Result<Vec<NumberFormat>, PackageFault> {
    let (mut codes, mut formats, mut is_in_cells) = (HashMap::new(), Vec::new(), false);
    package.elements(part, &[], |element, _| {
        let id = || attribute(element, "numFmtId").and_then(|id| id.trim().parse::<u32>().ok());
        match element.local_name().as_ref() {
            "numFmt" => codes.extend(id().zip(attribute(element, "formatCode"))),
            "cellXfs" => is_in_cells = true,
            "cellStyles" | "dxfs" | "cellStyleXfs" => is_in_cells = false,
            "xf" if is_in_cells => {
                let id = id().unwrap_or_default();
                let code = codes.get(&id).map(String::as_str).or_else(|| built_in(id));
                let code = code.unwrap_or("General").to_owned();
                formats.push(NumberFormat { shows: shows(&code), code });
            }
            _ => {}
        }
    })?;
    Ok(formats)
}
