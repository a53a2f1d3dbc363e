//! The archive of a workbook: its parts, each unpacked as it is read, and how they refer to each other.
//!
//! A part may unpack to a thousand times its size. One that is held in memory is refused when it is too large;
//! one that is read along the way is bounded by whoever reads it.

use std::borrow::Cow;
use std::collections::HashMap;
use std::io::{self, BufReader, Read, Seek, SeekFrom};

use crc32fast::Hasher;
use flate2::bufread::DeflateDecoder;
use quick_xml::events::{BytesStart, Event};
use zip::{CompressionMethod, ZipArchive};

use super::plain_xml::in_utf_8;
use crate::{FileReader, InputFile};

/// How many bytes a part that is held in memory may unpack to. Tests reach it sooner.
pub(super) const MOST_HELD: u64 = if cfg!(test) { 1 << 20 } else { 1 << 30 };

/// From how many bytes, and from how many times its packed size, a part in memory is taken for a bomb.
/// Ordinary parts pack to a tenth.
const LARGE: u64 = MOST_HELD / 16;
const MOST_TIMES: u64 = 50;

/// How many parts an archive may have.
const MOST_PARTS: usize = 10_000;

/// How many bytes the end of an archive may take, a comment included.
const END_WITHIN: u64 = 66_000;

/// How many packed bytes are read at a time.
const AT_ONCE: usize = 64 << 10;

/// The archive of a workbook.
#[derive(Debug)]
pub(in crate::workbook) struct Package {
    input: InputFile,
    /// The parts, by their names in lower case.
    parts: HashMap<String, Part>,
}

/// A part of the archive.
#[derive(Debug, Clone)]
struct Part {
    begin: u64,
    packed: u64,
    unpacked: u64,
    checksum: u32,
    method: CompressionMethod,
}

/// Why an archive, or a part of it, is not read.
#[derive(Debug)]
pub(in crate::workbook) enum PackageFault {
    /// It is damaged, as this says.
    Damaged(String),
    /// It would fill the memory, as this says.
    TooLarge(String),
}

impl From<io::Error> for PackageFault {
    fn from(error: io::Error) -> Self {
        Self::Damaged(error.to_string())
    }
}

impl From<quick_xml::Error> for PackageFault {
    fn from(error: quick_xml::Error) -> Self {
        Self::Damaged(error.to_string())
    }
}

/// A relationship of a part to another one.
#[derive(Debug, Clone)]
pub(super) struct Relationship {
    pub(super) id: String,
    /// The last word of its type, such as `worksheet`.
    pub(super) kind: String,
    /// The name of the other part.
    pub(super) target: String,
}

impl Relationship {
    /// A relationship of a part in a folder, as it is written.
    pub(super) fn of(folder: &str, id: String, kind: &str, target: &str) -> Self {
        let kind = kind.rsplit('/').next().unwrap_or_default().to_owned();
        Self { id, kind, target: resolved(folder, target) }
    }
}

impl Package {
    /// Its file.
    pub(super) fn input(&self) -> &InputFile {
        &self.input
    }

    /// Reads the directory of an archive.
    ///
    /// # Errors
    /// When it is no archive, or has too many parts.
    pub(in crate::workbook) fn open(input: &InputFile) -> Result<Self, PackageFault> {
        let archive = ZipArchive::new(BufReader::new(input.reader()));
        let mut archive = archive.map_err(|error| PackageFault::Damaged(error.to_string()))?;
        if archive.len() > MOST_PARTS {
            let said = "its archive has more than 10,000 parts".to_owned();
            return Err(PackageFault::TooLarge(said));
        }
        let mut parts = HashMap::new();
        for nth in 0..archive.len() {
            let part = archive.by_index_raw(nth);
            let part = part.map_err(|error| PackageFault::Damaged(error.to_string()))?;
            let (Some(begin), Ok(name)) = (part.data_start(), part.name()) else { continue };
            let name = name.replace('\\', "/").to_lowercase();
            let part = Part {
                begin,
                packed: part.compressed_size(),
                unpacked: part.size(),
                checksum: part.crc32(),
                method: part.compression(),
            };
            parts.entry(name.trim_start_matches('/').to_owned()).or_insert(part);
        }
        Ok(Self { input: input.clone(), parts })
    }

