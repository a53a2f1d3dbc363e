//! A workbook with some of its parts changed.
//!
//! In goes the archive of a workbook; parts are read, replaced, added and left out. What is written has all other parts
//! as they are packed, in their order.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::File;
use std::io::{self, BufReader, Seek, SeekFrom, Write};
use std::sync::Arc;

use zip::result::ZipError;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, DateTime, ZipArchive, ZipWriter};

use super::super::package::{Package, PackageFault, Relationship};
use super::small_part::{Element, SmallPart, escaped};

/// The part that says of what type each part is.
const TYPES: &str = "[Content_Types].xml";

/// A workbook whose parts are being changed.
#[derive(Debug)]
pub(super) struct ChangedPackage {
    package: Arc<Package>,
    /// The parts that are replaced, by their names in lower case.
    changed: HashMap<String, Vec<u8>>,
    /// A part that is packed already, as the only one of an archive.
    packed: HashMap<String, File>,
    /// New parts.
    added: BTreeMap<String, Content>,
    removed: HashSet<String>,
}

/// The content of a new part.
#[derive(Debug)]
pub(super) enum Content {
    Bytes(Vec<u8>),
    /// The only part of an archive.
    Packed(File),
}

impl ChangedPackage {
    pub(super) fn new(package: Arc<Package>) -> Self {
        Self {
            package,
            changed: HashMap::new(),
            packed: HashMap::new(),
            added: BTreeMap::new(),
            removed: HashSet::new(),
        }
    }

    /// Reads a part that is small, as it is by now; `None` when there is none.
    ///
    /// # Errors
    /// When it can't be read.
    pub(super) fn read(&self, name: &str) -> Result<Option<SmallPart>, PackageFault> {
        let key = name.to_lowercase();
        if let Some(bytes) = self.changed.get(&key) {
            return SmallPart::read(&bytes[..]).map(Some);
        }
        if let Some(Content::Bytes(bytes)) = self.added.get(name) {
            return SmallPart::read(&bytes[..]).map(Some);
        }
        if self.removed.contains(&key) {
            return Ok(None);
        }
        self.package.held(name).map(|part| part.and_then(SmallPart::read)).transpose()
    }

    /// Whether there is a part.
    pub(super) fn has(&self, name: &str) -> bool {
        let key = name.to_lowercase();
        let is_there = self.package.names().any(|name| name == key);
        self.added.contains_key(name) || is_there && !self.removed.contains(&key)
    }

    /// Replaces a part, or adds it.
    pub(super) fn put(&mut self, name: &str, bytes: Vec<u8>) {
        let key = name.to_lowercase();
        self.removed.remove(&key);
        if self.package.names().any(|name| name == key) {
            self.packed.remove(&key);
            self.changed.insert(key, bytes);
        } else {
            self.added.insert(name.to_owned(), Content::Bytes(bytes));
        }
    }

    /// Replaces a part, or adds it, with one that is packed already, as the only one of an archive.
    pub(super) fn put_packed(&mut self, name: &str, archive: File) {
        let key = name.to_lowercase();
        self.removed.remove(&key);
        if self.package.names().any(|name| name == key) {
            self.packed.insert(key, archive);
        } else {
            self.added.insert(name.to_owned(), Content::Packed(archive));
        }
    }

    /// Leaves a part out.
    pub(super) fn remove(&mut self, name: &str) {
        self.added.remove(name);
        self.removed.insert(name.to_lowercase());
    }

    /// The relationships of a part, as they are by now.
    ///
    /// # Errors
    /// When they can't be read.
    pub(super) fn relationships(&self, of: &str) -> Result<Vec<Relationship>, PackageFault> {
        let folder = of.rsplit_once('/').map_or("", |(folder, _)| folder);
        let Some(part) = self.read(&relationships_of(of))? else { return Ok(Vec::new()) };
        let all = part.named("Relationship").map(|one| {
            let attribute = |name| part.attribute(one, name).unwrap_or_default();
            Relationship::of(folder, attribute("Id"), &attribute("Type"), &attribute("Target"))
        });
        Ok(all.collect())
    }

    /// Adds a relationship of a part to another one, of a type that is a whole address; gives its id.
    ///
    /// # Errors
    /// When the relationships can't be read.
    pub(super) fn relate(
        &mut self,
        of: &str,
        kind: &str,
        target: &str,
    ) -> Result<String, PackageFault> {
        const NONE: &str = "<Relationships xmlns=\"http://schemas.openxmlformats.org/package/2006/relationships\"/>";
        let name = relationships_of(of);
        let mut part = match self.read(&name)? {
            Some(part) => part,
            None => SmallPart::of(NONE.to_owned()).unwrap_or_default(),
        };
        let ids: HashSet<String> =
            part.named("Relationship").filter_map(|one| part.attribute(one, "Id")).collect();
        let mut free = (1..).map(|number| format!("rId{number}"));
        let id = free.find(|id| !ids.contains(id)).unwrap_or_default();
        if let Some(root) = part.elements().first().cloned() {
            let (prefix, target) = (part.prefix(&root).to_owned(), escaped(target));
            part.append(
                &root,
                &format!(
                    "<{prefix}Relationship Id=\"{id}\" Type=\"{kind}\" Target=\"/{target}\"/>"
                ),
            );
        }
        self.put(&name, part.stored());
        Ok(id)
    }

