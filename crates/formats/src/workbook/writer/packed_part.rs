//! A part of an archive that is packed in pieces, each by itself, into a temporary file.
//!
//! The pieces are joined into one deflate stream: each ends on a byte. The file begins with room for the part's
//! head, which is known only at the end, and is an archive of one part once that is [finished](PackedPart::finish).

use std::fs::File;
use std::io::{self, BufWriter, Seek, SeekFrom, Write};

use crc32fast::Hasher;
use flate2::{Compress, Compression, FlushCompress};

/// How well pieces are packed: the level that takes the least time for its size with text of cells.
const LEVEL: u32 = 2;

/// The name of the part in its own archive.
const NAME: &[u8] = b"part";

/// How many bytes a block of unpacked bytes holds, after how many bytes of its length.
const BLOCK: usize = 65_535;
const BLOCK_HEAD: usize = 5;

/// How many bytes buffer what is written.
const BUFFER: usize = 256 << 10;

/// A piece of a part, packed.
#[derive(Debug, Default)]
pub(super) struct PackedPiece {
    pub(super) bytes: Vec<u8>,
    checksum: Hasher,
    length: u64,
}

impl PackedPiece {
    /// Packs a piece by itself; the last one ends the stream.
    pub(super) fn pack(text: &[u8], mut bytes: Vec<u8>, is_last: bool) -> io::Result<Self> {
        bytes.clear();
        let mut packer = Compress::new(Compression::new(LEVEL), false);
        let flush = if is_last { FlushCompress::Finish } else { FlushCompress::Sync };
        let mut at = 0;
        loop {
            bytes.reserve((text.len() - at) / 4 + 256);
            packer.compress_vec(&text[at..], &mut bytes, flush).map_err(io::Error::other)?;
            at = packer.total_in() as usize;
            // Room that is left means that nothing more was to be written.
            if at == text.len() && bytes.len() < bytes.capacity() {
                break;
            }
        }
        let mut checksum = Hasher::new();
        checksum.update(text);
        Ok(Self { bytes, checksum, length: text.len() as u64 })
    }
}

/// A part that is packed into a temporary file.
#[derive(Debug)]
pub(in crate::workbook) struct PackedPart {
    file: BufWriter<File>,
    /// How many bytes of head there is room for.
    room: usize,
    checksum: Hasher,
    length: u64,
    packed: u64,
}

impl PackedPart {
    /// Begins a part whose head has at most `room` bytes.
    ///
    /// # Errors
    /// When no temporary file can be made or written.
    pub(in crate::workbook) fn begin(room: usize) -> io::Result<Self> {
        let mut file = BufWriter::with_capacity(BUFFER, tempfile::tempfile()?);
        let blocks = room.div_ceil(BLOCK);
        let before = local_header(0, 0, 0).len() + room + blocks * BLOCK_HEAD;
        io::copy(&mut io::Read::take(io::repeat(0), before as u64), &mut file)?;
        let packed = (room + blocks * BLOCK_HEAD) as u64;
        Ok(Self { file, room, checksum: Hasher::new(), length: 0, packed })
    }

    /// Adds a piece.
    ///
    /// # Errors
    /// When the file can't be written.
    pub(super) fn add(&mut self, piece: &PackedPiece) -> io::Result<()> {
        self.checksum.combine(&piece.checksum);
        self.length += piece.length;
        self.packed += piece.bytes.len() as u64;
        self.file.write_all(&piece.bytes)
    }

    /// Ends the part, and gives an archive that holds it as its only part. Between the two texts of its head there are
    /// spaces, so they must be where these mean nothing.
    ///
    /// # Errors
    /// When the head is too long, or the file can't be written.
    pub(in crate::workbook) fn finish(
        mut self,
        (head, rest): (&str, &str),
        tail: &str,
    ) -> io::Result<File> {
        self.add(&PackedPiece::pack(tail.as_bytes(), Vec::new(), true)?)?;
        if head.len() + rest.len() > self.room {
            return Err(io::Error::other(
                "the head of a worksheet is longer than there is room for",
            ));
        }
        let mut padded = head.as_bytes().to_vec();
        padded.resize(self.room - rest.len(), b' ');
        padded.extend_from_slice(rest.as_bytes());
        let mut checksum = Hasher::new();
        checksum.update(&padded);
        checksum.combine(&self.checksum);
        let (checksum, length) = (checksum.finalize(), self.length + self.room as u64);
        let header = local_header(checksum, self.packed, length);
        let end = header.len() as u64 + self.packed;
        self.file.write_all(&directory(checksum, self.packed, length, end))?;
        let mut file = self.file.into_inner().map_err(io::IntoInnerError::into_error)?;
        file.seek(SeekFrom::Start(0))?;
        let mut begin = header;
        for block in padded.chunks(BLOCK) {
            let length = block.len() as u16;
            begin.push(0);
            begin.extend_from_slice(&length.to_le_bytes());
            begin.extend_from_slice(&(!length).to_le_bytes());
            begin.extend_from_slice(block);
        }
        file.write_all(&begin)?;
        file.seek(SeekFrom::Start(0))?;
        Ok(file)
    }
}

