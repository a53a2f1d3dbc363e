//! Encodings of text: found from how a file begins, or named; decoded as it is read, and encoded as
//! it is written.
//!
//! Within the program all text is UTF-8. Text that can't be decoded or encoded is an error with its
//! place, never replaced by another character.

use std::fmt;
use std::io::{self, IoSlice, Read, Write};

use chardetng::{EncodingDetector, Iso2022JpDetection, Utf8Detection};
use encoding_rs::{Decoder, DecoderResult, Encoder, EncoderResult, UTF_8, UTF_16BE, UTF_16LE};

use crate::compression::look;

/// How many bytes are decoded at a time.
const PIECE: usize = 1 << 16;

/// An encoding of text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Encoding(&'static encoding_rs::Encoding);

impl Encoding {
    /// UTF-8.
    pub const UTF_8: Self = Self(UTF_8);

    /// The encoding of a name such as `utf-8`, `windows-1252`, `latin1` or `utf-16le`.
    ///
    /// ```
    /// use gather_keys_formats::delimited::Encoding;
    ///
    /// assert_eq!(Encoding::named("Latin1").map(|one| one.to_string()), Some("windows-1252".into()));
    /// assert_eq!(Encoding::named("smoke signals"), None);
    /// ```
    pub fn named(name: &str) -> Option<Self> {
        encoding_rs::Encoding::for_label(name.trim().as_bytes()).map(Self)
    }

    /// Finds the encoding of a text that begins so: by its byte-order mark, by the bytes that are
    /// zero, or else as UTF-8 if it is that, and if not as whatever it most likely is. Says too
    /// whether it is a guess.
    fn found(first: &[u8], is_all: bool) -> (Self, bool) {
        if let Some((marked, _)) = encoding_rs::Encoding::for_bom(first) {
            return (Self(marked), false);
        }
        // Text in letters of the West has a zero in every second byte in UTF-16.
        let pairs = first.chunks_exact(2).take(64);
        let zeros = |nth: usize| pairs.clone().filter(|pair| pair[nth] == 0).count();
        if pairs.len() > 1 && zeros(1) * 4 > pairs.len() * 3 && zeros(0) == 0 {
            return (Self(UTF_16LE), true);
        }
        if pairs.len() > 1 && zeros(0) * 4 > pairs.len() * 3 && zeros(1) == 0 {
            return (Self(UTF_16BE), true);
        }
        let is_utf_8 = match std::str::from_utf8(first) {
            Ok(_) => true,
            // A character may be cut where the sample ends.
            Err(error) => error.error_len().is_none(),
        };
        if is_utf_8 {
            return (Self::UTF_8, false);
        }
        let mut detector = EncodingDetector::new(Iso2022JpDetection::Deny);
        detector.feed(first, is_all);
        (Self(detector.guess(None, Utf8Detection::Deny)), true)
    }

    /// Whether a character has two bytes, or four.
    pub fn is_utf_16(self) -> bool {
        [UTF_16LE, UTF_16BE].contains(&self.0)
    }

    /// Whether text in it needs no decoding.
    pub fn is_utf_8(self) -> bool {
        self == Self::UTF_8
    }
}

impl Default for Encoding {
    fn default() -> Self {
        Self::UTF_8
    }
}

impl fmt::Display for Encoding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = self.0.name();
        if name.starts_with("UTF") { f.write_str(name) } else { f.write_str(&name.to_lowercase()) }
    }
}

/// A text as UTF-8, the encoding it had, and whether that is a guess. A byte-order mark comes through.
/// To find the encoding, this many bytes are looked at.
///
/// # Errors
/// When its first bytes can't be read.
pub fn decoded(
    input: Box<dyn Read + Send>,
    asked: Option<Encoding>,
    sample: usize,
) -> io::Result<(Box<dyn Read + Send>, Encoding, bool)> {
    let found = |first: &[u8]| match asked {
        Some(asked) => (asked, false),
        None => Encoding::found(first, first.len() < sample),
    };
    let ((encoding, guessed), input) = look(input, sample, found)?;
    if encoding.is_utf_8() {
        return Ok((Box::new(input), encoding, guessed));
    }
    let decoder = encoding.0.new_decoder_without_bom_handling();
    let decoding = Decoding {
        input,
        decoder,
        encoding,
        read: 0,
        raw: Vec::new(),
        text: Vec::new(),
        at: 0,
        ended: false,
    };
    Ok((Box::new(decoding), encoding, guessed))
}

