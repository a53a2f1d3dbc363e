//! Digests of files, by which it is reported that one is still what it was.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use gather_keys_core::receipt::digest_text;
use sha2::{Digest, Sha256};

use crate::{Error, Result};

/// The size and the digest of bytes as they pass.
#[derive(Debug, Clone, Default)]
pub struct Sum {
    bytes: u64,
    digest: Sha256,
}

impl Sum {
    /// Takes the next bytes.
    pub fn add(&mut self, bytes: &[u8]) {
        self.bytes += bytes.len() as u64;
        self.digest.update(bytes);
    }

    /// How many bytes there were, and their digest as receipts have it.
    pub fn size_and_digest(&self) -> (u64, String) {
        (self.bytes, digest_text(&self.digest.clone().finalize()))
    }

    /// The sum of a file.
    ///
    /// # Errors
    /// [`Error::Read`] when it can't be read.
    pub fn of_file(path: &Path) -> Result<Self> {
        let unreadable = |cause| Error::Read { name: path.display().to_string(), cause };
        Self::of_reader(&mut File::open(path).map_err(unreadable)?, &path.display().to_string())
    }

    /// The sum of what a reader gives, which is called `name` in messages.
    ///
    /// # Errors
    /// [`Error::Read`] when it can't be read.
    pub fn of_reader(input: &mut dyn Read, name: &str) -> Result<Self> {
        let unreadable = |cause| Error::Read { name: name.to_owned(), cause };
        let (mut sum, mut buffer) = (Self::default(), vec![0; 1 << 16]);
        loop {
            match input.read(&mut buffer).map_err(unreadable)? {
                0 => return Ok(sum),
                read => sum.add(&buffer[..read]),
            }
        }
    }
}