    /// Takes a relationship of a part away.
    ///
    /// # Errors
    /// When the relationships can't be read.
    pub(super) fn unrelate(&mut self, of: &str, id: &str) -> Result<(), PackageFault> {
        let name = relationships_of(of);
        let Some(mut part) = self.read(&name)? else { return Ok(()) };
        let is_it = |one: &&Element| part.attribute(one, "Id").as_deref() == Some(id);
        let found = part.named("Relationship").find(is_it).cloned();
        if let Some(found) = found {
            part.replace(found.whole, String::new());
            self.put(&name, part.stored());
        }
        Ok(())
    }

    /// Notes the type of a new part.
    ///
    /// # Errors
    /// When the types can't be read.
    pub(super) fn declare(&mut self, name: &str, kind: &str) -> Result<(), PackageFault> {
        let Some(mut part) = self.read(TYPES)? else { return Ok(()) };
        let place = format!("/{name}");
        let is_there = |one: &Element| {
            part.attribute(one, "PartName").is_some_and(|other| other.eq_ignore_ascii_case(&place))
        };
        if part.named("Override").any(is_there) {
            return Ok(());
        }
        if let Some(root) = part.elements().first().cloned() {
            let (prefix, place) = (part.prefix(&root).to_owned(), escaped(&place));
            part.append(
                &root,
                &format!("<{prefix}Override PartName=\"{place}\" ContentType=\"{kind}\"/>"),
            );
        }
        self.put(TYPES, part.stored());
        Ok(())
    }

    /// Forgets the type of a part that is left out.
    ///
    /// # Errors
    /// When the types can't be read.
    pub(super) fn undeclare(&mut self, name: &str) -> Result<(), PackageFault> {
        let Some(mut part) = self.read(TYPES)? else { return Ok(()) };
        let place = format!("/{name}");
        let found = part.named("Override").find(|one: &&Element| {
            part.attribute(one, "PartName").is_some_and(|other| other.eq_ignore_ascii_case(&place))
        });
        let found = found.cloned();
        if let Some(found) = found {
            part.replace(found.whole, String::new());
            self.put(TYPES, part.stored());
        }
        Ok(())
    }

    /// Writes the workbook.
    ///
    /// # Errors
    /// When it can't be read or written.
    pub(super) fn write(self, output: impl Write) -> io::Result<()> {
        let Self { package, changed, mut packed, added, removed } = self;
        let source = BufReader::with_capacity(1 << 18, package.input().reader());
        let mut source = ZipArchive::new(source).map_err(failed)?;
        let mut whole = ZipWriter::new_stream(output);
        whole.set_raw_comment(source.comment().into()).map_err(failed)?;
        let options = |is_large| {
            SimpleFileOptions::default()
                .compression_method(CompressionMethod::Deflated)
                .last_modified_time(DateTime::default())
                .large_file(is_large)
        };
        let mut seen = HashSet::new();
        for nth in 0..source.len() {
            let entry = source.by_index_raw(nth).map_err(failed)?;
            let name = entry.name().map_err(failed)?.into_owned();
            let key = name.replace('\\', "/").trim_start_matches('/').to_lowercase();
            if removed.contains(&key) || !seen.insert(key.clone()) {
                continue;
            }
            if let Some(bytes) = changed.get(&key) {
                drop(entry);
                whole.start_file(name, options(false)).map_err(failed)?;
                whole.write_all(bytes)?;
            } else if let Some(part) = packed.remove(&key) {
                drop(entry);
                copy_only(part, &name, &mut whole)?;
            } else {
                whole.raw_copy_file(entry).map_err(failed)?;
            }
        }
        for (name, content) in added {
            match content {
                Content::Bytes(bytes) => {
                    whole.start_file(name, options(false)).map_err(failed)?;
                    whole.write_all(&bytes)?;
                }
                Content::Packed(part) => copy_only(part, &name, &mut whole)?,
            }
        }
        whole.finish().map_err(failed)?.into_inner().flush()
    }
}

/// Copies the only part of an archive as it is packed.
fn copy_only(
    mut part: File,
    name: &str,
    whole: &mut ZipWriter<impl Write + io::Seek>,
) -> io::Result<()> {
    part.seek(SeekFrom::Start(0))?;
    let mut part = ZipArchive::new(BufReader::with_capacity(1 << 18, part)).map_err(failed)?;
    let rows = part.by_index_raw(0).map_err(failed)?;
    whole.raw_copy_file_rename(rows, name).map_err(failed)
}

fn failed(error: ZipError) -> io::Error {
    match error {
        ZipError::Io(error) => error,
        error => io::Error::other(error),
    }
}

/// The part of the relationships of a part.
pub(super) fn relationships_of(part: &str) -> String {
    match part.rsplit_once('/') {
        Some((folder, name)) => format!("{folder}/_rels/{name}.rels"),
        None => format!("_rels/{part}.rels"),
    }
}