    /// Whether a file ends as an archive does.
    pub(in crate::workbook) fn has_end(input: &InputFile) -> bool {
        let mut file = input.reader();
        let from = file.size().saturating_sub(END_WITHIN);
        let mut end = Vec::new();
        let read = file.seek(SeekFrom::Start(from)).and_then(|_| file.read_to_end(&mut end));
        read.is_ok() && memchr::memmem::rfind(&end, b"PK\x05\x06").is_some()
    }

    /// The names of all parts, in lower case.
    pub(in crate::workbook) fn names(&self) -> impl Iterator<Item = &str> {
        self.parts.keys().map(String::as_str)
    }

    /// Begins to read a part, in UTF-8; `None` when there is none.
    ///
    /// # Errors
    /// When it can't be read.
    pub(super) fn part(&self, name: &str) -> Option<Result<Box<dyn Read + Send>, PackageFault>> {
        let part = self.parts.get(&name.to_lowercase())?;
        Some(part.read(&self.input))
    }

    /// Begins to read a part whose content is held in memory; see [`Package::part`].
    pub(super) fn held(&self, name: &str) -> Option<Result<Box<dyn Read + Send>, PackageFault>> {
        let part = self.parts.get(&name.to_lowercase())?;
        let is_bomb = part.unpacked > LARGE && part.unpacked / MOST_TIMES > part.packed;
        if part.unpacked > MOST_HELD || is_bomb {
            let mib = part.unpacked >> 20;
            let said = format!("what all its worksheets share unpacks to {mib} MiB");
            return Some(Err(PackageFault::TooLarge(said)));
        }
        Some(part.read(&self.input))
    }

