//! Where bytes wait that do not fit into memory.

use std::fmt;
use std::io;

/// Keeps bytes until the run ends; whoever keeps them says where each piece stands.
pub trait Scratch: fmt::Debug + Send + Sync {
    /// Keeps bytes behind all others, and tells at which byte they begin.
    ///
    /// # Errors
    /// When there is no room for them.
    fn keep(&self, bytes: &[u8]) -> io::Result<u64>;

    /// Fills `bytes` with those that were kept at a place.
    ///
    /// # Errors
    /// When they can't be read.
    fn fetch(&self, at: u64, bytes: &mut [u8]) -> io::Result<()>;
}

/// A piece that was kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Kept {
    at: u64,
    length: usize,
}

impl Kept {
    /// Keeps bytes.
    pub(crate) fn keep(scratch: &dyn Scratch, bytes: &[u8]) -> crate::Result<Self> {
        let at = scratch.keep(bytes).map_err(|cause| refused(&cause))?;
        Ok(Self { at, length: bytes.len() })
    }

    /// Replaces what `bytes` holds with what was kept.
    pub(crate) fn fetch(self, scratch: &dyn Scratch, bytes: &mut Vec<u8>) -> crate::Result<()> {
        bytes.clear();
        self.fetch_behind(scratch, bytes)
    }

    /// Adds what was kept to `bytes`.
    pub(crate) fn fetch_behind(
        self,
        scratch: &dyn Scratch,
        bytes: &mut Vec<u8>,
    ) -> crate::Result<()> {
        let before = bytes.len();
        bytes.resize(before + self.length, 0);
        scratch.fetch(self.at, &mut bytes[before..]).map_err(|cause| refused(&cause))
    }

    /// A piece of what was kept, from one of its bytes to another.
    pub(crate) fn slice(self, piece: std::ops::Range<usize>) -> Self {
        Self { at: self.at + piece.start as u64, length: piece.len() }
    }

    /// How many bytes it is.
    pub(crate) fn length(self) -> usize {
        self.length
    }
}

/// The error for bytes that could not be kept or fetched.
fn refused(cause: &io::Error) -> crate::Error {
    crate::Error::Scratch { cause: cause.to_string() }
}

/// Numbers as they are kept.
pub(crate) fn numbers(bytes: &[u8]) -> impl ExactSizeIterator<Item = u32> + Clone + '_ {
    bytes.chunks_exact(4).map(|four| u32::from_le_bytes([four[0], four[1], four[2], four[3]]))
}

/// Adds numbers as they are kept.
pub(crate) fn push_numbers(bytes: &mut Vec<u8>, numbers: impl Iterator<Item = u32>) {
    bytes.extend(numbers.flat_map(u32::to_le_bytes));
}
