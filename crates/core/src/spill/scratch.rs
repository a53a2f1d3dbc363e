//! Scratch space: where bytes wait that do not fit in memory.

use std::fmt;
use std::io;

use crate::{Error, Result};

/// A temporary file, or something like it, that keeps bytes until the run ends.
pub trait Scratch: fmt::Debug + Send + Sync {
    /// Appends bytes, and returns the offset at which they begin.
    ///
    /// # Errors
    /// When there is no space for them.
    fn append(&self, bytes: &[u8]) -> io::Result<u64>;

    /// Fills `bytes` from an offset.
    ///
    /// # Errors
    /// When they can't be read.
    fn read(&self, offset: u64, bytes: &mut [u8]) -> io::Result<()>;
}

/// A range of bytes in a scratch space.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Extent {
    offset: u64,
    length: usize,
}

impl Extent {
    /// Appends bytes to the scratch space.
    pub(super) fn append(scratch: &dyn Scratch, bytes: &[u8]) -> Result<Self> {
        let offset = scratch.append(bytes).map_err(|cause| failed(&cause))?;
        Ok(Self { offset, length: bytes.len() })
    }

    /// Replaces `bytes` with those of the extent.
    pub(super) fn read(self, scratch: &dyn Scratch, bytes: &mut Vec<u8>) -> Result<()> {
        bytes.clear();
        self.read_to_end(scratch, bytes)
    }

    /// Adds the bytes of the extent to `bytes`.
    pub(super) fn read_to_end(self, scratch: &dyn Scratch, bytes: &mut Vec<u8>) -> Result<()> {
        let before = bytes.len();
        bytes.resize(before + self.length, 0);
        scratch.read(self.offset, &mut bytes[before..]).map_err(|cause| failed(&cause))
    }

    /// A part of the extent.
    pub(super) fn slice(self, range: std::ops::Range<usize>) -> Self {
        Self { offset: self.offset + range.start as u64, length: range.len() }
    }

    /// How many bytes it has.
    pub(super) fn length(self) -> usize {
        self.length
    }
}

fn failed(cause: &io::Error) -> Error {
    Error::Scratch { cause: cause.to_string() }
}

/// The error for bytes that come back changed.
pub(super) fn damaged() -> Error {
    Error::Scratch { cause: "the bytes read back differ from those written".to_owned() }
}

/// Reads little-endian numbers.
pub(super) fn numbers(bytes: &[u8]) -> impl ExactSizeIterator<Item = u32> + Clone + '_ {
    bytes.chunks_exact(4).map(|four| u32::from_le_bytes([four[0], four[1], four[2], four[3]]))
}

/// Appends little-endian numbers.
pub(super) fn push_numbers(bytes: &mut Vec<u8>, numbers: impl Iterator<Item = u32>) {
    bytes.extend(numbers.flat_map(u32::to_le_bytes));
}