    /// Reads the elements of a part that is small; nothing when there is none. `take` gets every start tag, and
    /// the text of the element where its name is in `texts`.
    ///
    /// # Errors
    /// When it is no XML, or would fill the memory.
    pub(super) fn elements(
        &self,
        name: &str,
        texts: &[&str],
        mut take: impl FnMut(&BytesStart<'_>, &str),
    ) -> Result<bool, PackageFault> {
        let Some(part) = self.held(name) else { return Ok(false) };
        let mut reader = quick_xml::Reader::from_reader(BufReader::new(part?));
        reader.config_mut().expand_empty_elements = true;
        let (mut buffer, mut inner, mut text) = (Vec::new(), Vec::new(), String::new());
        loop {
            buffer.clear();
            match reader.read_event_into(&mut buffer)? {
                Event::Start(element) => {
                    text.clear();
                    if texts.contains(&element.local_name().as_ref()) {
                        read_text(&mut reader, &mut inner, &mut text)?;
                    }
                    take(&element, &text);
                }
                Event::Eof => return Ok(true),
                _ => {}
            }
        }
    }

    /// The relationships of a part.
    ///
    /// # Errors
    /// When they can't be read.
    pub(super) fn relationships(&self, of: &str) -> Result<Vec<Relationship>, PackageFault> {
        let (folder, name) = of.rsplit_once('/').unwrap_or(("", of));
        let slash = if folder.is_empty() { "" } else { "/" };
        let mut all = Vec::new();
        self.elements(&format!("{folder}{slash}_rels/{name}.rels"), &[], |element, _| {
            if element.local_name().as_ref() != "Relationship" {
                return;
            }
            let attribute = |name| attribute(element, name).unwrap_or_default();
            let (kind, target) = (attribute("Type"), attribute("Target"));
            all.push(Relationship::of(folder, attribute("Id"), &kind, &target));
        })?;
        Ok(all)
    }
}

/// The text of the element that has just begun, up to its end.
fn read_text(
    reader: &mut quick_xml::Reader<impl io::BufRead>,
    buffer: &mut Vec<u8>,
    text: &mut String,
) -> Result<(), PackageFault> {
    let mut depth = 1;
    while depth > 0 {
        buffer.clear();
        match reader.read_event_into(buffer)? {
            Event::Start(_) => depth += 1,
            Event::End(_) => depth -= 1,
            Event::Text(piece) => text.push_str(&piece.xml10_content()),
            Event::CData(piece) => text.push_str(&piece.xml10_content()),
            Event::GeneralRef(entity) => {
                let character = match entity.resolve_char_ref() {
                    Ok(Some(character)) => Some(character),
                    _ => quick_xml::escape::resolve_predefined_entity(&entity)
                        .and_then(|text| text.chars().next()),
                };
                text.extend(character);
            }
            Event::Eof => return Err(PackageFault::Damaged("it ends too early".to_owned())),
            _ => {}
        }
    }
    Ok(())
}

/// An attribute of an element, by its name without a prefix.
pub(super) fn attribute(element: &BytesStart<'_>, name: &str) -> Option<String> {
    let mut all = element.attributes();
    let mut all = all.with_checks(false).flatten();
    let found = all.find(|attribute| attribute.key.local_name().as_ref() == name)?;
    quick_xml::escape::unescape(&found.value).ok().map(Cow::into_owned)
}

/// The name of a part, as another part in a folder writes it.
fn resolved(folder: &str, target: &str) -> String {
    let target = target.replace('\\', "/");
    if let Some(absolute) = target.strip_prefix('/') {
        return absolute.to_owned();
    }
    let mut steps: Vec<&str> = folder.split('/').filter(|step| !step.is_empty()).collect();
    for step in target.split('/') {
        match step {
            "" | "." => {}
            ".." => drop(steps.pop()),
            step => steps.push(step),
        }
    }
    steps.join("/")
}

impl Part {
    fn read(&self, input: &InputFile) -> Result<Box<dyn Read + Send>, PackageFault> {
        let mut file = input.reader();
        file.seek(SeekFrom::Start(self.begin))?;
        let packed = BufReader::with_capacity(AT_ONCE, file.take(self.packed));
        let content = match self.method {
            CompressionMethod::Stored => Content::Stored(packed),
            CompressionMethod::Deflated => Content::Deflated(DeflateDecoder::new(packed)),
            other => {
                let said = format!("it is packed by {other}, which no spreadsheet program does");
                return Err(PackageFault::Damaged(said));
            }
        };
        Ok(in_utf_8(Unpacking { content, hasher: Hasher::new(), checksum: self.checksum })?)
    }
}

/// The packed bytes of a part.
enum Content {
    Stored(BufReader<io::Take<FileReader>>),
    Deflated(DeflateDecoder<BufReader<io::Take<FileReader>>>),
}

/// A part that is unpacked, and compared with its checksum at its end.
struct Unpacking {
    content: Content,
    hasher: Hasher,
    checksum: u32,
}

impl Read for Unpacking {
    fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
        let read = match &mut self.content {
            Content::Stored(stored) => stored.read(room),
            Content::Deflated(deflated) => deflated.read(room),
        }?;
        self.hasher.update(&room[..read]);
        if read == 0 && !room.is_empty() && self.hasher.clone().finalize() != self.checksum {
            return Err(io::Error::other("its checksum shows that it is damaged"));
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::resolved;

    #[test]
    fn targets_lead_from_the_folder_of_the_part() {
        for (folder, target, want) in [
            ("xl", "worksheets/sheet1.xml", "xl/worksheets/sheet1.xml"),
            ("xl", "/xl/worksheets/sheet1.xml", "xl/worksheets/sheet1.xml"),
            ("xl/worksheets", "../tables/table1.xml", "xl/tables/table1.xml"),
            ("", "./workbook.xml", "workbook.xml"),
            ("xl", "..\\..\\a.xml", "a.xml"),
        ] {
            assert_eq!(resolved(folder, target), want);
        }
    }
}
