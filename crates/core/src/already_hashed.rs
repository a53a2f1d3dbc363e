//! A hasher for what is a hash already, and is taken as it is.

use std::hash::{BuildHasherDefault, Hasher};

/// Builds the hasher of maps and sets whose keys are hashes.
pub(crate) type AlreadyHashed = BuildHasherDefault<AsItIs>;

/// Takes a hash as it is.
#[derive(Debug, Clone, Default)]
pub(crate) struct AsItIs(u64);

impl Hasher for AsItIs {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        for &byte in bytes {
            self.0 = self.0 << 8 | u64::from(byte);
        }
    }

    fn write_u64(&mut self, hash: u64) {
        self.0 = hash;
    }
}