/// Decodes what it reads.
struct Decoding<R> {
    input: R,
    decoder: Decoder,
    encoding: Encoding,
    /// How many bytes were decoded before those in `raw`.
    read: u64,
    raw: Vec<u8>,
    /// The decoded text, of which everything before `at` has been returned.
    text: Vec<u8>,
    at: usize,
    ended: bool,
}

impl<R: Read> Decoding<R> {
    fn decode_more(&mut self) -> io::Result<()> {
        self.raw.clear();
        let read = self.input.by_ref().take(PIECE as u64).read_to_end(&mut self.raw)?;
        self.ended = read < PIECE;
        let room = self.decoder.max_utf8_buffer_length_without_replacement(read);
        self.text.clear();
        self.text.resize(room.unwrap_or(read * 3 + 16), 0);
        self.at = 0;
        let decoder = &mut self.decoder;
        let (result, taken, written) =
            decoder.decode_to_utf8_without_replacement(&self.raw, &mut self.text, self.ended);
        self.text.truncate(written);
        if let DecoderResult::Malformed(bad, behind) = result {
            let behind = u64::from(bad) + u64::from(behind);
            let at = (self.read + taken as u64).saturating_sub(behind) + 1;
            let encoding = self.encoding.to_string();
            return Err(io::Error::new(io::ErrorKind::InvalidData, NotInEncoding { at, encoding }));
        }
        self.read += read as u64;
        Ok(())
    }
}

impl<R: Read> Read for Decoding<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.text.len() && !self.ended {
            self.decode_more()?;
        }
        let given = (&self.text[self.at..]).read(buffer)?;
        self.at += given;
        Ok(given)
    }
}

/// Encodes UTF-8 as it is written.
pub struct Encoded<W> {
    output: W,
    encoding: Encoding,
    /// `None` for UTF-8, and for encodings that are written by this module.
    encoder: Option<Encoder>,
    /// Reads what is written, where an encoding may write another character than it was given.
    back: Option<Decoder>,
    /// The text that was written but not read back, and the text that was read back.
    unread: String,
    read_back: String,
    /// The beginning of a character whose rest is still to come.
    pending: Vec<u8>,
    bytes: Vec<u8>,
}

impl<W: Write> Encoded<W> {
    /// Writes to `output` in an encoding.
    pub fn new(output: W, encoding: Encoding) -> Self {
        let by_hand = [UTF_8, UTF_16LE, UTF_16BE].contains(&encoding.0);
        let encoder = (!by_hand).then(|| encoding.0.new_encoder());
        let back = (!by_hand && !encoding.0.is_single_byte())
            .then(|| encoding.0.new_decoder_without_bom_handling());
        let (unread, read_back) = (String::new(), String::new());
        let (pending, bytes) = (Vec::new(), Vec::new());
        Self { output, encoding, encoder, back, unread, read_back, pending, bytes }
    }

    /// The output, with everything written to it.
    pub fn into_inner(self) -> W {
        self.output
    }

    /// Fills `bytes` with a text in the encoding.
    fn encode(&mut self, text: &str) -> io::Result<()> {
        self.bytes.clear();
        let Some(encoder) = &mut self.encoder else {
            let is_big = self.encoding.0 == UTF_16BE;
            let pairs = text.encode_utf16();
            self.bytes.extend(
                pairs.flat_map(|unit| if is_big { unit.to_be_bytes() } else { unit.to_le_bytes() }),
            );
            return Ok(());
        };
        let room = encoder.max_buffer_length_from_utf8_without_replacement(text.len());
        self.bytes.reserve(room.unwrap_or(text.len() * 4 + 16));
        let (result, _) =
            encoder.encode_from_utf8_to_vec_without_replacement(text, &mut self.bytes, false);
        match result {
            EncoderResult::Unmappable(character) => Err(self.lacks(character)),
            EncoderResult::InputEmpty | EncoderResult::OutputFull => self.check(text),
        }
    }

    /// Refuses a text that would be read back as another: some encodings write a yen character as a
    /// backslash.
    fn check(&mut self, text: &str) -> io::Result<()> {
        let Some(back) = &mut self.back else { return Ok(()) };
        self.unread.push_str(text);
        self.read_back.clear();
        let room = back.max_utf8_buffer_length(self.bytes.len());
        self.read_back.reserve(room.unwrap_or(self.bytes.len() * 3 + 16));
        let _ = back.decode_to_string(&self.bytes, &mut self.read_back, false);
        let mut pairs = self.unread.chars().zip(self.read_back.chars());
        if let Some((character, _)) = pairs.find(|(written, read)| written != read) {
            return Err(self.lacks(character));
        }
        let read = self.read_back.len();
        self.unread.drain(..read);
        Ok(())
    }

