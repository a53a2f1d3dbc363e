//! Compressed files: unpacked as they are read, by their content, and packed as they are written, by
//! their ending.

use std::io::{self, Chain, Cursor, IoSlice, Read, Write};
use std::path::Path;

use flate2::Compression;
use flate2::read::MultiGzDecoder;
use flate2::write::GzEncoder;

/// How a file is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Codec {
    /// By gzip.
    Gzip,
    /// By zstd.
    Zstd,
}

const GZIP: [u8; 2] = [0x1f, 0x8b];
const ZSTD: [u8; 4] = [0x28, 0xb5, 0x2f, 0xfd];

impl Codec {
    /// The one that a file's ending asks for.
    ///
    /// ```
    /// use gather_keys_formats::Codec;
    ///
    /// assert_eq!(Codec::of("hives.csv.gz".as_ref()), Some(Codec::Gzip));
    /// assert_eq!(Codec::of("hives.csv".as_ref()), None);
    /// ```
    pub fn of(path: &Path) -> Option<Self> {
        let ending = path.extension()?.to_str()?.to_ascii_lowercase();
        match &ending[..] {
            "gz" => Some(Self::Gzip),
            "zst" => Some(Self::Zstd),
            _ => None,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gzip => "gzip",
            Self::Zstd => "zstd",
        }
    }
}

/// Bytes that were looked at, and those after them.
pub(crate) type Looked<R> = Chain<Cursor<Vec<u8>>, R>;

/// The result of `found` on the first bytes, up to `most`, and the whole input.
pub(crate) fn look<R: Read, T>(
    mut input: R,
    most: usize,
    found: impl FnOnce(&[u8]) -> T,
) -> io::Result<(T, Looked<R>)> {
    let mut first = Vec::new();
    input.by_ref().take(most as u64).read_to_end(&mut first)?;
    Ok((found(&first), Cursor::new(first).chain(input)))
}

/// The content of a file, unpacked if it is packed, and how it is.
///
/// # Errors
/// When its first bytes can't be read.
pub fn unpacked(input: Box<dyn Read + Send>) -> io::Result<(Box<dyn Read + Send>, Option<Codec>)> {
    let packing = |first: &[u8]| {
        let of = |begin: &[u8], packing| first.starts_with(begin).then_some(packing);
        of(&GZIP, Codec::Gzip).or_else(|| of(&ZSTD, Codec::Zstd))
    };
    let (packing, input) = look(input, ZSTD.len(), packing)?;
    let unpacked: Box<dyn Read + Send> = match packing {
        Some(Codec::Gzip) => Box::new(MultiGzDecoder::new(input)),
        Some(Codec::Zstd) => Box::new(zstd::Decoder::new(input)?),
        None => Box::new(input),
    };
    Ok((unpacked, packing))
}

/// A file that is packed as it is written, or as it is.
pub enum Packed<W: Write> {
    /// As it is.
    Plain(W),
    /// By gzip.
    Gzip(GzEncoder<W>),
    /// By zstd.
    Zstd(zstd::Encoder<'static, W>),
}

impl<W: Write> Packed<W> {
    /// Packs what goes to `output`.
    ///
    /// # Errors
    /// When there is no memory for it.
    pub fn new(output: W, packing: Option<Codec>) -> io::Result<Self> {
        Ok(match packing {
            None => Self::Plain(output),
            Some(Codec::Gzip) => Self::Gzip(GzEncoder::new(output, Compression::default())),
            Some(Codec::Zstd) => Self::Zstd(zstd::Encoder::new(output, 0)?),
        })
    }

    /// Writes what is left, and gives the output back.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn finish(self) -> io::Result<W> {
        match self {
            Self::Plain(output) => Ok(output),
            Self::Gzip(output) => output.finish(),
            Self::Zstd(output) => output.finish(),
        }
    }
}

impl<W: Write> Write for Packed<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::Plain(output) => output.write(bytes),
            Self::Gzip(output) => output.write(bytes),
            Self::Zstd(output) => output.write(bytes),
        }
    }

    fn write_vectored(&mut self, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
        match self {
            Self::Plain(output) => output.write_vectored(pieces),
            Self::Gzip(output) => output.write_vectored(pieces),
            Self::Zstd(output) => output.write_vectored(pieces),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Self::Plain(output) => output.flush(),
            Self::Gzip(output) => output.flush(),
            Self::Zstd(output) => output.flush(),
        }
    }
}
