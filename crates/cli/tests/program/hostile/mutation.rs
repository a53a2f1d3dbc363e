//! A file, changed in a few places by a number.

use std::io::{Cursor, Read, Write};

use super::seeds::Seed;

/// Numbers that follow from a first one; each next one looks like chance.
pub(super) struct Numbers {
    seed: u64,
    state: u64,
}

impl Numbers {
    pub(super) fn new(seed: u64) -> Self {
        Self { seed, state: seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) }
    }

    pub(super) fn seed(&self) -> u64 {
        self.seed
    }

    pub(super) fn next(&mut self) -> u64 {
        self.state = self.state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.state;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// One below `end`, which is not 0.
    pub(super) fn below(&mut self, end: usize) -> usize {
        (self.next() % end.max(1) as u64) as usize
    }

    fn one_of<'a, T: ?Sized>(&mut self, all: &[&'a T]) -> &'a T {
        all[self.below(all.len())]
    }
}

/// Texts that readers of text stumble over.
const TEXTS: [&str; 30] = [
    "\"",
    "\"\"",
    "'",
    "\\",
    "\0",
    "\r",
    "\n",
    "\r\n",
    "\t",
    ",",
    ";",
    "\u{feff}",
    "\u{1b}[31m",
    "\u{202e}",
    "{",
    "}",
    "[",
    "]",
    "<",
    "&",
    "&#x0;",
    "#",
    "{Hive | first 99999999999999999999}",
    "1e999",
    "-",
    "99999999999999999999999",
    "0x7fffffff",
    "(((((((((((((((((((((((((",
    "é",
    "\u{10ffff}",
];

/// Numbers that readers of lengths and places stumble over.
const LENGTHS: [u64; 12] = [
    0,
    1,
    0x7f,
    0xff,
    0x7fff,
    0xffff,
    0x7fff_ffff,
    0x8000_0000,
    0xffff_ffff,
    0x7fff_ffff_ffff_ffff,
    u64::MAX,
    0x4000_0000,
];

/// A seed's content, changed; a packed one is changed before it is packed, half of the times.
pub(super) fn mutated(seed: &Seed, numbers: &mut Numbers) -> Vec<u8> {
    let inside = numbers.below(4) > 0;
    if inside && seed.content.starts_with(b"PK\x03\x04") {
        return archive_mutated(&seed.content, numbers).unwrap_or_else(|| seed.content.clone());
    }
    if inside && seed.content.starts_with(&[0x1f, 0x8b]) {
        let mut text = Vec::new();
        flate2::read::GzDecoder::new(&seed.content[..]).read_to_end(&mut text).unwrap();
        let text = changed(text, false, numbers);
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(&text).unwrap();
        return packed.finish().unwrap();
    }
    changed(seed.content.clone(), seed.is_binary, numbers)
}

/// An archive with one of its parts changed.
fn archive_mutated(content: &[u8], numbers: &mut Numbers) -> Option<Vec<u8>> {
    let mut archive = zip::ZipArchive::new(Cursor::new(content)).ok()?;
    let chosen = numbers.below(archive.len());
    let mut out = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for nth in 0..archive.len() {
        let mut part = archive.by_index(nth).ok()?;
        let name = part.name().ok()?.into_owned();
        let mut text = Vec::new();
        part.read_to_end(&mut text).ok()?;
        if nth == chosen {
            let is_binary = name.contains(".bin");
            text = changed(text, is_binary, numbers);
        }
        out.start_file(name, zip::write::SimpleFileOptions::default()).ok()?;
        out.write_all(&text).ok()?;
    }
    Some(out.finish().ok()?.into_inner())
}

/// Content with one to six changes.
fn changed(mut content: Vec<u8>, is_binary: bool, numbers: &mut Numbers) -> Vec<u8> {
    for _ in 0..=numbers.below(6) {
        if content.is_empty() {
            content.push(0);
        }
        let (at, other) = (numbers.below(content.len()), numbers.below(content.len()));
        let length = 1 + numbers.below(64.min(content.len() - at));
        match numbers.below(if is_binary { 7 } else { 9 }) {
            0 => content[at] ^= 1 << numbers.below(8),
            1 => content[at] = *numbers.one_of(&[&0, &0x7f, &0x80, &0xff, &1]),
            2 => {
                let width = *numbers.one_of(&[&1, &2, &4, &8]);
                let bytes = numbers.one_of(&LENGTHS.each_ref()).to_le_bytes();
                for (place, byte) in content[at..].iter_mut().zip(&bytes[..width]) {
                    *place = *byte;
                }
            }
            3 if numbers.below(4) == 0 => content.truncate(at),
            3 | 4 => drop(content.drain(at..at + length)),
            5 => {
                let again = content[at..at + length].to_vec();
                let again = again.repeat(1 + numbers.below(20));
                content.splice(other..other, again);
            }
            6 => {
                let some: Vec<u8> = (0..length).map(|_| numbers.next() as u8).collect();
                content.splice(other..other, some);
            }
            _ => {
                let text = numbers.one_of(&TEXTS);
                let times = *numbers.one_of(&[&1, &1, &1, &2, &300]);
                content.splice(at..at, text.repeat(times).into_bytes());
            }
        }
    }
    content
}