    fn lacks(&self, character: char) -> io::Error {
        let encoding = self.encoding.to_string();
        io::Error::new(io::ErrorKind::InvalidData, Unencodable { character, encoding })
    }
}

impl<W: Write> Write for Encoded<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.encoding.is_utf_8() {
            return self.output.write(bytes);
        }
        let mut all = std::mem::take(&mut self.pending);
        all.extend_from_slice(bytes);
        let whole = match std::str::from_utf8(&all) {
            Ok(text) => text.len(),
            Err(error) => error.valid_up_to(),
        };
        let rest = all.split_off(whole);
        self.pending = rest;
        // The rest is the beginning of a character.
        let text = String::from_utf8(all).unwrap_or_default();
        self.encode(&text)?;
        self.output.write_all(&self.bytes)?;
        Ok(bytes.len())
    }

    fn write_vectored(&mut self, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
        if self.encoding.is_utf_8() {
            return self.output.write_vectored(pieces);
        }
        pieces.first().map_or(Ok(0), |piece| self.write(piece))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.output.flush()
    }
}

/// A byte that the encoding of a text does not have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotInEncoding {
    /// The byte's number in the text, from 1.
    pub at: u64,
    /// The name of the encoding.
    pub encoding: String,
}

impl fmt::Display for NotInEncoding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "byte {} is not {}; state the encoding of the table", self.at, self.encoding)
    }
}

impl std::error::Error for NotInEncoding {}

/// A character that an encoding can't write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unencodable {
    /// The character.
    pub character: char,
    /// The name of the encoding.
    pub encoding: String,
}

impl fmt::Display for Unencodable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { character, encoding } = self;
        write!(f, "{encoding} has no character `{character}`; use another encoding, such as utf-8")
    }
}

impl std::error::Error for Unencodable {}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(bytes: &[u8], asked: Option<&str>) -> io::Result<(String, String, bool)> {
        let asked = asked.and_then(Encoding::named);
        let (mut input, encoding, guessed) =
            decoded(Box::new(io::Cursor::new(bytes.to_vec())), asked, 1000)?;
        let mut text = String::new();
        input.read_to_string(&mut text)?;
        Ok((text, encoding.to_string(), guessed))
    }

    #[test]
    fn encodings_are_found_and_come_through() {
        let text = "Größe;Ort\nübermäßig groß;Łódź\n";
        let western = "Größe;Ort\nübermäßig große Möhren für Jürgen;Köln\n";
        for (text, name, finds) in [
            (text, "UTF-8", true),
            (text, "UTF-16LE", true),
            (text, "UTF-16BE", true),
            (western, "windows-1252", true),
            (text, "windows-1250", false),
            (western, "iso-8859-15", false),
        ] {
            let encoding = Encoding::named(name).unwrap();
            let mut written = Encoded::new(Vec::new(), encoding);
            // A character may be cut between two writes.
            text.as_bytes().chunks(3).for_each(|part| written.write_all(part).unwrap());
            let bytes = written.into_inner();
            let (back, reported, _) = read(&bytes, Some(name)).unwrap();
            assert_eq!((&back[..], &reported[..]), (text, name));
            if finds {
                let (back, reported, guessed) = read(&bytes, None).unwrap();
                assert_eq!((&back[..], &reported[..], guessed), (text, name, name != "UTF-8"));
            }
        }
        let marked =
            [b"\xff\xfe".to_vec(), "a;b".encode_utf16().flat_map(u16::to_le_bytes).collect()];
        let (back, reported, guessed) = read(&marked.concat(), None).unwrap();
        assert_eq!((&back[..], &reported[..], guessed), ("\u{feff}a;b", "UTF-16LE", false));
    }

    #[test]
    fn what_is_not_in_an_encoding_is_an_error() {
        let error = read(b"a;b\n\xff\xff\n", Some("shift_jis")).unwrap_err().to_string();
        assert!(error.starts_with("byte 5 is not shift_jis"), "{error}");
        let mut western = Encoded::new(Vec::new(), Encoding::named("latin1").unwrap());
        let error = western.write_all("Łódź".as_bytes()).unwrap_err().to_string();
        assert!(error.starts_with("windows-1252 has no character `Ł`"), "{error}");
    }
}