/// The version that reads archives of more than 4 GiB, the flags, the method and the oldest date there is, which is
/// the same for all.
fn common(checksum: u32) -> Vec<u8> {
    let mut fields = Vec::new();
    for field in [45_u16, 0, 8, 0, 0x21] {
        fields.extend_from_slice(&field.to_le_bytes());
    }
    fields.extend_from_slice(&checksum.to_le_bytes());
    // The sizes are in a field of 64 bits.
    fields.extend_from_slice(&[0xff; 8]);
    fields.extend_from_slice(&(NAME.len() as u16).to_le_bytes());
    fields
}

/// The field of 64 bits that holds sizes, the unpacked one first.
fn sizes(packed: u64, length: u64) -> Vec<u8> {
    let mut field = vec![1, 0, 16, 0];
    field.extend_from_slice(&length.to_le_bytes());
    field.extend_from_slice(&packed.to_le_bytes());
    field
}

/// What an archive has before a part.
fn local_header(checksum: u32, packed: u64, length: u64) -> Vec<u8> {
    let sizes = sizes(packed, length);
    let mut header = b"PK\x03\x04".to_vec();
    header.extend(common(checksum));
    header.extend_from_slice(&(sizes.len() as u16).to_le_bytes());
    header.extend_from_slice(NAME);
    header.extend(sizes);
    header
}

/// What an archive of one part has after it, from `at` on.
fn directory(checksum: u32, packed: u64, length: u64, at: u64) -> Vec<u8> {
    let sizes = sizes(packed, length);
    let mut all = b"PK\x01\x02\x2d\x00".to_vec();
    all.extend(common(checksum));
    all.extend_from_slice(&(sizes.len() as u16).to_le_bytes());
    // No comment, disk, attributes or offset.
    all.extend_from_slice(&[0; 14]);
    all.extend_from_slice(NAME);
    all.extend(sizes);
    let size = all.len() as u64;
    all.extend_from_slice(b"PK\x06\x06");
    all.extend_from_slice(&44_u64.to_le_bytes());
    all.extend_from_slice(&[45, 0, 45, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    for number in [1, 1, size, at] {
        all.extend_from_slice(&u64::to_le_bytes(number));
    }
    all.extend_from_slice(b"PK\x06\x07\0\0\0\0");
    all.extend_from_slice(&(at + size).to_le_bytes());
    all.extend_from_slice(&[1, 0, 0, 0]);
    all.extend_from_slice(b"PK\x05\x06\0\0\0\0");
    all.extend_from_slice(&[0xff; 12]);
    all.extend_from_slice(&[0; 2]);
    all
}

#[cfg(test)]
mod tests {
    use std::io::Read;

    use super::*;

    #[test]
    fn pieces_are_one_part() {
        for (room, head) in [(12, "<head>"), (70_000, "<a>"), (200_000, "<b/>")] {
            let mut part = PackedPart::begin(room).unwrap();
            let long = "abcdefgh".repeat(100_000);
            for text in ["", "<row/>", &long[..], "x"] {
                part.add(&PackedPiece::pack(text.as_bytes(), Vec::new(), false).unwrap()).unwrap();
            }
            let file = part.finish((head, "</c>"), "</tail>").unwrap();
            let mut archive = zip::ZipArchive::new(file).unwrap();
            let mut text = String::new();
            archive.by_index(0).unwrap().read_to_string(&mut text).unwrap();
            assert_eq!(text.len(), room + 6 + long.len() + 1 + 7);
            assert!(text.starts_with(head) && text.ends_with("x</tail>"));
            assert_eq!(text.find("</c>"), Some(room - 4));
        }
        assert!(PackedPart::begin(9).unwrap().finish(("<head>", "</c>"), "").is_err());
    }
}
